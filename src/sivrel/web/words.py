"""Numbers and changes as the pages write them."""

from typing import Any

from flask import Flask

from ..core.gi.ways import WAYS
from ..core.render.recipe import difference, settings
from ..store.proofs import Proof

TITLES = {way.key: way.title for way in WAYS}
NAMES = {key: info.name for key, info in settings().items()}


def seconds(value: float | None) -> str:
    """A time: 0.43 s, 8.1 s, 2 min 05 s."""
    if value is None:
        return "–"
    if value < 10.0:
        return f"{value:.2f} s" if value < 1.0 else f"{value:.1f} s"
    if value < 120.0:
        return f"{value:.0f} s"
    return f"{int(value) // 60} min {int(value) % 60:02d} s"


def seconds_against(value: float, parent: float) -> str:
    """A time against another: +1.9 s, −5.6 s."""
    change = value - parent
    return f"{'+' if change >= 0 else '−'}{seconds(abs(change))}"


def percent(value: float | None) -> str:
    return "–" if value is None else f"{value * 100.0:.1f} %"


def value_in_words(value: Any) -> str:
    return TITLES.get(value, str(value)) if isinstance(value, str) else f"{value:g}"


def size(width: int, height: int) -> str:
    return f"{width}×{height}"


def changes(parent: Proof, proof: Proof) -> list[tuple[str, str, str]]:
    """What a proof changed against its parent: (name, before, after)."""
    found = [(NAMES[key], value_in_words(before), value_in_words(after)) for key, before, after in difference(parent.recipe, proof.recipe)]
    a, b = parent.frame, proof.frame
    for name, before, after in (
        ("camera", parent.camera, proof.camera),
        ("size", size(a.width, a.height), size(b.width, b.height)),
        ("region", _region(a.region), _region(b.region)),
        ("seed", str(a.seed), str(b.seed)),
    ):
        if before != after:
            found.append((name, before, after))
    return found


def _region(region: tuple[int, int, int, int] | None) -> str:
    return "whole" if region is None else f"{region[2] - region[0]}×{region[3] - region[1]} px"


def register_filters(app: Flask) -> None:
    app.add_template_filter(seconds)
    app.add_template_filter(percent)
    app.add_template_filter(value_in_words)
    app.add_template_filter(seconds_against)
