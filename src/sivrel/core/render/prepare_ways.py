"""The caches of the ways of finding bounced light: found, made or added to; told why; and checked against brute force."""

import functools
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..caches import Cache, CacheFolder, hash_of
from ..gi.way import Way
from ..gi.ways import PREPARING
from ..scene.arrays import CAMERA, RAYS, SLOT
from .check import check_against_brute_force
from .film import camera_array
from .preparation import Preparation, Stopped

MOST_PARTS = 2000
"""Lights, surfaces and objects whose own hashes are kept, to name which of them has changed."""


@dataclass
class CacheNote:
    """What happened to the cache of a way.

    digest: name of its file; count, unit: how much it holds, of what; seconds it took, or took when it was made; made, added: whether it
    was made for this picture, or added to; because: why it was made anew, or what has changed since where it is locked
    notes: what the way tells of it; check: how it agrees with brute force on this shot (see check.py)
    """

    way: str
    kind: str
    digest: str
    count: int
    unit: str
    seconds: float
    made: bool
    added: bool
    because: str
    notes: dict[str, Any] = field(default_factory=dict)
    check: dict[str, float] | None = None


def what_changed(before: list[Cache], depends: dict[str, str], parts: dict[str, str] | None = None) -> str:
    """What has changed since the cache that is most like what is wanted was made, in words; empty when there was none."""
    changes = [_changes(cache, depends, parts or {}) for cache in before]
    named = min(changes, key=len, default=[])
    return " and ".join([*named[:4], *(["others"] if len(named) > 4 else [])])


def _changes(before: Cache, depends: dict[str, str], parts: dict[str, str]) -> list[str]:
    """Names of what has changed: the lights, surfaces and objects where they are known, else what they are part of."""
    changed = [name for name in depends if before.depends.get(name) != depends[name]]
    kept = before.notes.get("parts", {})
    named = []
    if parts and kept:
        for part in {**kept, **parts}:
            if kept.get(part) != parts.get(part):
                named.append(part if part in kept and part in parts else f"{part} (new)" if part in parts else f"{part} (gone)")
        kinds = {"geometry": "object ", "surfaces": "surface ", "lights": "light "}
        changed = [c for c in changed if c not in kinds or not any(n.startswith(kinds[c]) for n in named)]
    return [*named, *changed]


def parts_of(job: Preparation) -> dict[str, str]:
    """A short hash of every light, surface and object by its name."""
    scene, arrays = job.scene, job.arrays
    if len(scene.lights) + len(scene.surfaces) + len(scene.meshes) > MOST_PARTS:
        return {}
    parts = {f"light {light.name}": hash_of(repr(light))[:8] for light in scene.lights}
    parts |= {f"surface {s.name}": hash_of(repr(s))[:8] for s in scene.surfaces}
    parts |= {f"object {m.name}": hash_of(m.vertices, m.surfaces, job.arrays.objects[k])[:8] for k, m in enumerate(scene.meshes)}
    return parts if len(arrays.objects) == len(scene.meshes) else {}


def dependencies(job: Preparation, way: Way, surfaces: str, geometry: str, beyond: str) -> dict[str, str]:
    """What the cache of a way depends on, a hash by name."""
    arrays, recipe, wanted = job.arrays, job.recipe, job.recipe.of(way.key)
    lights = arrays.lights.copy()
    lights[:, [RAYS, SLOT, CAMERA]] = 0.0  # what the camera alone sees
    of = {
        "geometry": lambda: hash_of(geometry, arrays.objects),
        "surfaces": lambda: surfaces,
        "lights": lambda: hash_of(lights, arrays.portals, arrays.tables, arrays.light_of, arrays.maps),
        "limits": lambda: hash_of(recipe.limits.model_dump()),
        "beyond": lambda: hash_of(recipe.gi.beyond, beyond),
    }
    depends = {name: of[name]() for name in way.depends}
    assert way.makes is not None
    depends["settings"] = hash_of(way.makes(wanted, recipe), job.frame.seed)
    if getattr(wanted, "camera", "") == "own":
        depends["camera"] = camera_hash(job)
    return depends


def camera_hash(job: Preparation) -> str:
    return hash_of(camera_array(job.camera, job.frame.width, job.frame.height), job.frame.width, job.frame.height)


def prepare_ways(
    job: Preparation, surfaces: str, geometry: str, caches: CacheFolder, progress: Callable[[str, float], bool] | None
) -> list[CacheNote]:
    """Make ready what the recipe's ways need, in the order in which they rest on each other; the job's arrays then hold it."""
    told: list[CacheNote] = []
    if not any(key in PREPARING for key in job.recipe.preparing()):
        return told
    parts, beyond = parts_of(job), ""
    for key in job.recipe.preparing():
        way = PREPARING.get(key)
        if way is None:
            continue
        job.progress = functools.partial(progress, way.kind) if progress else None
        try:
            note = _prepare_way(job, way, dependencies(job, way, surfaces, geometry, beyond), parts, caches)
        except Stopped:
            return told
        told.append(note)
        beyond = note.digest
    return told


def _prepare_way(job: Preparation, way: Way, depends: dict[str, str], parts: dict[str, str], caches: CacheFolder) -> CacheNote:
    wanted, subject, begun = job.recipe.of(way.key), job.scene.name, time.perf_counter()
    assert way.make is not None and way.serve is not None and way.points is not None
    cache, because, made, added = caches.locked(way.kind, subject), "", False, False
    if cache is not None:
        because = what_changed([cache], depends, parts) if cache.depends != depends else ""
    else:
        cache = caches.find(way.kind, depends)
        here = camera_hash(job)
        if cache is None:
            because = what_changed(caches.alike(way.kind, subject), depends, parts)
            arrays, notes = way.make(job, wanted)
            made = True
            about = {**notes, "seconds": time.perf_counter() - begun, "parts": parts, "cameras": [here], "way": way.key}
            cache = Cache(way.kind, subject, depends, arrays, about)
        elif way.extend is not None and getattr(wanted, "camera", "") == "shared" and here not in cache.notes.get("cameras", []):
            arrays, notes = way.extend(job, wanted, cache.arrays)
            added = True
            about = {
                **cache.notes, **notes, "seconds": float(cache.notes["seconds"]) + time.perf_counter() - begun,
                "cameras": [*cache.notes.get("cameras", []), here],
            }  # fmt: skip
            cache = Cache(way.kind, subject, depends, arrays, about)
        if made or added:
            job.tell(1.0)
            count, unit = way.points(cache.arrays)
            cache.notes["count"], cache.notes["unit"] = count, unit
            caches.keep(cache)
    count, unit = way.points(cache.arrays)
    serving = hash_of(cache.digest, count, wanted.model_dump(), job.looked_up_beyond(way.key), job.recipe.of("caustics").on)
    notes = dict(cache.notes)
    prepared, told = caches.remember(serving, lambda: _serve(job, way, wanted, cache, notes))
    job.served(way.key, prepared)
    check = None
    if way.lookup is not None:
        of_check = hash_of(serving, camera_hash(job), job.recipe.limits.model_dump(), job.recipe.gi.model_dump())
        check = caches.remember(of_check, lambda: check_against_brute_force(job, way))
    kept = {key: value for key, value in {**notes, **told}.items() if key not in ("parts", "cameras", "seconds", "count", "unit", "way")}
    return CacheNote(way.key, way.kind, cache.digest, count, unit, float(cache.notes["seconds"]), made, added, because, kept, check)


def _serve(job: Preparation, way: Way, wanted: Any, cache: Cache, notes: dict[str, Any]) -> tuple[Any, dict[str, Any]]:
    """What the kernels get, and what the way tells of it."""
    assert way.serve is not None
    told: dict[str, Any] = dict(notes)
    prepared = way.serve(job, wanted, cache.arrays, told)
    if hasattr(prepared, "radius"):
        told["radius"] = float(prepared.radius)
    if hasattr(prepared, "radii") and len(prepared.radii):
        told["radius"], told["last_radius"] = float(prepared.radii[0]), float(prepared.radii[-1])
    return prepared, {key: value for key, value in told.items() if isinstance(value, int | float | str | list) and not isinstance(value, np.generic)}
