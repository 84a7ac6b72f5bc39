"""Render each light of a shot alone, for a look at their balance: `python lights_apart.py demo:keepers-kitchen OUT_FOLDER [WxH]`."""

import sys
from pathlib import Path

import sivrel

shot, out = sivrel.open(sys.argv[1]), Path(sys.argv[2])
size = (480, 270) if len(sys.argv) < 4 else tuple(int(n) for n in sys.argv[3].split("x"))
for light in shot.scene.lights:
    picture = shot.render({"gi.seen": "off", "sampling.max": 8}, edits={f"light.{light.name}.solo": True}, size=size)
    picture.save(out / f"{light.name}.exr")
    print(f"{light.name}: mean luminance {picture.mean_light:.4f}, {picture.seconds:.1f} s")
