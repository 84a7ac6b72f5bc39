"""Render a camera that moves, frame by frame, with one folder of caches: `python camera_move.py demo:slipway OUT_FOLDER FRAMES [WxH]`."""

import sys
from pathlib import Path

import sivrel

out, frames = Path(sys.argv[2]), int(sys.argv[3])
size = (480, 270) if len(sys.argv) < 5 else tuple(int(n) for n in sys.argv[4].split("x"))
shot = sivrel.open(sys.argv[1], caches=out / "caches")
recipe = sivrel.recipe("animation", {"sampling.max": 8})
for frame in range(frames):
    x = 3.0 + 0.1 * frame
    edits = {"camera.move.at": f"{x},1.6,6", "camera.move.towards": "0,1,0"}
    picture = shot.render(recipe, edits=edits, camera="move", size=size, seed=frame)
    picture.save(out / f"move.{frame:04}.exr")
    print(f"frame {frame}: prepared in {picture.prepare_seconds:.1f} s, rendered in {picture.seconds:.1f} s")
