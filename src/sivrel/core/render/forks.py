"""Forks: points at which a path goes on both ways, each with its share of the light, instead of one way drawn at random.

Splitting (Arvo & Kirk 1990, "Particle Transport and Image Synthesis", section 4), where the camera sees a pane, the boundary of glass, or gloss
over a base: a bright thing in a faint reflection would otherwise be met by a few samples only. A fork whose lesser share, of all that
the sample sees, is too small draws its way at random as ever.

The other way is kept as the state of the path before the fork's surface was met, and followed when the path has ended.
"""

from typing import NamedTuple

import numpy as np

from ..kernel import kernel
from ..lights.direct import Arrival
from ..trace.sampler import hash32
from .path_state import Carried, Ray, Sent, State

EITHER, LOWER, UPPER, REFLECTED = 0, 1, 2, 3
"""Ways at a fork: as drawn; by the lower part of the numbers that choose a lobe (reflection by glass, gloss over a base), or by the upper part; by
the pane that is met first."""
MOST_PANES, MOST_FORKS = 4, 12
"""Panes before the first surface, and other forks, of which the other way can wait at once."""
START_COLUMNS = 62


class Start(NamedTuple):
    """Where a path starts: at the camera, or at a fork, before it meets the surface of that. vertex: number of the surface, way: the one to
    take there; key, onward: of the random numbers before and after; expected: see `path.expected_light`; noted: whether the guides of the
    noise filter are known; served, connected: see `path_light.look_up`."""

    ray: Ray
    carried: Carried
    state: State
    sent: Sent
    arrival: Arrival
    vertex: int
    way: int
    key: int
    onward: int
    expected: float
    noted: bool
    served: int
    connected: bool


def empty_forks() -> np.ndarray:
    """Memory for the ways that wait in one sample: first those of panes before the first surface."""
    return np.zeros((MOST_PANES + MOST_FORKS, START_COLUMNS))


@kernel
def key_after(key, number):
    """Key of the random numbers after fork `number`."""
    return hash32(np.uint32(key) ^ hash32(np.uint32(0x9E3779B9) + np.uint32(number)))


@kernel
def put_start(row, head, vertex, way, key, onward, expected, noted, served, connected):
    """Keep a `Start` in a row of memory; `head`: its ray, carried, state, sent and arrival."""
    ray, carried, state, sent, arrival = head
    for c in range(3):
        row[c], row[3 + c], row[6 + c] = ray.origin[c], ray.direction[c], ray.absorption[c]
        row[9 + c], row[12 + c], row[15 + c] = carried.throughput[c], carried.pending[c], carried.plain[c]
        row[59 + c] = carried.met[c]
        row[18 + c], row[21 + c], row[24 + c], row[27 + c] = sent.gloss[c], arrival.position[c], arrival.normal[c], arrival.gloss[c]
    row[30], row[31], row[32], row[33], row[34] = ray.start, ray.layer, ray.lifted, ray.width, ray.spread
    row[36], row[37], row[38], row[39] = state.seen, state.last, state.ended_by, state.further
    row[40], row[41], row[42] = state.diffuse_bounces, state.reflections, state.refractions
    row[43], row[44], row[45], row[46] = sent.lobe, sent.rays, sent.code, sent.share
    row[47], row[48], row[49], row[50], row[51] = arrival.object, arrival.density, arrival.seen, arrival.region, arrival.bound
    row[52], row[53], row[54], row[55], row[56] = vertex, way, key, onward, expected
    row[57], row[58], row[35] = noted, served, connected


@kernel
def start_in(row):
    """The `Start` that is kept in a row."""
    return Start(
        Ray((row[0], row[1], row[2]), (row[3], row[4], row[5]), row[30], int(row[31]), (row[6], row[7], row[8]), row[32], row[33], row[34]),
        Carried((row[9], row[10], row[11]), (row[12], row[13], row[14]), (row[15], row[16], row[17]), (row[59], row[60], row[61])),
        State(row[36] != 0.0, row[37] != 0.0, int(row[38]), row[39] != 0.0, int(row[40]), int(row[41]), int(row[42])),
        Sent(int(row[43]), (row[18], row[19], row[20]), row[44], int(row[45]), row[46]),
        Arrival(
            (row[21], row[22], row[23]), (row[24], row[25], row[26]), int(row[47]), row[48], (row[27], row[28], row[29]), row[49] != 0.0,
            int(row[50]), row[51],
        ),
        int(row[52]), int(row[53]), np.uint32(row[54]), np.uint32(row[55]), row[56], row[57] != 0.0, int(row[58]), row[35] != 0.0,
    )  # fmt: skip


@kernel
def start_at_pane(row, key, number):
    """The path that is reflected by a pane before the first surface, kept in a row, for the replicate with this key."""
    start = start_in(row)
    return Start(
        start.ray, start.carried, start.state, start.sent, start.arrival, 0, REFLECTED, start.key, key_after(key, number), 0.0, False, start.served,
        False,
    )  # fmt: skip
