"""Possible causes of a flaw in a radiance cache, each with the one change that would prove it."""

from typing import Any

from ..suspect import BLOTCHES, DARK, LEAK, Suspect


def suspects(own: Any, recipe: Any, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    cell, paths = own.cell or radii.get("radiance_cache.cell", 0.0), own.within("paths", own.paths * 8)
    found = [
        Suspect(
            "fill paths",
            f"its cells were filled by {own.paths:g} paths a pixel, too few for their size",
            {"radiance_cache.paths": paths},
            raised=8.0,
            prior=1.5 if flaw == BLOTCHES or own.paths < 8 else 0.6,
            kind="blotches",
            cure=f"Fill the cells by {paths:g} paths.",
        )
    ]
    if cell > 0.0:
        small = float(f"{cell / 3.0:.3g}")
        found.append(
            Suspect(
                "cells",
                f"its cells are {cell:.2g} m wide, and reach through thin objects and round edges",
                {"radiance_cache.cell": small, "radiance_cache.paths": paths},
                # Small cells blotch with so few paths, but the mean over a region is as good, and no path is traced again.
                tried={"radiance_cache.cell": small},
                prior=2.0 if flaw in (LEAK, DARK) else 1.2,
                kind="leak" if flaw == LEAK else "",
                cure=f"Make its cells {small:g} m wide, and fill them by {paths:g} paths.",
            )
        )
    return found
