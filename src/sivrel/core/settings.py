"""How a group of settings is declared: the one source of forms, validation, docs and the command line."""

from typing import Any

from pydantic import BaseModel, ConfigDict, Field


def setting(
    default: Any, name: str, phrase: str, trades: str, unit: str = "", needs: dict[str, list[str]] | None = None,
    **limits: Any,
) -> Any:  # fmt: skip
    """One setting: its default, what it is called, the sentence that its control stands in (at {}), what it trades,
    its unit, the values of other settings without which it is not in use (of one of several, parted by |), and its range."""
    extra: Any = {"unit": unit, "phrase": phrase, "needs": needs or {}}
    return Field(default, title=name, description=trades, json_schema_extra=extra, **limits)


class Group(BaseModel):
    """Settings that answer one question."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    def within(self, name: str, value: float) -> float:
        """A value held to the range of one of the settings, whole where it has to be."""
        info = type(self).model_fields[name]
        for limit in info.metadata:
            low, high = getattr(limit, "ge", None), getattr(limit, "le", None)
            value = max(value, low) if low is not None else value
            value = min(value, high) if high is not None else value
        return round(value) if info.annotation is int else float(f"{value:.4g}")
