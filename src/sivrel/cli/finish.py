"""`sivrel finish`: a rendered picture as PNG, JPEG or TIFF, or with a filtered pass as EXR."""

from pathlib import Path
from typing import Any

import click

from ..core.errors import InputError
from .common import json_option, print_result, say, values_of


@click.command(short_help="Finish a rendered picture as PNG, JPEG or TIFF, filtered if asked.")
@click.argument("picture", metavar="IN.exr")
@click.option("-o", "--output", required=True, metavar="OUT.png|.jpg|.tif|.exr", help="File to write.")
@click.option("--set", "assignments", multiple=True, metavar="KEY=VALUE", help="One of finish.exposure (a number or “measured”), finish.contrast, …")
@click.option("--filter", "filtering", is_flag=True, help="Filter noise, guided by the picture's passes.")
@json_option
def finish(picture: str, output: str, assignments: tuple[str, ...], filtering: bool, as_json: bool) -> None:
    """Finish IN.exr, a picture that was rendered here, as PNG, JPEG or TIFF; or, with --filter, add the filtered picture and passes to an EXR."""
    from ..core.finish.finishing import Finish, finish_from, finished, measured_exposure
    from ..core.finish.saved import encoded, kind_of
    from ..core.pictures.exr import read_exr, write_exr
    from ..core.render.filter import filter_noise, filter_passes

    out = Path(output)
    if out.suffix.lower() == ".exr":
        if not filtering:
            raise InputError("An EXR is not finished; give a name with .png, .jpg or .tif, or --filter to add the filtered picture to it.")
    else:
        kind_of(out.suffix)
    if not out.parent.is_dir():
        raise InputError(f"There is no folder {out.parent}; create it first.")
    given = read_exr(Path(picture))
    values: dict[str, Any] = {
        key.removeprefix("finish."): value for key, value in values_of(assignments, "finish.contrast=1.1").items()
    }  # fmt: skip
    if values.get("exposure") == "measured":
        values["exposure"] = measured_exposure(given.beauty)
    settings = finish_from(values) if values else Finish()
    shown, smeared = given.beauty, None
    result: dict[str, Any] = {"output": str(out), "finish": settings.model_dump(), "filtered": filtering, "smeared": None}
    if filtering:
        filtered = filter_noise(given.passes)
        shown, smeared = filtered.image, filtered.smeared
        given.passes["filtered"] = filtered.image
        if out.suffix.lower() == ".exr" and "direct" in given.passes:
            given.passes |= filter_passes(given.passes)
        if filtered.smear is not None:
            given.passes["smeared"] = filtered.smear[..., None]
        if filtered.error is not None:
            given.passes["filter_error"] = filtered.error[..., None]
        result |= {"smeared": smeared, "filter": filtered.by, "filter_error": filtered.level}
        if smeared is not None and smeared > 0.005:
            say(f"The filter smeared {smeared:.1%} of the picture: there it removed more than noise.")
    if out.suffix.lower() == ".exr":
        write_exr(out, given)
    else:
        out.write_bytes(encoded(finished(shown, settings), kind_of(out.suffix)))
    words = f"{out}: exposure {settings.exposure:+g}" + (f", filtered by {result['filter']}" if filtering else "")
    words += f", smeared {smeared:.1%}" if smeared is not None else ""
    if result.get("filter_error") is not None:
        words += f", error of the filter {result['filter_error']:.1%}"
    print_result(as_json, result, lambda: words)
