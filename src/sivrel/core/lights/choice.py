"""Which light to aim at, by what has been learned of a region: the light that each brings there, shadows included.

Importance alone (tree.py) knows nothing of walls, so that a sun outside takes half of the rays of a closed room. Vévoda, Kondapaneni & Křivánek 2018,
"Bayesian Online Regression for Adaptive Direct Illumination Sampling": clusters of lights, chosen by the root of their mean square contribution
(section 4.1), with what they would bring without shadows as the prior. Below a cluster, the tree chooses.
"""

import numpy as np

from ..guide.regions import NOWHERE
from ..kernel import called_kernel, kernel
from ..scene.arrays import GUIDE, LEFT, NODE_POWER, RIGHT
from ..scene.arrays import LEAF as LEAF_LIGHT
from ..shadows.ways import share_from
from ..trace.sampler import hash32, sample_1d, sample_2d
from ..vector import add, dot, luminance, multiply, scale
from .emitters import DELTA, sample_light
from .tree import chance_below, choice_chance, choose_light, chosen_below

MOST_CHOICES = 48
EVEN = 0.06
"""Share of the rays that is spread evenly, whatever was learned: a light that was never seen may still be found."""
PRIOR = 0.1
"""Samples' worth of the light without the region's own shadows in each estimate."""
CHOOSE, AIM = 0, 1
UNSHADOWED, SQUARED, MEAN, LEARNED_COLUMNS = 0, 1, 2, 3


def choices_of(tree: np.ndarray, leaf_of: np.ndarray, distant: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(choices, choice_of) as in Guide: every sun and sky, and a cut through the tree where the strongest nodes are opened first."""
    cut = [0] if len(tree) else []
    while cut and len(cut) < MOST_CHOICES:
        open_ones = [node for node in cut if tree[node, LEAF_LIGHT] < 0.0]
        if not open_ones:
            break
        node = max(open_ones, key=lambda one: (tree[one, NODE_POWER], -one))
        cut.remove(node)
        cut += [int(tree[node, LEFT]), int(tree[node, RIGHT])]
    choice_of = np.full(len(leaf_of), -1, np.int64)
    for k, light in enumerate(distant):
        choice_of[light] = k
    for k, node in enumerate(cut):
        waiting = [node]
        while waiting:
            one = waiting.pop()
            if tree[one, LEAF_LIGHT] >= 0.0:
                choice_of[int(tree[one, LEAF_LIGHT])] = len(distant) + k
            else:
                waiting += [int(tree[one, LEFT]), int(tree[one, RIGHT])]
    return np.array([*distant, *(-1 - node for node in cut)], np.int64), choice_of


@kernel
def _light_of_choice(scene, choice, p, n, u):
    """(light, probability) of a choice once it is made."""
    if choice >= 0:
        return choice, 1.0
    return chosen_below(scene.tree, -1 - choice, 1.0, p, n, u)


@called_kernel
def light_chosen(scene, region, p, n, u):
    """A light chosen for a point `p` with normal `n` in a region: (number, probability), 0 where none can arrive. `u` is used up."""
    guide = scene.prepared[GUIDE]
    count = len(guide.choices)
    if region == NOWHERE or count == 0:
        return choose_light(scene, p, n, u)
    chances = guide.chances
    low, high = 0, count - 1
    while low < high:
        middle = (low + high) // 2
        if u < chances[region, middle]:
            high = middle
        else:
            low = middle + 1
    before = float(chances[region, low - 1]) if low > 0 else 0.0
    chance = float(chances[region, low]) - before
    light, below = _light_of_choice(scene, guide.choices[low], p, n, min(max((u - before) / chance, 0.0), 1.0 - 1e-9))
    return light, chance * below


@called_kernel
def chance_of_light(scene, region, i, p, n):
    """Probability with which `light_chosen` chooses light `i`."""
    guide = scene.prepared[GUIDE]
    if region == NOWHERE or len(guide.choices) == 0:
        return choice_chance(scene, i, p, n)
    k = guide.choice_of[i]
    chance = float(guide.chances[region, k]) - (float(guide.chances[region, k - 1]) if k > 0 else 0.0)
    choice = guide.choices[k]
    return chance if choice >= 0 else chance_below(scene.tree, -1 - choice, scene.leaf_of[i], chance, p, n)


@called_kernel
def irradiance_by(scene, stack, choice, p, n, offset, key, sample, dimension):
    """One estimate of the irradiance (luminance) at `p` with normal `n` by a choice of lights: without shadows, and with them.
    Takes two dimensions of the random numbers."""
    light, chance = _light_of_choice(scene, choice, p, n, sample_1d(key, sample, dimension + CHOOSE))
    if chance <= 0.0:
        return 0.0, 0.0
    u, v = sample_2d(key, sample, dimension + AIM)
    d, distance, radiance, density, triangle = sample_light(scene, light, p, n, u, v)
    cos = dot(d, n)
    if density == 0.0 or cos <= 0.0:
        return 0.0, 0.0
    arriving = cos / (chance if density == DELTA else chance * density)
    unshadowed = luminance(radiance) * arriving
    if unshadowed <= 0.0:
        return 0.0, 0.0
    share = share_from(scene, stack, light, p, add(p, scale(n, offset)), d, distance, triangle)
    return unshadowed, luminance(multiply(radiance, share)) * arriving


@called_kernel
def learn_lights(scene, stack, positions, normals, starts, choices, offset, each, seed, first, last, learned):
    """Add what every choice brings to the regions `first` to `last` (exclusive), as seen from at most `each` of their points [n, 3].

    learned float64 [regions, choices, LEARNED_COLUMNS]: means of the squared irradiance without and with shadows, and of the irradiance (luminance).
    """
    for region in range(first, last):
        begun, count = starts[region], starts[region + 1] - starts[region]
        taken = min(each, count)
        for k in range(taken):
            at = begun + k * count // taken
            p, n = (positions[at, 0], positions[at, 1], positions[at, 2]), (normals[at, 0], normals[at, 1], normals[at, 2])
            key = hash32(np.uint32(region) ^ hash32(np.uint32(seed)))
            for c in range(len(choices)):
                unshadowed, here = irradiance_by(scene, stack, choices[c], p, n, offset, key, k, 2 * c)
                learned[region, c, UNSHADOWED] += unshadowed * unshadowed / taken
                learned[region, c, SQUARED] += here * here / taken
                learned[region, c, MEAN] += here / taken


def chances_of(learned: np.ndarray, taken: np.ndarray) -> np.ndarray:
    """float32 [regions, choices]: cumulated probabilities, from what `learn_lights` found with `taken` [regions] points in each."""
    taken = np.maximum(taken, 1)[:, None]
    # A region of few points may have missed a lit spot: each light is also taken to be shadowed there as it is elsewhere.
    elsewhere = learned[..., SQUARED].sum(axis=0) / np.maximum(learned[..., UNSHADOWED].sum(axis=0), 1e-30)
    squared = (learned[..., SQUARED] * taken + PRIOR * elsewhere * learned[..., UNSHADOWED]) / (taken + PRIOR)
    weights = np.sqrt(squared)
    whole = weights.sum(axis=1, keepdims=True)
    count = max(1, learned.shape[1])
    chances = np.where(whole > 0.0, (1.0 - EVEN) * weights / np.where(whole > 0.0, whole, 1.0) + EVEN / count, 1.0 / count)
    cumulated = np.cumsum(chances, axis=1)
    return (cumulated / cumulated[:, -1:]).astype(np.float32) if learned.shape[1] else np.zeros((len(learned), 0), np.float32)
