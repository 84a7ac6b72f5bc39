"""Every way of bounced light against brute force on the demo shots: in the picture, and where it says so itself."""

import os

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

from .ways import DEEP, LUMINANCE

SIZE, BLOCK = (120, 68), 4
WAYS = {
    "irradiance cache": {"gi.seen": "irradiance_cache"},
    "photon map": {"gi.seen": "photon_map"},
    "photon map looked up": {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0},
    "radiance cache": {"gi.seen": "radiance_cache"},
    "bake": {"gi.seen": "baked"},
    "bake looked up": {"gi.seen": "baked", "baked.final_gather_rays": 0},
    "brute force over a radiance cache": {"gi.beyond": "radiance_cache"},
    "brute force over photons": {"gi.beyond": "photon_map"},
    "brute force over a bake": {"gi.beyond": "baked"},
}


def agreement() -> str:
    """For each demo shot and way: its bounced light against brute force in the whole picture, with the error of brute force's own mean; the
    root mean square difference of blocks of 4 x 4 pixels; and what its check states (mean, its error, single spots)."""
    warm_up()
    result = []
    for name in ("keepers-kitchen", "slipway", "lamp-room"):
        scene, caches = read_scene(find_shot(f"demo:{name}")), CacheFolder()
        geometry = prepare(scene, Recipe()).geometry

        def indirect(values: dict, seed: int, scene=scene, geometry=geometry, caches=caches) -> tuple[np.ndarray, list]:
            recipe, frame, tiles = with_values(Recipe(), {**DEEP, **values}), Frame(*SIZE, seed=seed), {}
            ready = prepare(scene, recipe, geometry=geometry, caches=caches, frame=frame)
            render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1)
            film = assemble(frame, film_columns(ready.arrays.slots), tiles)
            light = film[..., INDIRECT : INDIRECT + 3].astype(float) @ LUMINANCE
            return light.reshape(SIZE[1] // BLOCK, BLOCK, SIZE[0] // BLOCK, BLOCK).mean(axis=(1, 3)), ready.ways

        halves = [indirect({"sampling.max": 256}, seed)[0] for seed in (7, 8)]
        truth = (halves[0] + halves[1]) / 2.0
        scale = truth + 0.1 * truth.mean()
        chance = float(np.sqrt(np.mean(((halves[0] - halves[1]) / scale) ** 2))) / 2.0
        own = abs(halves[0].mean() - halves[1].mean()) / truth.mean() / 2.0
        result.append(f"{name}: brute force ± {own:.1%} in all, blocks ± {chance:.1%}")
        for way, values in WAYS.items():
            found, notes = indirect({"sampling.max": 64, **values}, 0)
            off, blocks = found.mean() / truth.mean() - 1.0, float(np.sqrt(np.mean(((found - truth) / scale) ** 2)))
            check = next((note.check for note in reversed(notes) if note.check), None)
            says = f"; it states {check['mean']:+.1%} ± {check['mean_error']:.1%}, spots {check['spread']:.0%}" if check else ""
            result.append(f"  {way}: {off:+.1%}, blocks {blocks:.1%}{says}")
    return "\n  ".join(result)
