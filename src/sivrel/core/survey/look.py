"""The view of a shot that all checks share: visible points, the air around them, mesh parts, light."""

import functools
from dataclasses import dataclass

import numpy as np

from ..pack.lights import active_lights
from ..pack.objects import packed_meshes
from ..render.preparation import camera_rays
from ..render.prepare import Prepared
from ..render.recipe import Recipe
from ..scene.arrays import BY_CAMERA, BY_SHADOW, EMISSION, EMISSION_MAP, FLAGS, OPACITY, OPACITY_MAP, POWER, SEE_THROUGH
from ..scene.model import Mesh
from ..scene.topology import Topology, facets, topology, volume
from ..scene.triangles import standing_objects, stored_corners, stored_surfaces, triangles_of_light
from ..trace.traverse import closest_hits
from ..vector import LUMINANCE
from .largest import with_largest

COLUMNS, ROWS = 128, 72
"""Rays of the camera."""
AIR = 384
"""Points in the air of the room: half near visible points, half near points those see."""
MOST_PASSED = 8
"""See-through surfaces that a ray passes."""
ENCLOSED = 0.25
OUTDOORS, OPEN_RAYS = 0.35, 32
"""Share of a point's rays that must leave the scene for it to be outside: half of them over open ground."""
"""Share of rays that leave the scene below which a point is inside."""
MOST_IN_TOPOLOGY = 3_000_000


def winding_number(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """float64 [n]: winding number of triangles [k, 3, 3] about each point: their signed share of the sphere (van Oosterom & Strackee 1983)."""
    total = np.zeros(len(points))
    for first in range(0, len(triangles), 20000):
        v = triangles[first : first + 20000][None] - points[:, None, None, :]
        a, b, c = v[:, :, 0], v[:, :, 1], v[:, :, 2]
        la, lb, lc = (np.linalg.norm(w, axis=2) for w in (a, b, c))
        over = np.einsum("ijk,ijk->ij", a, np.cross(b, c))
        under = la * lb * lc + np.einsum("ijk,ijk->ij", a, b) * lc + np.einsum("ijk,ijk->ij", b, c) * la + np.einsum("ijk,ijk->ij", c, a) * lb
        total += (2.0 * np.arctan2(over, under)).sum(axis=1)
    return total / (4.0 * np.pi)


@dataclass(frozen=True)
class Part:
    """A connected part of a mesh. triangles: numbers in the scene; closed: no edge is a rim; signed: its volume, if closed."""

    mesh: int
    name: str
    triangles: np.ndarray
    closed: bool
    signed: float
    low: np.ndarray
    high: np.ndarray
    area: float

    @property
    def size(self) -> float:
        return float(np.linalg.norm(self.high - self.low))


class Look:
    """See the module. All random numbers come from `seed`, so a survey is repeatable. `effort`: share of a survey's rays
    for searches. Of a scene of shared shapes it holds the placements that look largest, and `left_out` says so in a finding."""

    def __init__(self, ready: Prepared, recipe: Recipe, seed: int = 1, effort: float = 1.0) -> None:
        self.effort = effort
        ready, self.left_out = with_largest(ready)
        self.scene, self.arrays, self.camera, self.recipe = ready.scene, ready.arrays, ready.camera, recipe
        self.levels = ready.levels
        self.rng = np.random.default_rng(seed)
        self.meshes: list[Mesh] = packed_meshes(ready.scene)
        self.vertices = stored_corners(self.arrays).astype(float)
        normals = facets(self.vertices)
        doubled = np.linalg.norm(normals, axis=1)
        self.areas, self.normals = doubled / 2.0, normals / np.maximum(doubled, 1e-30)[:, None]
        self.object_of = standing_objects(self.arrays)
        rows = self.arrays.surfaces[stored_surfaces(self.arrays)]
        self.see_through = (rows[:, OPACITY] < 1.0) | (rows[:, OPACITY_MAP] >= 0.0)
        flags = self.arrays.objects[self.object_of, FLAGS] if len(self.object_of) else np.zeros(0, np.int64)
        self.passes = {"light": self.see_through | (flags & BY_SHADOW == 0), "sight": self.see_through | (flags & BY_CAMERA == 0)}
        self.solid_glass = self.see_through & (rows[:, SEE_THROUGH] == 2.0)
        self.glow = rows[:, EMISSION : EMISSION + 3] @ LUMINANCE
        self.glows = (self.glow > 0.0) | (rows[:, EMISSION_MAP] >= 0.0)
        self.lights = active_lights(ready.scene)
        self.offset = max(self.arrays.offset * 4.0, 1e-5)
        self._see()

    # Rays.

    def cast(self, origins: np.ndarray, d: np.ndarray, reach: float = 1e30, by: str = "light") -> tuple[np.ndarray, np.ndarray]:
        """The first hit of each ray that blocks light, or the camera's `sight`: triangle int64 (-1 none), distance float64."""
        o, hits, passed = origins.astype(float).copy(), np.full(len(d), -1), np.zeros(len(d))
        going = np.arange(len(d))
        for _ in range(MOST_PASSED):
            if not len(going):
                break
            hit, t = closest_hits(self.arrays.bvh, o[going].astype(np.float32), d[going].astype(np.float32), np.float32(0.0), np.float32(reach))
            met = t < np.float32(reach) * 0.999
            passed[going] += np.where(met, t, reach)
            stopped = met & ~self.passes[by][np.where(met, hit, 0)]
            hits[going[stopped]] = hit[stopped]
            on = met & ~stopped
            step = t[on].astype(float) + self.offset
            going = going[on]
            o[going] += d[going] * step[:, None]
            passed[going] += self.offset
        return hits, np.where(hits >= 0, passed, reach)

    def meet(self, origins: np.ndarray, d: np.ndarray, reach: float = 1e30) -> tuple[np.ndarray, np.ndarray]:
        """The first hit of each ray, including glass: triangle int64 (-1 none), distance float64."""
        hits, t = closest_hits(self.arrays.bvh, origins.astype(np.float32), d.astype(np.float32), np.float32(0.0), np.float32(reach))
        met = t < np.float32(reach) * 0.999
        return np.where(met, hits.astype(np.int64), -1), np.where(met, t, reach).astype(float)

    def facing(self, hits: np.ndarray, d: np.ndarray) -> np.ndarray:
        """float64 [n, 3]: the normals at hits, on the side of the ray."""
        normals = self.normals[hits]
        return np.where((np.einsum("ij,ij->i", normals, d) > 0.0)[:, None], -normals, normals)

    def open_at(self, points: np.ndarray, rays: int = 48) -> np.ndarray:
        """Share of the rays from each point that leave the scene, float64 [n]; glass counts as closed."""
        hits, _ = self.meet(np.repeat(points, rays, axis=0), np.tile(self.directions(rays), (len(points), 1)))
        return (hits < 0).reshape(len(points), rays).mean(axis=1)

    def sees(self, origins: np.ndarray, targets: np.ndarray) -> np.ndarray:
        """bool [n]: whether two points see each other."""
        way = targets - origins
        length = np.maximum(np.linalg.norm(way, axis=1), 1e-12)
        hits, distance = self.cast(origins, way / length[:, None])
        return (hits < 0) | (distance > length * (1.0 - 1e-4) - 4.0 * self.offset)

    def directions(self, count: int, turned: float | None = None) -> np.ndarray:
        """float64 [count, 3]: uniform over the sphere (Fibonacci spiral), rotated by some radians, or at random."""
        k = np.arange(count) + 0.5
        turned = self.rng.uniform(0.0, 2.0 * np.pi) if turned is None else turned
        y, turn = 1.0 - 2.0 * k / count, k * (np.pi * (1.0 + 5.0**0.5)) + turned
        r = np.sqrt(np.maximum(0.0, 1.0 - y * y))
        return np.stack([r * np.cos(turn), y, r * np.sin(turn)], axis=1)

    def about(self, normals: np.ndarray, count: int) -> np.ndarray:
        """float64 [n, count, 3]: cosine-distributed directions about each normal (Malley's method, Pharr, Jakob & Humphreys 2016, 13.6.3)."""
        spread = self.directions(count)[None] * (1.0 - 1e-3) + normals[:, None, :]
        return spread / np.maximum(np.linalg.norm(spread, axis=2, keepdims=True), 1e-12)

    # What the camera sees, and the air it is in.

    def _see(self) -> None:
        x, y = (g.reshape(-1) for g in np.meshgrid((np.arange(COLUMNS) + 0.5) * 16.0 / COLUMNS, (np.arange(ROWS) + 0.5) * 9.0 / ROWS))
        origins, self.sight = camera_rays(self.camera, 16, 9, x, y)
        self.sees_nothing = bool((self.meet(origins, self.sight)[0] < 0).all())
        hits, distance = self.cast(origins, self.sight, by="sight")
        self.eye = self.camera.to_world[:, 3].astype(float)
        self.seen_share = float((hits >= 0).mean())
        met = hits >= 0
        self.seen, self.seen_distance = hits[met], distance[met]
        self.seen_at = origins[met] + self.sight[met] * distance[met, None]
        self.seen_back = np.einsum("ij,ij->i", self.normals[self.seen], self.sight[met]) > 0.0
        self.seen_normals = self.facing(self.seen, self.sight[met])
        self.seen_spots = np.stack([x[met] / 16.0, y[met] / 9.0], axis=1)
        self.rays = COLUMNS * ROWS
        self.air = self._air()
        sphere = self.directions(64)
        some = self.air[:: max(1, len(self.air) // 48)]
        out = self.cast(np.repeat(some, 64, axis=0), np.tile(sphere, (len(some), 1)))[0] < 0
        self.open_share = float(out.mean())
        self.inside = self.open_share < ENCLOSED

    def _air(self) -> np.ndarray:
        """Points float64 [n, 3] in the space that the camera looks into, the camera's own first."""
        eye = self.eye[None]
        if not len(self.seen):
            return eye
        chosen = self.rng.choice(len(self.seen), AIR // 2)
        near = self.seen_at[chosen] + self.seen_normals[chosen] * self._clearance(self.seen_at[chosen], self.seen_normals[chosen])[:, None]
        d = self.about(self.seen_normals[chosen], 1)[:, 0]
        hits, distance = self.cast(self.seen_at[chosen] + self.seen_normals[chosen] * self.offset, d)
        met = hits >= 0
        far = self.seen_at[chosen][met] + d[met] * (distance[met] * self.rng.uniform(0.3, 0.97, met.sum()))[:, None]
        return np.concatenate([eye, near, far])

    @functools.cached_property
    def room_air(self) -> np.ndarray:
        """The air points inside the room, if the camera looks into one: what it sees through openings is outside."""
        sphere = self.directions(OPEN_RAYS, 0.0)
        hits, _ = self.cast(np.repeat(self.air, OPEN_RAYS, axis=0), np.tile(sphere, (len(self.air), 1)))
        opened = (hits < 0).reshape(len(self.air), OPEN_RAYS).mean(axis=1)
        return self.air[opened < OUTDOORS] if self.inside and (opened < OUTDOORS).any() else self.air

    def _clearance(self, at: np.ndarray, normals: np.ndarray) -> np.ndarray:
        """Distance to step off a surface: at most half of the free space in front of it."""
        _, distance = self.cast(at + normals * self.offset, normals)
        return np.minimum(distance * self.rng.uniform(0.1, 0.5, len(at)), 1.0)

    def is_card(self, number: int) -> bool:
        """Whether an object is a card added by edits: its surface has its own name."""
        mesh = self.meshes[number]
        return self.scene.surfaces[int(mesh.surfaces[0])].name == mesh.name

    def share(self, triangles: np.ndarray) -> float:
        """Share of the picture filled by some triangles, by number."""
        mask = np.zeros(len(self.vertices), bool)
        mask[triangles] = True
        return float(mask[self.seen].sum()) / self.rays

    def share_of_mesh(self, number: int) -> float:
        return float((self.object_of[self.seen] == number).sum()) / self.rays

    def spot(self, at: np.ndarray) -> tuple[float, float] | None:
        """A point's place in the picture, 0 to 1 from left and top; None when the camera does not see it or near it."""
        if not len(self.seen):
            return None
        distance = np.linalg.norm(self.seen_at - at, axis=1)
        k = int(distance.argmin())
        near = 4.0 * self.seen_distance[k] * 2.0 * self.camera.half_width / COLUMNS
        return (round(float(self.seen_spots[k, 0]), 4), round(float(self.seen_spots[k, 1]), 4)) if distance[k] < max(near, 0.05) else None

    # What it is made of.

    @functools.cached_property
    def nets(self) -> list[tuple[np.ndarray, Topology]]:
        """Of each mesh the numbers of its triangles and their topology."""
        found = []
        for number in range(len(self.meshes)):
            triangles = np.flatnonzero(self.object_of == number)
            if len(triangles) <= MOST_IN_TOPOLOGY:
                found.append((triangles, topology(self.vertices[triangles])))
        return found

    @functools.cached_property
    def parts(self) -> list[Part]:
        found = []
        for triangles, net in self.nets:
            number = int(self.object_of[triangles[0]])
            open_parts = set(net.part[net.rim().any(axis=1)].tolist())
            order = np.argsort(net.part, kind="stable")
            starts = np.flatnonzero(np.diff(net.part[order], prepend=-1))
            for members in np.split(order, starts[1:]):
                own = triangles[members]
                closed = int(net.part[members[0]]) not in open_parts
                v = self.vertices[own]
                low, high = v.min(axis=(0, 1)), v.max(axis=(0, 1))
                signed = volume(v) if closed else 0.0
                found.append(Part(number, self.meshes[number].name, own, closed, signed, low, high, float(self.areas[own].sum())))
        return found

    def winding(self, points: np.ndarray, part: Part) -> np.ndarray:
        """float64 [n]: winding number of a part about each point, 1 inside a closed one that faces outwards."""
        return winding_number(points, self.vertices[part.triangles])

    def solid_at(self, at: np.ndarray) -> Part | None:
        """The closed, opaque part that contains a point."""
        for part in self.parts:
            within = (part.low <= at).all() and (at <= part.high).all()
            if within and part.closed and not self.see_through[part.triangles[0]] and part.signed > 0.0 and self.winding(at[None], part)[0] > 0.5:
                return part
        return None

    # Its light.

    def light_at(
        self, at: np.ndarray, normals: np.ndarray | None, samples: int = 4, only: tuple[int, ...] | None = None
    ) -> tuple[np.ndarray, np.ndarray]:
        """Estimated light of each active light at points, with and without blockers: luminance of irradiance
        float64 [n, lights] twice. Without normals, from all directions; `only` some lights, by number."""
        arrives, unhindered = np.zeros((len(at), len(self.lights))), np.zeros((len(at), len(self.lights)))
        for i, light in enumerate(self.lights):
            if only is not None and i not in only:
                continue
            power = float(self.arrays.lights[i, POWER])
            for k in range(samples):
                if light.kind in ("sun", "dome"):
                    if light.kind == "sun":
                        d = np.broadcast_to(light.frame[2], at.shape)
                        cos = 1.0 if normals is None else np.maximum(normals @ light.frame[2], 0.0)
                    else:
                        d = self.directions(samples)[k][None] if normals is None else self.about(normals, samples)[:, k]
                        d, cos = np.broadcast_to(d, at.shape), 1.0
                    clear, falls = self.cast(at + d * self.offset, d)[0] < 0, cos * np.ones(len(at))
                else:
                    target, axis = self._on_light(i, k, samples)
                    way = target - at
                    distance = np.maximum(np.linalg.norm(way, axis=1), 1e-6)
                    d = way / distance[:, None]
                    falls = 1.0 / distance**2
                    if normals is not None:
                        falls = falls * np.maximum(np.einsum("ij,ij->i", normals, d), 0.0)
                    if axis is not None:
                        cone = np.cos(np.radians(min(light.shaping.cone_angle, 90.0)))
                        cos_out = np.einsum("ij,ij->i", -d, np.broadcast_to(axis, d.shape))
                        falls = falls * np.where(cos_out > cone, np.maximum(cos_out, 0.0), 0.0)
                    radius = light.radius if light.kind in ("sphere", "cylinder", "point") else 0.0
                    hits, met = self.cast(at + d * self.offset, d)
                    clear = (hits < 0) | (met > distance * (1.0 - 1e-3) - radius - 4.0 * self.offset)
                unhindered[:, i] += power * falls / samples
                arrives[:, i] += power * falls * clear / samples
        return arrives, unhindered

    def _on_light(self, i: int, k: int, samples: int) -> tuple[np.ndarray, np.ndarray | None]:
        """A point on a light, and the axis of its emission if it emits one way."""
        light = self.lights[i]
        u, v = (k + self.rng.random()) / samples - 0.5, self.rng.random() - 0.5
        if light.kind == "mesh":
            numbers = triangles_of_light(self.arrays, i)
            if not len(numbers) or not self.areas[numbers].any():
                return np.asarray(light.position, float), None
            chosen = self.rng.choice(numbers, p=self.areas[numbers] / self.areas[numbers].sum())
            axis = None if self.meshes[self.object_of[chosen]].double_sided else self.normals[chosen]
            return self.vertices[chosen].mean(axis=0), axis
        at = np.asarray(light.position, float)
        if light.kind in ("rect", "disk"):
            shrink = 0.7 if light.kind == "disk" else 1.0
            return at + light.frame[0] * light.width * u * shrink + light.frame[1] * light.height * v * shrink, -light.frame[2]
        if light.kind == "cylinder":
            at = at + light.frame[0] * light.length * u
        shaped = light.shaping.cone_angle < 90.0
        return at, -light.frame[2] if shaped else None
