"""`sivrel budget`: where the next second goes."""

from typing import Any

import click

from ..core.errors import InputError
from .common import Given, check_seconds, json_option, print_result, scheduler_options, seconds_option, shot_argument, view_options


@click.command(short_help="Find the split of samples with the least noise in a given time.")
@shot_argument
@click.option("--noise", type=float, metavar="PERCENT", help="Noise to reach, instead of a time.")
@view_options
@seconds_option(None, "Seconds that a frame may take.")
@scheduler_options
@json_option
def budget(noise: float | None, shot: str, given: Given, seconds: float | None, as_json: bool) -> None:
    """Find the split of samples of SHOT with the least noise in a given time, or that reaches a noise fastest."""
    if (seconds is None) == (noise is None):
        raise InputError("A budget is a time or a noise: give either --seconds or --noise.")
    if seconds is not None:
        check_seconds(seconds)
    elif noise is not None and not 0.1 <= noise <= 100.0:
        raise InputError(f"A noise of {noise:g} % can't be used; give 0.1 to 100 (at 5 % grain is visible on a plain wall, at 1 % not at all).")
    opened, settings, view, report = given.begin(shot)
    made = opened.budget(settings, seconds=seconds, noise=None if noise is None else noise / 100.0, progress=report, **view)
    report.done()
    print_result(as_json, {"shot": opened.name, **made.as_dict()}, lambda: in_words(made))


def in_words(made: Any) -> str:
    """A budget as lines of text."""
    lines = [f"{row['name']:>16}  {row['noise']:4.0%} of the noise, {row['time']:4.0%} of the time of a sample" for row in made.sources]
    for k, plan in enumerate(made.plans):
        chosen = "  ← this" if k == made.chosen else ""
        lines.append(f"{plan.name:>16}  {plan.seconds:.3g} s a frame, {plan.noise:.1%} noise, {plan.samples:.3g} samples a pixel{chosen}")
    if made.plans:
        best = made.plans[made.chosen]
        lines += [f"        --set '{key}={value}'" for key, value in {**best.values, **best.edits}.items()]
    if made.check:
        lines.append(f"on other blocks: {made.check['seconds']:.3g} s, {made.check['noise']:.1%} noise")
    return "\n".join([*lines, *made.why, made.says])
