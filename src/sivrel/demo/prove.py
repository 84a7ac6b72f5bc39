"""Makes the proofs that ship with the demo shots: `python -m sivrel.demo.prove [NAME]...`.

They fill the lineage before the first kernel is compiled. Times are those of the machine that made them, and say so.
"""

import json
import os
import shutil
import sys
import time

from ..core.formats.exr import write_exr
from ..core.formats.scenes import read_scene
from ..core.render.frame import Frame, assemble, render_tiles
from ..core.render.recipe import Recipe, with_values
from ..core.render.warmup import warm_up
from ..core.scene.arrays import pack_scene
from ..work.finishing import make_picture, measurements
from .shots import SHOTS, DemoShot

# Name: parent, settings against it, camera (None: the first), note.
STEPS = {
    "keepers-kitchen": (
        ("direct", None, {"gi.seen": "off", "sampling.max": 8}, None, "lights alone, to judge their balance"),
        ("bounced", "direct", {"gi.seen": "brute_force"}, None, ""),
        ("finer", "bounced", {"sampling.max": 64}, None, ""),
        ("one-bounce", "finer", {"limits.diffuse_bounces": 1}, None, "too dim under the table"),
        ("deep", "finer", {"limits.diffuse_bounces": 8}, None, ""),
        ("fine", "deep", {"sampling.max": 400}, None, "the look to match"),
    ),
    "slipway": (
        ("direct", None, {"gi.seen": "off", "sampling.max": 8}, None, "sun and sky alone"),
        ("bounced", "direct", {"gi.seen": "brute_force"}, None, "bounced light hardly matters here"),
        ("one-bounce", "bounced", {"limits.diffuse_bounces": 1}, None, ""),
        ("finer", "one-bounce", {"sampling.max": 64}, None, ""),
        ("bow", "finer", {}, "bow", ""),
        ("fine", "finer", {"sampling.max": 256}, None, "the look to match"),
    ),
}
LEFT_OUT = ("variance",)
"""Passes that do not ship; what is measured from them is in the listing."""


def prove(shot: DemoShot) -> None:
    """Render every step of a shot and write the pictures with their listing."""
    scene = read_scene(shot.path)
    arrays = pack_scene(scene)
    shutil.rmtree(shot.proofs, ignore_errors=True)
    shot.proofs.mkdir(parents=True)
    recipes: dict[str | None, Recipe] = {None: Recipe()}
    listing = []
    for name, parent, values, camera_name, note in STEPS[shot.name]:
        recipe = recipes[name] = with_values(recipes[parent], values)
        camera, frame = scene.camera(camera_name), Frame()
        tiles: dict = {}
        begun = time.monotonic()
        render_tiles(arrays, camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1)
        seconds = time.monotonic() - begun
        film = assemble(frame, tiles)
        picture = make_picture(film, frame, recipe, shot.name, camera.name)
        noise, light, dropped = measurements(picture, film)
        for left_out in LEFT_OUT:
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
            }
        )
        print(f"{shot.name} {name}: {seconds:.1f} s")
    (shot.proofs / "proofs.json").write_text(json.dumps(listing, indent=1) + "\n")


if __name__ == "__main__":
    warm_up()
    for shot in SHOTS:
        if not sys.argv[1:] or shot.name in sys.argv[1:]:
            prove(shot)
