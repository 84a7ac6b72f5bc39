"""Possible causes of flaws in depth maps, for the diagnosis."""

from typing import Any

from ..scene.model import Shadow
from ..suspect import BLOTCHES, DARK, Suspect

FINE = 4096
"""Texels across of a depth map that is fitted to the view."""
MOST_RESOLUTION = 8192
"""Texels across, at most."""


def suspects_of_map(own: Shadow, flaw: str, what: str, key: str, alone: bool) -> list[Suspect]:
    """Suspects of depth maps: of all lights by the recipe, or of one light by an edit."""
    found: list[Suspect] = []
    bias, width, resolution = own.bias or 0.0, own.filter or 0.0, own.resolution or 1024
    plural = "" if alone else "s"

    def add(name: str, says: str, setting: str, value: float | str, prior: float, kind: str, cure: str, costs: str = "", whole: bool = False) -> None:
        change: dict[str, Any] = {f"{key}.{setting}": value}
        if setting == "fit":
            change[f"{key}.resolution"] = max(FINE, resolution)
        values: dict[str, Any]
        edits: dict[str, Any]
        values, edits = ({}, change) if alone else (change, {})
        found.append(Suspect(name, says, values, edits, prior=prior, kind=kind, cure=cure, costs=costs, whole=whole))

    has = "has" if alone else "have"
    if bias < 1.0 and flaw in (DARK, BLOTCHES):
        add(
            "map bias small",
            f"{what} {has} {bias:g} texels of bias: surfaces stripe themselves",
            "bias",
            2.0,
            5.0,
            "speckle",
            f"Give {what} 2 texels of bias.",
        )
    if bias > 3.0 and flaw != DARK:
        add(
            "map bias large",
            f"{what} {has} {bias:g} texels of bias: shadows detach from their objects",
            "bias",
            1.5,
            4.0,
            "lost contact shadow",
            f"Give {what} 1.5 texels of bias.",
        )
    if width > 4.0:
        add(
            "map filter",
            f"{what} {'is' if alone else 'are'} softened over {width:g} texels: contact shadows blur",
            "filter",
            1.5,
            3.5,
            "lost contact shadow",
            f"Soften {what} over 1.5 texels.",
            "harder edges",
        )
    finer = min(4 * resolution, MOST_RESOLUTION)
    if finer > resolution:
        add(
            "map resolution",
            f"{what} {'is' if alone else 'are'} {resolution} texels across",
            "resolution",
            finer,
            2.0,
            "steps",
            f"Make {what} {finer} texels across.",
            "memory",
        )
    if own.fit == "scene":
        add(
            "map fit",
            f"{what} covers the whole scene, but the picture shows only a part",
            "fit",
            "view",
            2.6,
            "steps",
            f"Fit {what} to the view, {max(FINE, resolution)} texels across.",
            "remade for each camera",
        )
    add(
        "depth map" + plural,
        f"{what} {'itself' if alone else 'themselves'}",
        "way",
        "traced",
        0.7,
        "lost contact shadow",
        f"Trace the shadow{plural} instead of {what}.",
        "grain in soft shadows",
        True,
    )
    return found
