"""How many samples are enough in a part of the frame, as CSV: `python enough_samples.py demo:slipway OUT.csv [WxH]`."""

import csv
import sys

import sivrel

shot = sivrel.open(sys.argv[1])
size = (480, 270) if len(sys.argv) < 4 else tuple(int(n) for n in sys.argv[3].split("x"))
region = (size[0] // 4, size[1] // 4, 3 * size[0] // 4, 3 * size[1] // 4)
ladder = shot.ladder({"sampling.max": [2, 4, 8, 16]}, size=size, region=region, seconds=30.0)
with open(sys.argv[2], "w", newline="") as file:
    rows = csv.writer(file)
    rows.writerow(["samples", "seconds", "noise", "bias", "enough"])
    for rung in ladder.rungs:
        rows.writerow([rung.values["sampling.max"], rung.frame_seconds, rung.error.noise, rung.error.bias, rung.enough])
print(ladder.says)
