"""The ways of bounced light against brute force at equal error, and caustic photons against brute force over time."""

import math
import os
import time

import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.film import INDIRECT, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.render.warmup import warm_up
from sivrel.demo.shots import find_shot

LUMINANCE = np.array([0.2126, 0.7152, 0.0722])
SIZE = (240, 135)
CAUSTIC_REFERENCE = 16_384
DEEP = {"limits.diffuse_bounces": 16, "photon_map.bounces": 16}
CANDIDATES = {
    "irradiance cache": {"gi.seen": "irradiance_cache", "sampling.max": 4},
    "irradiance cache over a radiance cache": {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "sampling.max": 4},
    "photon map with final gather": {"gi.seen": "photon_map", "sampling.max": 4},
    "photon map looked up": {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "sampling.max": 4},
    "bake with final gather": {"gi.seen": "baked", "sampling.max": 4},
    "bake as it is": {"gi.seen": "baked", "baked.final_gather_rays": 0, "sampling.max": 4},
    "radiance cache beyond": {"gi.beyond": "radiance_cache", "sampling.max": 16},
}


class _Shot:
    def __init__(self, name: str) -> None:
        self.scene, self.frame, self.caches = read_scene(find_shot(f"demo:{name}")), Frame(*SIZE), CacheFolder()
        self.plain = prepare(self.scene, Recipe(), frame=self.frame)

    def indirect(self, values: dict, seed: int = 0, size: tuple[int, int] = SIZE) -> tuple[float, float, np.ndarray]:
        """Seconds to prepare, beyond what brute force needs, and to render; luminance of the indirect light."""
        recipe, frame, tiles = with_values(Recipe(), {**DEEP, **values}), Frame(*size, seed=seed), {}
        begun = time.perf_counter()
        ready = prepare(self.scene, recipe, geometry=self.plain.geometry, caches=self.caches, frame=frame)
        made = sum(note.seconds for note in ready.ways)
        begun = time.perf_counter()
        render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1)
        seconds = time.perf_counter() - begun
        film = assemble(frame, film_columns(ready.arrays.slots), tiles)
        return made, seconds, film[..., INDIRECT : INDIRECT + 3].astype(float) @ LUMINANCE


def ways() -> str:
    """The kitchen: time of brute force over that of each way at the way's error, with its preparation and without.

    Error: root mean square of the indirect light relative to its brightness there, each pixel counted up to 2, against a long render.
    Brute force's error falls as the root of its samples from the one measured at 64 of them.
    """
    warm_up()
    shot = _Shot("keepers-kitchen")
    reference = shot.indirect({"sampling.max": 1024}, 7)[2]

    def error(found: np.ndarray) -> float:
        return float(np.sqrt(np.mean(np.minimum(((found - reference) / (reference + 0.1 * reference.mean())) ** 2, 4.0))))

    _, seconds, found = shot.indirect({"sampling.max": 64})
    brute, result = error(found), [f"brute force, 64 samples: {seconds:.1f} s, error {error(found):.3f}"]
    for name, values in CANDIDATES.items():
        made, rendered, found = shot.indirect(values)
        equal = seconds * (brute / error(found)) ** 2
        result.append(
            f"{name}: {made:.1f} + {rendered:.1f} s, error {error(found):.3f}, light {found.mean() / reference.mean():.3f}, "
            f"{equal / (made + rendered):.1f} times as fast, {equal / rendered:.1f} once it is made"
        )
    return "\n  ".join(result)


def caustics() -> str:
    """The lamp room: error of indirect light over time by brute force and by caustic photons, against two very long renders of a small
    frame by brute force, whose own difference is shown."""
    warm_up()
    shot, size = _Shot("lamp-room"), (48, 27)
    long = {"limits.refractions": 16, "limits.reflections": 16}
    halves = [shot.indirect({**long, "sampling.max": CAUSTIC_REFERENCE}, seed, size)[2] for seed in (7, 8)]
    reference = (halves[0] + halves[1]) / 2.0
    scale = reference + 0.1 * reference.mean()

    def error(found: np.ndarray) -> float:
        # As the product with two references, so that their own chance drops out.
        product = np.clip((found - halves[0]) / scale, -2, 2) * np.clip((found - halves[1]) / scale, -2, 2)
        return math.sqrt(max(0.0, float(np.mean(product))))

    apart = np.clip((halves[0] - halves[1]) / scale, -2, 2)
    result = [f"references of {CAUSTIC_REFERENCE} samples, {math.sqrt(float(np.mean(apart**2)) / 2.0):.3f} off each"]
    for samples in (16, 64, 256, 1024):
        _, brute_seconds, brute = shot.indirect({**long, "sampling.max": samples}, 0, size)
        made, seconds, found = shot.indirect({**long, "sampling.max": samples, "caustics.on": "yes", "caustics.passes": 16}, 0, size)
        result.append(
            f"{samples} samples: brute force {brute_seconds:.1f} s {error(brute):.3f}; photons {made:.1f} + {seconds:.1f} s {error(found):.3f}"
        )
    return "\n  ".join(result)
