"""The command line. `--json` prints one JSON object on standard output; everything else goes to standard error.

Exit: 0 done, 1 failed, 2 wrong use or bad input, 130 cancelled.
"""

import argparse
import json
import os
import signal
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any, NoReturn

from . import __version__
from .cli_caches import add_arguments, caches
from .cli_diagnose import add_diagnose_arguments, diagnose
from .cli_pictures import add_compare_arguments, add_finish_arguments, compare, finish
from .cli_scenes import add_export_arguments, add_survey_arguments, add_view_arguments, export, read_given, survey
from .cli_tune import (
    add_advise_arguments,
    add_budget_arguments,
    add_ladder_arguments,
    add_match_arguments,
    advise,
    budget,
    ladder,
    match,
)  # fmt: skip
from .core.errors import InputError

MOST_THREADS = 1024


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        print(f"sivrel: {message}; `{self.prog} --help` shows how to use it.", file=sys.stderr)
        sys.exit(2)


def _say(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


class _Progress:
    """One line that is written over on a terminal, and now and then a line elsewhere."""

    def __init__(self) -> None:
        self.on_terminal = sys.stderr.isatty()
        self.next = 0.0

    def __call__(self, text: str, last: bool = False) -> None:
        now = time.monotonic()
        if now < self.next and not last:
            return
        self.next = now + (0.1 if self.on_terminal else 5.0)
        if self.on_terminal:
            print(f"\r\x1b[K{text}", end="\n" if last else "", file=sys.stderr, flush=True)
        else:
            _say(text)


def _two(text: str, separator: str, what: str) -> tuple[int, int]:
    try:
        first, second = (int(part) for part in text.lower().split(separator))
    except ValueError:
        raise InputError(f"{what} “{text}” can't be read; write it like 480{separator}270.") from None
    return first, second


def _frame(args: argparse.Namespace) -> Any:
    from .core.render.frame import Frame

    width, height = _two(args.size, "x", "The size")
    region = None
    if args.region:
        try:
            x0, y0, x1, y1 = (int(part) for part in args.region.split(","))
        except ValueError:
            raise InputError(f"The region “{args.region}” can't be read; write it like 0,0,240,135.") from None
        region = (x0, y0, x1, y1)
    return Frame(width, height, region, args.seed)


def _recipe(args: argparse.Namespace) -> tuple[Any, Any]:
    """The recipe and the edits that the arguments ask for."""
    from .core.render.recipe import Recipe, with_values
    from .core.render.starting import STARTING, named_from_json
    from .core.scene.edits import Edits, apart, with_edits

    recipe = Recipe()
    if args.recipe in STARTING:
        recipe = STARTING[args.recipe].recipe()
    elif args.recipe and args.recipe != "default":
        path = Path(args.recipe)
        if not path.is_file():
            names = ", ".join(["default", *STARTING])
            raise InputError(f"There is no recipe “{args.recipe}”; name a JSON file, or one of: {names}.")
        recipe = named_from_json(path.read_bytes())[2]
    values = {}
    for assignment in args.set or []:
        key, equals, value = assignment.partition("=")
        if not equals:
            raise InputError(f"“{assignment}” sets nothing; write it like sampling.max=32.")
        values[key.strip()] = value.strip()
    own, laid = apart(values)
    edits = with_edits(Edits(), laid)
    return with_values(recipe, own), edits


def render(args: argparse.Namespace) -> int:
    # A parent that runs this in the background may have told it to ignore interrupts.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    out = Path(args.output)
    if out.suffix.lower() != ".exr":
        raise InputError(f"The picture is written as EXR; name it {out.with_suffix('.exr').name}.")
    if not out.parent.is_dir():
        raise InputError(f"There is no folder {out.parent}; make it first.")
    frame, (recipe, edits) = _frame(args), _recipe(args)
    if not 1 <= args.threads <= MOST_THREADS:
        raise InputError(f"{args.threads} threads can't render; give 1 to {MOST_THREADS}.")
    if args.time_limit is not None:
        if not args.time_limit > 0.0:
            raise InputError(f"A time limit of {args.time_limit:g} s leaves no time; give more than 0.")
        from .core.render.recipe import with_values

        recipe = with_values(recipe, {"sampling.seconds": args.time_limit})
    from .demo.shots import find_shot

    path = find_shot(args.shot)
    import numpy as np

    begun = time.monotonic()
    scene = read_given(path, args.frame)
    if args.camera not in edits.cameras:
        scene.camera(args.camera)
    for note in scene.notes:
        _say(note)
    from .core.caches import CacheFolder
    from .core.formats.exr import write_exr
    from .core.measure.noise import noise_in_words
    from .core.render.even import render_even
    from .core.render.film import clock_entries, film_columns
    from .core.render.frame import Cancel, assemble, render_tiles
    from .core.render.prepare import prepare
    from .core.render.warmup import warm_up
    from .work.finishing import found_in, make_picture, measurements, noise_of

    progress = _Progress()
    warm_up(lambda done, total, name: progress(f"compiling kernels {done}/{total}: {name}"))

    def told(what: str, share: float) -> bool:
        progress(f"{what}: {share:.0%}")
        return True

    kept = CacheFolder(Path(args.caches)) if args.caches else None
    prepared = prepare(scene, recipe, edits, args.camera, frame=frame, caches=kept, progress=told)
    arrays, camera, clock = prepared.arrays, prepared.camera, np.zeros(clock_entries(prepared.arrays.slots))
    ready = time.monotonic()
    tiles: dict[int, Any] = {}
    total = len(frame.tiles())

    def on_tile(index: int, film: Any) -> None:
        tiles[index] = film
        left = (time.monotonic() - ready) * (total - len(tiles)) / len(tiles)
        progress(f"rendered {len(tiles)}/{total} tiles, about {left:.0f} s left", last=len(tiles) == total)

    def on_round(samples: int) -> None:
        progress(f"{samples} samples a pixel after {time.monotonic() - ready:.1f} of {limit:g} s", last=False)

    progress(f"rendering {total} tiles")
    cancel, limit = Cancel(), recipe.sampling.seconds
    how: dict[str, Any] = {"threads": args.threads, "clock": clock, "cancel": cancel}
    if limit > 0.0:
        _until_interrupted(cancel, lambda: render_even(arrays, camera, recipe, frame, limit, tiles.__setitem__, on_round=on_round, **how))
    else:
        _until_interrupted(cancel, lambda: render_tiles(arrays, camera, recipe, frame, on_tile, **how))
    seconds = time.monotonic() - ready
    film = assemble(frame, film_columns(arrays.slots), tiles)
    picture = make_picture(film, prepared, frame, recipe, scene.name, edits, _following(path, scene, recipe, edits, args))
    beside = out.with_name(f".{out.name}.new")
    try:
        write_exr(beside, picture)
        beside.replace(out)
    finally:
        beside.unlink(missing_ok=True)
    noisy = noise_of(picture, prepared)
    noise, light, dropped = measurements(picture, film, noisy)
    found = found_in(film, prepared, clock, picture, noisy)
    if dropped:
        _say(f"{dropped} samples were not finite numbers and were left out.")
    _print(
        args,
        {
            "output": str(out),
            "shot": scene.name,
            "camera": camera.name,
            "size": [frame.width, frame.height],
            "region": list(frame.window),
            "seed": frame.seed,
            "complete": True,  # whoever reads this relies on it: a render with a time is whole, too
            "seconds": round(seconds, 4),
            "prepare_seconds": round(ready - begun, 4),
            "noise": noise,
            "mean_luminance": light,
            "samples_dropped": dropped,
            "triangles": scene.triangle_count(),
            "notes": scene.notes,
            "recipe": recipe.flat(),
            "edits": edits.flat(),
            "lights": found["lights"],
            "depth_maps": found["maps"],
            "meters": found["meters"],
            "passes": found["passes"],
            "version": __version__,
        },
        lambda: f"{out}: {seconds:.2f} s" + (f", noise {noise_in_words(noisy)}" if noisy is not None else ""),
    )
    return 0


def _following(path: Path, scene: Any, recipe: Any, edits: Any, args: argparse.Namespace) -> Any:
    """The shot at the next frame, for the motion pass, where a frame of an animated file was asked for; None otherwise."""
    from .core.formats.scenes import read_scene
    from .core.render.prepare import prepare

    if args.frame is None or not scene.animated:
        return None
    return prepare(read_scene(path, frame=args.frame + 1.0), recipe, edits, args.camera)


def _until_interrupted(cancel: Any, work: Callable[[], bool]) -> bool:
    """Do `work` in a thread, so that an interrupt is heard at once and sets `cancel`, a core.render.frame.Cancel."""
    with ThreadPoolExecutor(1) as pool:
        done = pool.submit(work)
        try:
            while True:
                try:
                    return done.result(timeout=0.2)
                except TimeoutError:
                    if done.done():
                        raise
        except KeyboardInterrupt:
            cancel.set()
            raise


def recipes(args: argparse.Namespace) -> int:
    from .core.finish.finishing import Finish
    from .core.gi.ways import WAYS
    from .core.render.recipe import VERSION, settings
    from .core.render.starting import STARTING
    from .core.scene.edits import SETTINGS, span_in_words
    from .core.shadows.ways import WAYS as SHADOW_WAYS

    infos = settings()

    finishing = Finish.model_json_schema()["properties"]

    def table() -> str:
        lines = []
        for key, info in infos.items():
            span = ", ".join(info.choices) if info.choices else f"{info.minimum:g} to {info.maximum:g} {info.unit}".strip()
            lines.append(f"{key}  (default {info.default}; {span})\n    {info.trades}")
        for group, fields in SETTINGS.items():
            for field, about in fields.items():
                lines.append(f"{group}.NAME.{field}  ({span_in_words(about)})\n    {about['trades']}")
        for name, about in finishing.items():
            lines.append(f"finish.{name}  (default {about['default']})\n    {about['description']} With `sivrel finish`.")
        for key, start in STARTING.items():
            lines.append(f"--recipe {key}  ({start.title})\n    {start.reason}")
        return "\n".join(lines)

    shadow_ways = [{"key": w.key, "title": w.title, "does": w.does, "costs": w.costs} for w in SHADOW_WAYS]
    ways = [{"key": w.key, "title": w.title, "does": w.does, "costs": w.costs} for w in WAYS]
    starting = {key: {"title": s.title, "reason": s.reason, "values": s.values} for key, s in STARTING.items()}
    keys = {key: info.model_dump(exclude={"key", "phrase", "needs"}) for key, info in infos.items()}
    told = {"version": VERSION, "keys": keys, "ways": ways, "shadow_ways": shadow_ways, "edits": SETTINGS, "finish": finishing, "starting": starting}
    _print(args, told, table)
    return 0


def layer(args: argparse.Namespace) -> int:
    """Write the edits as a USD layer over the scene's own file."""
    out = Path(args.output)
    if out.suffix.lower() not in (".usda", ".usdc"):
        raise InputError(f"The layer is written as USD; name it {out.with_suffix('.usda').name}.")
    if not out.parent.is_dir():
        raise InputError(f"There is no folder {out.parent}; make it first.")
    _, edits = _recipe(args)
    from .core.formats.usd_edits import write_layer
    from .demo.shots import find_shot

    path = find_shot(args.shot)
    left_out = write_layer(path, edits, out)
    for sentence in left_out:
        _say(sentence)
    count = len(edits.flat())
    _print(args, {"output": str(out), "edits": edits.flat(), "left_out": left_out}, lambda: f"{out}: {count} edits over {path.name}")
    return 0


def serve(args: argparse.Namespace) -> int:
    from .web.server import run

    return run(host=args.host, port=args.port, data=Path(args.data), demo=False)


def demo(args: argparse.Namespace) -> int:
    from .web.server import run

    return run(host="127.0.0.1", port=args.port, data=Path(args.data), demo=True)


def _print(args: argparse.Namespace, result: dict[str, Any], words: Callable[[], str]) -> None:
    print(json.dumps(result) if args.json else words())


def _default_data() -> str:
    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return str(Path(base) / "sivrel")


def _parser() -> argparse.ArgumentParser:
    parser = _Parser(prog="sivrel", description="Choose, tune and diagnose ways of finding bounced light and shadows.")
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND", dest="command")

    def command(name: str, run: Callable[[argparse.Namespace], int], about: str) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=about, description=about)
        sub.set_defaults(run=run)
        return sub

    for name, run, about in (
        ("demo", demo, "Start the web application with the demo shots."),
        ("serve", serve, "Start the web application."),
    ):
        sub = command(name, run, about)
        sub.add_argument("--port", type=int, default=8017, help="port (default %(default)s)")
        sub.add_argument("--data", default=_default_data(), help="folder of the shots and proofs (default %(default)s)")
        if name == "serve":
            sub.add_argument("--host", default="127.0.0.1", help="address to bind; others than this machine need a key")
    sub = command("render", render, "Render a shot to an EXR picture.")
    sub.add_argument("shot", metavar="SHOT", help="scene file, or demo:NAME")
    sub.add_argument("-o", "--output", required=True, metavar="OUT.exr")
    add_view_arguments(sub)
    sub.add_argument("--threads", type=int, default=os.cpu_count() or 1, metavar="N", help="default: all cores")
    sub.add_argument("--time-limit", type=float, metavar="SECONDS", help="render the whole picture evenly, until this time is over")
    sub.add_argument("--json", action="store_true")
    sub = command("layer", layer, "Write edits of lights and objects as a USD layer over the scene, which stays as it is.")
    sub.add_argument("shot", metavar="SHOT", help="scene file, or demo:NAME")
    sub.add_argument("-o", "--output", required=True, metavar="OUT.usda")
    sub.add_argument("--set", action="append", metavar="KEY=VALUE", help="one edit; may be repeated")
    sub.add_argument("--json", action="store_true")
    sub.set_defaults(recipe=None)
    sub = command(
        "survey", lambda args: survey(args, _recipe, _print), "Look a scene over before rendering: what is wrong, where, and how to mend it."
    )
    add_survey_arguments(sub)
    sub = command(
        "diagnose", lambda args: diagnose(args, _recipe, _frame, _print), "Say what is wrong with a picture, prove why, and offer remedies."
    )
    add_diagnose_arguments(sub)
    sub = command("ladder", lambda args: ladder(args, _recipe, _frame, _print), "Render a setting at several values, and say which is enough.")
    add_ladder_arguments(sub)
    sub = command("budget", lambda args: budget(args, _recipe, _frame, _print), "Find the split of samples that leaves least noise in a given time.")
    add_budget_arguments(sub)
    sub = command("match", lambda args: match(args, _recipe, _frame, _print), "Set ways of finding light against each other in equal time.")
    add_match_arguments(sub)
    sub = command("advise", lambda args: advise(args, _recipe, _frame, _print), "Measure the facts of a shot, and say which recipe they ask for.")
    add_advise_arguments(sub)
    sub = command("export", lambda args: export(args, _recipe, _print), "Write a scene with all its edits as glTF (.glb).")
    add_export_arguments(sub)
    sub = command("recipes", recipes, "Show every setting with its range and what it trades.")
    sub.add_argument("--json", action="store_true")
    sub = command("caches", lambda args: caches(args, _print), "Show what is kept in a folder of caches; keep, lock, delete, export, import.")
    add_arguments(sub)
    sub = command(
        "finish", lambda args: finish(args, _print), "Finish a rendered picture as PNG, filtered if asked; or keep the filtered picture in an EXR."
    )
    add_finish_arguments(sub)
    sub = command("compare", lambda args: compare(args, _print), "Compare two pictures, and say where the eye sees a difference.")
    add_compare_arguments(sub)
    return parser


def main(arguments: list[str] | None = None) -> int:
    args = _parser().parse_args(arguments)
    try:
        code = args.run(args)
        sys.stdout.flush()
        return code
    except InputError as error:
        _say(f"sivrel: {error}")
        return 2
    except KeyboardInterrupt:
        _say("cancelled")
        return 130
    except BrokenPipeError:
        # Who reads has seen enough; what is left in the buffer must not be written at exit.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        _say(f"sivrel: {error.strerror or error}: {error.filename or ''}".rstrip(": "))
        return 1
    except MemoryError:
        _say("sivrel: there is not enough memory for this; render it smaller, or with fewer passes.")
        return 1
    except Exception as error:
        if os.environ.get("SIVREL_DEBUG"):
            raise
        _say(f"sivrel: this failed by a fault of ours ({type(error).__name__}); set SIVREL_DEBUG=1 and tell us what it says.")
        return 1


if __name__ == "__main__":
    sys.exit(main())
