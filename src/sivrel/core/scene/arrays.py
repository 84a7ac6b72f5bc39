"""A scene as the kernels read it: one named tuple of flat arrays, and the names of their columns."""

from typing import NamedTuple

import numpy as np

from ..trace.bvh import Bvh, build_bvh
from .model import Scene, Texture, TextureUse

# Columns of a surface row.
BASE, ROUGHNESS, METALLIC, IOR, EMISSION, OPACITY, THRESHOLD, BOTH_SIDES = 0, 3, 4, 5, 6, 9, 10, 11
BASE_MAP, ROUGHNESS_MAP, METALLIC_MAP, EMISSION_MAP, OPACITY_MAP = 12, 14, 16, 18, 20  # texture (-1 none), channel
SURFACE_COLUMNS = 22
# Columns of a light row.
KIND, RADIANCE, POSITION, AXIS_X, AXIS_Y, AXIS_Z, HALF_U, HALF_V, RADIUS, COS_ANGLE, AREA, POWER = (
    0, 1, 4, 7, 10, 13, 16, 19, 22, 23, 24, 25,
)  # fmt: skip
LIGHT_COLUMNS = 26
RECT, DISK, SPHERE, POINT, SUN, DOME = range(6)
LIGHT_KINDS = {"rect": RECT, "disk": DISK, "sphere": SPHERE, "point": POINT, "sun": SUN, "dome": DOME}
# Columns of a texture row.
TEXEL_START, WIDTH, HEIGHT, WRAP_S, WRAP_T, SCALE, BIAS, TRANSFORM = 0, 1, 2, 3, 4, 5, 9, 13
TEXTURE_COLUMNS = 19
REPEAT, CLAMP, MIRROR, BLACK = range(4)
WRAPS = {"repeat": REPEAT, "clamp": CLAMP, "mirror": MIRROR, "black": BLACK}

OFFSET_ROUNDINGS = 48.0
"""The automatic ray offset in roundings (2**-24) of the largest coordinate: a hit point is off by a few of them."""


class SceneArrays(NamedTuple):
    """bvh, then per triangle: vertices, normals float32 [n, 9], uvs float32 [n, 6], surface uint32 [n];
    surfaces, lights, textures float64 [rows, columns]; texels float32 [all texels, 4];
    cutouts: whether any surface lets light pass; offset: automatic ray offset in metres."""

    bvh: Bvh
    vertices: np.ndarray
    normals: np.ndarray
    uvs: np.ndarray
    surface_of: np.ndarray
    surfaces: np.ndarray
    lights: np.ndarray
    textures: np.ndarray
    texels: np.ndarray
    cutouts: bool
    offset: float


def pack_scene(scene: Scene) -> SceneArrays:
    """Flatten `scene` for the kernels and build its hierarchy."""
    meshes = [mesh for mesh in scene.meshes if len(mesh.vertices)]

    def gathered(attribute: str, columns: int) -> np.ndarray:
        parts = [getattr(mesh, attribute).reshape(-1, columns) for mesh in meshes]
        whole = np.concatenate(parts) if parts else np.zeros((0, columns))
        return np.ascontiguousarray(whole, np.float32)

    vertices = gathered("vertices", 9)
    pool = _TexturePool()
    surfaces = [_surface_row(surface, both, pool) for surface in scene.surfaces for both in (False, True)]
    # Each surface stands twice: emitting from its front, and from both faces.
    surface_of = [mesh.surfaces.astype(np.uint32) * 2 + np.uint32(mesh.double_sided) for mesh in meshes]
    lights = [_light_row(light) for light in scene.lights]
    largest = float(np.abs(vertices).max()) if len(vertices) else 1.0
    return SceneArrays(
        bvh=build_bvh(vertices.reshape(-1, 3, 3)),
        vertices=vertices,
        normals=gathered("normals", 9),
        uvs=gathered("uvs", 6),
        surface_of=np.concatenate(surface_of) if surface_of else np.zeros(0, np.uint32),
        surfaces=np.array(surfaces, np.float64).reshape(-1, SURFACE_COLUMNS),
        lights=np.array(lights, np.float64).reshape(-1, LIGHT_COLUMNS),
        textures=np.array(pool.rows, np.float64).reshape(-1, TEXTURE_COLUMNS),
        texels=np.concatenate(pool.texels) if pool.texels else np.zeros((1, 4), np.float32),
        cutouts=any(s.opacity < 1.0 or s.opacity_map is not None for s in scene.surfaces),
        offset=max(largest, 1e-6) * OFFSET_ROUNDINGS * 2.0**-24,
    )


class _TexturePool:
    """Collects the textures that surfaces use, each once."""

    def __init__(self) -> None:
        self.rows: list[np.ndarray] = []
        self.texels: list[np.ndarray] = []
        self._known: dict[int, int] = {}
        self._used = 0

    def reference(self, use: TextureUse | None) -> tuple[float, float]:
        if use is None:
            return -1.0, 0.0
        texture = use.texture
        if id(texture) not in self._known:
            self._known[id(texture)] = len(self.rows)
            self.rows.append(self._row(texture))
        return float(self._known[id(texture)]), float(use.channel)

    def _row(self, texture: Texture) -> np.ndarray:
        height, width = texture.texels.shape[:2]
        row = np.zeros(TEXTURE_COLUMNS)
        row[[TEXEL_START, WIDTH, HEIGHT]] = self._used, width, height
        row[[WRAP_S, WRAP_T]] = [WRAPS[w] for w in texture.wrap]
        row[SCALE : SCALE + 4], row[BIAS : BIAS + 4] = texture.scale, texture.bias
        row[TRANSFORM : TRANSFORM + 6] = texture.transform.reshape(-1)
        self.texels.append(np.ascontiguousarray(texture.texels, np.float32).reshape(-1, 4))
        self._used += width * height
        return row


def _surface_row(surface, both_sides: bool, pool: _TexturePool) -> np.ndarray:
    row = np.zeros(SURFACE_COLUMNS)
    row[BASE : BASE + 3], row[EMISSION : EMISSION + 3] = surface.base_color, surface.emission
    row[[ROUGHNESS, METALLIC, IOR]] = surface.roughness, surface.metallic, surface.ior
    row[[OPACITY, THRESHOLD, BOTH_SIDES]] = surface.opacity, surface.opacity_threshold, both_sides
    row[BASE_MAP : BASE_MAP + 2] = pool.reference(surface.base_color_map)
    row[ROUGHNESS_MAP : ROUGHNESS_MAP + 2] = pool.reference(surface.roughness_map)
    row[METALLIC_MAP : METALLIC_MAP + 2] = pool.reference(surface.metallic_map)
    row[EMISSION_MAP : EMISSION_MAP + 2] = pool.reference(surface.emission_map)
    row[OPACITY_MAP : OPACITY_MAP + 2] = pool.reference(surface.opacity_map)
    return row


def _light_row(light) -> np.ndarray:
    row = np.zeros(LIGHT_COLUMNS)
    kind = LIGHT_KINDS[light.kind]
    row[KIND] = kind
    row[RADIANCE : RADIANCE + 3], row[POSITION : POSITION + 3] = light.radiance, light.position
    row[AXIS_X : AXIS_X + 9] = light.frame.reshape(-1)
    row[HALF_U : HALF_U + 3], row[HALF_V : HALF_V + 3] = light.half_u, light.half_v
    cross = float(np.linalg.norm(np.cross(light.half_u, light.half_v)))
    row[[RADIUS, COS_ANGLE]] = light.radius, np.cos(light.angle / 2.0)
    row[AREA] = {RECT: 4.0 * cross, DISK: np.pi * cross, SPHERE: 4.0 * np.pi * light.radius**2}.get(kind, 0.0)
    # POWER: what the light would send to a facing point at distance one (at any distance for sun and dome).
    luminance = float(np.dot(light.radiance, (0.2126, 0.7152, 0.0722)))
    seen_area = {RECT: row[AREA], DISK: row[AREA], SPHERE: np.pi * light.radius**2, DOME: np.pi, POINT: 1.0}
    sun = np.pi * np.sin(light.angle / 2.0) ** 2 if light.angle > 0.0 else 1.0
    row[POWER] = luminance * seen_area.get(kind, sun)
    return row
