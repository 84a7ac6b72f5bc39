"""What a way of finding bounced light may use while it prepares: the shot, rays, visible points and the task."""

from collections.abc import Callable, Iterable, Iterator
from typing import Any, NamedTuple

import numpy as np

from .. import machine
from ..caches import Cache
from ..gi.importance import Importance, importance_of
from ..gi.photons import WHOLLY_METAL, turns_light
from ..gi.ways import PLACES, SEEN
from ..scene.arrays import METALLIC, OPACITY, SEE_THROUGH, SceneArrays
from ..scene.model import Camera, Scene
from ..scene.triangles import corners_at, normals_at, surface_rows_at
from ..task import Task
from ..trace.traverse import closest_hits
from ..work_time import Pool
from .film import camera_array
from .frame import Frame
from .gather import Arrived, GatherWork, gather
from .recipe import Recipe

ROWS_AT_ONCE = 2048
MOST_PASSED = 8
"""Most panes, cut-outs and mirrors on a line of sight."""


class Points(NamedTuple):
    """Points float64 [n, 3] that the camera sees, in metres; geometric and shading normals towards the viewer; size
    of a pixel there [n], in metres; numbers of their triangles [n], and weights of the second and third corners [n, 2]."""

    positions: np.ndarray
    surfaces: np.ndarray
    normals: np.ndarray
    pixels: np.ndarray
    triangles: np.ndarray
    weights: np.ndarray


class Preparation:
    """One shot while its caches are prepared. only: the box of pixels to prepare for, or the whole picture; look: called before the first cache is
    made."""

    def __init__(
        self, scene: Scene, arrays: SceneArrays, recipe: Recipe, camera: Camera, frame: Frame,
        task: Task | None = None, only: tuple[int, int, int, int] | None = None,
    ) -> None:  # fmt: skip
        self.scene, self.arrays, self.recipe, self.camera, self.frame = scene, arrays, recipe, camera, frame
        self.task, self.making = task or Task(), ""
        self.threads = machine.threads()
        self.offset = recipe.limits.ray_offset or arrays.offset
        self.at, self.rays, self.only = 0.0, 0, only
        self.where_it_matters: Importance | None = None
        self.caches: dict[str, Cache] = {}
        self.look: Callable[[], None] | None = None

    def report(self, share: float) -> None:
        """Report progress of the current step; raises as `Task.report`."""
        self.at = share
        self.task.report(self.making, share)

    def looked_up_beyond(self, way: str) -> bool:
        """Whether a way is looked up beyond what the camera sees."""
        gi = self.recipe.gi
        return (gi.beyond == way and SEEN[gi.seen].asks_beyond) or (gi.seen == way and self.recipe.final_gather_rays(way) > 0)

    def gather(self, origins: np.ndarray, directions: np.ndarray, beyond: str = "") -> tuple[np.ndarray, np.ndarray]:
        """Radiance [n, 3] that arrives along rays as after a diffuse bounce, and their lengths in metres."""
        arrived = self.arrive(origins, directions, beyond)
        return arrived.light, arrived.distance

    def arrive(
        self, origins: np.ndarray, directions: np.ndarray, beyond: str = "", samples: int = 1, again: bool = False, **changes: int
    ) -> Arrived:  # fmt: skip
        """Light that arrives along rays, found by the way `beyond`, or those of the recipe; `again` reuses the random numbers of the last call;
        `changes` are added to path settings. Raises as `Task.check`."""
        rays = np.concatenate([origins, directions], axis=1)
        first = self.rays - len(rays) if again else self.rays
        work = GatherWork(self.arrays, self.recipe, self.frame, beyond, changes, samples, first)
        arrived = gather(work, rays, threads=self.threads, task=self.task)
        self.rays = first + len(rays)
        self.report(self.at)
        return arrived

    def look_at(
        self, p: np.ndarray, n: np.ndarray, beyond: str = "", samples: int = 1, again: bool = False, more_bounces: int = 0
    ) -> tuple[np.ndarray, np.ndarray]:  # fmt: skip
        """Radiance [n, 3] of the diffuse base at points, seen along their normals, and its albedo [n, 3]. Rays arrive
        as after one diffuse bounce; `more_bounces` are allowed beyond the recipe's limit."""
        lift = 4.0 * self.offset
        arrived = self.arrive(p + n * lift, -n, beyond, samples, again, diffuse_bounces=more_bounces, total=more_bounces)
        met = np.abs(arrived.distance - lift) < 3.0 * self.offset
        return np.where(met[:, None], arrived.by_base, 0.0), np.where(met[:, None], arrived.base, 0.0)

    def served(self, way: str, prepared: Any) -> None:
        """Make a way available to rays from now on."""
        parts = list(self.arrays.prepared)
        parts[PLACES[way]] = prepared
        self.arrays = self.arrays._replace(prepared=tuple(parts))

    def map_parts(self, function: Callable[..., Any], *columns: np.ndarray) -> np.ndarray:
        """Map `function` over chunks of columns [n, …] on all threads, and concatenate."""
        parts = np.array_split(np.arange(len(columns[0])), self.threads)
        with Pool(self.threads) as pool:
            jobs = [pool.submit(function, *(np.ascontiguousarray(column[part]) for column in columns)) for part in parts]
            return np.concatenate([job.result() for job in jobs])

    def shared_out(self, function: Callable[[np.ndarray], None], rows: np.ndarray) -> None:
        """Call `function` on chunks of rows, in place, on all threads. Raises as `Task.check`, within a chunk."""

        def unless_called_off(part: np.ndarray) -> None:
            self.task.check()
            function(part)

        with Pool(self.threads) as pool:
            for job in [pool.submit(unless_called_off, part) for part in np.array_split(rows, max(self.threads, len(rows) // ROWS_AT_ONCE))]:
                job.result()
        self.report(self.at)

    def in_order(self, function: Callable[[int], Any], numbers: Iterable[int]) -> Iterator[Any]:
        """Map `function` over numbers on all threads; results in order."""
        with Pool(self.threads) as pool:
            yield from pool.map(function, numbers)

    def refine_of_objects(self) -> list[int | None]:
        """Refining passes set for single objects, by object number."""
        return [mesh.refine for mesh in self.scene.meshes]

    def has_mirrors(self) -> bool:
        """Whether any surface reflects or refracts without scattering: glass, panes, metals."""
        return bool(turns_light(self.arrays).any())

    def points_seen(self, step: int = 1) -> Points:
        """What the camera sees through the middles of every `step`-th pixel, through panes and cut-outs and in plain metal mirrors: where
        light can be looked up. Refraction is ignored."""
        left, top, right, bottom = self.only or (0, 0, self.frame.width, self.frame.height)
        x, y = np.arange(step // 2, self.frame.width, step), np.arange(step // 2, self.frame.height, step)
        px, py = np.meshgrid(x[(x >= left) & (x < right)] + 0.5, y[(y >= top) & (y < bottom)] + 0.5)
        return self.points_along(*self.rays_through(px.reshape(-1), py.reshape(-1)))

    def points_through(self, camera: Camera, across: int) -> Points:
        """Visible points of another camera, on a grid that many points across."""
        height = max(1, across * self.frame.height // self.frame.width)
        px, py = np.meshgrid(np.arange(across) + 0.5, np.arange(height) + 0.5)
        return points_met(self.arrays, *camera_rays(camera, across, height, px.reshape(-1), py.reshape(-1)), camera, across)

    def importance(self) -> Importance:
        """The importance grid of the shot's cameras."""
        if self.where_it_matters is None:
            self.where_it_matters = importance_of(self)
        return self.where_it_matters

    def rays_through(self, px: np.ndarray, py: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Origins and unit directions [n, 3] of the camera's rays through points of the picture, in pixels from the top left."""
        return camera_rays(self.camera, self.frame.width, self.frame.height, px, py)

    def points_along(self, origins: np.ndarray, d: np.ndarray) -> Points:
        """The first point along each ray where light can be looked up; rays without one are left out."""
        return points_met(self.arrays, origins, d, self.camera, self.frame.width)


def camera_rays(camera: Camera, width: int, height: int, px: np.ndarray, py: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Origins and unit directions float64 [n, 3] through film points in pixels from the top left, through the middle of the lens."""
    eye = camera_array(camera, width, height)
    x, y = (px / width * 2.0 - 1.0 + eye[5, 0]) * eye[4, 0], (1.0 - py / height * 2.0 + eye[5, 1]) * eye[4, 1]
    across = x[:, None] * eye[0] + y[:, None] * eye[1]
    if camera.orthographic:
        return eye[3] + across, np.broadcast_to(-eye[2], across.shape).copy()
    d = across - eye[2]
    return np.broadcast_to(eye[3], across.shape).copy(), d / np.linalg.norm(d, axis=1, keepdims=True)


def points_met(arrays: SceneArrays, origins: np.ndarray, d: np.ndarray, camera: Camera, width: int) -> Points:
    """The first point along each ray where light can be looked up."""
    origins, d, gone = origins.copy(), d.copy(), np.zeros(len(d))
    done = np.zeros(len(d), bool)
    p, flat, smooth = np.zeros((3, len(d), 3))
    found = Points(p, flat, smooth, np.zeros(len(d)), np.zeros(len(d), np.int64), np.zeros((len(d), 2)))
    alive = np.arange(len(d))
    for _ in range(MOST_PASSED):
        if not len(alive):
            break
        hits, distances = closest_hits(arrays.bvh, origins[alive].astype(np.float32), d[alive].astype(np.float32), np.float32(0.0), np.float32(1e30))
        alive, hits, distances = (part[distances < 1e29] for part in (alive, hits, distances))
        hits = hits.astype(np.int64)
        p = origins[alive] + d[alive] * distances[:, None].astype(float)
        corners = corners_at(arrays, hits)
        b = _weights(corners, p)
        flat = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        flat /= np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-30)
        smooth = np.einsum("nk,nkc->nc", np.concatenate([1.0 - b.sum(axis=1, keepdims=True), b], axis=1), normals_at(arrays, hits))
        smooth /= np.maximum(np.linalg.norm(smooth, axis=1, keepdims=True), 1e-30)
        away = np.where(np.einsum("nc,nc->n", flat, d[alive]) > 0.0, -1.0, 1.0)[:, None]
        flat = flat * away
        smooth *= np.where(np.einsum("nc,nc->n", smooth, flat) < 0.0, -1.0, 1.0)[:, None]
        gone[alive] += distances
        surfaces = arrays.surfaces[surface_rows_at(arrays, hits)]
        passes = ((surfaces[:, SEE_THROUGH] != 0) & (surfaces[:, OPACITY] < 1.0)) | (surfaces[:, OPACITY] <= 0.0)
        mirrors = ~passes & (surfaces[:, METALLIC] > WHOLLY_METAL)
        stays = ~passes & ~mirrors
        for column, values in zip(found, (p, flat, smooth, _pixel_size(camera, width, gone[alive]), hits, b), strict=True):
            column[alive[stays]] = values[stays]
        done[alive[stays]] = True
        turned = d[alive] - 2.0 * np.einsum("nc,nc->n", d[alive], smooth)[:, None] * smooth
        d[alive] = np.where(mirrors[:, None], turned, d[alive])
        origins[alive] = p + d[alive] * 2.0 * arrays.offset
        alive = alive[~stays]
    return Points(*(column[done] for column in found))


def _pixel_size(camera: Camera, width: int, distance: np.ndarray) -> np.ndarray:
    size = 2.0 * camera.half_width / width
    return np.full(len(distance), size) if camera.orthographic else size * distance


def _weights(corners: np.ndarray, p: np.ndarray) -> np.ndarray:
    """Weights [n, 2] of the second and third corners at points in triangles."""
    u, v, w = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0], p - corners[:, 0]
    uu, uv, vv = (np.einsum("nc,nc->n", *pair) for pair in ((u, u), (u, v), (v, v)))
    wu, wv = np.einsum("nc,nc->n", w, u), np.einsum("nc,nc->n", w, v)
    det = np.maximum(uu * vv - uv * uv, 1e-30)
    return np.clip(np.stack([(vv * wu - uv * wv) / det, (uu * wv - uv * wu) / det], axis=1), 0.0, 1.0)
