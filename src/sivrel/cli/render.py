"""`sivrel render`: a shot to an EXR picture."""

import signal
from typing import Any

import click

from ..core.errors import InputError
from .common import (
    Given,
    Reporter,
    json_option,
    output_path,
    print_result,
    say,
    scheduler_options,
    shot_argument,
    threads_option,
    use_helpers,
    view_options,
)


@click.command(short_help="Render a shot to an EXR picture.")
@shot_argument
@click.option("-o", "--output", required=True, metavar="OUT.exr", help="File to write.")
@view_options
@threads_option
@scheduler_options
@click.option("--time-limit", type=float, metavar="SECONDS", help="Render the whole picture evenly for this time.")
@json_option
def render(shot: str, output: str, given: Given, threads: int, time_limit: float | None, as_json: bool) -> None:
    """Render SHOT, a scene file or demo:NAME, to an EXR picture with all its passes."""
    # A parent that runs this in the background may have set it to ignore interrupts.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    out = output_path(output, (".exr",), "The picture is written as EXR; name it {name}.")
    settings, view = given.settings()
    if time_limit is not None and not time_limit > 0.0:
        raise InputError(f"A time limit of {time_limit:g} s leaves no time; give more than 0.")
    opened = given.open(shot, view)
    for note in opened.notes:
        say(note)
    from ..core.render.starting import MANY_LIGHTS
    from ..shot import warm_up

    if len(opened.scene.lights) > MANY_LIGHTS and settings.lights.seen == "all":
        say(f"Every point aims at all {len(opened.scene.lights)} lights; lights.seen=chosen takes far less time.")
    report = Reporter()
    warm_up(report, settings, view["edits"], everything=False)
    use_helpers(opened)
    made = opened.render(settings, seconds=time_limit, threads=threads, progress=report, **view)
    report.done()
    made.save(out)
    if made.dropped:
        say(f"{made.dropped} samples were not finite numbers and were left out.")
    print_result(as_json, _result(made, opened, str(out)), lambda: _words(made, str(out)))


def _words(made: Any, out: str) -> str:
    from ..core.measure.noise import noise_in_words

    return f"{out}: {made.seconds:.2f} s" + (f", noise {noise_in_words(made.noise)}" if made.noise is not None else "")


def _result(made: Any, shot: Any, out: str) -> dict[str, Any]:
    from .. import __version__

    picture, measured = made.picture, made.measured
    return {
        "output": out,
        "shot": shot.name,
        "camera": picture.camera,
        "size": [picture.frame.width, picture.frame.height],
        "region": list(picture.frame.window),
        "seed": picture.frame.seed,
        "complete": True,  # scripts rely on it: a render with a time limit is complete, too
        "seconds": round(made.seconds, 4),
        "prepare_seconds": round(made.prepare_seconds, 4),
        "noise": made.noise.level if made.noise is not None else None,
        "mean_luminance": made.mean_light,
        "samples_dropped": made.dropped,
        "triangles": shot.scene.triangle_count(),
        "notes": shot.notes,
        "recipe": picture.recipe.flat(),
        "edits": picture.edits.flat(),
        "lights": measured["lights"],
        "depth_maps": measured["maps"],
        "meters": measured["meters"],
        "passes": measured["passes"],
        "version": __version__,
    }
