"""Possible causes of a flaw in the records of an irradiance cache, each with the one change that would prove it."""

from typing import Any

from ..suspect import BLOTCHES, BRIGHT, DARK, LEAK, Suspect


def suspects(own: Any, recipe: Any, flaw: str, where: str, radii: dict[str, float]) -> list[Suspect]:
    rays, error, spacing = own.rays, own.error, own.min_spacing
    found = []
    if flaw == BLOTCHES:
        found = [
            Suspect(
                "record rays",
                f"its records gather with only {rays} rays each",
                {"irradiance_cache.rays": own.within("rays", 8 * rays)},
                raised=8.0,
                prior=3.0 if rays < 256 else 1.2,
                cure=f"Let records gather with {8 * rays} rays.",
            ),
            Suspect(
                "cache error",
                f"its records are used until light may have changed by {error:g}: they are too far apart",
                {"irradiance_cache.error": own.within("error", error / 3.0)},
                prior=2.0 if error > 0.6 else 1.0,
                cure=f"Use records only until light may have changed by {error / 3.0:.2g}.",
            ),
            Suspect(
                "greatest spacing",
                f"records may be {own.max_spacing:g} {own.spacing_unit} apart",
                {"irradiance_cache.max_spacing": own.max_spacing / 4.0},
                prior=2.2 if own.max_spacing > 100 else 0.6,
                cure=f"Place records no farther than {own.max_spacing / 4.0:g} {own.spacing_unit} apart.",
            ),
        ]
        if own.gradients == "no":
            found.append(
                Suspect(
                    "gradients",
                    "records do not store the gradient of light",
                    {"irradiance_cache.gradients": "yes"},
                    prior=1.8,
                    cure="Let records store the gradient of light.",
                )
            )
    found += _spacing(own, flaw)
    if flaw != BLOTCHES and own.max_spacing > 100.0:
        found.append(
            Suspect(
                "greatest spacing",
                f"records may be {own.max_spacing:g} {own.spacing_unit} apart",
                {"irradiance_cache.max_spacing": own.max_spacing / 6.0},
                prior=2.5,
                cure=f"Place records no farther than {own.max_spacing / 6.0:.3g} {own.spacing_unit} apart.",
            )
        )
    if flaw == LEAK and own.visible == "no":
        found.append(
            Suspect(
                "interpolation",
                "records count where they are not visible: light is interpolated across a wall",
                {"irradiance_cache.visible": "yes"},
                prior=4.0,
                kind="leak",
                cure="Let a record count only where it is visible.",
                costs="each lookup traces a ray",
            )
        )
    if flaw in (LEAK, BRIGHT, DARK):
        finer: dict[str, Any] = {"irradiance_cache.min_spacing": own.within("min_spacing", spacing / 3.0)}
        if spacing > 0.0:
            found.append(
                Suspect(
                    "least spacing",
                    f"records are at least {spacing:g} {own.spacing_unit} apart: finer detail is smoothed away",
                    finer,
                    prior=2.6 if spacing > 8.0 else 1.0,
                    kind="lost contact shadow" if flaw == BRIGHT else "",
                    cure=f"Let records be as close as {spacing / 3.0:.2g} {own.spacing_unit}.",
                )
            )
        if own.smoothing > 0.0:
            found.append(
                Suspect(
                    "smoothing",
                    f"records reach {own.smoothing:g} farther than their distance",
                    {"irradiance_cache.smoothing": 0.0},
                    prior=2.4 if own.smoothing > 1.0 else 0.9,
                    kind="lost contact shadow" if flaw == BRIGHT else "",
                    cure="Let records reach no farther than their distance.",
                    costs="more blotches",
                )
            )
        found.append(
            Suspect(
                "cache error",
                f"its records are used until light may have changed by {error:g}",
                {"irradiance_cache.error": own.within("error", error / 3.0)},
                prior=1.5 if error > 0.6 else 0.7,
                cure=f"Use records only until light may have changed by {error / 3.0:.2g}.",
            )
        )
        reach = max(0.05, own.corner_distance * 2.0)
        if own.corner_distance < 0.3:
            found.append(
                Suspect(
                    "corner distance",
                    "records are used right up to where surfaces meet",
                    {"irradiance_cache.corner_distance": reach},
                    prior=0.9,
                    kind="lost contact shadow" if flaw == BRIGHT else "",
                    cure=f"Trace paths where a surface is nearer than {reach:g} m.",
                    costs="grain there",
                )
            )
    return found


SAID = {"error": "cache error", "min_spacing": "least spacing", "max_spacing": "greatest spacing", "smoothing": "smoothing"}


def _spacing(own: Any, flaw: str) -> list[Suspect]:
    """All settings that keep records far apart at once, if there is more than one: with only one changed, another would still keep them apart."""
    loose: dict[str, tuple[float, float]] = {
        "error": (own.error, 0.6), "min_spacing": (own.min_spacing, 8.0), "max_spacing": (own.max_spacing, 100.0), "smoothing": (own.smoothing, 1.0),
    }  # fmt: skip
    loose = {name: pair for name, pair in loose.items() if pair[0] > pair[1] and (name != "smoothing" or flaw != BLOTCHES)}
    if len(loose) < 2:
        return []
    closer = {f"irradiance_cache.{name}": own.within(name, value / 4.0) for name, (value, _) in loose.items()}
    names = [SAID[name] for name in loose]
    return [
        Suspect(
            "record spacing",
            f"its records are too far apart because of {', '.join(names[:-1])} and {names[-1]} together",
            closer,
            prior=2.1 if flaw == BLOTCHES else 2.4,
            kind="lost contact shadow" if flaw == BRIGHT else "",
            cure="Place records closer: " + ", ".join(f"{SAID[key.split('.')[1]]} {value:.3g}" for key, value in closer.items()) + ".",
        )
    ]
