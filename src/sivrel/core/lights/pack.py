"""Lights turned into the arrays that the kernels read, and packed onto a scene's geometry."""

import math
from typing import Any

import numpy as np

from ..gi.ways import NOTHING_PREPARED
from ..scene.arrays import (
    AREA,
    AXIS_X,
    BIAS_TEXELS,
    BY_BOUNCED,
    BY_CAMERA,
    BY_SHADOW,
    CAMERA,
    CONE,
    CONE_START,
    COS_ANGLE,
    DIFFUSE,
    EMITTER_COUNT,
    EMITTERS,
    FILTER,
    FOCUS,
    FOCUS_TINT,
    GLOWS,
    HALF_U,
    HALF_V,
    KIND,
    LIGHT_COLUMNS,
    LIGHT_KINDS,
    LINKS,
    LIT,
    MAP,
    MAP_COLUMNS,
    MAP_START,
    NO_LIGHT,
    NODE_COLUMNS,
    PANORAMA,
    POSITION,
    POWER,
    PROFILE,
    RADIANCE,
    RADIUS,
    RAYS,
    ROTATION,
    SHADOWING,
    SHAPED,
    SKY,
    SLOT,
    SPECULAR,
    TEXTURE_COLUMNS,
    WAY,
    SceneArrays,
)
from ..scene.model import Light, Mesh, Scene, Shadow, TextureUse
from ..shadows.depth_map import DEPTH_MAP
from ..shadows.traced import TRACED
from ..shadows.ways import CODES
from ..vector import LUMINANCE
from .mesh_emitter import emitter_table
from .panorama import sky_table
from .radiance import area, emitted
from .shaping import profile_table
from .tree import build_tree

MOST_PASSES = 24
"""Lights that get a pass of their own; the weakest beyond share one."""
MOST_LINKS = 63
GLOW, OTHERS = "glow", "other lights"
"""Names of the passes of what merely glows, and of the lights that share one."""
DEFAULT_SHADOW = Shadow("traced", 1, 1024, 2.0, 2.0)


def without_lights(**geometry: Any) -> SceneArrays:
    """Scene arrays of the given geometry with nothing that shines."""
    triangles = len(geometry["vertices"])
    return SceneArrays(
        **geometry,
        objects=np.full((int(geometry["object_of"][-1]) + 1 if triangles else 1, 2), BY_CAMERA | BY_SHADOW | BY_BOUNCED | GLOWS, np.int64),
        filtered=False,
        lights=np.zeros((0, LIGHT_COLUMNS)),
        portals=np.zeros((0, LIGHT_COLUMNS)),
        tables=np.zeros(1, np.float32),
        tree=np.zeros((0, NODE_COLUMNS)),
        leaf_of=np.zeros(0, np.int64),
        distant=np.zeros(0, np.int64),
        light_of=np.full(triangles, NO_LIGHT, np.uint32),
        aimed_density=np.zeros(triangles, np.float32),
        emitters=np.zeros((0, 2), np.uint32),
        emitter_cut=np.zeros(0, np.float32),
        maps=np.zeros((0, MAP_COLUMNS)),
        depths=np.zeros(1, np.float32),
        careful=False,
        slots=1,
        prepared=NOTHING_PREPARED,
    )


def active_lights(scene: Scene) -> list[Light]:
    """The lights that shine: those that are on, or the soloed ones where there are any; aimed-at meshes among them."""
    meshes = [Light(m.name, "mesh", mesh=m.name) for m in scene.meshes if m.aimed]
    named = {light.mesh: light for light in scene.lights if light.kind == "mesh"}
    lights = [light for light in scene.lights if light.kind != "mesh"]
    lights += [named.get(m.mesh, m) for m in meshes]
    soloed = [light for light in lights if light.solo]
    return [light for light in soloed or lights if light.on and light.kind != "portal"]


def pass_names(scene: Scene) -> list[str]:
    """Names of the light passes by slot: what merely glows, then a light each, the strongest first, then the others."""
    lights = active_lights(scene)
    order = sorted(range(len(lights)), key=lambda i: (-_rough_strength(lights[i]), i))
    if len(lights) <= MOST_PASSES:
        return [GLOW, *(lights[i].name for i in sorted(order))]
    return [GLOW, *(lights[i].name for i in sorted(order[:MOST_PASSES])), OTHERS]


def _rough_strength(light: Light) -> float:
    return float(np.dot(emitted(light), LUMINANCE)) * max(area(light), 1e-9 if light.kind in ("rect", "disk", "sphere", "cylinder") else 1.0)


def pack_lights(geometry: SceneArrays, scene: Scene, shadow: Shadow = DEFAULT_SHADOW) -> SceneArrays:
    """`geometry` with the lights of `scene` on it; `shadow` says what a light does that leaves it to the recipe."""
    from ..scene.pack import TexturePool, object_flags, packed_meshes

    meshes = packed_meshes(scene)
    lights = active_lights(scene)
    names = pass_names(scene)
    tables = _Tables()
    # A panorama's texels follow those of the surfaces; geometry is never packed with panoramas, so that it can be reused.
    pool = TexturePool(used=len(geometry.texels), first=len(geometry.textures))
    links = _Links(meshes)
    emitters = _Emitters(geometry, meshes)
    rows: list[np.ndarray] = []
    for light in lights:
        row = _row(light, shadow, tables, pool)
        row[LIT], row[SHADOWING] = links.bit(light.lit), links.bit(light.shadowing)
        row[SLOT] = names.index(light.name) if light.name in names[1:] else names.index(OTHERS)
        if light.kind == "mesh":
            emitters.add(light, row, len(rows))
        rows.append(row)
    table = np.array(rows, np.float64).reshape(-1, LIGHT_COLUMNS)
    portals = [_row(light, shadow, tables, pool) for light in scene.lights if light.kind == "portal" and light.on]
    tree, leaf_of, distant = build_tree(table, emitters.boxes)
    objects = np.zeros((max(1, len(meshes)), 2), np.int64)
    visible = object_flags(meshes)
    flags = visible.copy()
    # What is aimed at shines as its light does; while some light is soloed, nothing else glows.
    soloed = any(light.solo for light in scene.lights)
    flags[[not soloed and not m.aimed for m in meshes]] |= GLOWS
    objects[: len(flags), 0] = flags
    objects[:, LINKS] = links.masks if len(meshes) else 0
    filtered = bool((visible != BY_CAMERA | BY_SHADOW | BY_BOUNCED).any())
    return geometry._replace(
        objects=objects,
        filtered=filtered,
        textures=np.concatenate([geometry.textures, np.array(pool.rows, np.float64).reshape(-1, TEXTURE_COLUMNS)]),
        texels=np.concatenate([geometry.texels, *pool.texels]) if pool.texels else geometry.texels,
        lights=table,
        portals=np.array(portals, np.float64).reshape(-1, LIGHT_COLUMNS),
        tables=tables.whole(),
        tree=tree,
        leaf_of=leaf_of,
        distant=distant,
        light_of=emitters.light_of,
        aimed_density=emitters.density,
        emitters=emitters.whole()[0],
        emitter_cut=emitters.whole()[1],
        careful=filtered or bool(len(table) and ((table[:, WAY] != TRACED) | (table[:, SHADOWING] >= 0)).any()),
        slots=len(names),
    )


def with_maps(arrays: SceneArrays, maps: dict[str, tuple[np.ndarray, np.ndarray]], scene: Scene) -> SceneArrays:
    """`arrays` with depth maps by light name: (row float64 [MAP_COLUMNS], depths float32)."""
    lights, used = arrays.lights.copy(), 0
    rows: list[np.ndarray] = []
    depths: list[np.ndarray] = []
    for i, light in enumerate(active_lights(scene)):
        if light.name in maps and lights[i, WAY] == DEPTH_MAP:
            row, texels = maps[light.name]
            row = row.copy()
            row[MAP_START] = used
            lights[i, MAP] = len(rows)
            rows.append(row)
            depths.append(texels.reshape(-1))
            used += texels.size
    if not rows:
        return arrays
    return arrays._replace(lights=lights, maps=np.array(rows), depths=np.concatenate(depths))


class _Tables:
    """Collects float32 tables of many lengths end to end."""

    def __init__(self) -> None:
        self.parts: list[np.ndarray] = []
        self.used = 0

    def add(self, table: np.ndarray) -> float:
        self.parts.append(np.ascontiguousarray(table, np.float32).reshape(-1))
        self.used += self.parts[-1].size
        return float(self.used - self.parts[-1].size)

    def whole(self) -> np.ndarray:
        return np.concatenate(self.parts) if self.parts else np.zeros(1, np.float32)


class _Links:
    """Gives each collection of meshes a bit."""

    def __init__(self, meshes: list[Mesh]) -> None:
        self.meshes = meshes
        self.known: dict[frozenset[str], int] = {}
        self.masks = np.zeros(len(meshes), np.int64)

    def bit(self, members: frozenset[str] | None) -> float:
        if members is None:
            return -1.0
        if members not in self.known:
            if len(self.known) >= MOST_LINKS:
                return -1.0
            self.known[members] = len(self.known)
            for k, mesh in enumerate(self.meshes):
                if mesh.name in members:
                    self.masks[k] |= 1 << self.known[members]
        return float(self.known[members])


class _Emitters:
    """The alias tables of all mesh lights, and which triangles belong to which."""

    def __init__(self, geometry: SceneArrays, meshes: list[Mesh]) -> None:
        self.geometry = geometry
        counts = [len(mesh.vertices) for mesh in meshes]
        starts: list[int] = np.concatenate([[0], np.cumsum(counts)[:-1]]).astype(int).tolist() if counts else []
        self.spans = {mesh.name: (int(start), int(start) + count) for mesh, start, count in zip(meshes, starts, counts, strict=True)}
        self.light_of = np.full(len(geometry.vertices), NO_LIGHT, np.uint32)
        self.density = np.zeros(len(geometry.vertices), np.float32)
        self.parts: list[tuple[np.ndarray, np.ndarray]] = []
        self.used = 0
        self.boxes: dict[int, np.ndarray] = {}

    def add(self, light: Light, row: np.ndarray, number: int) -> None:
        first, last = self.spans.get(light.mesh, (0, 0))
        numbers, table, cut, density, power = emitter_table(self.geometry, first, last)
        row[EMITTERS], row[EMITTER_COUNT], row[POWER] = self.used, len(numbers), power
        if len(numbers) == 0:
            self.boxes[number] = np.zeros((2, 3))
            return
        self.light_of[numbers] = number
        self.density[numbers] = density
        self.parts.append((table, cut))
        self.used += len(numbers)
        corners = self.geometry.vertices[numbers].reshape(-1, 3).astype(float)
        self.boxes[number] = np.array([corners.min(axis=0), corners.max(axis=0)])
        row[POSITION : POSITION + 3] = corners.mean(axis=0)

    def whole(self) -> tuple[np.ndarray, np.ndarray]:
        if not self.parts:
            return np.zeros((0, 2), np.uint32), np.zeros(0, np.float32)
        return np.concatenate([t for t, _ in self.parts]), np.concatenate([c for _, c in self.parts])


def _row(light: Light, shadow: Shadow, tables: _Tables, pool: Any) -> np.ndarray:
    row = np.zeros(LIGHT_COLUMNS)
    row[[SKY, PROFILE, PANORAMA, MAP, LIT, SHADOWING]] = -1.0
    kind = row[KIND] = LIGHT_KINDS[light.kind]
    radiance = row[RADIANCE : RADIANCE + 3] = np.array(emitted(light))
    row[POSITION : POSITION + 3], row[AXIS_X : AXIS_X + 9] = light.position, light.frame.reshape(-1)
    along = light.length if light.kind == "cylinder" else light.width
    row[HALF_U : HALF_U + 3], row[HALF_V : HALF_V + 3] = light.frame[0] * along / 2.0, light.frame[1] * light.height / 2.0
    angle = math.radians(light.angle)
    row[[RADIUS, COS_ANGLE, AREA]] = light.radius, math.cos(angle / 2.0), area(light)
    row[[DIFFUSE, SPECULAR, CAMERA]] = light.diffuse, light.specular, light.seen_by_camera
    way = light.shadow.way or shadow.way
    # A sky is everywhere: no one map holds its shadows.
    row[WAY] = TRACED if way == "depth_map" and light.kind in ("dome", "mesh") else CODES[way or "traced"]
    for column, name in ((RAYS, "rays"), (FILTER, "filter"), (BIAS_TEXELS, "bias")):
        own = getattr(light.shadow, name)
        row[column] = getattr(shadow, name) if own is None else own
    shaping = light.shaping
    row[[CONE, CONE_START]] = math.radians(shaping.cone_angle), math.radians(shaping.cone_angle * (1.0 - shaping.cone_softness))
    row[FOCUS], row[FOCUS_TINT : FOCUS_TINT + 3] = shaping.focus, shaping.focus_tint
    gain = 1.0
    if shaping.profile is not None:
        profile = profile_table(shaping.profile, shaping.profile_normalize)
        row[PROFILE], gain = tables.add(profile), float(profile[4:].max())
    row[SHAPED] = kind not in (LIGHT_KINDS["sun"], LIGHT_KINDS["dome"], LIGHT_KINDS["mesh"], LIGHT_KINDS["portal"]) and (
        shaping.cone_angle < 90.0 or shaping.focus > 0.0 or shaping.profile is not None
    )
    if light.kind == "dome" and light.panorama is not None:
        row[PANORAMA] = pool.reference(TextureUse(light.panorama))[0]
        row[ROTATION] = math.radians(light.rotation)
        table, mean = sky_table(light.panorama)
        row[SKY] = tables.add(table)
        radiance = radiance * np.asarray(mean)
    # POWER: what the light would send to a facing point at distance one (at any distance for sun and dome).
    seen_area = {
        "rect": row[AREA], "disk": row[AREA], "sphere": math.pi * light.radius**2, "dome": math.pi, "point": 1.0,
        "cylinder": 2.0 * light.radius * light.length,
        "sun": math.pi * math.sin(angle / 2.0) ** 2 if angle > 0.0 else 1.0,
    }  # fmt: skip
    row[POWER] = float(np.dot(radiance, LUMINANCE)) * seen_area.get(light.kind, 0.0) * gain
    return row
