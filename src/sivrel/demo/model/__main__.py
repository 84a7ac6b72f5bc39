"""Model the demo shots anew: `python -m sivrel.demo.model [NAME]...`."""

import sys
from pathlib import Path

from . import keepers_kitchen, lamp_room, slipway, stairwell

SHOTS = Path(__file__).parents[1] / "shots"
BUILDERS = {"keepers-kitchen": keepers_kitchen.build, "slipway": slipway.build, "lamp-room": lamp_room.build, "stairwell": stairwell.build}

for name in sys.argv[1:] or BUILDERS:
    BUILDERS[name](SHOTS / name / f"{name}.usdc")
    print(name)
