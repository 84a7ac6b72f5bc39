"""UsdPreviewSurface materials with their textures, and their faces."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Sdf, Usd, UsdGeom, UsdShade

from ..errors import InputError
from ..scene.model import Mesh, Scene, Surface, Texture, TextureUse
from ..scene.texels import Texels, TileSet, texels_of
from .colour_spaces import encoding_of
from .faces import is_closed
from .image import read_image, read_texels
from .reading import report
from .udim import tile_set
from .usd_assets import asset_bytes, is_within
from .usd_materialx import MODELS, MaterialXReader

CHANNELS = {"r": 0, "g": 1, "b": 2, "a": 3, "rgb": 0}
WRAPS = {"repeat": "repeat", "clamp": "clamp", "mirror": "mirror", "black": "black", "useMetadata": "repeat"}
INPUTS = {
    "diffuseColor": "base_color",
    "roughness": "roughness",
    "metallic": "metallic",
    "emissiveColor": "emission",
    "opacity": "opacity",
    "clearcoat": "coat",
    "clearcoatRoughness": "coat_roughness",
    "normal": "normal",
    "displacement": "displacement",
}
COLOURS = ("base_color", "emission", "specular")
OWN = "sivrel:"
"""Prefix of a material's inputs that UsdPreviewSurface lacks: attenuationColor and attenuationDistance (metres)
of glass, as in the glTF extension KHR_materials_volume, and thinWalled."""


class SurfaceReader:
    """Reads each material once and returns the numbers of its surfaces in `scene`."""

    def __init__(self, scene: Scene, confine_to: Path | None, time: Usd.TimeCode) -> None:
        self.scene, self.time = scene, time
        self.confine_to = confine_to
        self.known: dict[str, int] = {}
        self.images: dict[str, Texture | None] = {}
        self.noted: set[str] = set()
        self.thin_walled: dict[int, bool | None] = {}
        self.solid: dict[int, int] = {}

    def whole(self, mesh: UsdGeom.Mesh) -> int:
        """Surface number of a mesh as a whole: its material, or its display colour."""
        bound = self._bound(mesh.GetPrim())
        return self._from_display_colour(mesh) if bound is None else bound

    def assign(self, mesh: UsdGeom.Mesh, faces: np.ndarray) -> np.ndarray:
        """Surface number uint32 of every triangle, from its face number: the mesh's, or its subset's."""
        of_face = np.full(int(faces.max()) + 1, self.whole(mesh), np.uint32)
        for subset in UsdShade.MaterialBindingAPI(mesh.GetPrim()).GetMaterialBindSubsets():
            number = self._bound(subset.GetPrim())
            members = np.array(subset.GetIndicesAttr().Get(self.time) or [], np.int64)
            members = members[(members >= 0) & (members < len(of_face))]
            if number is not None:
                of_face[members] = number
        return np.broadcast_to(of_face[0], len(faces)) if (of_face == of_face[0]).all() else of_face[faces]

    def _bound(self, prim: Usd.Prim) -> int | None:
        material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if not material:
            return None
        path = str(material.GetPath())
        if path not in self.known:
            self.known[path] = self.add(self._read(material))
        return self.known[path]

    def add(self, surface: Surface) -> int:
        self.scene.surfaces.append(surface)
        return len(self.scene.surfaces) - 1

    def note(self, sentence: str) -> None:
        if sentence not in self.noted:
            self.noted.add(sentence)
            self.scene.notes.append(sentence)

    def _from_display_colour(self, mesh: UsdGeom.Mesh) -> int:
        """A plain surface in the mesh's mean display colour; mid grey if it has none."""
        values = mesh.GetDisplayColorPrimvar().ComputeFlattened(self.time)
        colour = np.mean(np.array(values), axis=0) if values is not None and len(values) else np.full(3, 0.5)
        key = f"display colour {np.round(colour, 6).tolist()}"
        if key not in self.known:
            self.known[key] = self.add(Surface("plain", (float(colour[0]), float(colour[1]), float(colour[2]))))
        return self.known[key]

    def _read(self, material: UsdShade.Material) -> Surface:
        name = material.GetPrim().GetName()
        shader = material.ComputeSurfaceSource()[0]
        if not shader or shader.GetIdAttr().Get() != "UsdPreviewSurface":
            for other in (material.ComputeSurfaceSource("mtlx")[0], shader):
                if other and other.GetIdAttr().Get() in MODELS:
                    return MaterialXReader(other, self).surface(material)
            self.note(f"The material {name} is none of those that are supported; a plain grey is used instead.")
            return Surface(name)
        # The schema's own fallbacks.
        surface = Surface(name, (0.18, 0.18, 0.18), roughness=0.5, ior=1.5)
        for usd_name, attribute in INPUTS.items():
            self._input(shader, usd_name, surface, attribute)
        surface.ior = max(1.0, float(self._constant(shader, "ior", 1.5)))
        surface.opacity_threshold = float(self._constant(shader, "opacityThreshold", 0.0))
        if int(self._constant(shader, "useSpecularWorkflow", 0)):
            surface.specular = (0.0, 0.0, 0.0)
            self._input(shader, "specularColor", surface, "specular")
        if str(self._constant(shader, "opacityMode", "transparent")) == "transparent" and surface.opacity_threshold <= 0.0:
            self._read_glass(material, surface)
        return surface

    def _read_glass(self, material: UsdShade.Material, surface: Surface) -> None:
        """Transparency that keeps its reflections: glass, thin unless a closed mesh uses it."""
        surface.see_through = "pane"
        colour = material.GetPrim().GetAttribute(OWN + "attenuationColor").Get(self.time)
        if colour is not None:
            surface.attenuation = (float(colour[0]), float(colour[1]), float(colour[2]))
        surface.attenuation_distance = float(material.GetPrim().GetAttribute(OWN + "attenuationDistance").Get(self.time) or 0.0)
        self.thin_walled[id(surface)] = material.GetPrim().GetAttribute(OWN + "thinWalled").Get(self.time)

    def make_solid(self, part: Mesh) -> None:
        """Give a closed mesh the solid variant of its glass, unless its material says it is thin (or give
        it to an open mesh whose material says it is not)."""
        for number in np.unique(part.surfaces).tolist():
            surface = self.scene.surfaces[number]
            if surface.see_through == "pane" and surface.lets_light_pass():
                thin = self.thin_walled.get(id(surface))
                if (not thin) if thin is not None else is_closed(part.vertices):
                    if number not in self.solid:
                        self.solid[number] = self.add(replace(surface, see_through="solid"))
                    part.surfaces = np.where(part.surfaces == number, np.uint32(self.solid[number]), part.surfaces)

    def _constant(self, shader: UsdShade.Shader, name: str, default: Any) -> Any:
        port = shader.GetInput(name)
        value = port.Get(self.time) if port else None
        return default if value is None else value

    def _input(self, shader: UsdShade.Shader, usd_name: str, surface: Surface, attribute: str) -> None:
        port = shader.GetInput(usd_name)
        if not port:
            return
        for attr in port.GetValueProducingAttributes():
            source = UsdShade.Shader(attr.GetPrim())
            if source and source.GetIdAttr().Get() == "UsdUVTexture":
                texture = self._texture(source)
                if texture is not None:
                    channel = CHANNELS.get(attr.GetName().removeprefix("outputs:"), 0)
                    setattr(surface, f"{attribute}_map", TextureUse(texture, channel))
                return
            value = attr.Get(self.time)
            if value is not None and attribute != "normal":  # a constant normal has no effect
                setattr(surface, attribute, tuple(float(c) for c in value) if attribute in COLOURS else float(value))
                return

    def _texture(self, shader: UsdShade.Shader) -> Texture | None:
        path = str(shader.GetPath())
        if path in self.images:
            return self.images[path]
        self.images[path] = texture = self._read_texture(shader)
        return texture

    def _read_texture(self, shader: UsdShade.Shader) -> Texture | None:
        port = shader.GetInput("file")
        named = str(port.GetAttr().GetColorSpace()) if port else ""
        stated = str(self._constant(shader, "sourceColorSpace", "auto"))
        found = self.picture(shader, named if stated in ("", "auto") else stated)
        if found is None:
            return None
        texels, tiled = found, isinstance(found, TileSet)
        scale, bias = ([float(x) for x in self._constant(shader, name, (value,) * 4)] for name, value in (("scale", 1.0), ("bias", 0.0)))
        wraps = ["black" if tiled else WRAPS.get(str(self._constant(shader, f"wrap{axis}", "repeat")), "repeat") for axis in "ST"]
        texture = Texture(texels, (wraps[0], wraps[1]), (scale[0], scale[1], scale[2], scale[3]), (bias[0], bias[1], bias[2], bias[3]))
        texture.transform = self._transform(shader)
        return texture

    def picture(self, shader: UsdShade.Shader, space: str, default: str = "auto") -> Texels | TileSet | None:
        """The input `file` of a texture's node, in the colour space `space` (or, without one, as `default` says); None without a picture, after a
        note if it can't be read."""
        asset = self._constant(shader, "file", None)
        if asset is None or not asset.path:
            return None
        try:
            encoding = encoding_of(space, default)
        except InputError as error:
            self.note(f"{error} The picture {asset.path[:200]} is read as its kind of file says.")
            encoding = "auto"
        try:
            if UsdShade.UdimUtils.IsUdimIdentifier(asset.path):
                return tile_set(self._tiles(shader, asset.path, encoding))
            return self._image(asset, encoding)
        except InputError as error:
            self.note(f"{error} The surface's plain value is used instead.")
            return None

    def _tiles(self, shader: UsdShade.Shader, path: str, encoding: str) -> dict[int, Texels]:
        """The pictures of a path with <UDIM> in it, by their numbers. Raises InputError where there is none, or one can't be read."""
        layer = next(spec.layer for spec in shader.GetInput("file").GetAttr().GetPropertyStack(self.time))
        pattern = Sdf.ComputeAssetPathRelativeToLayer(layer, path)
        if self.confine_to is not None and not is_within(pattern, self.confine_to):
            raise InputError(f"The file {path[:200]} was not given with the scene.")
        found = UsdShade.UdimUtils.ResolveUdimTilePaths(pattern, layer)
        if not found:
            raise InputError(f"No tile of {path[:200]} was found.")
        assets = {int(number): Sdf.AssetPath(resolved, resolved) for resolved, number in found}
        return {number: self._image(one, encoding) for number, one in assets.items()}

    def _image(self, asset: Any, encoding: str) -> Texels:
        report(0.5, lambda: f"the picture {Path(asset.path).name[:80]}")
        return read_texels(asset_bytes(asset, self.confine_to), asset.path, encoding)

    def of_light(self, asset: Any, wrap: str, without: str) -> Texture | None:
        """The texture of a light, with the wrap mode `wrap` at its left and right edge; None after a note, which ends with `without`."""
        try:
            return Texture(texels_of(read_image(asset_bytes(asset, self.confine_to), asset.path), levels=1), (wrap, "clamp"))
        except InputError as error:
            self.note(f"{error} {without}")
            return None

    def _transform(self, shader: UsdShade.Shader) -> np.ndarray:
        """2 x 3 matrix of a UsdTransform2d between coordinates and texture: scale, then rotate, then translate."""
        identity = np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]])
        port = shader.GetInput("st")
        if not port or not port.HasConnectedSource():
            return identity
        source = UsdShade.Shader(port.GetConnectedSource()[0].GetPrim())
        if not source or source.GetIdAttr().Get() != "UsdTransform2d":
            return identity
        scale = np.array(self._constant(source, "scale", (1.0, 1.0)), float)
        shift = np.array(self._constant(source, "translation", (0.0, 0.0)), float)
        turn = np.radians(float(self._constant(source, "rotation", 0.0)))
        c, s = np.cos(turn), np.sin(turn)
        return np.column_stack([np.array([[c, -s], [s, c]]) @ np.diag(scale), shift])
