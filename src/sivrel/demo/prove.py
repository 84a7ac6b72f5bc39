"""Makes the proofs that ship with the demo shots: `python -m sivrel.demo.prove [NAME]...`.

They fill the lineage before the first kernel is compiled. Times are those of the machine that made them, and say so.
"""

import json
import os
import shutil
import sys
import time
from dataclasses import asdict

import numpy as np

from ..core.formats.exr import write_exr
from ..core.formats.scenes import read_scene
from ..core.measure.lights import measure_lights
from ..core.render.film import coarse_share
from ..core.render.frame import Frame, assemble, render_tiles
from ..core.render.prepare import prepare
from ..core.render.recipe import Recipe, with_values
from ..core.render.warmup import warm_up
from ..core.scene.edits import Edits, is_edit, with_edits
from ..work.finishing import make_picture, measurements
from .shots import SHOTS, DemoShot

# Name: parent, settings and edits against it, camera (None: the first), note.
STEPS: dict[str, tuple] = {
    "keepers-kitchen": (
        ("direct", None, {"gi.seen": "off", "sampling.max": 8}, None, "lights alone, to judge their balance"),
        ("flame-alone", "direct", {"light.Flame.solo": "on"}, None, "the lamp alone, to judge its shadows"),
        ("flame-rays", "flame-alone", {"light.Flame.shadows.rays": 8}, None, ""),
        ("bounced", "direct", {"gi.seen": "brute_force"}, None, ""),
        ("finer", "bounced", {"sampling.max": 64}, None, ""),
        ("one-bounce", "finer", {"limits.diffuse_bounces": 1}, None, "too dim under the table"),
        ("deep", "finer", {"limits.diffuse_bounces": 8}, None, ""),
        ("fine", "deep", {"sampling.max": 400}, None, "the look to match"),
    ),
    "slipway": (
        ("direct", None, {"gi.seen": "off", "sampling.max": 8}, None, "sun and sky alone"),
        ("hazy", "direct", {"light.NoonSun.angle": 6}, None, "a larger sun: softer shadows"),
        ("steps", "direct", {"light.NoonSun.shadows.way": "depth_map"}, None, "steps: its texels are larger than pixels"),
        ("fitted", "steps", {"light.NoonSun.shadows.fit": "view"}, None, "the remedy"),
        ("bounced", "direct", {"gi.seen": "brute_force"}, None, "bounced light hardly matters here"),
        ("one-bounce", "bounced", {"limits.diffuse_bounces": 1}, None, ""),
        ("finer", "one-bounce", {"sampling.max": 64}, None, ""),
        ("bow", "finer", {}, "bow", ""),
        ("fine", "finer", {"sampling.max": 256}, None, "the look to match"),
    ),
}
WITH_LIGHTS = ("direct", "steps", "fitted")
"""Proofs that ship with the passes of each light."""
LEFT_OUT = ("variance",)
"""Passes that do not ship; what is measured from them is in the listing."""


def prove(shot: DemoShot) -> None:
    """Render every step of a shot and write the pictures with their listing."""
    scene = read_scene(shot.path)
    geometry = None
    shutil.rmtree(shot.proofs, ignore_errors=True)
    shot.proofs.mkdir(parents=True)
    recipes: dict[str | None, tuple[Recipe, Edits]] = {None: (Recipe(), Edits())}
    listing = []
    for name, parent, values, camera_name, note in STEPS[shot.name]:
        recipe = with_values(recipes[parent][0], {k: v for k, v in values.items() if not is_edit(k)})
        edits = with_edits(recipes[parent][1], {k: v for k, v in values.items() if is_edit(k)})
        recipes[name] = recipe, edits
        frame, begun = Frame(), time.monotonic()
        ready = prepare(scene, recipe, edits, camera_name, geometry=geometry)
        geometry = ready.geometry
        tiles: dict = {}
        clock = np.zeros(ready.arrays.slots + 1)
        render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1, clock=clock)
        seconds = time.monotonic() - begun
        film, camera = assemble(frame, tiles), ready.camera
        picture = make_picture(film, ready.passes, frame, recipe, shot.name, camera.name, edits)
        noise, light, dropped = measurements(picture, film)
        for left_out in [p for p in picture.passes if p in LEFT_OUT or (name not in WITH_LIGHTS and p.startswith(("light.", "shadow.")))]:
            picture.passes.pop(left_out)
        write_exr(shot.proofs / f"{name}.exr", picture, half=True)
        listing.append(
            {
                "file": f"{name}.exr",
                "parent": f"{parent}.exr" if parent else None,
                "note": note,
                "seconds": round(seconds, 3),
                "noise": noise,
                "light": light,
                "dropped": dropped,
                "exposure": camera.exposure,
                "made_on": f"a machine with {os.cpu_count()} cores",
                "lights": [m.as_dict() for m in measure_lights(film, ready.passes, clock)],
                "maps": [{**asdict(note), "coarse": coarse_share(film)} for note in ready.maps],
            }
        )
        print(f"{shot.name} {name}: {seconds:.1f} s")
    (shot.proofs / "proofs.json").write_text(json.dumps(listing, indent=1) + "\n")


if __name__ == "__main__":
    warm_up()
    for shot in SHOTS:
        if not sys.argv[1:] or shot.name in sys.argv[1:]:
            prove(shot)
