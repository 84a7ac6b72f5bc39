"""The settings that a ladder varies, their rungs, and the order of cost."""

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..edits.edits import SETTINGS, Edits, is_edit, split_key, with_edits
from ..errors import InputError
from ..render.recipe import Recipe, settings, with_values

LARGER_IS_CHEAPER = {
    "sampling.noise_target", "irradiance_cache.error", "irradiance_cache.min_spacing", "irradiance_cache.max_spacing", "radiance_cache.cell",
    "baked.max_edge", "baked.min_edge", "baked.contrast", "photon_map.stop_error", "photon_map.roughness_limit",
}  # fmt: skip
RUNGS, BELOW = 6, 2
"""Number of automatic rungs, and how many of them are below the current value."""
MOST_RUNGS, MOST_CELLS = 16, 36
STEPS = 5
"""Rungs of a setting from 0 to 1."""


@dataclass(frozen=True)
class Varied:
    """A setting with the values it takes, cheapest first. name, unit: in words; given: whether the user gave the values; taste:
    whether the setting decides what the picture is, not how well it is computed, so that no value is “enough”."""

    key: str
    values: tuple[Any, ...]
    name: str
    unit: str
    given: bool = False
    taste: bool = False

    def shown(self, value: Any) -> str:
        return f"{value:g} {self.unit}".rstrip() if isinstance(value, int | float) else str(value)


@dataclass(frozen=True)
class About:
    """The declaration of a setting that can be varied."""

    name: str
    unit: str
    whole: bool
    smallest: float
    largest: float
    stands: float


def about(key: str, recipe: Recipe, edits: Edits) -> About:
    """The declaration of a recipe's or an edit's setting. Raises InputError if it does not exist, is not a number, or is not in use."""
    if is_edit(key):
        group, name, field = split_key(key)
        declared = SETTINGS[group][field]
        if not declared.is_number:
            raise InputError(f"{key} is not a number, so it has no rungs; choose a setting that is one.")
        stands = edits.flat().get(key)
        if stands is None and field.startswith("shadows."):
            stands = recipe.flat().get(field)
        return About(
            f"{declared.name} of {name}", declared.unit, declared.type == "integer", float(declared.minimum or 0.0),
            float(declared.maximum or 0.0), float(stands or 0.0),
        )  # fmt: skip
    flat = recipe.flat()
    if key not in flat:
        with_values(recipe, {key: None})  # raises an error that lists the settings
    info = settings()[key]
    if not info.is_number:
        raise InputError(f"{key} is not a number, so it has no rungs; to compare ways, make a match.")
    for one, wanted in info.needs.items():
        if not any(_as_needed(str(flat.get(name)), wanted) for name in one.split("|")):
            needed = " or ".join(f"other than {w[1:]}" if w.startswith("!") else w for w in wanted)
            raise InputError(f"{key} is not in use in this recipe; it needs {one.replace('|', ' or ')} to be {needed}.")
    return About(info.name, info.unit, info.type == "integer", float(info.minimum or 0.0), float(info.maximum or 0.0), float(flat[key]))


def _as_needed(value: str, wanted: list[str]) -> bool:
    """Whether a value is one of those that a setting needs; `!0` stands for any but 0."""
    return any(value != w[1:] if w.startswith("!") else value == w for w in wanted)


def varied(key: str, values: list[Any] | None, recipe: Recipe, edits: Edits, measured: dict[str, float] | None = None, level: float = 1.0) -> Varied:
    """A setting with its rungs, given or chosen by doubling around the current value. `measured`: distances of caches where the
    recipe leaves them open; `level`: luminance shown as white at the camera's exposure, for the clamp. Raises InputError."""
    declared = about(key, recipe, edits)
    chosen = [_read(key, value, declared) for value in values] if values else _doubled(key, declared, (measured or {}).get(key, 0.0), level)
    for value in chosen:  # raises one sentence for a wrong value
        with_edits(edits, {key: value}) if is_edit(key) else with_values(recipe, {key: value})
    unique = sorted(set(chosen), key=lambda v: (_off(key, v), -v if key in LARGER_IS_CHEAPER else v))
    if not 2 <= len(unique) <= MOST_RUNGS:
        raise InputError(f"A ladder has 2 to {MOST_RUNGS} rungs, {key} was given {len(unique)}; write them like {key}=4,8,16.")
    return Varied(key, tuple(unique), declared.name, declared.unit, bool(values), is_taste(key))


def is_taste(key: str) -> bool:
    """Whether a setting changes the expected picture: lights, objects, cameras and ambient light, except the quality of shadows and bakes."""
    if is_edit(key):
        field = split_key(key)[2]
        return not field.startswith("shadows.") and field != "refine"
    return key.startswith("ambient.") and key != "ambient.samples"


def _off(key: str, value: float) -> bool:
    """Whether 0 means no limit, which is above every other value."""
    return value == 0.0 and key in ("limits.indirect_clamp",)


def _read(key: str, value: Any, declared: About) -> float | int:
    try:
        number = float(value)
        if not math.isfinite(number):
            raise ValueError
    except (TypeError, ValueError):
        raise InputError(f"{key} can't be “{value}”; give numbers by commas, like {key}=4,8,16.") from None
    return int(number) if declared.whole and number == int(number) else number


def _doubled(key: str, declared: About, measured: float, level: float) -> list[float | int]:
    if key == "limits.indirect_clamp":
        return [round(level * 2.0**k, 4) for k in range(-2, 5)] + [0.0]
    if not declared.whole and declared.largest <= 1.0:
        return [float(v) for v in np.linspace(declared.smallest, declared.largest, STEPS)]
    stands = declared.stands or measured
    below, step = BELOW, 2.0
    if key == "sampling.noise_target":
        stands, below = stands or 8.0, 3
    if not stands:
        raise InputError(f"{key} is 0, which means automatic, so there is nothing to double; give its rungs like {key}=1,2,4.")
    if declared.whole and stands < 4 and declared.largest <= 64:  # bounces, refining: one by one
        top = min(declared.largest, max(stands + 3, 6))
        return [int(v) for v in np.unique(np.round(np.linspace(max(declared.smallest, 0), top, RUNGS)))]
    low = max(stands / step**below, declared.smallest, 1.0 if declared.whole else 0.0)
    found = [min(low * step**k, declared.largest) for k in range(RUNGS)]
    return [round(v) if declared.whole else float(f"{v:.4g}") for v in found]
