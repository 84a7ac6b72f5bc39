"""How a setting is declared, of a recipe, an edit or the finishing: the one source of forms, validation, docs and the command line."""

from typing import Annotated, Any

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field

FARTHEST = 1e7
"""Metres from the origin, or strength of a colour, that a setting may take."""


def _numbers(value: Any) -> Any:
    return [part.strip() for part in value.split(",")] if isinstance(value, str) else value


_Coordinate = Annotated[float, Field(ge=-FARTHEST, le=FARTHEST)]
Three = Annotated[tuple[_Coordinate, _Coordinate, _Coordinate], BeforeValidator(_numbers)]
"""A place or a colour: three numbers, as text parted by commas."""


def setting(
    default: Any, name: str, phrase: str, trades: str, unit: str = "", needs: dict[str, list[str]] | None = None,
    step: float | None = None, **limits: Any,
) -> Any:  # fmt: skip
    """One setting: its default, its name, the sentence around its control (at {}), what it trades,
    its unit, the values of other settings that it needs to be in use (of one of several, separated by |), the step of its slider, and its
    range. A setting with the default None is unset until it is given."""
    extra: Any = {"unit": unit, "phrase": phrase, "needs": needs or {}, "step": step}
    return Field(default, title=name, description=trades, json_schema_extra=extra, **limits)


class Group(BaseModel):
    """Settings that answer one question, or belong to one object."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    def within(self, name: str, value: float) -> float:
        """A value clamped to the range of one of the settings, rounded for whole settings."""
        info = type(self).model_fields[name]
        for limit in info.metadata:
            low, high = getattr(limit, "ge", None), getattr(limit, "le", None)
            value = max(value, low) if low is not None else value
            value = min(value, high) if high is not None else value
        return round(value) if info.annotation is int else float(f"{value:.4g}")


class SettingInfo(BaseModel):
    """The declaration of one setting. type: choice, switch, integer, number, three (numbers) or text; minimum, maximum: of numbers."""

    key: str
    name: str
    trades: str
    unit: str
    type: str
    default: Any
    phrase: str
    needs: dict[str, list[str]]
    minimum: float | None = None
    maximum: float | None = None
    step: float | None = None
    choices: list[str] | None = None

    @property
    def is_number(self) -> bool:
        return self.type in ("integer", "number")

    @property
    def range_in_words(self) -> str:
        """Its allowed values, in a few words."""
        if self.choices:
            return ", ".join(self.choices)
        if self.is_number:
            return f"{self.minimum:g} to {self.maximum:g} {self.unit}".strip()
        return {"three": "three numbers by commas", "switch": "on or off", "text": "text"}[self.type]

    def refusal(self, key: str, given: Any) -> str:
        """The sentence for an invalid value. key: as the user wrote it."""
        text = ",".join(map(str, given)) if isinstance(given, list | tuple) else str(given)
        start = f"{key[:200]} can't be “{text[:200]}”"
        if self.choices:
            return f"{start}; choose one of: {', '.join(self.choices)}."
        if self.type == "three":
            return f"{start}; give three numbers from -{FARTHEST:g} to {FARTHEST:g}, like 1,0.5,0.25."
        if self.type == "switch":
            return f"{start}; give on or off."
        if self.type == "text":
            return f"{key[:200]} is too long; give at most a few thousand characters."
        kind = "a whole number" if self.type == "integer" else "a number"
        return f"{start}; give {kind} from {self.range_in_words}."

    def public(self) -> dict[str, Any]:
        """Its public part, for pipelines: without fields that only the forms need."""
        return self.model_dump(exclude={"key", "phrase", "needs", "step"})


TYPES = {"boolean": "switch", "array": "three", "string": "text"}
"""Our types by JSON schema's, where they differ."""


def declared_settings(group: type[BaseModel], prefix: str = "") -> dict[str, SettingInfo]:
    """Every setting of a group by its key, `prefix` before its name; those of a group within it as `name.setting`."""
    infos: dict[str, SettingInfo] = {}
    schema = group.model_json_schema()["properties"]
    for name, field in group.model_fields.items():
        key = f"{prefix}{name}"
        if isinstance(field.annotation, type) and issubclass(field.annotation, Group):
            infos |= declared_settings(field.annotation, f"{key}.")
            continue
        about = schema[name]
        value = next(part for part in about.get("anyOf", [about]) if part.get("type") != "null")
        choices = value.get("enum")
        infos[key] = SettingInfo(
            key=key,
            name=about["title"],
            trades=about["description"],
            unit=about["unit"],
            phrase=about["phrase"],
            needs=about["needs"],
            step=about["step"],
            type="choice" if choices else TYPES.get(value["type"], value["type"]),
            default=about.get("default"),
            minimum=value.get("minimum", value.get("exclusiveMinimum")),
            maximum=value.get("maximum"),
            choices=choices,
        )
    return infos
