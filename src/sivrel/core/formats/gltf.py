"""glTF 2.0 in (.gltf, .glb): meshes, materials with their common extensions, punctual lights, cameras; metres and y up, as we have them.

Khronos, "glTF 2.0 Specification", and the ratified extensions named in EXTENSIONS.
"""

import base64
import binascii
import json
import struct
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from ..errors import InputError
from ..scene.frames import upright_frame
from ..scene.model import Camera, Light, Mesh, Scene, Shaping
from ..scene.topology import facets
from . import gltf_model as model
from .asset_resolver import AssetResolver
from .faces import normal_matrix
from .framing import framing_camera
from .gltf_surface import SurfaceReader
from .reading import report
from .shapes import Shapes, can_place, settle

MAGIC, JSON_CHUNK, BINARY_CHUNK = 0x46546C67, 0x4E4F534A, 0x004E4942
TYPES = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}
TRIANGLES, STRIP, FAN = 4, 5, 6
EXTENSIONS = {
    "KHR_lights_punctual", "KHR_materials_emissive_strength", "KHR_materials_transmission", "KHR_materials_volume", "KHR_materials_ior",
    "KHR_materials_clearcoat", "KHR_materials_specular", "KHR_texture_transform", "KHR_mesh_quantization",
    "EXT_mesh_gpu_instancing",
}  # fmt: skip
MOST_TRIANGLES, MOST_NODES, MOST_INSTANCES = 20_000_000, 1_000_000, 500_000


def read_gltf(path: Path, *, confine_to: Path | None = None, frame: float | None = None) -> Scene:
    """Read a glTF file in its rest pose, with the buffers and pictures beside it. Unsupported parts are noted. Raises InputError."""
    beside = AssetResolver(path, confine_to)
    text, binary = _chunks(beside.main(), path.name)
    try:
        file = model.Gltf.model_validate_json(text)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        raise InputError(f"{path.name} is not a glTF file, or it is damaged{f' at {where}' if where else ''}.") from None
    if not file.asset.version.startswith("2."):
        raise InputError(f"{path.name} is glTF {file.asset.version[:10]}; save it as glTF 2.0.")
    scene = Scene(path.stem)
    try:
        _Reader(path.name, file, binary, beside, scene).read()
    except (IndexError, TypeError, ValueError, OverflowError, RecursionError):
        raise InputError(f"{path.name} refers to missing parts; it is damaged.") from None
    return scene


def _chunks(data: bytes, name: str) -> tuple[bytes, bytes]:
    """The JSON and the binary chunk of a .glb, or a .gltf and nothing."""
    if data[:4] != b"glTF":
        return data, b""
    parts: dict[int, bytes] = {}
    try:
        _, version, _ = struct.unpack_from("<III", data)
        at = 12
        while at + 8 <= len(data):
            length, kind = struct.unpack_from("<II", data, at)
            if at + 8 + length > len(data):
                break
            parts.setdefault(kind, data[at + 8 : at + 8 + length])
            at += 8 + length + (-length % 4)
    except struct.error:
        version = 2
    if version != 2 or JSON_CHUNK not in parts:
        raise InputError(f"{name} is not a glTF 2.0 file, or it ends too early.")
    return parts[JSON_CHUNK], parts.get(BINARY_CHUNK, b"")


class Names:
    """Names that are given once: those that are taken get a number."""

    def __init__(self) -> None:
        self.wanted: dict[str, int] = {}

    def free(self, name: str) -> str:
        free = name
        while free in self.wanted:
            self.wanted[name] += 1
            free = f"{name} {self.wanted[name]}"
        self.wanted[free] = 1
        return free


class _Reader:
    def __init__(self, name: str, file: model.Gltf, binary: bytes, beside: AssetResolver, scene: Scene) -> None:
        self.name, self.file, self.binary, self.beside, self.scene = name, file, binary, beside, scene
        self.buffers: dict[int, bytes] = {}
        self.surfaces = SurfaceReader(file, scene, self._image)
        self.visited: set[int] = set()
        self.noted: set[str] = set()
        self.triangles = 0
        self.mesh_names, self.camera_names, self.light_names = Names(), Names(), Names()
        self.shapes = Shapes()
        uses = Counter(node.mesh for node in file.nodes)
        several = {node.mesh for node in file.nodes if uses[node.mesh] > 1 or "EXT_mesh_gpu_instancing" in node.extensions}
        self.repeated = {id(primitive) for k, mesh in enumerate(file.meshes) if k in several for primitive in mesh.primitives}
        self.lights = file.extensions.get("KHR_lights_punctual", {}).get("lights", []) if isinstance(file.extensions, dict) else []

    def read(self) -> None:
        file, scene = self.file, self.scene
        for unread in dict.fromkeys(e for e in file.extensionsUsed + file.extensionsRequired if e not in EXTENSIONS):
            needed = " and needs it to look right" if unread in file.extensionsRequired else ""
            self._note(f"The file uses the extension {unread[:60]}{needed}; it is ignored.")
        if file.animations:
            self._note("The file is animated; it is read in its rest pose.")
        children = {child for node in file.nodes for child in node.children}
        roots = file.scenes[file.scene].nodes if file.scenes else [k for k in range(len(file.nodes)) if k not in children]
        waiting = [(root, np.eye(4), "") for root in reversed(roots)]
        while waiting:
            number, parent, path = waiting.pop()
            if number in self.visited:
                raise InputError(f"{self.name} has nodes that contain each other; it is damaged.")
            self.visited.add(number)
            report(len(self.visited) / len(file.nodes), lambda: f"{len(scene.meshes):,} meshes")
            if len(self.visited) > MOST_NODES:
                raise InputError(f"{self.name} has more than {MOST_NODES:,} nodes.")
            node = file.nodes[number]
            matrix, path = parent @ _matrix(node), f"{path}/{(node.name or f'node{number}').replace('/', '_')}"[-2000:]
            instancing = node.extensions.get("EXT_mesh_gpu_instancing")
            if node.mesh is not None and isinstance(instancing, dict):
                for k, place in enumerate(self._instances(instancing)):
                    self._mesh(node, matrix @ place, f"{path}/{k}")
            elif node.mesh is not None:
                self._mesh(node, matrix, path)
            if node.camera is not None:
                self._camera(file.cameras[node.camera], matrix, node.name)
            light = node.extensions.get("KHR_lights_punctual")
            if isinstance(light, dict):
                self._light(self.lights[int(light["light"])] if "light" in light else {}, matrix, node.name, path)
            waiting += [(child, matrix, path) for child in reversed(node.children)]
        settle(scene)
        if not scene.triangle_count():
            raise InputError(f"{scene.name} has nothing to render; give it at least one mesh of triangles.")
        if not scene.cameras:
            scene.cameras.append(framing_camera(*scene.bounds()))
        scene.notes += self.surfaces.notes

    def _note(self, sentence: str) -> None:
        if sentence not in self.noted:
            self.noted.add(sentence)
            self.scene.notes.append(sentence)

    def _bytes(self, number: int) -> bytes:
        if number not in self.buffers:
            buffer = self.file.buffers[number]
            if buffer.uri is None:
                data = self.binary if number == 0 else b""
            elif buffer.uri.startswith("data:"):
                data = _from_data_address(buffer.uri, self.name)
            else:
                data = self.beside.read(buffer.uri)
            if len(data) < buffer.byteLength:
                raise InputError(f"{self.name} has a buffer that ends too early; it is damaged, or its .bin file is another one.")
            self.buffers[number] = data
        return self.buffers[number]

    def _view(self, number: int) -> tuple[memoryview, int | None]:
        view = self.file.bufferViews[number]
        data = self._bytes(view.buffer)
        if view.byteOffset + view.byteLength > len(data):
            raise InputError(f"{self.name} has data beyond the end of its buffer; it is damaged.")
        return memoryview(data)[view.byteOffset : view.byteOffset + view.byteLength], view.byteStride

    def _image(self, number: int) -> tuple[bytes, str]:
        """Bytes and name of a picture. Raises InputError."""
        image = self.file.images[number]
        if image.bufferView is not None:
            return bytes(self._view(image.bufferView)[0]), image.name or f"image {number}"
        if image.uri is None:
            raise InputError(f"The image {image.name or number} has no content.")
        if image.uri.startswith("data:"):
            return _from_data_address(image.uri, self.name), image.name or f"image {number}"
        return self.beside.read(image.uri), image.uri

    def _numbers(self, number: int) -> np.ndarray:
        """An accessor as float64 or int64 [count, width]."""
        accessor = self.file.accessors[number]
        kind, width = np.dtype(TYPES.get(accessor.componentType, "")), WIDTHS.get(accessor.type, 0)
        if accessor.componentType not in TYPES or not width:
            raise InputError(f"{self.name} has numbers of an unknown type; it is damaged.")
        if accessor.bufferView is None:
            if accessor.count * width > 3 * MOST_TRIANGLES:
                raise InputError(f"{self.name} has more than {MOST_TRIANGLES:,} triangles; split it.")
            values = np.zeros((accessor.count, width), kind)
        else:
            data, stride = self._view(accessor.bufferView)
            values = _strided(data, accessor.byteOffset, accessor.count, stride or kind.itemsize * width, kind, width, self.name)
        if accessor.sparse is not None:
            sparse = accessor.sparse
            index = TYPES.get(sparse.indices.componentType, "")
            data, _ = self._view(sparse.indices.bufferView)
            at = _strided(data, sparse.indices.byteOffset, sparse.count, np.dtype(index).itemsize, np.dtype(index), 1, self.name)[:, 0]
            data, _ = self._view(sparse.values.bufferView)
            values = values.copy()
            values[at] = _strided(data, sparse.values.byteOffset, sparse.count, kind.itemsize * width, kind, width, self.name)
        if kind.kind == "f":
            return values.astype(float)
        if accessor.normalized:
            return np.maximum(values.astype(float) / np.iinfo(kind).max, -1.0)
        return values.astype(np.int64)

    def _mesh(self, node: model.Node, matrix: np.ndarray, path: str) -> None:
        primitives = self.file.meshes[node.mesh or 0].primitives
        if node.skin is not None:
            self._note(f"The skin of {node.name or path} is left out: it is shown as it was modelled.")
        for k, primitive in enumerate(primitives):
            if primitive.mode not in (TRIANGLES, STRIP, FAN):
                self._note(f"Points and lines of {node.name or path} are left out: they have no surface.")
                continue
            if "POSITION" not in primitive.attributes or "KHR_draco_mesh_compression" in primitive.extensions:
                self._note(f"A part of {node.name or path} is compressed or has no points, and is left out.")
                continue
            if primitive.targets:
                self._note(f"The shapes that {node.name or path} can blend to are left out.")
            for attribute in primitive.attributes:
                if attribute.startswith("COLOR_"):
                    self._note(f"The colours at the points of {node.name or path} are left out; its material's colour is shown.")
            self._primitive(primitive, matrix, self.mesh_names.free(path if len(primitives) == 1 else f"{path}/{k}"))

    def _primitive(self, primitive: model.Primitive, matrix: np.ndarray, name: str) -> None:
        if id(primitive) in self.repeated and can_place(matrix):
            mesh: Mesh | None = self.shapes.placed(id(primitive), name, matrix, lambda mirrored: self._shape(primitive, np.eye(4), name, mirrored))
        else:
            mesh = self._shape(primitive, matrix, name)
        if mesh is not None:
            self.scene.meshes.append(mesh)

    def _instances(self, described: dict[str, Any]) -> list[np.ndarray]:
        """4 x 4 matrices, for columns, from each instance of a node's mesh to the node (EXT_mesh_gpu_instancing)."""
        attributes = described.get("attributes")
        if not isinstance(attributes, dict):
            raise ValueError("no attributes")
        of = {name: self._numbers(int(attributes[name])) for name in ("TRANSLATION", "ROTATION", "SCALE") if name in attributes}
        counts = {len(values) for values in of.values()}
        if len(counts) != 1 or any(values.shape[1] != (4 if name == "ROTATION" else 3) for name, values in of.items()):
            raise ValueError("attributes of several lengths")
        count = counts.pop()
        if count > MOST_INSTANCES:
            raise InputError(f"{self.name} places a mesh {count:,} times; more than {MOST_INSTANCES:,} can't be read.")
        moved, turned = of.get("TRANSLATION", np.zeros((count, 3))), of.get("ROTATION", np.tile([0.0, 0.0, 0.0, 1.0], (count, 1)))
        sized = of.get("SCALE", np.ones((count, 3)))
        return [_placed(t, r, s) for t, r, s in zip(moved.tolist(), turned.tolist(), sized.tolist(), strict=True)]

    def _shape(self, primitive: model.Primitive, matrix: np.ndarray, name: str, to_be_mirrored: bool = False) -> Mesh | None:
        """The triangles of a primitive in the scene, or in its own space where the matrix is the identity: then clockwise where it is
        `to_be_mirrored` by its placements. None if it has none."""
        points = self._numbers(primitive.attributes["POSITION"])[:, :3] @ matrix[:3, :3].T + matrix[:3, 3]
        index = np.arange(len(points)) if primitive.indices is None else self._numbers(primitive.indices)[:, 0].astype(np.int64)
        corners = _corners(index, primitive.mode)
        self.triangles += len(corners)
        if self.triangles > MOST_TRIANGLES:
            raise InputError(f"{self.name} has more than {MOST_TRIANGLES:,} triangles; split it.")
        if not len(corners):
            return None
        if corners.min() < 0 or corners.max() >= len(points) or not np.isfinite(points).all() or np.abs(points).max() > 1e15:
            raise InputError(f"{self.name} has faces with missing points; it is damaged.")
        mirrored = np.linalg.det(matrix[:3, :3]) < 0.0
        v = points[corners]
        n = facets(v) * (-1.0 if mirrored else 1.0)
        n = np.repeat((n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30))[:, None], 3, axis=1)
        if "NORMAL" in primitive.attributes:
            given = self._numbers(primitive.attributes["NORMAL"])[:, :3][corners] @ normal_matrix(matrix).T
            length = np.linalg.norm(given, axis=2, keepdims=True)
            n = np.where(np.isfinite(length) & (length > 1e-20), given / np.maximum(length, 1e-20), n)
        surface, coordinates, both = self.surfaces.of(primitive.material, name)
        uv = np.zeros((len(v), 3, 2))
        if f"TEXCOORD_{coordinates}" in primitive.attributes:
            uv = np.nan_to_num(self._numbers(primitive.attributes[f"TEXCOORD_{coordinates}"])[:, :2].astype(float))[corners]
            uv = np.stack([uv[..., 0], 1.0 - uv[..., 1]], axis=-1)  # glTF's v runs down the picture, ours up
        if mirrored != to_be_mirrored:
            v, n, uv = v[:, ::-1], n[:, ::-1], uv[:, ::-1]
        return Mesh.of(name, v, n, uv, np.broadcast_to(np.uint32(surface), len(v)), double_sided=both)

    def _camera(self, camera: model.Camera, matrix: np.ndarray, name: str) -> None:
        axes = matrix[:3, :3] / np.maximum(np.linalg.norm(matrix[:3, :3], axis=0), 1e-30)
        half, orthographic = 0.5, camera.orthographic is not None and camera.perspective is None
        if orthographic and camera.orthographic:
            half = abs(camera.orthographic.xmag) or 1.0
        elif camera.perspective:
            half = float(np.tan(min(camera.perspective.yfov, 3.0) / 2.0)) * (camera.perspective.aspectRatio or 16.0 / 9.0)
        name = self.camera_names.free(name or camera.name or "camera")
        self.scene.cameras.append(Camera(name, np.column_stack([axes, matrix[:3, 3]]), half, orthographic=orthographic))

    def _light(self, described: dict[str, Any], matrix: np.ndarray, name: str, path: str) -> None:
        """A punctual light: candela for point and spot, lux for a directional one."""
        kind = {"point": "point", "spot": "point", "directional": "sun"}.get(str(described.get("type")))
        if kind is None:
            self._note(f"The light {name} has an unknown type, and is left out.")
            return
        x, y, z = (float(c) for c in matrix[:3, 3])
        r, g, b = (float(c) for c in (described.get("color") or (1.0, 1.0, 1.0)))
        light = Light(
            self.light_names.free(name or str(described.get("name") or "light")), kind,  # type: ignore[arg-type]
            (r, g, b), (x, y, z), upright_frame(matrix[:3, 2]), float(described.get("intensity", 1.0)),
        )  # fmt: skip
        light.group = path.rpartition("/")[0].strip("/")
        if described.get("type") == "spot":
            spot = described.get("spot") or {}
            outer, inner = float(spot.get("outerConeAngle", np.pi / 4.0)), float(spot.get("innerConeAngle", 0.0))
            light.shaping = Shaping(cone_angle=float(np.degrees(outer)), cone_softness=min(1.0, max(0.0, 1.0 - inner / max(outer, 1e-6))))
        if described.get("range") is not None:
            self._note(f"The range of the light {light.name} is left out: its light does not end.")
        self.scene.lights.append(light)


def _from_data_address(uri: str, name: str) -> bytes:
    head, _, body = uri.partition(",")
    if not head.endswith(";base64"):
        raise InputError(f"{name} has embedded data that is not base64; save it again.")
    try:
        return base64.b64decode(body, validate=True)
    except binascii.Error:
        raise InputError(f"{name} has embedded data that is damaged.") from None


def _strided(data: memoryview, start: int, count: int, stride: int, kind: np.dtype, width: int, name: str) -> np.ndarray:
    """`count` rows of `width` numbers, each `stride` bytes after the last. Raises InputError if they exceed the data."""
    if count and start + stride * (count - 1) + kind.itemsize * width > len(data):
        raise InputError(f"{name} declares more numbers than it contains; it is damaged.")
    return np.ndarray((count, width), kind, data, start, (stride, kind.itemsize)) if count else np.zeros((0, width), kind)


def _corners(index: np.ndarray, mode: int) -> np.ndarray:
    """Corners int64 [n, 3] of triangles, a strip or a fan (glTF 2.0, section 3.7.2.1)."""
    if mode == TRIANGLES:
        return index[: len(index) // 3 * 3].reshape(-1, 3)
    k = np.arange(max(0, len(index) - 2))
    if mode == STRIP:
        return np.stack([index[k], index[k + 1 + k % 2], index[k + 2 - k % 2]], axis=1)
    return np.stack([index[k + 1], index[k + 2], np.broadcast_to(index[:1], len(k))], axis=1)


def _matrix(node: model.Node) -> np.ndarray:
    """4 x 4 for columns, from the node's space to its parent's."""
    if node.matrix is not None:
        return np.array(node.matrix).reshape(4, 4).T
    return _placed(node.translation, node.rotation, node.scale)


def _placed(translation: Sequence[float], rotation: Sequence[float], scale: Sequence[float]) -> np.ndarray:
    """4 x 4 matrix, for columns, that scales, turns by a quaternion x, y, z, w, and moves."""
    x, y, z, w = np.array(rotation) / max(float(np.linalg.norm(rotation)), 1e-12)
    matrix = np.eye(4)
    matrix[:3, :3] = np.array([
        [1.0 - 2.0 * (y * y + z * z), 2.0 * (x * y - z * w), 2.0 * (x * z + y * w)],
        [2.0 * (x * y + z * w), 1.0 - 2.0 * (x * x + z * z), 2.0 * (y * z - x * w)],
        [2.0 * (x * z - y * w), 2.0 * (y * z + x * w), 1.0 - 2.0 * (x * x + y * y)],
    ]) * np.array(scale)  # fmt: skip
    matrix[:3, 3] = translation
    return matrix


def chunk(kind: int, data: bytes) -> bytes:
    """A chunk of a .glb, padded as the format wants it."""
    data += (b" " if kind == JSON_CHUNK else b"\0") * (-len(data) % 4)
    return struct.pack("<II", len(data), kind) + data


def glb(described: dict[str, Any], binary: bytes) -> bytes:
    """The bytes of a .glb file."""
    body = chunk(JSON_CHUNK, json.dumps(described, separators=(",", ":")).encode()) + (chunk(BINARY_CHUNK, binary) if binary else b"")
    return struct.pack("<III", MAGIC, 2, 12 + len(body)) + body
