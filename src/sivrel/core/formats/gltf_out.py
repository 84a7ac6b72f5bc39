"""glTF 2.0 out: a whole scene with its edits, as one .glb; notes say what the format can't express."""

import io
import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ..lights.radiance import emitted
from ..scene.model import Camera, Light, Mesh, Scene, Surface, Texture, TextureUse
from ..scene.placed_mesh import PlacedMesh, run_round
from ..scene.texels import TileSet
from .gltf import glb

ASPECT = 16.0 / 9.0
FLOAT, UNSIGNED = 5126, 5125
WRAPS = {"clamp": 33071, "mirror": 33648, "repeat": 10497, "black": 33071}


def write_gltf(scene: Scene, out: Path) -> list[str]:
    """Write a scene with its edits to `out` (.glb). Returns a sentence for everything that glTF can't express."""
    writer = _Writer(scene)
    out.write_bytes(writer.whole())
    return writer.left_out


def linear_to_srgb(linear: np.ndarray) -> np.ndarray:
    """sRGB-encoded values of linear ones in [0, 1] (IEC 61966-2-1)."""
    return np.where(linear <= 0.0031308, linear * 12.92, 1.055 * np.maximum(linear, 0.0031308) ** (1.0 / 2.4) - 0.055)


class _Writer:
    def __init__(self, scene: Scene) -> None:
        self.scene = scene
        self.left_out: list[str] = []
        self.binary = bytearray()
        self.entry: dict[str, Any] = {
            "asset": {"version": "2.0", "generator": "Sivrel"}, "scene": 0, "scenes": [{"nodes": []}], "nodes": [], "meshes": [], "accessors": [],
            "bufferViews": [], "materials": [], "textures": [], "images": [], "samplers": [], "cameras": [],
        }  # fmt: skip
        self.shapes: dict[tuple[int, bool, bool], int] = {}
        self.lights: list[dict[str, Any]] = []
        self.materials: dict[tuple[int, bool], int] = {}
        self.pictures: dict[Any, int] = {}
        self.used: set[str] = set()

    def whole(self) -> bytes:
        for mesh in self.scene.meshes:
            if mesh.count:
                self._mesh(mesh)
        for camera in self.scene.cameras:
            self._camera(camera)
        for light in self.scene.lights:
            self._light(light)
        if self.lights:
            self.used.add("KHR_lights_punctual")
            self.entry["extensions"] = {"KHR_lights_punctual": {"lights": self.lights}}
        if self.used:
            self.entry["extensionsUsed"] = sorted(self.used)
        self.entry["buffers"] = [{"byteLength": len(self.binary)}]
        return glb({key: value for key, value in self.entry.items() if value != []}, bytes(self.binary))

    def _view(self, data: bytes, **more: int) -> int:
        self.binary += b"\0" * (-len(self.binary) % 4)
        self.entry["bufferViews"].append({"buffer": 0, "byteOffset": len(self.binary), "byteLength": len(data), **more})
        self.binary += data
        return len(self.entry["bufferViews"]) - 1

    def _accessor(self, values: np.ndarray, kind: int, shape: str, target: int, bounds: bool = False) -> int:
        entry: dict[str, Any] = {"bufferView": self._view(values.tobytes(), target=target), "componentType": kind, "count": len(values)}
        entry["type"] = shape
        if bounds:
            entry |= {"min": values.min(axis=0).tolist(), "max": values.max(axis=0).tolist()}
        self.entry["accessors"].append(entry)
        return len(self.entry["accessors"]) - 1

    def _node(self, entry: dict[str, Any]) -> None:
        self.entry["scenes"][0]["nodes"].append(len(self.entry["nodes"]))
        self.entry["nodes"].append(entry)

    def _mesh(self, mesh: Mesh) -> None:
        node: dict[str, Any] = {"mesh": self._shape(mesh), "name": mesh.name.strip("/")}
        if isinstance(mesh, PlacedMesh):
            node["matrix"] = np.vstack([mesh.to_world, [0.0, 0.0, 0.0, 1.0]]).T.reshape(-1).tolist()
        self._node(node)
        for attribute, what in (("seen_by_camera", "hidden from the camera"), ("casts_shadows", "casting no shadow"),
                                ("seen_by_bounced", "hidden from bounced light")):  # fmt: skip
            if not getattr(mesh, attribute):
                self.left_out.append(f"glTF can't express that {mesh.name} is {what}; this was left out.")
        if mesh.aimed:
            self.left_out.append(f"glTF can't express that {mesh.name} is aimed at as a light; it only glows there.")

    def _shape(self, mesh: Mesh) -> int:
        """Number of the mesh in the file: one for all placements of a shape."""
        if not isinstance(mesh, PlacedMesh):
            return self._triangles(mesh)
        key = id(mesh.shape), mesh.mirrors, mesh.double_sided
        if key not in self.shapes:
            shape = mesh.shape.changed(name=mesh.name, double_sided=mesh.double_sided)
            # A mirroring node turns triangles round (glTF 2.0, section 3.7.4), as they already are in a shape that is mirrored.
            self.shapes[key] = self._triangles(run_round(shape) if mesh.mirrors else shape)
        return self.shapes[key]

    def _triangles(self, mesh: Mesh) -> int:
        primitives = []
        for number in np.unique(mesh.surfaces):
            mine = mesh.surfaces == number
            corners = np.concatenate([mesh.vertices[mine], mesh.normals[mine], mesh.uvs[mine]], axis=2).reshape(-1, 8).astype("<f4") + np.float32(0.0)
            rows = np.ascontiguousarray(corners).view(np.dtype((np.void, 32))).reshape(-1)
            _, first, index = np.unique(rows, return_index=True, return_inverse=True)
            points = corners[first]
            uv = np.column_stack([points[:, 6], 1.0 - points[:, 7]]).astype("<f4")
            attributes = {
                "POSITION": self._accessor(np.ascontiguousarray(points[:, :3]), FLOAT, "VEC3", 34962, bounds=True),
                "NORMAL": self._accessor(_unit(points[:, 3:6]), FLOAT, "VEC3", 34962),
                "TEXCOORD_0": self._accessor(uv, FLOAT, "VEC2", 34962),
            }
            indices = self._accessor(index.astype("<u4").reshape(-1), UNSIGNED, "SCALAR", 34963)
            primitives.append({"attributes": attributes, "indices": indices, "material": self._material(int(number), mesh.double_sided)})
        self.entry["meshes"].append({"primitives": primitives, "name": mesh.name})
        return len(self.entry["meshes"]) - 1

    def _material(self, number: int, both: bool) -> int:
        if (number, both) not in self.materials:
            self.materials[number, both] = len(self.entry["materials"])
            self.entry["materials"].append(self._surface(self.scene.surfaces[number], both))
        return self.materials[number, both]

    def _surface(self, surface: Surface, both: bool) -> dict[str, Any]:
        surface = self._without_tiles(surface)
        glass = surface.lets_light_pass() and surface.see_through != "cut_out"
        colour = surface.attenuation if glass and surface.see_through == "pane" else surface.base_color
        metal: dict[str, Any] = {
            "baseColorFactor": [*_within(colour), 1.0 if glass or not surface.lets_light_pass() else _one(surface.opacity)],
            "metallicFactor": _one(surface.metallic), "roughnessFactor": _one(surface.roughness),
        }  # fmt: skip
        entry: dict[str, Any] = {"name": surface.name, "pbrMetallicRoughness": metal, "doubleSided": both}
        extra: dict[str, Any] = {}
        if surface.base_color_map or (surface.opacity_map and not glass):
            metal["baseColorTexture"] = self._base(surface, glass)
            metal["baseColorFactor"] = [1.0, 1.0, 1.0, 1.0]
        if surface.roughness_map or surface.metallic_map:
            metal["metallicRoughnessTexture"] = self._rough(surface)
            metal["metallicFactor"] = metal["roughnessFactor"] = 1.0
        if surface.lets_light_pass() and not glass:
            entry["alphaMode"] = "MASK" if surface.opacity_threshold > 0.0 else "BLEND"
            if surface.opacity_threshold > 0.0:
                entry["alphaCutoff"] = surface.opacity_threshold
        self._glow(surface, entry, extra)
        if surface.normal_map:
            values = _values(surface.normal_map.texture)[..., :3] * 0.5 + 0.5
            entry["normalTexture"] = self._picture(values, surface.normal_map.texture, ("normal", id(surface.normal_map.texture)))
        if glass:
            extra["KHR_materials_transmission"] = {"transmissionFactor": _one(1.0 - surface.opacity)}
            if surface.opacity_map:
                self.left_out.append(f"The transmission texture of {surface.name} was left out.")
            if surface.see_through == "solid":
                volume: dict[str, Any] = {"thicknessFactor": 1.0, "attenuationColor": _within(surface.attenuation)}
                if surface.attenuation_distance > 0.0:
                    volume["attenuationDistance"] = surface.attenuation_distance
                extra["KHR_materials_volume"] = volume
        if surface.ior != 1.5:
            extra["KHR_materials_ior"] = {"ior": surface.ior}
        if surface.coat > 0.0:
            extra["KHR_materials_clearcoat"] = {"clearcoatFactor": _one(surface.coat), "clearcoatRoughnessFactor": _one(surface.coat_roughness)}
            if surface.coat_map or surface.coat_roughness_map:
                self.left_out.append(f"The coat textures of {surface.name} were left out.")
        if surface.specular is not None:
            self.left_out.append(f"The specular tint of {surface.name} can't be expressed in glTF and was left out.")
        if extra:
            entry["extensions"] = extra
            self.used |= extra.keys()
        return entry

    def _without_tiles(self, surface: Surface) -> Surface:
        """The surface with plain means in place of sets of tiles, which glTF does not know."""
        tiled = {key: use for key, use in vars(surface).items() if isinstance(use, TextureUse) and isinstance(use.texture.texels, TileSet)}
        if not tiled:
            return surface
        self.left_out.append(f"The UDIM tiles of {surface.name} can't be expressed in glTF; their mean colours and numbers were written.")
        plain: dict[str, Any] = dict.fromkeys(tiled)
        for key, use in tiled.items():
            name, value = key.removesuffix("_map"), use.texture.texels.mean() * use.texture.scale + use.texture.bias
            if name != "normal":
                plain[name] = tuple(value[:3].tolist()) if isinstance(getattr(surface, name), tuple) else float(value[use.channel])
        return replace(surface, **plain)

    def _glow(self, surface: Surface, entry: dict[str, Any], extra: dict[str, Any]) -> None:
        colour = np.array(surface.emission, float)
        if surface.emission_map:
            values = _values(surface.emission_map.texture)[..., :3]
            brightest = max(float(values.max()), 1e-9)
            entry["emissiveTexture"] = self._picture(
                _srgb(values / brightest), surface.emission_map.texture, ("glow", id(surface.emission_map.texture))
            )
            colour = np.full(3, brightest)
        strength = float(colour.max())
        if strength > 0.0:
            entry["emissiveFactor"] = (colour / max(strength, 1.0)).tolist()
            if strength > 1.0:
                extra["KHR_materials_emissive_strength"] = {"emissiveStrength": strength}

    def _base(self, surface: Surface, glass: bool) -> dict[str, Any]:
        use, cut = surface.base_color_map, None if glass else surface.opacity_map
        texture = (use or cut).texture  # type: ignore[union-attr]
        rows, columns = texture.image.shape
        rgb = _values(use.texture)[..., :3] if use else np.broadcast_to(np.array(surface.base_color, float), (rows, columns, 3))
        picture = _srgb(np.clip(rgb, 0.0, 1.0))
        if surface.lets_light_pass() and not glass:
            alpha = np.full((rows, columns), surface.opacity)
            if cut is not None:
                if cut.texture.image.shape == (rows, columns):
                    alpha = _values(cut.texture)[..., cut.channel]
                else:
                    self.left_out.append(f"The cut-out of {surface.name} differs in size from its colour texture, and was left out.")
            picture = np.concatenate([picture, np.clip(alpha, 0.0, 1.0)[..., None]], axis=2)
        return self._picture(picture, texture, ("base", id(use), id(cut)))

    def _rough(self, surface: Surface) -> dict[str, Any]:
        rough, metal = surface.roughness_map, surface.metallic_map
        texture = (rough or metal).texture  # type: ignore[union-attr]
        shape = texture.image.shape

        def plane(use: TextureUse | None, plain: float) -> np.ndarray:
            if use is None or use.texture.image.shape != shape:
                return np.full(shape, plain)
            return _values(use.texture)[..., use.channel]

        picture = np.stack([np.ones(shape), plane(rough, surface.roughness), plane(metal, surface.metallic)], axis=2)
        return self._picture(picture, texture, ("rough", id(rough), id(metal)))

    def _picture(self, values: np.ndarray, texture: Texture, key: Any) -> dict[str, Any]:
        from PIL import Image

        if key not in self.pictures:
            buffer = io.BytesIO()
            Image.fromarray((np.clip(values, 0.0, 1.0) * 255.0 + 0.5).astype(np.uint8)).save(buffer, "PNG")
            self.entry["images"].append({"bufferView": self._view(buffer.getvalue()), "mimeType": "image/png"})
            self.entry["samplers"].append({"wrapS": WRAPS[texture.wrap[0]], "wrapT": WRAPS[texture.wrap[1]], "magFilter": 9729, "minFilter": 9987})
            self.entry["textures"].append({"source": len(self.entry["images"]) - 1, "sampler": len(self.entry["samplers"]) - 1})
            self.pictures[key] = len(self.entry["textures"]) - 1
        entry: dict[str, Any] = {"index": self.pictures[key]}
        moved = _transform(texture.transform)
        if moved:
            entry["extensions"] = {"KHR_texture_transform": moved}
            self.used.add("KHR_texture_transform")
        return entry

    def _camera(self, camera: Camera) -> None:
        if camera.orthographic:
            entry: dict[str, Any] = {"type": "orthographic", "orthographic": {"xmag": camera.half_width, "ymag": camera.half_width / ASPECT,
                                                                             "znear": 0.01, "zfar": 1e5}}  # fmt: skip
        else:
            lens = {"yfov": 2.0 * math.atan(camera.half_width / ASPECT), "aspectRatio": ASPECT, "znear": 0.01}
            entry = {"type": "perspective", "perspective": lens}
        self.entry["cameras"].append(entry | {"name": camera.name})
        self._node({"camera": len(self.entry["cameras"]) - 1, "name": camera.name, **_place(camera.to_world[:, :3].T, camera.to_world[:, 3])})
        if camera.lens_radius > 0.0 or camera.shift != (0.0, 0.0) or camera.exposure:
            self.left_out.append(f"Lens, shift and exposure of the camera {camera.name} can't be expressed in glTF and were left out.")

    def _light(self, light: Light) -> None:
        colour = np.array(emitted(light))
        if light.kind == "sun" and light.angle > 0.0:
            colour = colour * math.pi * math.sin(math.radians(light.angle) / 2.0) ** 2
        elif light.kind == "sphere":
            colour = colour * math.pi * light.radius**2
        elif light.kind not in ("sun", "point"):
            if light.kind != "mesh":
                self.left_out.append(f"The light {light.name} is a {light.kind}, which glTF can't express; it was left out.")
            return
        if not light.on or not colour.max() > 0.0:
            self.left_out.append(f"The light {light.name} is off and was left out.")
            return
        kind = "directional" if light.kind == "sun" else "spot" if light.shaping.cone_angle <= 90.0 else "point"
        entry: dict[str, Any] = {"type": kind, "name": light.name, "color": (colour / colour.max()).tolist(), "intensity": float(colour.max())}
        if kind == "spot":
            outer = math.radians(light.shaping.cone_angle)
            entry["spot"] = {"outerConeAngle": outer, "innerConeAngle": outer * (1.0 - light.shaping.cone_softness) * 0.999}
        if light.kind == "sphere" or light.angle > 0.0:
            self.left_out.append(f"The size of the light {light.name}, which softens its shadows, can't be expressed in glTF and was left out.")
        if 90.0 < light.shaping.cone_angle < 180.0:
            self.left_out.append(f"The cone of the light {light.name} opens beyond 90°, which glTF can't express; it emits in all directions there.")
        if light.shaping.profile is not None or light.shaping.focus > 0.0:
            self.left_out.append(f"Profile and focus of the light {light.name} can't be expressed in glTF and were left out.")
        self.lights.append(entry)
        place = _place(light.frame, np.asarray(light.position, float))
        self._node({"name": light.name, "extensions": {"KHR_lights_punctual": {"light": len(self.lights) - 1}}, **place})


def _values(texture: Texture) -> np.ndarray:
    return texture.image.linear().astype(float) * np.array(texture.scale) + np.array(texture.bias)


def _srgb(linear: np.ndarray) -> np.ndarray:
    return linear_to_srgb(np.clip(linear, 0.0, 1.0))


def _one(value: float) -> float:
    return float(min(1.0, max(0.0, value)))


def _within(colour: Any) -> list[float]:
    return [_one(c) for c in colour]


def _unit(n: np.ndarray) -> np.ndarray:
    n = n.astype(float)
    length = np.linalg.norm(n, axis=1, keepdims=True)
    return np.where(length > 1e-6, n / np.maximum(length, 1e-6), [[0.0, 1.0, 0.0]]).astype("<f4")


def _place(axes: np.ndarray, position: np.ndarray) -> dict[str, list[float]]:
    """Rotation and translation of a node whose axes are rows of a 3 x 3."""
    m = np.array(axes, float)
    q = _quaternion(m.T)
    return {"rotation": q.tolist(), "translation": [float(v) for v in position]}


def _quaternion(m: np.ndarray) -> np.ndarray:
    """x, y, z, w of a rotation matrix for columns: the eigenvector of the largest eigenvalue (Bar-Itzhack 2000)."""
    k = np.array([
        [m[0, 0] - m[1, 1] - m[2, 2], 0.0, 0.0, 0.0], [m[1, 0] + m[0, 1], m[1, 1] - m[0, 0] - m[2, 2], 0.0, 0.0],
        [m[2, 0] + m[0, 2], m[2, 1] + m[1, 2], m[2, 2] - m[0, 0] - m[1, 1], 0.0],
        [m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1], m.trace()],
    ])  # fmt: skip
    return np.linalg.eigh(k)[1][:, 3]


def _transform(matrix: np.ndarray) -> dict[str, Any]:
    """KHR_texture_transform of our 2 x 3 matrix, whose v runs up the picture; empty for none."""
    if np.allclose(matrix, [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]):
        return {}
    a, b, d, e = matrix[0, 0], -matrix[0, 1], -matrix[1, 0], matrix[1, 1]
    sx, turn = math.hypot(a, d), math.atan2(-d, a)
    sy = float(e * math.cos(turn) + b * math.sin(turn))
    return {"offset": [float(matrix[0, 2] - b), float(1.0 - e - matrix[1, 2])], "scale": [sx, sy], "rotation": turn}
