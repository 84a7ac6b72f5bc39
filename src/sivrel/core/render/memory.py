"""The working memory of one thread: the results of a sample, for both replicates if it is paired, and the sums of the pixels.

A paired sample is traced twice from its first surface on, with independent random numbers. The results of each replicate are in their
own row. Row 0 is the sample itself.
"""

import threading
from typing import NamedTuple

import numpy as np

from ..gi.photon_map import MOST_GATHERED
from ..gi.tree import DEEPEST
from ..kernel import called_kernel, kernel
from ..lights.direct import TALLY_COLUMNS
from ..surfaces.surface_at import is_finite
from ..trace.traverse import Stack, make_stack
from ..vector import add, luminance
from . import film as of_film
from .film import FILM_COLUMNS, PASS_COLUMNS, TILE, WITHIN_LIGHT, clock_entries, film_columns
from .forks import empty_forks

REPLICATES = 2
# Columns of a replicate's results. Light is linear RGB radiance.
# MET: emission hit by the camera ray; DIRECT: direct light at the first surface; BY_BASE, BY_GLOSS, BY_GLASS: the rest, by what
# scattered it first; FOUND: that of the current turn; BEYOND: luminance of the current turn beyond a limit.
MET, DIRECT, BY_BASE, BY_GLOSS, BY_GLASS, FOUND, BEYOND = 0, 3, 6, 9, 12, 15, 18
# CLAMPED: luminance removed by the clamp; LEFT: luminance beyond the limits of diffuse bounces, reflections, glass and all; GLOSS_TRACED,
# GLOSS_LOOKED_UP: light by wide gloss that was looked up, as traced by a few paths, and as looked up; ENDED_IN_GLASS: share of
# the turns ended by the glass limit; SELF_HITS: rays that hit the triangle they left; ASKED, SERVED: lookups of a cache,
# and those it answered; BRIGHTEST, BRIGHTEST_KIND: luminance of the brightest single contribution, and its kind of path (see `path_state.AIMED`).
CLAMPED, LEFT, GLOSS_TRACED, ENDED_IN_GLASS, SELF_HITS, ASKED, SERVED, BRIGHTEST, BRIGHTEST_KIND = 19, 20, 24, 25, 26, 27, 28, 29, 30
GLOSS_LOOKED_UP = 38
# Albedo and normal of the first surface that is neither glass nor a mirror, and the share of the turns that met one.
GUIDE_ALBEDO, GUIDE_NORMAL, GUIDE_SHARE = 31, 34, 37
FOUND_COLUMNS = 39


class Memory(NamedTuple):
    """stack: of the traversals; near: photons that are gathered; found [2, FOUND_COLUMNS], tally [2, slots, TALLY_COLUMNS] (light by light pass) and
    parts [2, 3, 3] (light by what scattered it first) of the replicates of a sample; clock [2, clock_entries(slots)]: cycles spent in either
    replicate, by light pass and then as CLOCK_... say; of each pixel of a tile its sums, how many samples it takes next, and its noise; forks:
    paths that wait at forks (`forks.put_start`); shine [3]: the gloss that the last lookup of caustics found (`caustics.caustics_at`)."""

    stack: Stack
    near: np.ndarray
    found: np.ndarray
    tally: np.ndarray
    parts: np.ndarray
    clock: np.ndarray
    pixels: np.ndarray
    more: np.ndarray
    noise: np.ndarray
    forks: np.ndarray
    shine: np.ndarray


def make_memory(slots: int) -> Memory:
    """Memory for scenes with `slots` light passes."""
    count = TILE * TILE
    return Memory(
        stack=make_stack(),
        near=np.zeros((MOST_GATHERED + 2 * DEEPEST, 4)),
        found=np.zeros((REPLICATES, FOUND_COLUMNS)),
        tally=np.zeros((REPLICATES, slots, TALLY_COLUMNS)),
        parts=np.zeros((REPLICATES, 3, 3)),
        clock=np.zeros((REPLICATES, clock_entries(slots))),
        pixels=np.zeros((count, film_columns(slots))),
        more=np.zeros(count, np.int64),
        noise=np.zeros(count),
        forks=empty_forks(),
        shine=np.zeros(3),
    )


class MemoryOfThread(threading.local):
    """Memory of the thread that asks for it."""

    def __init__(self, slots: int) -> None:
        self.memory = make_memory(slots)


@kernel
def clear_sample(memory):
    """Clear the results for the next sample."""
    for replicate in range(REPLICATES):
        for c in range(FOUND_COLUMNS):
            memory.found[replicate, c] = 0.0
        for slot in range(memory.tally.shape[1]):
            for c in range(TALLY_COLUMNS):
                memory.tally[replicate, slot, c] = 0.0
        for part in range(3):
            for c in range(3):
                memory.parts[replicate, part, c] = 0.0


@kernel
def share_tally(memory):
    """Copy the emission hit by the camera ray to the second replicate."""
    for slot in range(memory.tally.shape[1]):
        for c in range(TALLY_COLUMNS):
            memory.tally[1, slot, c] = memory.tally[0, slot, c]


@kernel
def add_to(row, place, light):
    """Add a colour to three columns of a replicate's results."""
    row[place] += light[0]
    row[place + 1] += light[1]
    row[place + 2] += light[2]


@kernel
def colour_in(row, place):
    return row[place], row[place + 1], row[place + 2]


@kernel
def put_colour(row, place, colour):
    row[place], row[place + 1], row[place + 2] = colour[0], colour[1], colour[2]


class Seen(NamedTuple):
    """The first hit of a sample. hit: 1, or 0 where there was none; albedo, normal, position; depth in metres; the triangle, -1 for none,
    with the weights of its second and third corner; occlusion: share of the occlusion rays that hit nothing near."""

    hit: float
    albedo: tuple
    normal: tuple
    position: tuple
    depth: float
    triangle: int
    b1: float
    b2: float
    occlusion: float


@kernel
def _bounced(row):
    """Luminance of the indirect light of a replicate, by what scattered it first: base, gloss, glass."""
    return luminance(colour_in(row, BY_BASE)), luminance(colour_in(row, BY_GLOSS)), luminance(colour_in(row, BY_GLASS))


@kernel
def keep_sample(memory, seen, paired, sums):
    """Add a sample's results and first hit to the sums of its pixel, which have the columns of the film. A sample
    that is not finite or is negative is left out and counted in column DROPPED."""
    row = memory.found[0]
    by_base, by_gloss, by_glass = colour_in(row, BY_BASE), colour_in(row, BY_GLOSS), colour_in(row, BY_GLASS)
    for c in range(3):
        memory.parts[0, 0, c] += by_base[c]
        memory.parts[0, 1, c] += by_gloss[c]
        memory.parts[0, 2, c] += by_glass[c]
    direct = add(colour_in(row, MET), colour_in(row, DIRECT))
    indirect = add(add(by_base, by_gloss), by_glass)
    first, odd = sums[of_film.SAMPLES] == 0.0, int(sums[of_film.SAMPLES]) % 2 == 1
    sums[of_film.SAMPLES] += 1.0
    beauty = add(direct, indirect)
    if not is_finite(beauty) or min(beauty[0], beauty[1], beauty[2]) < 0.0:
        sums[of_film.DROPPED] += 1.0
        return
    for c in range(3):
        sums[of_film.DIRECT + c] += direct[c]
        sums[of_film.INDIRECT + c] += indirect[c]
        sums[of_film.VARIANCE + c] += beauty[c] * beauty[c]
    if odd:
        for c in range(3):
            sums[of_film.HALF + c] += beauty[c]
        sums[of_film.HALF_COUNT] += 1.0
    for limit in range(4):
        sums[of_film.LEFT + limit] += row[LEFT + limit]
    sums[of_film.GLOSS_TRACED] += row[GLOSS_TRACED]
    sums[of_film.GLOSS_LOOKED_UP] += row[GLOSS_LOOKED_UP]
    sums[of_film.TOTAL_VARIANCE] += luminance(beauty) ** 2
    sums[of_film.ASKED] += row[ASKED]
    sums[of_film.SERVED] += row[SERVED]
    sums[of_film.CLAMPED] += row[CLAMPED]
    sums[of_film.SELF_HITS] += row[SELF_HITS]
    sums[of_film.ENDED_IN_GLASS] += row[ENDED_IN_GLASS]
    if row[BRIGHTEST] > sums[of_film.BRIGHTEST]:
        sums[of_film.BRIGHTEST], sums[of_film.BRIGHTEST_KIND] = row[BRIGHTEST], row[BRIGHTEST_KIND]
    if first:
        sums[of_film.TRIANGLE], sums[of_film.WEIGHTS], sums[of_film.WEIGHTS + 1] = of_film.film_number(np.int64(seen.triangle)), seen.b1, seen.b2
    bounced = _bounced(row)
    for part in range(3):
        sums[of_film.BOUNCED + part] += bounced[part]
        for c in range(3):
            sums[of_film.PARTS + 3 * part + c] += memory.parts[0, part, c]
    for slot in range(memory.tally.shape[1]):
        at = FILM_COLUMNS + slot * PASS_COLUMNS
        for c in range(TALLY_COLUMNS):
            sums[at + c] += memory.tally[0, slot, c]
    if paired:
        _keep_pair(memory, sums)
    if seen.hit > 0.0:
        sums[of_film.ALPHA] += 1.0
        for c in range(3):
            sums[of_film.ALBEDO + c] += seen.albedo[c]
            sums[of_film.NORMAL + c] += seen.normal[c]
            sums[of_film.GUIDE_ALBEDO + c] += row[GUIDE_ALBEDO + c]
            sums[of_film.GUIDE_NORMAL + c] += row[GUIDE_NORMAL + c]
        sums[of_film.GUIDE_SHARE] += row[GUIDE_SHARE]
        sums[of_film.DEPTH] += seen.depth
        sums[of_film.OCCLUSION] += seen.occlusion


@called_kernel
def _keep_pair(memory, sums):
    """Add half the squared differences of a paired sample: the variance with the camera ray held fixed."""
    one, other = memory.found[0], memory.found[1]
    bounced, bounced_again = _bounced(one), _bounced(other)
    total = luminance(colour_in(one, DIRECT)) + bounced[0] + bounced[1] + bounced[2]
    total_again = luminance(colour_in(other, DIRECT)) + bounced_again[0] + bounced_again[1] + bounced_again[2]
    direct = add(colour_in(one, MET), colour_in(one, DIRECT))
    indirect = add(add(colour_in(one, BY_BASE), colour_in(one, BY_GLOSS)), colour_in(one, BY_GLASS))
    sums[of_film.WITHIN] += 0.5 * (total - total_again) ** 2
    met = luminance(direct) + luminance(indirect) - total
    sums[of_film.BETWEEN] += (total + met) * (total_again + met)
    sums[of_film.PAIR_SUMS] += total + total_again + 2.0 * met
    sums[of_film.PAIRS] += 1.0
    for part in range(3):
        sums[of_film.WITHIN_BOUNCED + part] += 0.5 * (bounced[part] - bounced_again[part]) ** 2
    for slot in range(memory.tally.shape[1]):
        change = 0.0
        for c, weight in enumerate((0.2126, 0.7152, 0.0722)):
            change += weight * (memory.tally[0, slot, c] - memory.tally[1, slot, c])
        sums[FILM_COLUMNS + slot * PASS_COLUMNS + WITHIN_LIGHT] += 0.5 * change * change
