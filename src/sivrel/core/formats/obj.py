"""OBJ in, with its MTL: polygons, coordinates, normals, groups and materials.

The format has no unit, lights or cameras: metres and y up are assumed, as most programs write it. Materials as in the MTL description and its
widely used extension for metals and roughness (Pr, Pm, Pc).
"""

import re
from pathlib import Path
from typing import Any

import numpy as np

from ..errors import InputError
from ..scene.model import Mesh, Scene, Surface, Texture, TextureUse
from ..scene.topology import facets
from .asset_resolver import AssetResolver
from .faces import triangulate
from .framing import framing_camera
from .image import read_texels
from .repeats import share_repeated

MOST_LINES = 20_000_000
MAPS = {
    "map_kd": ("base_color_map", "sRGB"), "map_ke": ("emission_map", "sRGB"), "map_pr": ("roughness_map", "raw"), "map_pm": ("metallic_map", "raw"),
    "map_d": ("opacity_map", "raw"), "map_pc": ("coat_map", "raw"), "norm": ("normal_map", "raw"), "map_kn": ("normal_map", "raw"),
}  # fmt: skip
_N = rb"-?\d+"
FORMS = [
    (re.compile(rb"(?:%b/%b/%b(?:\s++|$))++" % (_N, _N, _N)), [0, 1, 2]), (re.compile(rb"(?:%b//%b(?:\s++|$))++" % (_N, _N)), [0, 2]),
    (re.compile(rb"(?:%b/%b(?:\s++|$))++" % (_N, _N)), [0, 1]), (re.compile(rb"(?:%b(?:\s++|$))++" % _N), [0]),
]  # fmt: skip
"""Formats of corners, if all are written alike, and which of vertex, coordinate and normal they contain."""
WITHOUT_WORDS = bytes(32 if chr(k) in "vtnf\n" else k for k in range(256))
"""Blanks that replace the letters of “v”, “vt”, “vn” and “f”."""
IGNORED = {"ka", "illum", "map_ka", "sharpness", "newmtl"}
"""Ignored in a material: ambient light, which is not physical, and hints to other renderers."""


def read_obj(path: Path, *, confine_to: Path | None = None, frame: float | None = None) -> Scene:
    """Read an OBJ file and the MTL files and pictures beside it. Unsupported parts are noted. Raises InputError."""
    beside = AssetResolver(path, confine_to)
    scene = Scene(path.stem)
    _Reader(path.name, beside.main(), beside, scene).read()
    if not scene.triangle_count():
        raise InputError(f"{scene.name} has nothing to render; give it at least one face.")
    share_repeated(scene)
    low, high = scene.bounds()
    scene.cameras.append(framing_camera(low, high))
    scene.notes.append("An OBJ file has no unit, no lights and no camera: metres are assumed, a camera that frames it is added, but no light.")
    return scene


class _Reader:
    """Lines are sorted by their first letters, all at once; each kind is read as one text of numbers."""

    def __init__(self, name: str, data: bytes, beside: AssetResolver, scene: Scene) -> None:
        self.name, self.beside, self.scene = name, beside, scene
        data = data.replace(b"\r\n", b"\n").replace(b"\\\n", b" ").replace(b"\r", b"\n").replace(b"\t", b" ")
        if b"#" in data:
            data = re.sub(rb"#[^\n]*", b"", data)
        if data.startswith(b" ") or b"\n " in data:
            data = re.sub(rb"(?m)^ +", b"", data)
        self.data = data + b"\n\0\0"
        self.bytes = np.frombuffer(self.data, np.uint8)
        ends = np.flatnonzero(self.bytes == ord("\n"))
        if len(ends) > MOST_LINES:
            raise InputError(f"{name} has more than {MOST_LINES:,} lines; split it.")
        self.starts = np.concatenate([[0], ends[:-1] + 1])
        self.ends = ends + 1
        words = (self.bytes[:-1] <= 32) & (self.bytes[1:] > 32)
        self.counts = np.add.reduceat(np.concatenate([[True], words]).astype(np.int8), self.starts, dtype=np.int64)
        self.numbers: dict[str, int] = {}
        self.materials: dict[str, Surface] = {}
        self.left: dict[str, int] = {}

    def read(self) -> None:
        first, second, third = (self.bytes[np.minimum(self.starts + k, len(self.bytes) - 1)] for k in range(3))
        of_v = first == ord("v")
        is_v, is_vt, is_vn = of_v & (second == 32), of_v & (second == ord("t")) & (third == 32), of_v & (second == ord("n")) & (third == 32)
        is_f = (first == ord("f")) & (second == 32)
        points, coordinates, normals = (self._table(mask, width) for mask, width in ((is_v, 3), (is_vt, 2), (is_vn, 3)))
        at = np.flatnonzero(is_f)
        # Indices count from one, or backwards from the last one read.
        before = [np.cumsum(mask)[at] for mask in (is_v, is_vt, is_vn)]
        counts, indices = self.counts[at] - 1, self._corners(is_f)
        if int(counts.sum()) != len(indices):
            raise InputError(f"{self.name} has faces that are not numbers; it is damaged, or not an OBJ file.")
        others = np.flatnonzero(~(is_v | is_vt | is_vn | is_f) & (first > 32))
        for (group, material), faces in self._groups(others, at).items():
            self._mesh(group, material, faces, counts, indices, before, points, coordinates, normals)
        for word, number in sorted(self.left.items()):
            self.scene.notes.append(f"{number} lines “{word}” were left out: they are not supported.")

    def _text(self, mask: np.ndarray) -> bytes:
        """The lines of a mask as one text, without their first words."""
        edges = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
        text = b"".join(self.data[self.starts[a] : self.ends[b - 1]] for a, b in zip(edges[::2], edges[1::2], strict=True))
        return text.translate(WITHOUT_WORDS)

    def _table(self, mask: np.ndarray, width: int) -> np.ndarray:
        counts = self.counts[mask] - 1
        try:
            numbers = np.fromstring(self._text(mask), np.float64, sep=" ") if mask.any() else np.zeros(0)
        except (ValueError, DeprecationWarning):
            numbers = np.zeros(0)
        if len(numbers) != counts.sum():
            raise InputError(f"{self.name} has coordinates that are not numbers; it is damaged, or not an OBJ file.")
        if (counts == width).all():
            return numbers.reshape(-1, width)
        # Weights and colours may follow; a texture coordinate may have only one number.
        starts = np.cumsum(counts) - counts
        columns = np.arange(width)
        there = columns < counts[:, None]
        return np.where(there, numbers[np.minimum(starts[:, None] + columns, max(len(numbers) - 1, 0))], 0.0)

    def _corners(self, mask: np.ndarray) -> np.ndarray:
        """Vertex, coordinate and normal of each corner int64 [corners, 3], 0 where there is none."""
        text = self._text(mask).strip()
        try:
            for form, columns in FORMS:
                if form.fullmatch(text):
                    numbers = np.fromstring(text.replace(b"/", b" "), np.int64, sep=" ").reshape(-1, len(columns))
                    indices = np.zeros((len(numbers), 3), np.int64)
                    indices[:, columns] = numbers
                    return indices
            return np.array([[int(n or 0) for n in (corner.split(b"/") + [b"", b""])[:3]] for corner in text.split()], np.int64).reshape(-1, 3)
        except (ValueError, OverflowError, DeprecationWarning):
            raise InputError(f"{self.name} has faces that are not numbers; it is damaged, or not an OBJ file.") from None

    def _groups(self, others: np.ndarray, at: np.ndarray) -> dict[tuple[str, str], np.ndarray]:
        """Numbers of the faces by (object and group, material), in the order of the file; `others` are the lines of neither numbers nor faces,
        `at` those of faces."""
        part, group, material = "", "", ""
        runs: dict[tuple[str, str], list[tuple[int, int]]] = {}
        first = 0
        for number, end in [*zip(others.tolist(), np.searchsorted(at, others).tolist(), strict=True), (-1, len(at))]:
            if end > first:
                runs.setdefault(("/".join(n for n in (part, group) if n) or self.scene.name, material), []).append((first, end))
                first = end
            if number < 0:
                break
            word, _, rest = self.data[self.starts[number] : self.ends[number]].decode("utf-8", "replace").strip().partition(" ")
            if word == "o":
                part, group = rest.strip(), ""
            elif word == "g":
                group = rest.strip()
            elif word == "usemtl":
                material = rest.strip()
            elif word == "mtllib":
                self._library(rest.strip())
            elif word != "s":
                self.left[word[:20]] = self.left.get(word[:20], 0) + 1
        return {key: np.concatenate([np.arange(a, b) for a, b in spans]) for key, spans in runs.items()}

    def _mesh(
        self, group: str, material: str, faces: np.ndarray, counts: np.ndarray, indices: Any, before: Any, points: np.ndarray,
        coordinates: np.ndarray, normals: np.ndarray,
    ) -> None:  # fmt: skip
        starts = np.concatenate([[0], np.cumsum(counts)])
        own = counts[faces]
        corner = np.repeat(starts[faces] - np.concatenate([[0], np.cumsum(own)[:-1]]), own) + np.arange(own.sum())
        used = indices[corner]
        face_of = np.repeat(faces, own)
        for k, (table, what) in enumerate(((points, "points"), (coordinates, "coordinates"), (normals, "normals"))):
            column = used[:, k]
            used[:, k] = np.where(column < 0, before[k][face_of] + column, column - 1)
            lowest = 0 if k == 0 else -1
            if len(column) and (used[:, k].min() < lowest or used[:, k].max() >= len(table)):
                raise InputError(f"{self.name} has faces with {what} that do not exist; it is damaged.")
        if len(used) == 0:
            return
        triangles, _ = triangulate(points, own, used[:, 0])
        if not len(triangles):
            return
        v = points[used[triangles, 0]]
        if not np.isfinite(v).all() or np.abs(v).max() > 1e15:
            raise InputError(f"{self.name} has points that are not finite; it is damaged.")
        n = facets(v)
        n = np.repeat((n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30))[:, None], 3, axis=1)
        if len(normals):
            given = normals[np.maximum(used[triangles, 2], 0)]
            length = np.linalg.norm(given, axis=2, keepdims=True)
            usable = (used[triangles, 2] >= 0)[..., None] & (length > 1e-12)
            n = np.where(usable, given / np.maximum(length, 1e-12), n)
        uv = np.zeros((len(triangles), 3, 2))
        if len(coordinates):
            uv = np.where((used[triangles, 1] >= 0)[..., None], coordinates[np.maximum(used[triangles, 1], 0)], 0.0)
        name = "/" + re.sub(r"\s+", "_", group)
        name += f"/{material}" if any(m.name == name for m in self.scene.meshes) else ""
        while any(m.name == name for m in self.scene.meshes):
            name += "_"
        surfaces = np.broadcast_to(np.uint32(self._surface(material)), len(v))
        self.scene.meshes.append(Mesh.of(name, v, n, uv, surfaces))

    def _surface(self, name: str) -> int:
        if name not in self.numbers:
            if name and name not in self.materials:
                self.scene.notes.append(f"The material {name} is not described in any MTL file given; a plain grey is used instead.")
            self.numbers[name] = len(self.scene.surfaces)
            self.scene.surfaces.append(self.materials.get(name, Surface(name or "plain")))
        return self.numbers[name]

    def _library(self, names: str) -> None:
        # A name may contain blanks; a line may hold several names.
        for name in [names] if self.beside.has(names) else names.split():
            try:
                text = self.beside.read(name).decode("utf-8", "replace")
            except InputError as error:
                self.scene.notes.append(f"{error} Plain greys are used instead of its materials.")
                continue
            for block in re.split(r"(?m)^\s*newmtl\s+", text)[1:]:
                lines = [line.split("#", 1)[0].split() for line in block.splitlines()]
                if lines and lines[0]:
                    self.materials[" ".join(lines[0])] = self._material(" ".join(lines[0]), lines[1:])

    def _material(self, name: str, lines: list[list[str]]) -> Surface:
        surface = Surface(name, ior=1.0)
        glossy, unread = (0.0, 0.0, 0.0), []
        for word, *rest in (line for line in lines if len(line) > 1):
            key = word.lower()
            try:
                if key == "kd":
                    surface.base_color = _three(rest)
                elif key == "ke":
                    surface.emission = _three(rest)
                elif key == "ks":
                    glossy = _three(rest)
                elif key == "ns":
                    # A lobe of exponent n is as wide as facets with alpha² = 2 / (n + 2) (Walter et al. 2007, 5.2); alpha is our roughness squared.
                    surface.roughness = float((2.0 / (max(float(rest[0]), 0.0) + 2.0)) ** 0.25)
                elif key in ("d", "tr"):
                    value = float(rest[-1])
                    surface.opacity = min(1.0, max(0.0, value if key == "d" else 1.0 - value))
                elif key == "ni":
                    surface.ior = max(1.0, float(rest[0]))
                elif key == "pr":
                    surface.roughness, surface.ior = float(rest[0]), max(surface.ior, 1.5)
                elif key == "pm":
                    surface.metallic = float(rest[0])
                elif key == "pc":
                    surface.coat = float(rest[0])
                elif key == "pcr":
                    surface.coat_roughness = float(rest[0])
                elif key in MAPS:
                    self._map(surface, key, rest)
                elif key not in IGNORED:
                    unread.append(word)
            except (ValueError, IndexError):
                self.scene.notes.append(f"The line “{' '.join([word, *rest])[:60]}” of the material {name} can't be read and was left out.")
        if max(glossy) > 0.0 and surface.ior == 1.0 and surface.metallic == 0.0:
            surface.specular = glossy
        if unread:
            self.scene.notes.append(f"Of the material {name}, {', '.join(dict.fromkeys(unread))} is not supported and was left out.")
        return surface

    def _map(self, surface: Surface, key: str, rest: list[str]) -> None:
        attribute, encoding = MAPS[key]
        scale, shift, wrap = [1.0, 1.0], [0.0, 0.0], "repeat"
        while rest and rest[0].startswith("-"):
            values: list[str] = []
            option, rest = rest[0], rest[1:]
            while rest and re.fullmatch(r"[-+]?\d*\.?\d+(e[-+]?\d+)?|on|off", rest[0]) and len(values) < 3 and len(rest) > 1:
                values.append(rest[0])
                rest = rest[1:]
            if option == "-s":
                scale = [float(v) for v in (values + values)[:2]]
            elif option == "-o":
                shift = [float(v) for v in (values + ["0"])[:2]]
            elif option == "-clamp" and values == ["on"]:
                wrap = "clamp"
            elif option not in ("-blendu", "-blendv", "-bm", "-mm", "-imfchan", "-texres", "-boost", "-type", "-cc"):
                raise ValueError
        name = " ".join(rest)
        try:
            texels = read_texels(self.beside.read(name), name, encoding)
        except InputError as error:
            self.scene.notes.append(f"{error} The surface's plain value is used instead.")
            return
        texture = Texture(texels, (wrap, wrap))
        texture.transform = np.array([[scale[0], 0.0, shift[0]], [0.0, scale[1], shift[1]]])
        if attribute == "normal_map":
            texture.scale, texture.bias = (2.0, 2.0, 2.0, 1.0), (-1.0, -1.0, -1.0, 0.0)
        setattr(surface, attribute, TextureUse(texture))


def _three(words: list[str]) -> tuple[float, float, float]:
    values = [float(word) for word in words[:3]]
    r, g, b = values * 3 if len(values) == 1 else values
    return r, g, b
