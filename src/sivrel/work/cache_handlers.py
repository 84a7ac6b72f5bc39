"""Requests about caches: what a recipe would have to prepare, which caches are stale and why, and a cache's contents."""

from typing import Any

import numpy as np

from ..core.caches import digest_of, from_bytes
from ..core.errors import InputError
from ..core.gi.way import Preview
from ..core.gi.ways import OF_KIND
from ..core.render.frame import Frame
from ..core.render.passes import on_screen
from ..core.render.preparation import Preparation
from ..core.render.prepare import Prepared
from ..core.render.prepare_ways import dependencies, needs_more, parts_of, what_changed
from ..core.trace.traverse import closest_hits
from ..core.vector import LUMINANCE
from .request import Request

MOST_MARKS = 5000
SCENE = ("geometry", "surfaces", "lights")
"""Dependencies whose change makes a cache wrong instead of just different."""


def _job(ready: Prepared, request: Request) -> Preparation:
    body = request.body
    frame = Frame(int(body.get("width") or 480), int(body.get("height") or 270), None, int(body.get("seed") or 0))
    return Preparation(ready.scene, ready.arrays, request.recipe, ready.camera, frame)


def ways_state(request: Request) -> dict[str, Any]:
    """The caches of the recipe's ways, ready or to be prepared: a row each."""
    caches, ready = request.worker.caches, request.prepared()
    job, rows, beyond = _job(ready, request), [], ""
    parts = parts_of(job)
    for way in job.recipe.preparing():
        depends = dependencies(job, way, ready.geometry.surfaces_hash(), ready.geometry.hash(), beyond)
        beyond = digest_of(way.kind, depends)
        locked, found = caches.locked(way.kind, job.scene.name), caches.find(way.kind, depends)
        alike = [locked] if locked else [found] if found else caches.alike(way.kind, job.scene.name)
        notes = alike[0].notes if alike else {}
        rows.append(
            {
                "way": way.key, "kind": way.kind, "ready": bool(found or locked), "locked": locked is not None,
                "added": locked is None and found is not None and needs_more(job, way, found),
                "because": what_changed(alike, depends, parts), "seconds": notes.get("seconds"), "count": notes.get("count"),
                "unit": notes.get("unit", ""),
            }
        )  # fmt: skip
    return {"ways": rows}


def cache_state(request: Request) -> dict[str, Any]:
    """Which caches of a shot are fresh for its newest proof, and why others are stale, by digest."""
    caches, ready = request.worker.caches, request.prepared()
    job, answer, wanted = _job(ready, request), {}, {}
    parts = parts_of(job)
    for path, cache in caches.headers():
        way = OF_KIND.get(cache.kind)
        if way is None or cache.subject != job.scene.name:
            continue
        if way.key not in wanted:
            wanted[way.key] = dependencies(job, way, ready.geometry.surfaces_hash(), ready.geometry.hash(), "")
        depends = wanted[way.key]
        because = what_changed([cache], {name: depends[name] for name in SCENE if name in depends}, parts)
        others = [name for name in depends if name not in (*SCENE, "beyond") and cache.depends.get(name) != depends[name]]
        answer[path.stem] = {"fresh": not because, "because": because, "others": others}
    return {"caches": answer}


def preview(request: Request) -> dict[str, Any]:
    """A cache's contents that the camera sees: marks as [x, y, radius in pixels, tone, world x, y, z, radius in metres],
    or, of triangles, their corners in pixels."""
    path = request.worker.caches.path(request.body["digest"])
    if path is None or not path.is_file():
        raise InputError("This cache no longer exists; prove again to remake it.")
    cache = from_bytes(path.read_bytes(), path.name)
    way = OF_KIND.get(cache.kind)
    if way is None or way.preview is None:
        raise InputError(f"A {cache.kind} has nothing to show on the plate.")
    ready = request.prepared()
    return {"kind": cache.kind, **marks_of(way.preview(cache.arrays), ready, _job(ready, request))}


def marks_of(shown: Preview, ready: Prepared, job: Preparation) -> dict[str, Any]:
    """The visible marks of a preview, at most MOST_MARKS."""
    triangles = shown.shape == "triangles"
    at = shown.points.astype(float).mean(axis=1) if triangles else shown.points.astype(float)
    size = (job.frame.width, job.frame.height)
    seen = np.flatnonzero(_in_sight(at, ready, size))
    seen = seen[:: max(1, -(-len(seen) // MOST_MARKS))]
    screen = on_screen(at[seen], ready.camera, size)
    # Size on the plate, from a second point beside it.
    beside = at[seen] + ready.camera.to_world[:, 0] * shown.sizes[seen, None]
    radii = np.linalg.norm(on_screen(beside, ready.camera, size) - screen, axis=1)
    light = shown.values[seen].astype(float) @ LUMINANCE
    middle = float(np.median(light[light > 0.0])) if (light > 0.0).any() else 1.0
    tone = light / (light + middle)
    rows = np.column_stack([screen, radii, tone, at[seen], shown.sizes[seen]])
    answer: dict[str, Any] = {"shape": shown.shape, "marks": np.round(rows, 4).tolist(), "of": len(at)}
    if triangles:
        corners = on_screen(shown.points[seen].astype(float), ready.camera, size)
        answer["corners"] = np.round(corners.reshape(len(seen), 6), 2).tolist()
    return answer


def _in_sight(points: np.ndarray, ready: Prepared, size: tuple[int, int]) -> np.ndarray:
    """bool [n]: points in the picture that the camera sees."""
    camera = ready.camera
    eye, away = camera.to_world[:, 3], -camera.to_world[:, 2]
    screen = on_screen(points, camera, size)
    within = ((screen >= 0.0) & (screen < np.array(size))).all(axis=1)
    d = points - eye
    if camera.orthographic:
        depth = d @ away
        origins, d = points - away * depth[:, None], np.broadcast_to(away, d.shape)
    else:
        depth = np.linalg.norm(d, axis=1)
        origins, d = np.broadcast_to(eye, d.shape), d / np.maximum(depth, 1e-9)[:, None]
    within &= (points - eye) @ away > 0.0
    rays = (np.ascontiguousarray(column, np.float32) for column in (origins, d))
    _, first = closest_hits(ready.arrays.bvh, *rays, np.float32(0.0), np.float32(1e30))
    return within & (first > depth * 0.995 - 20.0 * ready.arrays.offset)
