"""A paired render: the picture's recipe rendered again on the coarse cells, with brute force's random numbers, round by round.

Light that both find in the same way, above all direct light, cancels in their difference together with its noise, so a bias is
found with far fewer samples (common random numbers: Glasserman & Yao 1992, "Some Guidelines and Guarantees for Common Random Numbers").
"""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from ..render.prepare import Prepared
from ..render.recipe import Recipe, with_values
from ..task import Task
from ..work_time import work_time
from .truth import OF_CHANCE, Coarse, round_of, whole

UNDER_A_CLAMP = {"sampling.gi_rays", "sampling.glossy_rays"}
"""Settings that stay the recipe's own under a clamp, whose effect depends on the number of rays. All others that only change noise are brute
force's, so that random numbers are used in the same order."""


@dataclass(frozen=True)
class Apart:
    """Deviation of the recipe's light from brute force, [rows, columns]: value and its variance; halves, with independent noise."""

    value: np.ndarray
    variance: np.ndarray
    halves: tuple[np.ndarray, np.ndarray]


class PairedRender:
    """planes: luminances [rows, columns] of the recipe, by the number of brute force's round that each follows."""

    def __init__(self) -> None:
        self.planes: dict[int, np.ndarray] = {}

    def follow(self, truth: Coarse, ready: Prepared, recipe: Recipe, seconds: float, task: Task) -> None:
        """Render the rounds of brute force that have no pair yet, last ones first, for some seconds, at least two in total. Raises
        Cancelled."""
        own = UNDER_A_CLAMP if recipe.limits.indirect_clamp > 0.0 else set()
        begun, same = work_time(), with_values(recipe, {key: value for key, value in OF_CHANCE.items() if key not in own})
        for number in reversed(range(len(truth.planes))):
            if number in self.planes:
                continue
            if work_time() - begun > seconds and len({k % 2 for k in self.planes}) == 2:
                break
            patch = round_of(truth, ready, same, number, truth.sizes[number], task)
            self.planes[number] = whole(truth.grid, patch.light)

    def apart(self, truth: Coarse) -> Apart:
        """The mean difference over paired rounds, weighted by samples, and its variance from their spread, smoothed with the neighbours'."""
        numbers = sorted(self.planes)
        sizes = np.array([truth.sizes[k] for k in numbers], float)
        each = np.array([self.planes[k].astype(float) - truth.planes[k] for k in numbers])
        value = np.tensordot(sizes / sizes.sum(), each, 1)
        of_half = [np.array([k % 2 == half for k in numbers]) for half in (0, 1)]
        one, other = (np.tensordot(sizes[of] / sizes[of].sum(), each[of], 1) for of in of_half)
        own = np.tensordot(sizes, (each - value) ** 2, 1) / max(1, len(numbers) - 1) / sizes.sum()
        return Apart(value, np.maximum(ndimage.uniform_filter(own, 3, mode="nearest"), 0.5 * own), (one, other))
