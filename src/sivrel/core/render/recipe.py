"""The recipe: every setting of a render, with its unit, range, default and what it trades.

The declarations (groups.py, and the ways of finding bounced light) are the one source of the form on the bench, the command line's
`--set`, the reference in docs/recipe.md and the words in which two recipes differ.
"""

import functools
import json
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError, create_model

from ..errors import InputError, did_you_mean
from ..gi.way import Way
from ..gi.ways import EXTRAS, PREPARING, SEEN, WAYS
from ..json_text import parse_json
from ..settings import Group, SettingInfo, declared_settings
from ..stored import RECIPE
from .groups import AmbientSettings, GiSettings, LightSettings, LimitSettings, MotionSettings, SamplingSettings, ShadowSettings, SurfaceSettings

OF_WAYS = {way.key: way for way in (*WAYS, *EXTRAS) if way.settings is not None}
"""Ways that have settings of their own."""
QUESTIONS = {
    "gi": "How light gets around",
    **{key: way.question for key, way in OF_WAYS.items()},
    "lights": "Which lights are aimed at",
    "shadows": "How shadows are cut",
    "limits": "Where paths stop",
    "sampling": "Where samples go",
    "ambient": "What lies near",
    "surfaces": "What surfaces are",
    "motion": "From frame to frame",
}
"""The question that each group of settings answers."""


class FixedSettings(Group):
    """The settings that every recipe has."""

    gi: GiSettings = GiSettings()
    lights: LightSettings = LightSettings()
    shadows: ShadowSettings = ShadowSettings()
    limits: LimitSettings = LimitSettings()
    sampling: SamplingSettings = SamplingSettings()
    ambient: AmbientSettings = AmbientSettings()
    surfaces: SurfaceSettings = SurfaceSettings()
    motion: MotionSettings = MotionSettings()

    def flat(self) -> dict[str, Any]:
        """Values by key, in the order of declaration."""
        return {f"{g}.{s}": value for g, group in self.model_dump().items() for s, value in group.items()}

    def of(self, way: str) -> Any:
        """The settings of a way by its key; None where it has none."""
        return getattr(self, way, None)

    def final_gather_rays(self, way: str) -> int:
        """Final gather rays of the way; 0 if it is looked up directly."""
        return getattr(self.of(way), "final_gather_rays", 0)

    def preparing(self) -> list[Way]:
        """The ways in use that prepare something, in order of their dependence."""
        seen, beyond = self.gi.seen, self.gi.beyond if SEEN[self.gi.seen].asks_beyond else ""
        bounces = SEEN[seen].bounces
        extras = [way.key for way in EXTRAS if self.of(way.key).on == "yes" and (bounces or not way.of_paths)]
        return [PREPARING[key] for key in dict.fromkeys([*extras, beyond, seen]) if key in PREPARING]


if TYPE_CHECKING:
    Recipe = FixedSettings
else:
    Recipe = create_model(
        "Recipe",
        __base__=FixedSettings,
        __doc__="All settings. `Recipe()` is the default; keys are `group.setting`.",
        **{key: (way.settings, way.settings()) for key, way in OF_WAYS.items()},
    )


@functools.cache
def settings() -> dict[str, SettingInfo]:
    """Every key with its declaration, in order. (Cached: a page of five hundred proofs asks for it as often.)"""
    return declared_settings(Recipe)


def with_values(recipe: Recipe, values: dict[str, Any]) -> Recipe:
    """`recipe` with some keys set, values as text or as themselves. Raises InputError with one sentence."""
    known = settings()
    groups: dict[str, dict[str, Any]] = recipe.model_dump()
    for key, value in values.items():
        if key not in known:
            raise InputError(f"There is no setting “{key[:80]}”.{did_you_mean(key, known)} `sivrel recipes` lists them all.")
        group, name = key.split(".")
        groups[group][name] = value
    try:
        return Recipe.model_validate(groups)
    except ValidationError as error:
        raise InputError(_sentence(error, known)) from None


def _sentence(error: ValidationError, known: dict[str, SettingInfo]) -> str:
    first = error.errors()[0]
    key = ".".join(str(part) for part in first["loc"][:2])[:200]
    given = str(first["input"])[:200]
    info = known.get(key)
    if info is None:
        return f"The recipe has something unknown at “{key}”; remove it."
    if key == "gi.beyond" and given in SEEN:
        choices = ", ".join(info.choices or [])
        return f"gi.beyond can't be {given}, since {SEEN[given].elsewhere}; choose one of: {choices}."
    return info.refusal(key, given)


def to_json(recipe: Recipe) -> str:
    """The recipe as it is stored in files and picture headers."""
    return json.dumps({"version": RECIPE.version, **recipe.model_dump()}, sort_keys=True)


def from_json(text: str | bytes) -> Recipe:
    """The inverse of `to_json`; keys that are missing take their defaults. Raises InputError."""
    data = parse_json(text, "The recipe is not JSON that this program can read; write one with `sivrel recipes --json` as a pattern.")
    data = RECIPE.upgrade(data)
    try:  # as this program writes it: many are read for one page
        return Recipe.model_validate(data)
    except ValidationError:
        pass  # what is wrong is said setting by setting
    values = {}
    for group, members in data.items():
        if not isinstance(members, dict):
            raise InputError(f"The recipe has a plain value at “{group}”, where a group of settings is meant.")
        values.update({f"{group}.{name}": value for name, value in members.items()})
    return with_values(Recipe(), values)


def difference(before: Recipe, after: Recipe) -> list[tuple[str, Any, Any]]:
    """(key, value before, value after) of every setting that differs. (Group by group, since a lineage of five hundred proofs calls it as often.)"""
    found = []
    for group in type(after).model_fields:
        old, new = getattr(before, group), getattr(after, group)
        if old != new:
            names = type(new).model_fields
            found += [(f"{group}.{n}", getattr(old, n), getattr(new, n)) for n in names if getattr(old, n) != getattr(new, n)]
    return found
