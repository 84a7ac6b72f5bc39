"""Caches of a moving shot: shared by all of its frames, or blended from those of neighbouring ones.

A cache that is made anew for each frame settles a little differently each time, which flickers. Records and cells that are gathered along the
camera's path before the first frame are the same in every frame (the idea of Tawara, Myszkowski & Seidel 2004, "Exploiting Temporal Coherence
in Final Gathering for Dynamic Scenes"). What moves meanwhile is lit as it was on average, which is their error.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import NamedTuple

import numpy as np

from ..caches import Cache, CacheFolder, hash_of
from ..gi.hemisphere import cosine_directions
from ..gi.way import Way
from ..scene.model import Scene
from ..vector import LUMINANCE
from .preparation import Preparation
from .prepare_ways import Gathered, dependencies, find_or_make, make_cache, parts_of, serve_cache
from .shutter import motion_between

PROBES, PROBE_SEED = 32, 7
"""Rays that each row of a cache casts to find whether its light changes, and the seed of their directions."""
SAME = 0.05
"""Change of light, relative to it, up to which a row is kept."""
MOST_SCENES = 4
"""Frames whose scenes are kept in memory."""


@dataclass
class Moving:
    """A moving shot: `read` gives its scene at a time code; frames: those that are rendered, in order; of: names the file and its state."""

    read: Callable[[float], Scene]
    frames: tuple[float, ...]
    of: str
    known: dict[float, Scene] = field(default_factory=dict)

    def scene(self, time: float) -> Scene:
        if time not in self.known:
            while len(self.known) >= MOST_SCENES:
                self.known.pop(next(iter(self.known)))
            self.known[time] = self.read(time)
        return self.known[time]


class Staged(NamedTuple):
    """A frame that is ready for its caches of bounced light, with the hashes of its surfaces and its geometry."""

    job: Preparation
    surfaces: str
    geometry: str


def spread(frames: Sequence[float], keys: int) -> list[float]:
    """Up to `keys` of the frames, evenly spread, from the first to the last; a single one is the middle."""
    if keys == 1 or len(frames) == 1:
        return [frames[len(frames) // 2]]
    return [frames[k] for k in sorted({round(p) for p in np.linspace(0, len(frames) - 1, min(keys, len(frames)))})]


def around(frames: Sequence[float], time: float) -> list[float]:
    """The frame at `time` with its neighbours."""
    k = min(range(len(frames)), key=lambda k: abs(frames[k] - time))
    return list(frames[max(0, k - 1) : k + 2])


def gather_caches(stage: Callable[[float], Staged], job: Preparation, moving: Moving, edits: str, caches: CacheFolder) -> dict[str, Gathered]:
    """The caches of the job's recipe that its frame does not make for itself, by way; `stage` makes another frame ready. Ways that only reduce
    grain are made for each frame. Raises as `Task.check`."""
    recipe, frame = job.recipe, job.frame
    assert frame.time is not None
    blended, kept = recipe.motion.caches == "blended", recipe.motion.caches == "kept"
    ways = [way for way in recipe.preparing() if not way.of_paths and (way.join is not None or not blended)]
    times = around(moving.frames, frame.time) if blended else spread(moving.frames, recipe.motion.keys)
    if not ways or (blended and len(times) < 2):
        return {}
    what = moving.of, recipe.model_dump_json(), edits, job.camera.name, frame.width, frame.height, frame.seed, times

    def gather() -> dict[str, Gathered]:
        staged, found = {time: stage(time) for time in times}, dict[str, Gathered]()
        moves = _moving_between(list(staged.values()), (frame.width, frame.height)) if kept else []
        for way in ways:
            if moves and way.places is None:  # made for each frame
                for one in staged.values():
                    one.job.served(way.key, serve_cache(one.job, way, _of_frame(way, one, caches), caches)[0])
                continue
            gathered = _joined(way, staged, caches) if blended else _shared(way, staged, caches)
            found[way.key] = _kept(way, staged, gathered, moves) if moves else gathered
            for one in staged.values():
                one.job.served(way.key, serve_cache(one.job, way, found[way.key].cache, caches)[0])
        return found

    return caches.remember(hash_of(*what), gather)


def _shared(way: Way, staged: dict[float, Staged], caches: CacheFolder) -> Gathered:
    """One cache for all frames: extended from frame to frame where the way can do that, else joined, else that of the middle frame."""
    if way.extend is None:
        if way.join is not None:
            return _joined(way, staged, caches)
        time = list(staged)[len(staged) // 2]
        return Gathered(_of_frame(way, staged[time], caches), f"shared by all frames, made for frame {time:g}")
    depends = {"frames": hash_of(*[[time, *sorted(_depends(way, one).items())] for time, one in staged.items()])}
    cache = caches.find(way.kind, depends)
    if cache is None:
        for one in staged.values():
            one.job.making = f"{way.kind} of all frames"
            cache = make_cache(one.job, way, depends, parts_of(one.job), cache)
        assert cache is not None
        caches.keep(cache)
    return Gathered(cache, f"shared by all frames, gathered from {_named(list(staged))}")


def _moving_between(staged: list[Staged], size: tuple[int, int]) -> list[str]:
    """Names of the objects and lights that move between frames; a word for all of them where they do not stay the same ones."""
    names: dict[str, None] = {}
    for before, after in pairwise(one.job for one in staged):
        motion = motion_between(before.scene, after.scene, after.camera.name, size)
        names |= dict.fromkeys([*motion.objects, *motion.lights] if motion is not None else ["what comes and goes"])
    return list(names)


def _kept(way: Way, staged: dict[float, Staged], shared: Gathered, moves: list[str]) -> Gathered:
    """Of a cache of all frames what may stay: the rows at which light stays the same. Each looks about, in every one of the frames along the same
    rays with the same random numbers, so that what it sees only differs where something has changed."""
    assert way.places is not None and way.only is not None and way.points is not None
    positions, normals = (part.astype(np.float64) for part in way.places(shared.cache.arrays))
    rng = np.random.default_rng(PROBE_SEED)
    directions = cosine_directions(np.repeat(normals, PROBES, axis=0), rng)
    seen = []
    for one in staged.values():
        job = one.job
        job.making = f"what changes about the {way.kind}"
        job.rays = len(directions)  # the same numbers in every frame
        arrived = job.arrive(np.repeat(positions + 4.0 * job.offset * normals, PROBES, axis=0), directions, again=True)
        seen.append((arrived.light @ LUMINANCE).reshape(-1, PROBES).mean(axis=1))
    light = np.array(seen)
    stays = np.ptp(light, axis=0) <= SAME * light.mean(axis=0) + 1e-9
    arrays = way.only(shared.cache.arrays, stays)
    notes = {**shared.cache.notes, "count": way.points(arrays)[0]}
    named = ", ".join(name.rsplit("/", 1)[-1] for name in moves[:3]) + (" and others" if len(moves) > 3 else "")
    verb = "moves" if len(moves) == 1 else "move"
    said = f"{stays.sum()} of {len(stays)} {notes['unit']} kept in all frames, since light there stays the same while {named} {verb}"
    return Gathered(Cache(way.kind, shared.cache.subject, {"kept": hash_of(shared.cache.digest, stays)}, arrays, notes), said, open=True)


def _joined(way: Way, staged: dict[float, Staged], caches: CacheFolder) -> Gathered:
    """The frames' own caches as one, each with the same weight."""
    assert way.join is not None
    own = [_of_frame(way, one, caches) for one in staged.values()]
    if len({cache.digest for cache in own}) == 1:
        return Gathered(own[0], f"the same in {_named(list(staged))}")
    arrays = way.join([cache.arrays for cache in own])
    notes = {**own[len(own) // 2].notes, "seconds": sum(float(cache.notes["seconds"]) for cache in own)}
    notes["count"], notes["unit"] = way.points(arrays) if way.points is not None else (0, "")
    depends = {"frames": hash_of(*[cache.digest for cache in own])}
    return Gathered(Cache(way.kind, own[0].subject, depends, arrays, notes), f"joined from those of {_named(list(staged))}")


def _of_frame(way: Way, one: Staged, caches: CacheFolder) -> Cache:
    one.job.making = way.kind
    return find_or_make(one.job, way, _depends(way, one), parts_of(one.job), caches)[0]


def _depends(way: Way, one: Staged) -> dict[str, str]:
    return dependencies(one.job, way, one.surfaces, one.geometry, "")


def _named(times: list[float]) -> str:
    """The frames in words."""
    names = [f"{time:g}" for time in times]
    if len(names) > 6:
        names = [*names[:3], "…", names[-1]]
    return f"frame {names[0]}" if len(times) == 1 else f"the frames {', '.join(names)}"
