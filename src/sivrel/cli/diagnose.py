"""`sivrel diagnose`: find the flaws of a picture, rendered here or elsewhere."""

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..core.errors import InputError
from .common import (
    Given,
    Reporter,
    check_distance,
    distance_option,
    json_option,
    open_shot,
    print_result,
    scheduler_options,
    seconds_option,
    use_helpers,
    view_options,
)

if TYPE_CHECKING:
    from ..core.rendered import Render


@click.command(short_help="Find the flaws of a picture, prove their causes, and offer remedies.")
@click.argument("what", metavar="SHOT|IMAGE.exr")
@click.option("--shot", metavar="SHOT", help="For a picture that was rendered here: its scene, to try causes on.")
@view_options
@seconds_option(20.0, "Time for brute force and trials.")
@click.option("--exposure", type=float, metavar="STOPS", help="Exposure of a picture from elsewhere (default: measured).")
@distance_option
@click.option("--filtered", is_flag=True, help="Judge the picture as the noise filter shows it.")
@scheduler_options
@json_option
def diagnose(
    what: str, shot: str | None, given: Given, seconds: float, exposure: float | None, per_degree: float, filtered: bool, as_json: bool
) -> None:  # fmt: skip
    """Find the flaws of a picture, prove their causes by trials, and offer remedies.

    A scene file or demo:NAME is rendered first; a picture of any program is judged as it is.
    """
    if not seconds > 0.0:
        raise InputError(f"{seconds:g} seconds leave no time for trials; give more than 0.")
    check_distance(per_degree)
    from ..core.formats.scenes import suffixes
    from ..core.pictures.exr import Picture
    from ..shot import diagnose as diagnose_picture
    from ..shot import read_picture, warm_up

    report, opened = Reporter(), None
    picture: Render | Picture
    if what.startswith("demo:") or Path(what).suffix.lower() in suffixes():
        opened, settings, view, report = given.begin(what)
        picture = opened.render(settings, progress=report, **view)
    else:
        picture = read_picture(what)
        if shot is not None:
            if picture.recipe is None:
                raise InputError(f"{what} was not rendered here, so no cause can be tried on it; leave --shot out, and see each finding's tests.")
            opened = open_shot(shot, given.frame, given.caches)
            use_helpers(opened)
            warm_up(report)
    made = diagnose_picture(picture, opened, seconds=seconds, exposure=exposure, per_degree=per_degree, filtered=filtered, progress=report)
    report.done()
    for finding in [*made.findings, *made.withdrawn]:
        finding.pictures = {}
        for trial in finding.trials:
            trial.picture = None
    shown = picture if isinstance(picture, Picture) else picture.picture
    frame, recipe = shown.frame, shown.recipe
    result = {"picture": what, "size": [frame.width, frame.height], "region": list(frame.window), "recipe": recipe.flat() if recipe else None}
    print_result(as_json, {**result, **made.as_dict()}, lambda: in_words(made, what))


def in_words(made: Any, what: str) -> str:
    """A diagnosis as lines of text."""
    lines = []
    for finding in made.findings:
        weak = " (judged from the picture only)" if finding.weak else ""
        lines.append(f"{finding.title}{weak}\n    {finding.why}")
        if finding.cause:
            lines.append(f"    cause: {finding.cause}" + (f", {finding.confidence:.0%} sure" if finding.confidence else ""))
        for trial in finding.trials:
            known = trial.explained is not None and trial.error < 1.0  # a wider range says nothing
            share = f", removes {trial.explained:.0%} ± {trial.error:.0%} of it" if known else ""
            lines.append(f"    tried: {trial.says}: {trial.verdict}{share}")
        lines += [f"    {said}" for said in finding.withdrawn]
        if finding.note:
            lines.append(f"    {finding.note}")
        for remedy in finding.remedies:
            after = [
                f"{remedy.seconds:.3g} s" if remedy.seconds else "",
                f"{remedy.seen:.1f} times just visible" if remedy.seen is not None else "",
            ]
            lines.append(f"    → {remedy.words}" + (f" ({', '.join(a for a in after if a)})" if any(after) else ""))
            lines += [f"        --set '{key}={value}'" for key, value in remedy.changes.items()]
        lines += [f"    ? {question}" for question in finding.settles]
    return "\n".join(lines) or f"No flaws were found in {what}."
