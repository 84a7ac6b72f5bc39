"""`sivrel match`: which way wins on a shot, in equal time and to equal error."""

from typing import Any

import click

from .common import Given, check_seconds, json_option, print_result, scheduler_options, seconds_option, shot_argument, view_options


@click.command(short_help="Compare ways of finding light in equal time.")
@shot_argument
@click.option(
    "--ways",
    default="",
    metavar="A,B,..",
    help="SEEN[/BEYOND][:looked_up][+SHADOWS][+caustics][+shared], by commas (default: all that bounce).",
)
@click.option("--filtered", is_flag=True, help="Judge the pictures as the noise filter shows them.")
@click.option("--in-motion", is_flag=True, help="Judge flicker, too, in three frames of a moving shot.")
@view_options
@seconds_option(20.0, "Seconds per frame for each, including its caches.")
@scheduler_options
@json_option
def match(ways: str, filtered: bool, in_motion: bool, shot: str, given: Given, seconds: float, as_json: bool) -> None:
    """Compare ways of finding light on SHOT, in equal time and to equal error."""
    check_seconds(seconds)
    opened, settings, view, report = given.begin(shot)
    chosen = [name for name in ways.split(",") if name.strip()]
    made = opened.match(chosen, settings, seconds=seconds, filtered=filtered, in_motion=in_motion, progress=report, **view)
    report.done()
    made.reference_picture = None
    for entrant in made.entrants:
        entrant.picture = None
    print_result(as_json, {"shot": opened.name, **made.as_dict()}, lambda: in_words(made))


def in_words(made: Any) -> str:
    """A match as lines of text."""
    lines = [f"brute-force reference: {made.reference_seconds:.3g} s, ± {made.reference_error:.1%}"]
    for entrant in made.entrants:
        name, error = entrant.candidate.name, entrant.error
        if error is None:
            lines.append(f"{name:>34}  {entrant.out or f'its caches take {entrant.prepares:.3g} s, so no time is left for pixels'}")
            continue
        pays = f", pays from frame {entrant.pays_from}" if entrant.pays_from else ""
        flicker = f", flicker {entrant.flicker.level:.2g}" if entrant.flicker else ""
        parts = f"(noise {error.noise:.1%}, bias {error.bias:.1%}), caches {entrant.prepares:.3g} s"
        lines.append(f"{name:>34}  error {error.total:6.1%} {parts}{flicker}{pays}")
    return "\n".join([*lines, made.says])
