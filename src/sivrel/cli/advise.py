"""`sivrel advise`: recipes for a shot from measured facts."""

from typing import Any

import click

from .common import Given, check_seconds, json_option, print_result, scheduler_options, seconds_option, shot_argument, view_options


@click.command(short_help="Measure facts about a shot, and recommend recipes.")
@shot_argument
@view_options
@seconds_option(60.0, "Seconds that a final frame may take.")
@scheduler_options
@json_option
def advise(shot: str, given: Given, seconds: float, as_json: bool) -> None:
    """Measure facts about SHOT, and recommend recipes with reasons."""
    check_seconds(seconds)
    opened, settings, view, report = given.begin(shot)
    made = opened.advise(settings, seconds=seconds, progress=report, **view)
    report.done()
    print_result(as_json, {"shot": opened.name, **made.as_dict()}, lambda: in_words(made))


def in_words(made: Any) -> str:
    """An advice as lines of text."""
    lines = [f"{fact.name:>22}  {fact.value}  {fact.means}" for fact in made.facts]
    lines.append(f"Tried, with the predicted error of a frame of {made.seconds:g} s:")
    for title, way in made.ways:
        parts = f"noise {way.noise:.1%}, bias {way.bias:.1%} ± {way.spread:.1%}"
        lines.append(f"    {way.name:>34}  off {way.total:6.1%} ({parts}), caches {way.prepares:.3g} s: {title}")
    lines += [f"    {name:>34}  not tried: {why}" for name, _, why in made.untried]
    for one in made.recipes:
        lines.append(f"{one.purpose}: {one.says}")
        for choice in one.choices:
            lines.append(f"    {choice.key}={choice.value}: {choice.because}" + (f" What would change it: {choice.unless}" if choice.unless else ""))
        if one.match:
            lines.append(f"    match: sivrel match … --ways {','.join(one.match)}")
    return "\n".join(lines)
