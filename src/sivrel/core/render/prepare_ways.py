"""The caches of the ways of finding bounced light: found, made or extended, with the reason, and checked against brute force."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np

from ..caches import Cache, CacheFolder, digest_of, hash_of
from ..gi.way import Way
from ..scene.arrays import CAMERA, PART_LIGHT, RAYS, SLOT
from ..scene.model import Mesh
from ..scene.placed_mesh import PlacedMesh
from ..work_time import work_time
from .check import check_against_brute_force
from .film import camera_array
from .preparation import Preparation

OF_FILE = ("parts", "cameras", "seconds", "count", "unit", "way")
"""Notes that every cache has; the others come from its way."""
PART_OF = {"object": "geometry", "surface": "surfaces", "light": "lights"}
"""The dependency that the first word of a part's name belongs to."""
MOST_PARTS = 2000
"""Most lights, surfaces and objects with hashes of their own, to name which of them has changed."""


@dataclass
class CacheNote:
    """Note on the cache of a way.

    digest: name of its file; count, unit: how much it holds, of what; seconds: what it took to make; made, added: whether it
    was made for this picture, or extended; because: why it was remade, or what has changed since, if it is locked
    notes: the way's sentence about it; check: its error against brute force on this shot (see check.py); through: how it is shared with other
    frames, in words; empty if it is this frame's own
    """

    way: str
    kind: str
    digest: str = ""
    count: int = 0
    unit: str = ""
    seconds: float = 0.0
    made: bool = False
    added: bool = False
    because: str = ""
    notes: dict[str, Any] = field(default_factory=dict)
    check: dict[str, float] | None = None
    through: str = ""


class Gathered(NamedTuple):
    """A cache that several frames share, and how it came about, in words; open: whether each frame adds to it what it needs."""

    cache: Cache
    through: str
    open: bool = False


def what_changed(before: list[Cache], depends: dict[str, str], parts: dict[str, str] | None = None) -> str:
    """What has changed since the most similar cache was made, in words; empty if there was none."""
    changes = [_changes(cache, depends, parts or {}) for cache in before]
    named = min(changes, key=len, default=[])
    return " and ".join([*named[:4], *(["others"] if len(named) > 4 else [])])


def _changes(before: Cache, depends: dict[str, str], parts: dict[str, str]) -> list[str]:
    """Names of what has changed: the lights, surfaces and objects where they are known, else what they are part of."""
    changed = [name for name in depends if before.depends.get(name) != depends[name]]
    kept = before.notes.get("parts", {})
    if not (parts and kept):
        return changed
    named, explained = [], set()
    for part in {**kept, **parts}:
        of = PART_OF[part.split(" ")[0]]
        if of in changed and kept.get(part) != parts.get(part):
            named.append(part if part in kept and part in parts else f"{part} (new)" if part in parts else f"{part} (gone)")
            explained.add(of)
    return [*named, *(name for name in changed if name not in explained)]


def parts_of(job: Preparation) -> dict[str, str]:
    """A short hash of every light, surface and object by its name."""
    scene, arrays = job.scene, job.arrays
    if len(scene.lights) + len(scene.surfaces) + len(scene.meshes) > MOST_PARTS:
        return {}
    parts = {f"light {light.name}": hash_of(repr(light))[:8] for light in scene.lights}
    parts |= {f"surface {s.name}": hash_of(repr(s))[:8] for s in scene.surfaces}
    parts |= {f"object {m.name}": hash_of(*_shape_of(m), m.surfaces, job.arrays.objects[k])[:8] for k, m in enumerate(scene.meshes)}
    return parts if len(arrays.objects) == len(scene.meshes) else {}


def _shape_of(mesh: Mesh) -> tuple[np.ndarray, ...]:
    geometry, placed = (mesh.shape.geometry, [mesh.to_world]) if isinstance(mesh, PlacedMesh) else (mesh.geometry, [])
    return geometry.points, geometry.corners, *placed


def dependencies(job: Preparation, way: Way, surfaces: str, geometry: str, beyond: str) -> dict[str, str]:
    """What the cache of a way depends on, a hash by name."""
    arrays, recipe, wanted = job.arrays, job.recipe, job.recipe.of(way.key)
    lights = arrays.lights.copy()
    lights[:, [RAYS, SLOT, CAMERA]] = 0.0  # what the camera alone sees
    of = {
        "geometry": lambda: hash_of(geometry, arrays.objects),
        "surfaces": lambda: surfaces,
        "lights": lambda: hash_of(lights, arrays.portals, arrays.tables, arrays.parts[:, PART_LIGHT], arrays.maps),
        "limits": lambda: hash_of(recipe.limits.model_dump()),
        "beyond": lambda: hash_of(recipe.gi.beyond, beyond),
        "camera": lambda: camera_hash(job),
    }
    depends = {name: of[name]() for name in way.depends}
    assert way.makes is not None
    depends["settings"] = hash_of(way.makes(wanted, recipe), job.frame.seed)
    if getattr(wanted, "camera", "") == "own":
        depends["camera"] = camera_hash(job)
    return depends


def camera_hash(job: Preparation) -> str:
    return hash_of(camera_array(job.camera, job.frame.width, job.frame.height), job.frame.width, job.frame.height)


def needs_more(job: Preparation, way: Way, cache: Cache) -> bool:
    """Whether a cache shared by cameras must be extended for the job's camera."""
    shared = way.extend is not None and getattr(job.recipe.of(way.key), "camera", "") == "shared"
    return shared and camera_hash(job) not in cache.notes.get("cameras", [])


def prepare_ways(job: Preparation, surfaces: str, geometry: str, caches: CacheFolder, given: Mapping[str, Gathered]) -> list[CacheNote]:
    """Prepare the caches of the recipe's ways, in order of their dependence; the job's arrays then hold them. `given`: those that are shared with
    other frames. Raises as `Task.check`."""
    notes: list[CacheNote] = []
    ways = job.recipe.preparing()
    parts, beyond = parts_of(job) if ways else {}, ""
    for way in ways:
        job.making = way.kind
        depends = dependencies(job, way, surfaces, geometry, beyond)
        if way.key in given:
            cache, through = given[way.key].cache, given[way.key].through
            if given[way.key].open:
                own = {**depends, "kept": cache.digest}
                found = caches.find(way.kind, own)
                if found is None:
                    found = make_cache(job, way, own, parts, cache)
                    caches.keep(found)
                cache, through = found, f"{through}; {found.notes['count'] - cache.notes['count']} made for this frame"
            note = _use(job, way, cache, caches, CacheNote(way.key, way.kind, through=through))
        else:
            cache, made, added, because = find_or_make(job, way, depends, parts, caches)
            note = _use(job, way, cache, caches, CacheNote(way.key, way.kind, made=made, added=added, because=because))
        notes.append(note)
        beyond = note.digest
    return notes


def find_or_make(
    job: Preparation, way: Way, depends: dict[str, str], parts: dict[str, str], caches: CacheFolder
) -> tuple[Cache, bool, bool, str]:  # fmt: skip
    """The cache of a way, the locked one if there is one; whether it was made, or extended; and why it was made or what has changed since."""
    locked = caches.locked(way.kind, job.scene.name)
    if locked is not None:
        return locked, False, False, what_changed([locked], depends, parts)
    with caches.making(digest_of(way.kind, depends), lambda: job.report(0.0)):
        cache, because = caches.find(way.kind, depends), ""
        made, added = cache is None, cache is not None and needs_more(job, way, cache)
        if made:
            because = what_changed(caches.alike(way.kind, job.scene.name), depends, parts)
        if made or added:
            cache = make_cache(job, way, depends, parts, cache)
            caches.keep(cache)
    assert cache is not None
    return cache, made, added, because


def _use(job: Preparation, way: Way, cache: Cache, caches: CacheFolder, note: CacheNote) -> CacheNote:
    """Make a cache available to the job's rays, check it against brute force, and complete the note on it."""
    prepared, note.notes = serve_cache(job, way, cache, caches)
    job.served(way.key, prepared)
    job.caches[way.key] = cache
    if way.lookup is not None:
        of_check = hash_of(_serving(job, way, cache), camera_hash(job), job.recipe.limits.model_dump(), job.recipe.gi.model_dump())
        note.check = caches.remember(of_check, lambda: check_against_brute_force(job, way))
    note.digest, note.count, note.unit, note.seconds = cache.digest, cache.notes["count"], cache.notes["unit"], float(cache.notes["seconds"])
    return note


def _serving(job: Preparation, way: Way, cache: Cache) -> str:
    """Names what a way serves: its cache, and how it is used."""
    wanted, caustics = job.recipe.of(way.key).model_dump(), job.recipe.of("caustics").on
    return hash_of(cache.digest, cache.notes["count"], wanted, job.looked_up_beyond(way.key), caustics)


def make_cache(job: Preparation, way: Way, depends: dict[str, str], parts: dict[str, str], before: Cache | None) -> Cache:
    """Make the cache of a way, or extend `before` for the job's camera."""
    assert way.make is not None and way.points is not None
    if job.look is not None:
        job.look()
        job.look = None
    wanted, begun, about = job.recipe.of(way.key), work_time(), dict(before.notes) if before else {}
    if before is None:
        arrays, notes = way.make(job, wanted)
    else:
        assert way.extend is not None
        arrays, notes = way.extend(job, wanted, before.arrays)
    job.report(1.0)
    count, unit = way.points(arrays)
    seconds = about.get("seconds", 0.0) + work_time() - begun
    cameras = [*about.get("cameras", []), camera_hash(job)]
    about |= {**notes, "seconds": seconds, "parts": about.get("parts", parts), "cameras": cameras, "way": way.key, "count": count, "unit": unit}
    return Cache(way.kind, job.scene.name, depends, arrays, about)


def serve_cache(job: Preparation, way: Way, cache: Cache, caches: CacheFolder) -> tuple[Any, dict[str, Any]]:
    """The arrays of a cache for the kernels, and the notes for the way's sentence about them; remembered for a while."""

    def serve() -> tuple[Any, dict[str, Any]]:
        assert way.serve is not None
        notes = dict(cache.notes)
        prepared = way.serve(job, job.recipe.of(way.key), cache.arrays, notes)
        return prepared, {key: value for key, value in notes.items() if key not in OF_FILE}

    return caches.remember(_serving(job, way, cache), serve)
