"""Carries what was measured on this machine to many helpers: a simulation of how tiles are handed out, run by `python -m bench.scale`.

It follows `sivrel.cluster.call`: the desk is one server, which hands out tasks and takes what they bring, and all bytes go through its link; a task
holds as many tiles as take half a second, fewer near the end. docs/scale.md has the figures, and what follows from them.
"""

import heapq
from dataclasses import dataclass, replace

import numpy as np

TASK_SECONDS, MOST_PARTS, AHEAD = 0.5, 64, 1
SPREAD = 0.7
"""Standard deviation of the logarithm of what tiles take: between those of the kitchen (0.5) and the lamp room (0.9) at 1280x720."""


@dataclass(frozen=True)
class Costs:
    """desk: processor seconds there for one task (bench `cluster`); link: bytes a second; asked: seconds for a question and its answer."""

    desk: float = 0.0024
    link: float = 1.25e9
    asked: float = 0.005


@dataclass(frozen=True)
class Shot:
    """tiles of a frame; seconds: of the processor for one, in the mean; scene: bytes of what must be sent once; film: bytes of a finished tile."""

    tiles: int
    seconds: float
    scene: float
    film: float = 32 * 32 * 98 * 4.0


@dataclass(frozen=True)
class Outcome:
    """seconds: until all is done; first: until half of the helpers have the scene; efficiency: work over threads times seconds; desk, link: share of
    the time in which they are busy."""

    seconds: float
    first: float
    efficiency: float
    desk: float
    link: float


def simulate(shot: Shot, helpers: int, threads: int, costs: Costs, passed_on: bool = False, sent_before: bool = False, seed: int = 1) -> Outcome:
    """One frame on so many helpers of so many threads each. passed_on: helpers pass the scene on to one another, so that those that have it double in
    each round; sent_before: they have it already."""
    rng = np.random.default_rng(seed)
    took = rng.lognormal(-(SPREAD**2) / 2.0, SPREAD, shot.tiles) * shot.seconds
    each = 0.0 if sent_before else shot.scene / costs.link
    rounds = np.floor(np.log2(np.arange(helpers) + 1.0)) + 1.0 if passed_on else np.arange(1, helpers + 1)
    ready = costs.asked + rounds * each
    # Events: a helper has a place for a task (its threads, and one ahead), or a task has come back.
    events = [(float(ready[k]), 0, k, 0) for k in range(helpers) for _ in range(threads + AHEAD)]
    heapq.heapify(events)
    running = [[0.0] * threads for _ in range(helpers)]
    desk = link = 0.0
    desk_busy = link_busy = end = 0.0
    given = back = 0
    link_busy += each * (1.0 if passed_on else helpers)
    while back < shot.tiles and events:
        now, kind, k, count = heapq.heappop(events)
        if kind == 1:  # a film comes back: through the link, then to the desk
            link = max(link, now) + count * shot.film / costs.link
            link_busy += count * shot.film / costs.link
            desk = max(desk, link) + costs.desk / 2.0
            desk_busy += costs.desk / 2.0
            end, back = max(end, desk), back + count
            heapq.heappush(events, (desk, 0, k, 0))
            continue
        if given >= shot.tiles:
            continue
        count = max(1, min(int(TASK_SECONDS / shot.seconds), MOST_PARTS, (shot.tiles - given) // (2 * helpers * threads)))
        count = min(count, shot.tiles - given)
        desk = max(desk, now) + costs.desk / 2.0
        desk_busy += costs.desk / 2.0
        place = int(np.argmin(running[k]))
        begun = max(running[k][place], desk + costs.asked / 2.0)
        running[k][place] = begun + float(took[given : given + count].sum())
        given += count
        heapq.heappush(events, (running[k][place] + costs.asked / 2.0, 1, k, count))
    work = float(took.sum())
    return Outcome(end, float(np.median(ready)), work / (helpers * threads * end), desk_busy / end, link_busy / end)


FRAME_4K = Shot(tiles=8160, seconds=4.0, scene=10e9)
"""3840x2160, 64 samples a pixel of a shot like the kitchen; 10 GB of geometry, textures and caches."""


def scale() -> str:
    """Tables for 16, 256 and 4096 helpers of 16 threads each."""
    lines = []
    cases = {
        "as it is": {},
        "scene passed on by helpers": {"passed_on": True},
        "the second frame": {"sent_before": True},
    }
    for title, how in cases.items():
        lines.append(f"{title}: helpers, seconds, of which the scene, efficiency, desk busy, link busy")
        for helpers in (16, 256, 4096):
            found = simulate(FRAME_4K, helpers, 16, Costs(), **how)
            waits = 0.0 if "sent_before" in how else found.first
            lines.append(
                f"  {helpers:5d} {found.seconds:8.0f} {waits:8.0f} {found.efficiency:7.1%} {min(1.0, found.desk):6.0%} {min(1.0, found.link):6.0%}"
            )
    small = replace(FRAME_4K, tiles=4 * FRAME_4K.tiles, seconds=FRAME_4K.seconds / 4.0, film=FRAME_4K.film / 4.0)
    lines.append("the second frame, tiles of 16x16")
    for helpers in (256, 4096):
        found = simulate(small, helpers, 16, Costs(), sent_before=True)
        lines.append(f"  {helpers:5d} {found.seconds:8.0f} {'':8} {found.efficiency:7.1%} {min(1.0, found.desk):6.0%} {min(1.0, found.link):6.0%}")
    return "\n".join(lines)


if __name__ == "__main__":
    print(scale())
