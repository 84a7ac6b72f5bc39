"""`sivrel mattes`: antialiased mattes by object or surface, for compositing."""

import click

from .common import Given, Reporter, json_option, output_path, print_result, shot_argument, view_options


@click.command(short_help="Write antialiased mattes by object or surface (EXR).")
@shot_argument
@click.option("-o", "--output", required=True, metavar="OUT.exr", help="File to write.")
@click.option("--by", type=click.Choice(("object", "surface")), default="object", show_default=True, help="What has a matte of its own.")
@click.option("--rays", type=int, default=16, show_default=True, metavar="N", help="Points of each pixel, a square number.")
@view_options
@json_option
def mattes(shot: str, output: str, by: str, rays: int, given: Given, as_json: bool) -> None:
    """Write how much of each pixel every object or surface of SHOT covers, one channel each."""
    from ..core.pictures.exr import save_exr

    out = output_path(output, (".exr",), "Mattes are written as EXR; name it {name}.")
    _, view = given.settings()
    opened = given.open(shot, view)
    report = Reporter()
    made = opened.mattes("surface" if by == "surface" else "object", rays=rays, progress=report, **view)
    report.done()
    save_exr(out, made)
    names = [name.partition(".")[2] for name in made.passes]
    print_result(
        as_json,
        {"output": str(out), "by": by, "mattes": names},
        lambda: f"{out}: {len(names)} mattes, the largest of {names[0]}" if names else f"{out}: nothing in sight",
    )
