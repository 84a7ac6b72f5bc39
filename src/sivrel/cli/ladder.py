"""`sivrel ladder`: how high is high enough."""

from pathlib import Path
from typing import Any

import click

from ..core.errors import InputError
from .common import (
    Given,
    check_distance,
    check_seconds,
    distance_option,
    json_option,
    print_result,
    scheduler_options,
    seconds_option,
    shot_argument,
    view_options,
)


@click.command(short_help="Render a setting at several values, and find which is enough.")
@shot_argument
@click.option(
    "--vary",
    multiple=True,
    required=True,
    metavar="KEY[=V1,V2,..]",
    help="Setting and its rungs, doubled around the current value if none; twice: a grid.",
)
@distance_option
@click.option("--strip", metavar="OUT.png", help="Write the rungs side by side: a contact strip.")
@click.option("--filtered", is_flag=True, help="Judge the pictures as the noise filter shows them.")
@click.option("--in-motion", is_flag=True, help="Judge flicker, too, in three frames of a moving shot.")
@view_options
@seconds_option(60.0, "Total time, after which automatic rungs are skipped.")
@scheduler_options
@json_option
def ladder(
    vary: tuple[str, ...],
    per_degree: float,
    strip: str | None,
    filtered: bool,
    in_motion: bool,
    shot: str,
    given: Given,
    seconds: float,
    as_json: bool,
) -> None:
    """Render one setting of SHOT, or two as a grid, at several values, and find which is enough."""
    check_distance(per_degree)
    if strip and (not strip.lower().endswith(".png") or not Path(strip).parent.is_dir()):
        raise InputError(f"{strip} can't be written: give a PNG in an existing folder.")
    if len(vary) > 2:
        raise InputError("A ladder varies one setting, or two as a grid; remove the others.")
    check_seconds(seconds)
    opened, settings, view, report = given.begin(shot)
    chosen: dict[str, list[Any] | None] = {}
    for text in vary:
        key, equals, values = text.partition("=")
        chosen[key.strip()] = [v for v in values.split(",") if v.strip()] if equals else None
    made = opened.ladder(chosen, settings, seconds=seconds, per_degree=per_degree, filtered=filtered, in_motion=in_motion, progress=report, **view)
    report.done()
    shown = [(rung.picture, ", ".join(v.shown(rung.values[v.key]) for v in made.varied)) for rung in made.rungs if rung.picture is not None]
    if strip and shown:
        from ..core.finish.strip import write_strip

        write_strip(Path(strip), [picture for picture, _ in shown], [words for _, words in shown], opened.exposure(given.camera, view.get("edits")))
    for rung in made.rungs:
        rung.picture = None
    print_result(as_json, {"shot": opened.name, **made.as_dict()}, lambda: in_words(made))


def in_words(made: Any) -> str:
    """A ladder as lines of text."""
    lines = []
    for rung in made.rungs:
        name = ", ".join(v.shown(rung.values[v.key]) for v in made.varied)
        if made.of_taste and not rung.skipped:
            lines.append(f"{name:>16}  {rung.frame_seconds:8.3g} s a frame  light {rung.light:.4g}")
            continue
        if rung.error is None:
            lines.append(f"{name:>16}  not rendered: {rung.skipped}")
            continue
        flicker = f"  flicker {rung.flicker.level:.2g}" if rung.flicker else ""
        seen = f"visibly different in {rung.seen['last']:.1%}" if rung.seen.get("last") else ""
        lines.append(
            f"{name:>16}  {rung.frame_seconds:8.3g} s a frame  noise {rung.error.noise:6.1%}"
            f"  bias {rung.error.bias:5.1%} ± {rung.error.bias_error:.1%}  light {rung.error.light:.3f}{flicker}"
            f"  {seen}{'  ← enough' if rung.enough else ''}"
        )
    return "\n".join([*lines, made.says])
