"""The commands that take scenes without rendering them: looking one over, and writing one out with its edits."""

import argparse
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .cli_pictures import Tell
from .core.errors import InputError

LAST_FRAME = 1e9
Ask = Callable[[argparse.Namespace], tuple[Any, Any]]
"""The recipe and the edits that the arguments ask for."""


def add_view_arguments(sub: argparse.ArgumentParser) -> None:
    """What of a shot is rendered, and by which recipe."""
    sub.add_argument("--recipe", metavar="NAME|FILE.json", help="recipe to start from")
    sub.add_argument("--set", action="append", metavar="KEY=VALUE", help="one setting or edit; may be repeated")
    sub.add_argument("--size", default="480x270", metavar="WxH", help="size of the whole frame (default %(default)s)")
    sub.add_argument("--region", metavar="X0,Y0,X1,Y1", help="part of the frame to render, in its pixels")
    sub.add_argument("--camera", metavar="NAME", help="camera (default: the first)")
    sub.add_argument("--frame", type=float, metavar="N", help="time code at which the scene is read")
    sub.add_argument("--seed", type=int, default=0, metavar="N", help="seed of the random numbers (default 0)")
    sub.add_argument("--caches", metavar="DIR", help="folder where what is prepared is kept, and found again")


def add_survey_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("shot", metavar="SHOT", help="scene file, or demo:NAME")
    sub.add_argument("--recipe", metavar="NAME|FILE.json", help="recipe that it is looked over for")
    sub.add_argument("--set", action="append", metavar="KEY=VALUE", help="one setting or edit; may be repeated")
    sub.add_argument("--camera", metavar="NAME", help="camera (default: the first)")
    sub.add_argument("--frame", type=float, metavar="N", help="time code at which the scene is read")
    sub.add_argument("--json", action="store_true")


def add_export_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("shot", metavar="SHOT", help="scene file, or demo:NAME")
    sub.add_argument("-o", "--output", required=True, metavar="OUT.glb")
    sub.add_argument("--set", action="append", metavar="KEY=VALUE", help="one edit; may be repeated")
    sub.add_argument("--frame", type=float, metavar="N", help="time code at which the scene is read")
    sub.add_argument("--json", action="store_true")
    sub.set_defaults(recipe=None)


def add_distance_argument(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("--per-degree", type=float, default=67.0, metavar="PIXELS", help="viewing distance: pixels a degree (default %(default)g)")


def check_distance(per_degree: float) -> None:
    """Raise InputError where nobody looks from so near or far."""
    if not 5.0 <= per_degree <= 300.0:
        raise InputError(f"{per_degree:g} pixels a degree is no viewing distance; give 5 to 300 (a screen at arm's length has 40 to 70).")


def compile_kernels() -> None:
    """Compile what is not compiled yet, and say now and then how far it is."""
    from .core.render.warmup import warm_up

    warm_up(lambda done, total, name: print(f"compiling kernels {done}/{total}: {name}", file=sys.stderr) if done % 20 == 0 else None)


def read_given(path: Path, frame: float | None) -> Any:
    """A scene that somebody named: looked into first, in a process with bounds, unless it is one that ships. Raises InputError."""
    from .core.formats.scenes import read_scene
    from .demo.shots import FOLDER
    from .work.looking_in import looked_into

    if frame is not None and not abs(frame) <= LAST_FRAME:
        raise InputError(f"There is no frame {frame:g}; give a number of the file's range.")
    if path.is_file() and not path.resolve().is_relative_to(FOLDER):
        looked_into(path, None, frame)
    return read_scene(path, frame=frame)


def survey(args: argparse.Namespace, asked: Ask, tell: Tell) -> int:
    """Look a scene over before any render: what is wrong with it, where, why it matters here, and how to mend it."""
    recipe, edits = asked(args)
    from .core.render.prepare import prepare
    from .core.render.recipe import with_values
    from .core.survey.survey import survey as look_over
    from .demo.shots import find_shot

    scene = read_given(find_shot(args.shot), args.frame)
    compile_kernels()
    ready = prepare(scene, with_values(recipe, {"gi.seen": "off", "caustics.on": "no"}), edits, args.camera)

    def told(what: str, share: float, _: Any) -> bool:
        print(f"{share:.0%} {what}", file=sys.stderr)
        return True

    found = look_over(ready, recipe, told)
    result = {"shot": scene.name, "camera": ready.camera.name, "triangles": scene.triangle_count(), "notes": scene.notes, **found.as_dict()}

    def words() -> str:
        lines = [f"{f.severity}: {f.title}\n    {f.why}\n" + "".join(f"    → {m.words}{_sets(m.edits)}\n" for m in f.mends) for f in found.findings]
        return "".join(lines).rstrip() or f"Nothing found in {scene.name}, seen from {ready.camera.name}."

    tell(args, result, words)
    return 0


def _sets(edits: dict[str, Any]) -> str:
    return "".join(f"\n        --set '{key}={value}'" for key, value in edits.items())


def export(args: argparse.Namespace, asked: Ask, tell: Tell) -> int:
    """Write a whole scene with its edits as glTF."""
    out = Path(args.output)
    if out.suffix.lower() != ".glb":
        raise InputError(f"The scene is written as glTF; name it {out.with_suffix('.glb').name}. (`sivrel layer` writes the edits alone, as USD.)")
    if not out.parent.is_dir():
        raise InputError(f"There is no folder {out.parent}; make it first.")
    _, edits = asked(args)
    from .core.formats.gltf_out import write_gltf
    from .core.scene.apply_edits import apply_edits
    from .demo.shots import find_shot

    scene = apply_edits(read_given(find_shot(args.shot), args.frame), edits)
    left_out = write_gltf(scene, out)
    for sentence in left_out:
        print(sentence, file=sys.stderr)
    result = {"output": str(out), "triangles": scene.triangle_count(), "edits": edits.flat(), "left_out": left_out}
    tell(args, result, lambda: f"{out}: {scene.triangle_count():,} triangles, {len(left_out)} things left out")
    return 0
