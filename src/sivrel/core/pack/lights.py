"""Packs lights into the arrays that the kernels read, on top of a scene's geometry."""

import math
from collections import Counter
from dataclasses import replace
from typing import Any

import numpy as np

from ..gi.ways import NOTHING_PREPARED
from ..lights.mesh_emitter import areas_of, glow_of
from ..lights.mesh_tree import CHILD, LINK_COLUMNS, NONE, PARENT, build_mesh_tree
from ..lights.mesh_tree import NODE_COLUMNS as MESH_COLUMNS
from ..lights.panorama import sky_table
from ..lights.picture import picture_cells, picture_table
from ..lights.radiance import area, emitted
from ..lights.shaping import profile_table
from ..lights.tree import build_tree
from ..scene.arrays import (
    AIM,
    AREA,
    AXIS_X,
    BIAS_TEXELS,
    BITS,
    BOTH_SIDES,
    BY_BOUNCED,
    BY_CAMERA,
    BY_SHADOW,
    CAMERA,
    CONE,
    CONE_START,
    COS_ANGLE,
    DIFFUSE,
    EMITTER_SIDES,
    EMITTERS,
    FILTER,
    FOCUS,
    FOCUS_TINT,
    FROM_ROUND,
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
    PART_FIRST,
    PART_LEAVES,
    PART_LIGHT,
    PART_OBJECT,
    PICTURE,
    POSITION,
    POWER,
    PROFILE,
    RADIANCE,
    RADIUS,
    RAYS,
    ROTATION,
    SHADOWING,
    SHAPED,
    SLOT,
    SPECULAR,
    STRETCHED,
    TINTS,
    TO_ROUND,
    WAY,
    SceneArrays,
)
from ..scene.model import Light, Mesh, Scene, Shadow
from ..scene.triangles import corners_at, surface_rows_in, triangles_of_light
from ..shadows.depth_map import DEPTH_MAP
from ..shadows.traced import TRACED
from ..shadows.ways import BY_KEY as SHADOW_WAYS
from ..vector import LUMINANCE
from .objects import object_flags, packed_meshes
from .textures import LightPictures

MOST_PASSES = 24
"""Most light passes. Of more lights those of one group of the file share a pass, or else the weakest ones."""
GLOW, OTHERS, GROUPED = "glow", "other lights", "lights in "
"""Names of the pass of surfaces that only glow, and of the pass that the weakest lights share; and how the names of groups begin."""
DEFAULT_SHADOW = Shadow("traced", 1, 1024, 2.0, 2.0)


def without_lights(**geometry: Any) -> SceneArrays:
    """Scene arrays of the given geometry without lights."""
    numbers = np.concatenate([geometry["parts"][:, PART_OBJECT], geometry["bvh"].placements.objects.astype(np.int64)])
    return SceneArrays(
        **geometry,
        objects=np.full((int(numbers.max(initial=0)) + 1, 2), BY_CAMERA | BY_SHADOW | BY_BOUNCED | GLOWS, np.int64),
        filtered=False,
        lights=np.zeros((0, LIGHT_COLUMNS)),
        portals=np.zeros((0, LIGHT_COLUMNS)),
        tables=np.zeros(1, np.float32),
        tree=np.zeros((0, NODE_COLUMNS)),
        leaf_of=np.zeros(0, np.int64),
        distant=np.zeros(0, np.int64),
        mesh_leaf=np.zeros(0, np.uint32),
        mesh_nodes=np.zeros((0, MESH_COLUMNS), np.float32),
        mesh_links=np.zeros((0, LINK_COLUMNS), np.uint32),
        maps=np.zeros((0, MAP_COLUMNS)),
        depths=np.zeros(1, np.float32),
        needs_shadow_query=False,
        slots=1,
        prepared=NOTHING_PREPARED,
    )


def active_lights(scene: Scene) -> list[Light]:
    """The lights that shine: those that are on, or the soloed ones where there are any; aimed-at meshes among them."""
    named = {light.mesh: light for light in scene.lights if light.kind == "mesh"}
    lights = [light for light in scene.lights if light.kind != "mesh"]
    # Meshes of one name are one light.
    lit = dict.fromkeys(mesh.name for mesh in scene.meshes if mesh.aimed or mesh.name in named)
    lights += [named.get(name) or Light(name, "mesh", mesh=name) for name in lit]
    soloed = [light for light in lights if light.solo]
    return [light for light in soloed or lights if light.on and light.kind != "portal"]


def pass_names(scene: Scene) -> list[str]:
    """Names of the light passes by slot: glowing surfaces, then those of `passes_of_lights`."""
    return _in_order(passes_of_lights(active_lights(scene)))


def _in_order(passes: list[str]) -> list[str]:
    return [GLOW, *sorted(dict.fromkeys(passes), key=lambda name: name == OTHERS)]


def is_shared(name: str) -> bool:
    """Whether a light pass is that of several lights."""
    return name == OTHERS or name.startswith(GROUPED)


def passes_of_lights(lights: list[Light]) -> list[str]:
    """The name of each light's pass: its own; of more than MOST_PASSES lights that of its group, at the deepest level of the file's tree that
    has few enough. Where no level has, the strongest groups, or lights of a file without a tree, have passes, and all others share one."""
    if len(lights) <= MOST_PASSES:
        return [light.name for light in lights]
    paths = [(*light.group.split("/"), light.name) if light.group else (light.name,) for light in lights]
    levels = [[path[:depth] for path in paths] for depth in range(max(len(path) for path in paths), 0, -1)]
    several = [level for level in levels if len(set(level)) >= 2]
    level = next((level for level in several if len(set(level)) <= MOST_PASSES), several[-1] if several else levels[0])
    size, strength = Counter(level), dict.fromkeys(level, 0.0)
    for light, path in zip(lights, level, strict=True):
        strength[path] += _rough_strength(light)
    strong = set(sorted(strength, key=lambda path: -strength[path])[:MOST_PASSES])
    names = {path: OTHERS if path not in strong else GROUPED + "/".join(path) if size[path] > 1 else "" for path in strength}
    return [names[path] or light.name for light, path in zip(lights, level, strict=True)]


def _rough_strength(light: Light) -> float:
    return float(np.dot(emitted(light), LUMINANCE)) * max(area(light), 1e-9 if light.kind in ("rect", "disk", "sphere", "cylinder") else 1.0)


def pack_lights(geometry: SceneArrays, scene: Scene, shadow: Shadow = DEFAULT_SHADOW) -> SceneArrays:
    """`geometry` with the lights of `scene` on it; `shadow`: the setting of lights that leave it to the recipe."""
    meshes = packed_meshes(scene)
    lights = active_lights(scene)
    of_lights = passes_of_lights(lights)
    slots = {name: slot for slot, name in enumerate(_in_order(of_lights))}
    tables = _Tables()
    pool = LightPictures(geometry.pictures)
    links = _Links(meshes)
    emitters = _Emitters(geometry, meshes)
    mesh_lights = {m.name for m in meshes if m.aimed} | {light.mesh for light in scene.lights if light.kind == "mesh"}
    rows: list[np.ndarray] = []
    for light, own in zip(lights, of_lights, strict=True):
        row = _row(light, shadow, tables, pool)
        row[LIT], row[SHADOWING] = links.number(light.lit), links.number(light.shadowing)
        row[SLOT] = slots[own]
        if light.kind == "mesh":
            emitters.add(light, row, len(rows))
        rows.append(row)
    table = np.array(rows, np.float64).reshape(-1, LIGHT_COLUMNS)
    portals = [_row(light, shadow, tables, pool) for light in scene.lights if light.kind == "portal" and light.on]
    tree, leaf_of, distant = build_tree(table, emitters.boxes)
    objects = np.zeros((max(1, len(meshes)), LINKS + links.columns), np.int64)
    visible = object_flags(meshes)
    flags = visible.copy()
    # A mesh light emits like that light; while some light is soloed, nothing else glows.
    soloed = any(light.solo for light in scene.lights)
    flags[[not soloed and m.name not in mesh_lights for m in meshes]] |= GLOWS
    objects[: len(flags), 0] = flags
    objects[: len(meshes), LINKS:] = links.masks()
    filtered = bool((visible != BY_CAMERA | BY_SHADOW | BY_BOUNCED).any())
    return geometry._replace(
        objects=objects,
        filtered=filtered,
        pictures=pool.pictures(),
        lights=table,
        portals=np.array(portals, np.float64).reshape(-1, LIGHT_COLUMNS),
        tables=tables.whole(),
        tree=tree,
        leaf_of=leaf_of,
        distant=distant,
        parts=emitters.parts,
        mesh_leaf=np.concatenate([geometry.mesh_leaf, *emitters.leaves]),
        mesh_nodes=np.concatenate([geometry.mesh_nodes, *emitters.nodes]),
        mesh_links=np.concatenate([geometry.mesh_links, *emitters.links]),
        needs_shadow_query=filtered or bool(len(table) and ((table[:, WAY] != TRACED) | (table[:, SHADOWING] >= 0)).any()),
        slots=len(slots),
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
    """Gives each group of meshes a number."""

    def __init__(self, meshes: list[Mesh]) -> None:
        self.meshes = meshes
        self.known: dict[frozenset[str], int] = {}

    def number(self, members: frozenset[str] | None) -> float:
        if members is None:
            return -1.0
        return float(self.known.setdefault(members, len(self.known)))

    @property
    def columns(self) -> int:
        return max(1, -(-len(self.known) // BITS))

    def masks(self) -> np.ndarray:
        """int64 [meshes, columns]: the groups that each mesh belongs to, BITS to a column."""
        masks = np.zeros((len(self.meshes), self.columns), np.int64)
        for members, number in self.known.items():
            masks[[mesh.name in members for mesh in self.meshes], number // BITS] |= np.int64(1) << (number % BITS)
        return masks


class _Emitters:
    """The trees of all mesh lights, and which triangles belong to which."""

    def __init__(self, geometry: SceneArrays, meshes: list[Mesh]) -> None:
        self.geometry = geometry
        # Whatever emits is stored where it stands.
        self.parts = geometry.parts.copy()
        self.parts_of: dict[str, list[int]] = {}
        for part, number in enumerate(geometry.parts[:, PART_OBJECT].tolist()):
            if number >= 0:
                self.parts_of.setdefault(meshes[number].name, []).append(part)
        self.aimed = {mesh.name for mesh in meshes if mesh.aimed}
        self.leaves: list[np.ndarray] = []
        self.nodes: list[np.ndarray] = []
        self.links: list[np.ndarray] = []
        self.used = self.used_leaves = 0
        self.boxes: dict[int, np.ndarray] = {}

    def add(self, light: Light, row: np.ndarray, number: int) -> None:
        parts = self.parts_of.get(light.mesh, [])
        self.parts[parts, PART_LIGHT] = number
        every = triangles_of_light(self.geometry._replace(parts=self.parts), number)
        power = areas_of(self.geometry, every) * glow_of(self.geometry, every, row)
        shines = power > 0.0
        triangles, power = every[shines], power[shines]
        if len(triangles) == 0 or light.mesh not in self.aimed:
            self.boxes[number] = np.zeros((2, 3))
            return
        sides = 1.0 + self.geometry.surfaces[surface_rows_in(self.geometry, triangles[:1])[0], BOTH_SIDES]
        row[EMITTERS], row[EMITTER_SIDES], row[POWER] = self.used, sides, float(power.sum()) * sides / 4.0
        corners = corners_at(self.geometry, triangles)
        nodes, links, leaf = build_mesh_tree(corners, triangles.astype(np.uint32), power)
        links[:, [CHILD, PARENT]] += np.where(links[:, [CHILD, PARENT]] == NONE, 0, np.uint32(self.used))
        leaves = np.full(len(every), NO_LIGHT)
        leaves[shines] = leaf + self.used
        self.leaves.append(leaves)
        # `every` has the triangles of these parts one part after the other.
        firsts = self.parts[parts, PART_FIRST]
        self.parts[parts, PART_LEAVES] = self.used_leaves + np.searchsorted(every, firsts)
        self.used_leaves += len(every)
        self.nodes.append(nodes)
        self.links.append(links)
        self.used += len(nodes)
        corners = corners.reshape(-1, 3)
        self.boxes[number] = np.array([corners.min(axis=0), corners.max(axis=0)])
        row[POSITION : POSITION + 3] = corners.mean(axis=0)


def _row(light: Light, shadow: Shadow, tables: _Tables, pool: LightPictures) -> np.ndarray:
    row = np.zeros(LIGHT_COLUMNS)
    row[[AIM, PROFILE, PICTURE, MAP, LIT, SHADOWING]] = -1.0
    kind = row[KIND] = LIGHT_KINDS[light.kind]
    radiance = row[RADIANCE : RADIANCE + 3] = np.array(emitted(light))
    row[POSITION : POSITION + 3], row[AXIS_X : AXIS_X + 9] = light.position, light.frame.reshape(-1)
    along = light.length if light.kind == "cylinder" else light.width
    row[HALF_U : HALF_U + 3], row[HALF_V : HALF_V + 3] = light.frame[0] * along / 2.0, light.frame[1] * light.height / 2.0
    angle = math.radians(light.angle)
    row[[RADIUS, COS_ANGLE, AREA]] = light.radius, math.cos(angle / 2.0), area(replace(light, stretch=None))
    row[[DIFFUSE, SPECULAR, CAMERA]] = light.diffuse, light.specular, light.seen_by_camera
    way = SHADOW_WAYS[light.shadow.way or shadow.way or "traced"]
    row[WAY] = TRACED if light.kind in way.not_for else way.code
    for column, name in ((RAYS, "rays"), (FILTER, "filter"), (BIAS_TEXELS, "bias")):
        own = getattr(light.shadow, name)
        row[column] = getattr(shadow, name) if own is None else own
    shaping = light.shaping
    row[[CONE, CONE_START]] = math.radians(shaping.cone_angle), math.radians(shaping.cone_angle * (1.0 - shaping.cone_softness))
    row[FOCUS], row[FOCUS_TINT : FOCUS_TINT + 3] = shaping.focus, shaping.focus_tint
    gain = 1.0
    if shaping.profile is not None:
        profile = profile_table(shaping.profile, shaping.profile_normalize, shaping.profile_scale)
        row[PROFILE], gain = tables.add(profile), float(profile[4:].max())
    row[SHAPED] = kind not in (LIGHT_KINDS["sun"], LIGHT_KINDS["dome"], LIGHT_KINDS["mesh"], LIGHT_KINDS["portal"]) and (
        shaping.cone_angle < 180.0 or shaping.focus > 0.0 or shaping.profile is not None
    )
    row[TINTS] = light.tints
    row[TO_ROUND : TO_ROUND + 9] = row[FROM_ROUND : FROM_ROUND + 9] = np.eye(3).reshape(-1)
    if light.stretch is not None:
        row[STRETCHED] = 1.0
        row[FROM_ROUND : FROM_ROUND + 9], row[TO_ROUND : TO_ROUND + 9] = light.stretch.reshape(-1), np.linalg.inv(light.stretch).reshape(-1)
    if light.kind in ("dome", "rect") and light.picture is not None:
        row[PICTURE] = pool.add(light.picture)
        row[ROTATION] = math.radians(light.rotation)
        if light.kind == "dome":
            table, mean = sky_table(light.picture)
        else:
            cells = picture_cells(light.picture)
            mean = cells.mean(axis=(0, 1))
            table = picture_table(cells, np.ones(len(cells)), float(mean @ LUMINANCE), wraps=False)
        row[AIM] = tables.add(table)
        radiance = radiance * np.asarray(mean)
    # POWER: the light's irradiance at a facing point at distance one (at any distance for sun and dome).
    seen_area = {
        "rect": row[AREA], "disk": row[AREA], "sphere": area(light) / 4.0, "dome": math.pi, "point": 1.0,
        "cylinder": 2.0 * light.radius * light.length,
        "sun": math.pi * math.sin(min(angle, math.pi) / 2.0) ** 2 if angle > 0.0 else 1.0,
    }  # fmt: skip
    row[POWER] = float(np.dot(radiance, LUMINANCE)) * seen_area.get(light.kind, 0.0) * gain
    return row
