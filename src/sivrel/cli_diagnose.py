"""The command that says what is wrong with a picture, rendered here or elsewhere."""

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .cli_pictures import Tell
from .cli_scenes import Ask, add_distance_argument, add_view_arguments, check_distance, compile_kernels, read_given
from .core.errors import InputError


def add_diagnose_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("what", metavar="SHOT|IMAGE.exr", help="scene file or demo:NAME, which is rendered first; or a picture, of any program")
    sub.add_argument("--shot", metavar="SHOT", help="of a picture that was rendered here: the scene, to try causes on")
    add_view_arguments(sub)
    sub.add_argument("--seconds", type=float, default=20.0, metavar="S", help="time for brute force and trials (default %(default)g)")
    sub.add_argument("--exposure", type=float, metavar="STOPS", help="how a picture from elsewhere is looked at (default: as it measures itself)")
    add_distance_argument(sub)
    sub.add_argument("--json", action="store_true")


def diagnose(args: argparse.Namespace, asked: Ask, frame_of: Callable[[argparse.Namespace], Any], tell: Tell) -> int:
    """What is wrong with a picture, why, proven by trial, and what cures it."""
    if not args.seconds > 0.0:
        raise InputError(f"{args.seconds:g} seconds leave no time to try anything; give more than 0.")
    from .core.diagnose.diagnosis import diagnose as look_into
    from .core.formats.scenes import READERS

    is_scene = args.what.startswith("demo:") or Path(args.what).suffix.lower() in READERS
    case, stand = _rendered(args, asked, frame_of) if is_scene else _given(args)

    check_distance(args.per_degree)
    case.per_degree = args.per_degree

    def told(what: str, share: float, found: list[Any]) -> bool:
        print(f"{share:.0%} {what}" + (f" ({len(found)} so far)" if found else ""), file=sys.stderr)
        return True

    made = look_into(case, stand, told, seconds=args.seconds)
    for finding in [*made.findings, *made.withdrawn]:
        finding.pictures = {}
        for trial in finding.trials:
            trial.picture = None
    size = [case.picture.frame.width, case.picture.frame.height]
    result = {"picture": args.what, "size": size, "region": list(case.picture.frame.window), "recipe": case.recipe.flat() if case.recipe else None}
    tell(args, {**result, **made.as_dict()}, lambda: in_words(made, args.what))
    return 0


def _rendered(args: argparse.Namespace, asked: Ask, frame_of: Callable[[argparse.Namespace], Any]) -> tuple[Any, Any]:
    from .core.caches import CacheFolder
    from .demo.shots import find_shot
    from .work.diagnosing import render_case

    (recipe, edits), frame = asked(args), frame_of(args)
    scene = read_given(find_shot(args.what), args.frame)
    if args.camera not in edits.cameras:
        scene.camera(args.camera)
    compile_kernels()
    print("rendering", file=sys.stderr)
    caches = CacheFolder(Path(args.caches)) if args.caches else CacheFolder()
    made = render_case(scene, recipe, edits, args.camera, frame, caches=caches)
    assert made is not None
    return made


def _given(args: argparse.Namespace) -> tuple[Any, Any]:
    from .core.caches import CacheFolder
    from .core.diagnose.stand import Stand
    from .core.finish.finishing import measured_exposure
    from .core.formats.outside import read_outside
    from .core.scene.edits import Edits
    from .demo.shots import find_shot
    from .work.diagnosing import case_of

    picture = read_outside(Path(args.what))
    exposure = args.exposure if args.exposure is not None else measured_exposure(picture.beauty)
    if args.shot is None:
        case = case_of(picture, {}, exposure, None, None)
        return case, None
    if picture.recipe is None:
        raise InputError(f"{args.what} was not rendered here, so no cause can be tried on it; leave --shot away, and read what would settle it.")
    scene = read_given(find_shot(args.shot), args.frame)
    compile_kernels()
    caches = CacheFolder(Path(args.caches)) if args.caches else None
    stand = Stand(scene, picture.recipe, picture.edits or Edits(), picture.camera, picture.frame, caches=caches)
    exposure = args.exposure if args.exposure is not None else scene.camera(picture.camera).exposure
    return case_of(picture, {}, exposure, None, None), stand


def in_words(made: Any, what: str) -> str:
    """A diagnosis as lines of text."""
    lines = []
    for finding in made.findings:
        weak = " (judged from the picture alone)" if finding.weak else ""
        lines.append(f"{finding.title}{weak}\n    {finding.why}")
        if finding.cause:
            lines.append(f"    cause: {finding.cause}" + (f", {finding.confidence:.0%} sure" if finding.confidence else ""))
        for trial in finding.trials:
            share = f", {trial.explained:.0%} ± {trial.error:.0%} of it went" if trial.explained is not None else ""
            lines.append(f"    tried: {trial.says}: {trial.verdict}{share}")
        lines += [f"    {said}" for said in finding.withdrawn]
        if finding.note:
            lines.append(f"    {finding.note}")
        for remedy in finding.remedies:
            after = [
                f"{remedy.seconds:.3g} s" if remedy.seconds else "",
                f"{remedy.seen:.1f} times what is just seen" if remedy.seen is not None else "",
            ]
            lines.append(f"    → {remedy.words}" + (f" ({', '.join(a for a in after if a)})" if any(after) else ""))
            lines += [f"        --set '{key}={value}'" for key, value in remedy.changes.items()]
        lines += [f"    ? {question}" for question in finding.settles]
    return "\n".join(lines) or f"Nothing of note was found in {what}."
