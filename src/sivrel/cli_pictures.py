"""The commands that take rendered pictures: finishing one, comparing two."""

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .core.errors import InputError

Tell = Callable[[argparse.Namespace, dict[str, Any], Callable[[], str]], None]
"""Prints a result, as JSON or in words."""


def add_finish_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("picture", metavar="IN.exr")
    sub.add_argument("-o", "--output", required=True, metavar="OUT.png|OUT.exr")
    sub.add_argument("--set", action="append", metavar="KEY=VALUE", help="one of finish.exposure (a number or “measured”), finish.contrast, …")
    sub.add_argument("--filter", action="store_true", help="filter noise, guided by the picture's passes")
    sub.add_argument("--json", action="store_true")


def add_compare_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("a", metavar="A.exr")
    sub.add_argument("b", metavar="B.exr")
    sub.add_argument("--exposure", type=float, metavar="STOPS", help="how they are looked at (default: as A's camera exposes)")
    sub.add_argument("--json", action="store_true")


def finish(args: argparse.Namespace, tell: Tell) -> int:
    """Finish a rendered EXR as PNG; or, with --filter, write an EXR that holds the filtered picture beside the beauty."""
    from PIL import Image

    from .core.finish.finishing import Finish, finish_from, finished, measured_exposure
    from .core.finish.view import to_bytes
    from .core.formats.exr import read_exr, write_exr
    from .core.render.filter import filter_noise

    out = Path(args.output)
    if out.suffix.lower() not in (".png", ".exr") or (out.suffix.lower() == ".exr" and not args.filter):
        raise InputError("A finished picture is a PNG; name it so. (With --filter an EXR keeps the filtered picture as a pass.)")
    if not out.parent.is_dir():
        raise InputError(f"There is no folder {out.parent}; make it first.")
    picture = read_exr(Path(args.picture))
    values: dict[str, Any] = {}
    for assignment in args.set or []:
        key, equals, value = assignment.partition("=")
        if not equals:
            raise InputError(f"“{assignment}” sets nothing; write it like finish.contrast=1.1.")
        values[key.strip().removeprefix("finish.")] = value.strip()
    if values.get("exposure") == "measured":
        values["exposure"] = measured_exposure(picture.beauty)
    settings = finish_from(values) if values else Finish()
    shown, smeared = picture.beauty, None
    if args.filter:
        try:
            filtered = filter_noise(picture.passes)
        except KeyError as error:
            raise InputError(f"{args.picture} has no pass {error}; the filter needs a picture that this program rendered.") from None
        shown, smeared = filtered.image, filtered.smeared
        picture.passes |= {"filtered": filtered.image, "smeared": filtered.smear[..., None]}
        if smeared > 0.005:
            print(f"The filter smeared {smeared:.1%} of the picture: there it took more than noise explains.", file=sys.stderr)
    if out.suffix.lower() == ".exr":
        write_exr(out, picture)
    else:
        Image.fromarray(to_bytes(finished(shown, settings))).save(out)
    result = {"output": str(out), "finish": settings.model_dump(), "filtered": args.filter, "smeared": smeared}
    tell(args, result, lambda: f"{out}: exposure {settings.exposure:+g}" + (f", smeared {smeared:.1%}" if smeared is not None else ""))
    return 0


def compare(args: argparse.Namespace, tell: Tell) -> int:
    from .core.formats.exr import read_exr
    from .core.measure.difference import compare as compare_pictures
    from .core.measure.noise import noise_level
    from .core.measure.verdict import judge

    a, b = read_exr(Path(args.a)), read_exr(Path(args.b))
    exposure = a.exposure if args.exposure is None else args.exposure
    verdict = judge(a, b, exposure)
    difference = compare_pictures(a, b, exposure, verdict.visible)
    result = {
        "a": args.a, "b": args.b, "exposure": exposure, **difference.as_dict(), "noise": [noise_level(a), noise_level(b)],
        "verdict": verdict.sentence, "share_seen": verdict.share, "places": [place.as_dict() for place in verdict.places],
    }  # fmt: skip

    def words() -> str:
        lines = [f"{key}: {before} → {after}" for key, before, after in difference.changed]
        light = "no light in A" if difference.mean_light is None else f"{difference.mean_light - 1:+.2%} light"
        lines.append(f"{light}, root mean square {difference.rmse:.5g}, visible difference {difference.visible:.4f}")
        lines.append(verdict.sentence)
        if difference.noise_between is not None:
            lines.append(f"By what these two seeds differ in, the noise of each is {difference.noise_between:.1%}.")
        return "\n".join(lines)

    tell(args, result, words)
    return 0
