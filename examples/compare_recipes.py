"""Render a shot by two recipes and write what differs: `python compare_recipes.py demo:slipway OUT_FOLDER`."""

import json
import sys
from pathlib import Path

import sivrel

shot, out = sivrel.open(sys.argv[1]), Path(sys.argv[2])
size = (480, 270) if len(sys.argv) < 4 else tuple(int(n) for n in sys.argv[3].split("x"))
brute = shot.render({"sampling.max": 16}, size=size)
cached = shot.render({"gi.seen": "irradiance_cache", "sampling.max": 16}, size=size)
brute.save(out / "brute.exr")
cached.save(out / "cached.exr")
comparison = sivrel.compare(brute, cached)
(out / "comparison.json").write_text(json.dumps(comparison.as_dict(), indent=1))
print(comparison.sentence)
