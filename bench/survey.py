"""The survey against rooms with planted faults and their clean twins: what is found, and what is found that is not there."""

import time

from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.warmup import warm_up
from sivrel.core.survey.survey import survey as look_over
from tests.rooms import FAULTS, Room, room, shaped_light_is_no_fault

FIRST, SEEDS = 1000, 8
FOLLOWS = {
    "sheet": {"gap"}, "one object": {"mixed faces"}, "scale": {"idle lights", "exposure", "far from origin", "no light", "too dense"},
    "camera inside": {"light behind", "dome blocked", "idle light", "light inside", "light turned away", "no light", "interpenetrating"},
    "dome blocked": {"light behind"}, "idle lights": {"many lights"}, "light inside": {"exposure"},
}  # fmt: skip
"""What may be said beside a planted fault because of it: a scene out of scale is too dim, a shutter stops the sun too."""


def findings(made: Room) -> list:
    ready = prepare(made.scene, with_values(Recipe(), {"gi.seen": "off"}))
    return look_over(ready, with_values(Recipe(), made.values)).findings


def survey(first: int = FIRST, seeds: int = SEEDS) -> str:
    """For each planted fault: rooms in which it was found, and other findings; for clean twins, all findings."""
    warm_up()
    begun, result, clean, rooms = time.perf_counter(), [], [], 0
    for seed in range(first, first + seeds):
        twin = room(seed)
        if seed % 2:
            shaped_light_is_no_fault(twin)
        for values in ({}, {"gi.seen": "baked"}):
            twin.values = values
            clean += [(seed, f.kind, f.title) for f in findings(twin)]
            rooms += 1
    result.append(f"clean twins: {len(clean)} findings in {rooms} surveys {clean[:12]}")
    caught = planted = 0
    for plant in FAULTS:
        found, others = 0, []
        for seed in range(first, first + seeds):
            made = room(seed)
            kind, name = plant(made)
            said = findings(made)
            rooms += 1
            hit = [f for f in said if f.kind == kind and (name is None or name in f.objects)]
            found += bool(hit)
            others += [(seed, f.kind, f.title) for f in said if f.kind != kind and f.kind not in FOLLOWS.get(kind, set())]
        caught, planted = caught + found, planted + seeds
        result.append(f"{plant.__name__}: found in {found} of {seeds}" + (f", besides {others[:4]}" if others else ""))
    result.append(f"all: {caught} of {planted}; {(time.perf_counter() - begun) / rooms:.1f} s a room")
    return "\n  ".join(result)
