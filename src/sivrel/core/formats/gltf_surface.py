"""glTF materials as surfaces: metal and roughness, and the extensions for glass, coats, highlights and strong glow."""

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ..errors import InputError
from ..scene.model import Scene, Surface, Texture, TextureUse
from ..scene.texels import Texels
from . import gltf_model as model
from .image import read_texels

WRAPS = {33071: "clamp", 33648: "mirror", 10497: "repeat"}
READ = {
    "KHR_materials_emissive_strength", "KHR_materials_transmission", "KHR_materials_volume", "KHR_materials_ior", "KHR_materials_clearcoat",
    "KHR_materials_specular",
}  # fmt: skip


class SurfaceReader:
    """Reads each material once; `image` gives a picture's bytes and name, or raises InputError."""

    def __init__(self, file: model.Gltf, scene: Scene, image: Callable[[int], tuple[bytes, str]]) -> None:
        self.file, self.scene, self.image = file, scene, image
        self.known: dict[int | None, tuple[int, int, bool]] = {}
        self.texels: dict[tuple[int, str], Texels | None] = {}
        self.notes: list[str] = []

    def of(self, number: int | None, mesh: str) -> tuple[int, int, bool]:
        """Number of a material's surface in the scene, the coordinate set of its textures, and whether it emits from both sides."""
        if number not in self.known:
            material = model.Material() if number is None else self.file.materials[number]
            self.sets: list[int] = []
            surface = self._surface(material, material.name or (f"material{number}" if number is not None else "plain"))
            if len(set(self.sets)) > 1:
                self._note(f"The material {surface.name} uses several coordinate sets; all its textures use set {self.sets[0]}.")
            self.scene.surfaces.append(surface)
            self.known[number] = len(self.scene.surfaces) - 1, self.sets[0] if self.sets else 0, material.doubleSided
        return self.known[number]

    def _note(self, sentence: str) -> None:
        if sentence not in self.notes:
            self.notes.append(sentence)

    def _surface(self, material: model.Material, name: str) -> Surface:
        metal, extra = material.pbrMetallicRoughness, material.extensions
        for unread in (e for e in extra if e not in READ):
            self._note(f"Of the material {name}, {unread[:60]} is not supported and was left out.")
        r, g, b, alpha = metal.baseColorFactor
        surface = Surface(name, (r, g, b), metal.roughnessFactor, metal.metallicFactor)
        surface.ior = max(1.0, _number(extra, "KHR_materials_ior", "ior", 1.5))
        surface.base_color_map = self._use(metal.baseColorTexture, "sRGB", 0, (r, g, b, alpha))
        surface.roughness_map = self._use(metal.metallicRoughnessTexture, "raw", 1, (1.0, metal.roughnessFactor, metal.metallicFactor, 1.0))
        if surface.roughness_map:
            surface.metallic_map = replace(surface.roughness_map, channel=2)
        strength = _number(extra, "KHR_materials_emissive_strength", "emissiveStrength", 1.0)
        er, eg, eb = (c * strength for c in material.emissiveFactor)
        surface.emission = (er, eg, eb)
        if max(surface.emission) > 0.0:
            surface.emission_map = self._use(material.emissiveTexture, "sRGB", 0, (er, eg, eb, 1.0))
        if material.normalTexture:
            s = material.normalTexture.scale
            surface.normal_map = self._use(material.normalTexture, "raw", 0, (2.0 * s, 2.0 * s, 2.0, 1.0), (-s, -s, -1.0, 0.0))
        self._alpha(surface, material, alpha)
        self._glass(surface, extra)
        self._specular(surface, extra)
        coat = extra.get("KHR_materials_clearcoat")
        if isinstance(coat, dict):
            surface.coat, surface.coat_roughness = float(coat.get("clearcoatFactor", 0.0)), float(coat.get("clearcoatRoughnessFactor", 0.0))
            surface.coat_map = self._use(_info(coat, "clearcoatTexture"), "raw", 0, (surface.coat,) * 4)
            surface.coat_roughness_map = self._use(_info(coat, "clearcoatRoughnessTexture"), "raw", 1, (surface.coat_roughness,) * 4)
            if coat.get("clearcoatNormalTexture"):
                self._note(f"The coat normals of the material {name} are not supported and were left out.")
        return surface

    def _alpha(self, surface: Surface, material: model.Material, alpha: float) -> None:
        if material.alphaMode == "OPAQUE":
            return
        surface.opacity = alpha
        surface.opacity_threshold = material.alphaCutoff if material.alphaMode == "MASK" else 0.0
        if surface.base_color_map:
            surface.opacity_map = replace(surface.base_color_map, channel=3)

    def _glass(self, surface: Surface, extra: dict[str, Any]) -> None:
        through = extra.get("KHR_materials_transmission")
        if not isinstance(through, dict) or not float(through.get("transmissionFactor", 0.0)) > 0.0:
            return
        share, volume = float(through.get("transmissionFactor", 0.0)), extra.get("KHR_materials_volume")
        surface.opacity = min(surface.opacity, max(0.0, 1.0 - share))
        use = self._use(_info(through, "transmissionTexture"), "raw", 0, (-share,) * 4, (1.0,) * 4)
        if use:
            surface.opacity_map = use
        surface.see_through, surface.attenuation = "pane", surface.base_color
        if isinstance(volume, dict) and float(volume.get("thicknessFactor", 0.0)) > 0.0:
            surface.see_through = "solid"
            r, g, b = (float(c) for c in volume.get("attenuationColor", (1.0, 1.0, 1.0)))
            surface.attenuation = (r, g, b)
            distance = float(volume.get("attenuationDistance", math.inf))
            surface.attenuation_distance = distance if math.isfinite(distance) else 0.0

    def _specular(self, surface: Surface, extra: dict[str, Any]) -> None:
        values = extra.get("KHR_materials_specular")
        if not isinstance(values, dict):
            return
        factor, colour = float(values.get("specularFactor", 1.0)), values.get("specularColorFactor", (1.0, 1.0, 1.0))
        if factor == 0.0 and surface.metallic == 0.0 and surface.metallic_map is None:
            surface.ior = 1.0
        elif (factor, *colour) != (1.0, 1.0, 1.0, 1.0):
            self._note(f"The specular tint of the material {surface.name} is not supported and was left out.")

    def _use(
        self, info: model.TextureInfo | None, encoding: str, channel: int, scale: tuple[Any, ...], bias: tuple[Any, ...] = (0.0,) * 4
    ) -> TextureUse | None:
        if info is None:
            return None
        texture = self.file.textures[info.index]
        if texture.source is None:
            self._note("A picture in an unsupported format was left out; the surface's plain value is used instead.")
            return None
        key = texture.source, encoding
        if key not in self.texels:
            try:
                data, name = self.image(texture.source)
                self.texels[key] = read_texels(data, name, encoding)
            except InputError as error:
                self._note(f"{error} The surface's plain value is used instead.")
                self.texels[key] = None
        texels = self.texels[key]
        if texels is None:
            return None
        sampler = model.Sampler() if texture.sampler is None else self.file.samplers[texture.sampler]
        wraps = WRAPS.get(sampler.wrapS, "repeat"), WRAPS.get(sampler.wrapT, "repeat")
        made = Texture(texels, wraps, scale, bias, _transform(info.extensions.get("KHR_texture_transform")))
        moved = info.extensions.get("KHR_texture_transform")
        self.sets.append(int(moved["texCoord"]) if isinstance(moved, dict) and "texCoord" in moved else info.texCoord)
        return TextureUse(made, channel)


def _number(extra: dict[str, Any], extension: str, key: str, default: float) -> float:
    values = extra.get(extension)
    value = values.get(key, default) if isinstance(values, dict) else default
    return float(value) if math.isfinite(float(value)) else default


def _info(values: dict[str, Any], key: str) -> model.TextureInfo | None:
    return model.TextureInfo.model_validate(values[key]) if isinstance(values.get(key), dict) else None


def _transform(values: Any) -> np.ndarray:
    """2 x 3 matrix for coordinates running up the picture, from one for coordinates running down (KHR_texture_transform)."""
    if not isinstance(values, dict):
        return np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
    (x, y), (sx, sy), turn = values.get("offset", (0.0, 0.0)), values.get("scale", (1.0, 1.0)), float(values.get("rotation", 0.0))
    c, s = math.cos(turn), math.sin(turn)
    a, b, d, e = c * sx, s * sy, -s * sx, c * sy
    return np.array([[a, -b, b + x], [-d, e, 1.0 - e - y]])
