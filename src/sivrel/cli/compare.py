"""`sivrel compare`: compare two pictures, in numbers and visibly."""

from typing import Any

import click

from .common import json_option, print_result


@click.command(short_help="Compare two pictures, and show where they visibly differ.")
@click.argument("a", metavar="A.exr")
@click.argument("b", metavar="B.exr")
@click.option("--exposure", type=float, metavar="STOPS", help="Exposure for viewing (default: that of A's camera).")
@json_option
def compare(a: str, b: str, exposure: float | None, as_json: bool) -> None:
    """Compare B.exr against A.exr: light, settings, and where they visibly differ."""
    from ..shot import compare as compare_files

    made = compare_files(a, b, exposure)
    print_result(as_json, {"a": a, "b": b, **made.as_dict()}, lambda: in_words(made))


def in_words(made: Any) -> str:
    """A comparison as lines of text."""
    difference = made.difference
    lines = [f"{key}: {before} → {after}" for key, before, after in difference.changed]
    light = "no light in A" if difference.mean_light is None else f"{difference.mean_light - 1:+.2%} light"
    lines.append(f"{light}, root mean square {difference.rmse:.5g}, visible difference {difference.visible:.4f}")
    lines.append(made.sentence)
    if difference.noise_between is not None:
        lines.append(f"From the difference of these two seeds, the noise of each is {difference.noise_between:.1%}.")
    return "\n".join(lines)
