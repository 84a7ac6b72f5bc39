"""How soon a frame of 1280x720 is clean once it is filtered, as the own diagnosis and a long render judge it."""

import time

import sivrel
from sivrel.core.render.filter import filter_noise
from sivrel.core.render.warmup import warm_up

from .clean import against

SIZE, MIDDLE = (1280, 720), (400, 225, 880, 495)
LONG = 256
"""Samples of the reference, which is rendered of the middle only, filtered too."""
CONNECTED = {"bidirectional.on": "yes"}
THROUGH_GLASS = {"caustics.on": "yes", "caustics.count": 30_000, "limits.refractions": 16, "limits.reflections": 8}
FINALS = {"keepers-kitchen": (36, CONNECTED), "slipway": (48, {}), "lamp-room": (24, CONNECTED | THROUGH_GLASS)}
"""Samples and recipe of each shot."""


def judged() -> str:
    """For each shot: seconds by the clock to render and to filter, the difference from the long render, and findings of the filtered picture."""
    warm_up()
    result = []
    for name, (samples, values) in FINALS.items():
        shot = sivrel.open(f"demo:{name}")
        begun = time.perf_counter()
        made = shot.render({"sampling.max": samples, **values}, size=SIZE)
        rendered = time.perf_counter()
        image = filter_noise(made.picture.passes).image
        ended = time.perf_counter()
        x0, y0, x1, y1 = MIDDLE
        long = shot.render({"sampling.max": LONG, **values}, size=SIZE, region=MIDDLE, seed=9)
        off = against(image[y0:y1, x0:x1], filter_noise(long.picture.passes).image, made.ready.camera.exposure)
        found = shot.diagnose(made, filtered=True).findings
        result.append(
            f"{name}: {samples} samples in {rendered - begun:.0f} s, filtered in {ended - rendered:.1f} s: {off}; found: "
            + ("; ".join(f"{one.kind} ({one.share:.1%}, {one.seen:.0f} times just seen)" for one in found) or "nothing")
        )
    return "\n  ".join(result)
