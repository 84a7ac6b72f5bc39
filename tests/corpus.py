"""Cases of other kinds for the diagnosis: rooms that are no boxes, starting recipes with one thing wrong, several flaws in one picture.

Each case is a function of a seed; GROUPS holds them by name, CASES of flaws.py and clean twins included.
"""

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from sivrel.core.render.starting import STARTING

from . import flaws, shapes
from .flaws import FLAWS, Planted
from .rooms import Room, exposed, room

Plant = Callable[[Room, float], Planted]
Case = Callable[[int], Planted]


def _severity(seed: int, name: str) -> float:
    return ((seed + len(name)) % 3) / 2.0


def _in_box(plant: Plant) -> Case:
    return lambda seed: plant(room(seed), _severity(seed, plant.__name__))


def _in_shape(shape: Callable[[Room], None], plant: Plant) -> Case:
    def case(seed: int) -> Planted:
        made = room(seed)
        if shape is not shapes.sloped:
            shape(made)
        planted = plant(made, _severity(seed, plant.__name__))
        if shape is shapes.sloped:
            shape(made)
        return planted

    return case


SHAPED: tuple[tuple[Callable[[Room], None], tuple[Plant, ...]], ...] = (
    (shapes.sloped, (flaws.leak_by_gap, flaws.leak_through_sheet, flaws.detached_by_bias, flaws.dark_by_radius, flaws.steps)),
    (shapes.curved, (flaws.speckle, flaws.striped_map, flaws.blotches_of_bake, flaws.blotches_of_spacing, flaws.grain_of_lamp)),
    (shapes.cluttered, (flaws.blotches_of_rays, flaws.leak_of_cells, flaws.dim_by_clamp, flaws.fireflies_of_glow, flaws.slow_by_rays)),
    (shapes.open_air, (flaws.steps, flaws.mushy_by_filter, flaws.detached_by_offset, flaws.two_suns, flaws.detached_by_bias)),
    (shapes.partitioned, (flaws.dark_by_radius, flaws.leak_of_cells, flaws.blotches_of_bake, flaws.blotches_of_photons, flaws.dim_without_bounces)),
)


def _recipe(starting: str, wrong: dict[str, Any], kinds: set[str], causes: set[str], change: Callable[[Room], Any] | None = None) -> Case:
    """A starting recipe with one thing wrong, in a room that may be changed first."""

    def case(seed: int) -> Planted:
        made = room(seed)
        if change is not None:
            change(made)
        return Planted(made, kinds, causes, {**STARTING[starting].values, **wrong})

    return case


def _crystal(made: Room) -> None:
    flaws.black_glass(made, 0.0)


def _shaded(made: Room) -> None:
    """A terrace without its lamp."""
    shapes.open_air(made)
    made.scene.lights[:] = [light for light in made.scene.lights if light.kind in ("sun", "dome")]
    exposed(made)


def _thin_wall(made: Room) -> None:
    flaws.leak_through_sheet(made, 0.0)


SPACING = {"cache error", "greatest spacing", "gradients", "least spacing", "record spacing", "smoothing"}
CONTACT = {"lost contact shadow", "leak"}
RECIPES: dict[str, Case] = {
    "mood draft, wide cells": _recipe(
        "mood-draft", {"radiance_cache.cell": 2.0, "sampling.max": 64, "gi.seen": "radiance_cache"},
        {"leak", "blotches", "dark corner", "lost contact shadow"}, {"cells", "fill paths"}),
    "mood draft, as it comes": _recipe("mood-draft", {}, {"grain"}, set()),
    "still interior, few rays": _recipe("cached-interior", {"irradiance_cache.rays": 16}, {"blotches"}, {"record rays"}),
    "still interior, records far apart": _recipe(
        "cached-interior", {"irradiance_cache.error": 2.0, "irradiance_cache.min_spacing": 40.0, "irradiance_cache.max_spacing": 400.0},
        {"blotches", "lost contact shadow", "leak", "dark corner"}, SPACING),
    "still interior, one bounce": _recipe("still-interior", {"limits.diffuse_bounces": 1}, {"dim", "dark corner"}, {"diffuse bounces"}),
    "exterior, map bias": _recipe("exterior", {"shadows.way": "depth_map", "shadows.bias": 60.0}, CONTACT, {"map bias large"}, _shaded),
    "exterior, coarse map": _recipe(
        "exterior", {"shadows.way": "depth_map", "shadows.resolution": 64, "shadows.filter": 0.0}, {"steps", *CONTACT},
        {"map resolution", "map fit", "depth map"}, _shaded),
    "exterior, lifted rays": _recipe("exterior", {"limits.ray_offset": 0.1}, CONTACT, {"ray offset"}, _shaded),
    "product with glass, shallow": _recipe("product-with-glass", {"limits.refractions": 1}, {"black glass"}, {"glass limit"}, _crystal),
    "moving shot, few samples": _recipe("animation", {"sampling.max": 6, "sampling.min": 4}, {"grain"}, set()),
    "moving shot, clamped": _recipe("animation", {"limits.indirect_clamp": 0.02}, {"dim", "dark corner"}, {"clamp"}),
    "cells at a thin wall": _recipe(
        "mood-draft", {"gi.seen": "radiance_cache", "sampling.max": 64}, {"leak"},
        {"sheet /Room/North", "sheet /Room/East", "cells", "fill paths"}, _thin_wall),
    "photons at a thin wall": _recipe(
        "cached-interior", {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.radius": 0.4, "photon_map.count": 200_000},
        {"leak"}, {"sheet /Room/North", "sheet /Room/East", "gather radius", "looked up at once"}, _thin_wall),
}  # fmt: skip
"""Starting recipes with one thing wrong. Where no cause is named it is grain, and its cause whatever source makes most of the noise."""


def _both(first: Plant, second: Plant) -> Case:
    """One picture with two flaws; the second one's settings win."""

    def case(seed: int) -> Planted:
        made = room(seed)
        a = first(made, _severity(seed, first.__name__))
        b = second(made, _severity(seed, second.__name__))
        return replace(a, values={**a.values, **b.values}, edits={**a.edits, **b.edits}, also=((b.kinds, b.causes),))

    return case


def _over(values: dict[str, Any], plant: Plant) -> Plant:
    """A flaw that leaves these settings as another one needs them."""

    def planted(made: Room, severity: float) -> Planted:
        own = plant(made, severity)
        return replace(own, values={key: value for key, value in own.values.items() if flaws.CLEAN.get(key) != value} | values)

    planted.__name__ = plant.__name__
    return planted


PAIRS: tuple[tuple[Plant, Plant], ...] = (
    (flaws.steps, _over({}, flaws.dim_by_bounces)),
    (flaws.blotches_of_rays, _over({}, flaws.steps)),
    (flaws.black_glass, _over({"sampling.max": 64}, flaws.burnt)),
    (flaws.dark_by_radius, _over({"sampling.max": 48}, flaws.slow_by_rays)),
    (flaws.two_suns, _over({"sampling.max": 64}, flaws.detached_by_offset)),
    (flaws.leak_by_gap, _over({"sampling.max": 96}, flaws.speckle)),
)

GROUPS: dict[str, dict[str, Case]] = {
    "boxes": {plant.__name__: _in_box(plant) for plant in FLAWS},
    "shapes": {f"{plant.__name__}, {shape.__name__}": _in_shape(shape, plant) for shape, plants in SHAPED for plant in plants},
    "recipes": RECIPES,
    "several": {f"{a.__name__} and {b.__name__}": _both(a, b) for a, b in PAIRS},
}
