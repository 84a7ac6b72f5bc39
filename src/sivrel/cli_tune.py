"""The commands that tune a shot: ladder, budget, match, advise."""

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .cli_pictures import Tell
from .cli_scenes import Ask, add_distance_argument, add_view_arguments, check_distance, compile_kernels, read_given
from .core.errors import InputError

FrameOf = Callable[[argparse.Namespace], Any]


def _common(sub: argparse.ArgumentParser, seconds: float | None, what: str) -> None:
    sub.add_argument("shot", metavar="SHOT", help="scene file, or demo:NAME")
    add_view_arguments(sub)
    sub.add_argument("--seconds", type=float, default=seconds, metavar="S", help=what)
    sub.add_argument("--json", action="store_true")


def add_ladder_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument(
        "--vary",
        action="append",
        required=True,
        metavar="KEY[=V1,V2,..]",
        help="setting and its rungs, doubled about what stands if none; twice: a grid",
    )
    add_distance_argument(sub)
    sub.add_argument("--strip", metavar="OUT.png", help="write the rungs side by side: a contact strip")
    _common(sub, 60.0, "time for all of it, beyond which rungs that were not named are left out (default %(default)g)")


def add_budget_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("--noise", type=float, metavar="PERCENT", help="noise to reach, in place of a time")
    _common(sub, None, "seconds that a frame may take")


def add_match_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument(
        "--ways", default="", metavar="A,B,..", help="SEEN[/BEYOND][:looked_up][+SHADOWS][+caustics], by commas (default: all with bounced light)"
    )
    _common(sub, 20.0, "seconds a frame that each has, its caches counted (default %(default)g)")


def add_advise_arguments(sub: argparse.ArgumentParser) -> None:
    _common(sub, 60.0, "seconds that a final frame may take (default %(default)g)")


def ladder(args: argparse.Namespace, asked: Ask, frame_of: FrameOf, tell: Tell) -> int:
    """How high is high enough: one setting, or two, at several values."""
    from .core.finish.strip import write_strip
    from .core.tune.ladder import climb, rungs_of

    check_distance(args.per_degree)
    if args.strip and (not args.strip.lower().endswith(".png") or not Path(args.strip).parent.is_dir()):
        raise InputError(f"{args.strip} can't be written: name a PNG in a folder that is there.")
    if len(args.vary) > 2:
        raise InputError("A ladder varies one setting, or two as a grid; leave the others away.")
    _some_time(args.seconds)
    stand, frame, exposure = _stand(args, asked, frame_of)
    chosen = []
    for text in args.vary:
        key, equals, values = text.partition("=")
        given = [v for v in values.split(",") if v.strip()] if equals else None
        chosen.append(rungs_of(stand, key.strip(), given, exposure))
    made = climb(stand, chosen, frame, exposure, _told, seconds=args.seconds, per_degree=args.per_degree)
    shown = [(rung.picture, ", ".join(v.shown(rung.values[v.key]) for v in made.varied)) for rung in made.rungs if rung.picture is not None]
    if args.strip and shown:
        write_strip(Path(args.strip), [picture for picture, _ in shown], [words for _, words in shown], exposure)
    for rung in made.rungs:
        rung.picture = None
    tell(args, {"shot": stand.scene.name, **made.as_dict()}, lambda: ladder_in_words(made))
    return 0


def ladder_in_words(made: Any) -> str:
    lines = []
    for rung in made.rungs:
        name = ", ".join(v.shown(rung.values[v.key]) for v in made.varied)
        if made.of_taste and not rung.skipped:
            lines.append(f"{name:>16}  {rung.frame_seconds:8.3g} s a frame  light {rung.light:.4g}")
            continue
        if rung.error is None:
            lines.append(f"{name:>16}  not rendered: {rung.skipped}")
            continue
        seen = f"seen to differ in {rung.seen['last']:.1%}" if rung.seen.get("last") else ""
        lines.append(
            f"{name:>16}  {rung.frame_seconds:8.3g} s a frame  noise {rung.error.noise:6.1%}"
            f"  bias {rung.error.bias:5.1%} ± {rung.error.bias_error:.1%}  light {rung.error.light:.3f}  {seen}{'  ← enough' if rung.enough else ''}"
        )
    return "\n".join([*lines, made.says])


def budget(args: argparse.Namespace, asked: Ask, frame_of: FrameOf, tell: Tell) -> int:
    """Where the next second goes: the split of samples that leaves least noise in a time, or reaches a noise soonest."""
    from .core.tune.budget import plan_budget

    if (args.seconds is None) == (args.noise is None):
        raise InputError("A budget is a time or a noise: give --seconds or --noise, one of the two.")
    if args.seconds is not None:
        _some_time(args.seconds)
    elif not 0.1 <= args.noise <= 100.0:
        raise InputError(f"{args.noise:g} % is no noise to aim at; give 0.1 to 100 (at 5 % grain is seen on a plain wall, at 1 % not at all).")
    stand, frame, _ = _stand(args, asked, frame_of)
    made = plan_budget(stand, frame, _told, seconds=args.seconds, noise=None if args.noise is None else args.noise / 100.0)
    tell(args, {"shot": stand.scene.name, **made.as_dict()}, lambda: budget_in_words(made))
    return 0


def budget_in_words(made: Any) -> str:
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


def match(args: argparse.Namespace, asked: Ask, frame_of: FrameOf, tell: Tell) -> int:
    """Which way wins on this shot, in equal time and to equal error."""
    from .core.tune.candidates import candidates
    from .core.tune.match import run_match

    _some_time(args.seconds)
    stand, frame, _ = _stand(args, asked, frame_of)
    chosen = candidates([name for name in args.ways.split(",") if name.strip()], stand.recipe)
    made = run_match(stand, chosen, frame, _told, seconds=args.seconds)
    made.reference_picture = None
    for entrant in made.entrants:
        entrant.picture = None
    tell(args, {"shot": stand.scene.name, **made.as_dict()}, lambda: match_in_words(made))
    return 0


def match_in_words(made: Any) -> str:
    lines = [f"brute force to hold them to: {made.reference_seconds:.3g} s, ± {made.reference_error:.1%}"]
    for entrant in made.entrants:
        name, error = entrant.candidate.name, entrant.error
        if error is None:
            lines.append(f"{name:>34}  {entrant.out or f'its caches take {entrant.prepares:.3g} s, so no time is left for pixels'}")
            continue
        pays = f", pays from frame {entrant.pays_from}" if entrant.pays_from else ""
        lines.append(f"{name:>34}  off {error.total:6.1%} (noise {error.noise:.1%}, bias {error.bias:.1%}), caches {entrant.prepares:.3g} s{pays}")
    return "\n".join([*lines, made.says])


def advise(args: argparse.Namespace, asked: Ask, frame_of: FrameOf, tell: Tell) -> int:
    """Which way this shot should use, and why, from facts measured on it."""
    from .core.formats.scenes import two_frames
    from .core.tune.advice import advise as advise_on
    from .core.tune.facts import measure_facts, motion_between
    from .demo.shots import find_shot

    _some_time(args.seconds)
    stand, frame, exposure = _stand(args, asked, frame_of)
    frames = two_frames(find_shot(args.shot), first=args.frame) if stand.scene.animated else None
    motion = motion_between(*frames, args.camera) if frames else None
    facts = measure_facts(stand, frame, exposure, motion, _told, seconds=args.seconds)
    assert facts is not None
    made = advise_on(facts, stand.recipe, seconds=args.seconds)
    tell(args, {"shot": stand.scene.name, **made.as_dict()}, lambda: advice_in_words(made))
    return 0


def advice_in_words(made: Any) -> str:
    lines = [f"{fact.name:>22}  {fact.value}  {fact.means}" for fact in made.facts]
    lines.append(f"Tried, and what a frame of {made.seconds:g} s would have:")
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


def _some_time(seconds: float) -> None:
    if not 1.0 <= seconds <= 86400.0:
        raise InputError(f"{seconds:g} seconds can't be used; give 1 to 86400.")


def _told(what: str, share: float, _: Any) -> bool:
    print(f"{share:.0%} {what}", file=sys.stderr)
    return True


def _stand(args: argparse.Namespace, asked: Ask, frame_of: FrameOf) -> tuple[Any, Any, float]:
    """Where the shot is rendered, the frame, and the camera's exposure."""
    from .core.caches import CacheFolder
    from .core.diagnose.stand import Stand
    from .demo.shots import find_shot

    (recipe, edits), frame = asked(args), frame_of(args)
    scene = read_given(find_shot(args.shot), args.frame)
    if args.camera not in edits.cameras:
        scene.camera(args.camera)
    compile_kernels()
    caches = CacheFolder(Path(args.caches)) if args.caches else None
    stand = Stand(scene, recipe, edits, args.camera, frame, caches=caches)
    return stand, frame, stand.ready(*stand.changed({"gi.seen": "off", "caustics.on": "no"}, {}))[0].camera.exposure
