"""Shared by commands: options, progress, opening shots and recipes, and printing results."""

import functools
import json
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass, fields
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..core.errors import InputError
from ..core.machine import MOST_THREADS

if TYPE_CHECKING:
    from ..core.edits.edits import Edits
    from ..core.render.recipe import Recipe
    from ..shot import Shot, View

MOST_SECONDS = 86400.0

shot_argument = click.argument("shot", metavar="SHOT")
json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object on standard output.")
frame_option = click.option("--frame", type=float, metavar="N", help="Time code at which the scene is read.")
camera_option = click.option("--camera", metavar="NAME", help="Camera (default: the first).")
recipe_option = click.option("--recipe", metavar="NAME|FILE.json", help="Recipe to start from.")
set_option = click.option("--set", "assignments", multiple=True, metavar="KEY=VALUE", help="One setting or edit; may be repeated.")
distance_option = click.option(
    "--per-degree", type=float, default=67.0, metavar="PIXELS", show_default=True, help="Viewing distance: pixels a degree."
)  # fmt: skip


@dataclass(frozen=True)
class Given:
    """What to render of a shot, and with which recipe, from the command line."""

    recipe: str | None
    assignments: tuple[str, ...]
    size: str
    region: str | None
    camera: str | None
    frame: float | None
    seed: int
    caches: str | None

    def settings(self) -> "tuple[Recipe, View]":
        """The recipe, and the view with its edits, for the library. Raises InputError."""
        settings, edits = recipe_of(self.recipe, self.assignments)
        return settings, view_of(self.size, self.region, self.camera, self.seed, edits)

    def open(self, name: str, view: "View") -> "Shot":
        """The shot, with its camera checked. Raises InputError."""
        opened = open_shot(name, self.frame, self.caches)
        check_camera(opened, view)
        return opened

    def begin(self, name: str) -> "tuple[Shot, Recipe, View, Reporter]":
        """The shot, recipe and view, with compiled kernels, and a progress reporter. Raises InputError."""
        from ..shot import warm_up

        settings, view = self.settings()
        opened, report = self.open(name, view), Reporter()
        warm_up(report)
        use_helpers(opened)
        return opened, settings, view, report


def view_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of a view; the command is called with them as `given`."""
    return frame_option(frames_view_options(command))


def frames_view_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of a view but for its frame; the command is called with them as `given`."""

    @functools.wraps(command)
    def with_given(**arguments: Any) -> Any:
        arguments.setdefault("frame", None)
        return command(given=Given(**{one.name: arguments.pop(one.name) for one in fields(Given)}), **arguments)

    made: Callable[..., Any] = with_given
    for option in (
        click.option("--caches", metavar="DIR", help="Folder in which caches are stored and reused."),
        click.option("--seed", type=int, default=0, metavar="N", show_default=True, help="Seed of the random numbers."),
        camera_option,
        click.option("--region", metavar="X0,Y0,X1,Y1", help="Part of the frame to render, in its pixels."),
        click.option("--size", default="480x270", metavar="WxH", show_default=True, help="Size of the whole frame."),
        set_option,
        recipe_option,
    ):
        made = option(made)
    return made


def seconds_option(default: float | None, what: str) -> Callable[..., Any]:
    return click.option("--seconds", type=float, default=default, metavar="S", show_default=default is not None, help=what)


class Reporter:
    """Progress on standard error: on a terminal one line that is overwritten; otherwise a line per step, with some in between."""

    def __init__(self) -> None:
        self.on_terminal = sys.stderr.isatty()
        self.next, self.step, self.open = 0.0, "", False

    def __call__(self, what: str, share: float) -> None:
        now, step = time.monotonic(), what.partition(",")[0]
        if now < self.next and (self.on_terminal or step == self.step):
            return
        self.next, self.step = now + (0.1 if self.on_terminal else 5.0), step
        text = f"{what}: {share:.0%}"
        print(f"\r\x1b[K{text}" if self.on_terminal else text, end="" if self.on_terminal else "\n", file=sys.stderr, flush=True)
        self.open = self.on_terminal

    def done(self) -> None:
        """End the overwritten line."""
        if self.open:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)
            self.open = False


scheduler_option = click.option(
    "--scheduler", envvar="SIVREL_SCHEDULER", metavar="ADDRESS", help="Render on the helpers at this Dask scheduler; see `sivrel helper`."
)


def _threads(context: click.Context, parameter: click.Parameter, given: int | None) -> int:
    """Threads as given, 0 for all. Raises InputError."""
    if given is not None and not 1 <= given <= MOST_THREADS:
        raise InputError(f"{given} threads can't be used; give 1 to {MOST_THREADS}.")
    return given or 0


threads_option = click.option(
    "--threads", type=int, callback=_threads, envvar="SIVREL_THREADS", metavar="N", help="Threads that work may run on; default: all cores."
)
same_option = click.option(
    "--same-processor", is_flag=True, envvar="SIVREL_SAME_PROCESSOR", help="Use only helpers with this machine's processor: the same bytes."
)


def scheduler_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """The options of a command that may run on helpers; it is called without them, and `use_helpers` finds them in the context."""

    @functools.wraps(command)
    def without(scheduler: str | None, same_processor: bool, **arguments: Any) -> Any:
        click.get_current_context().meta["sivrel.helpers"] = scheduler, same_processor
        return command(**arguments)

    made: Callable[..., Any] = scheduler_option(same_option(without))
    return made


def helpers_wanted() -> tuple[str | None, bool]:
    """The scheduler that the command's options name, and whether only helpers with the same processor are wanted."""
    found: tuple[str | None, bool] = click.get_current_context().meta.get("sivrel.helpers", (None, False))
    return found


def use_helpers(shot: "Shot") -> None:
    """Let a shot be rendered on the helpers that the command's options name, until the command ends. Raises InputError."""
    scheduler, same_processor = helpers_wanted()
    if scheduler:
        shot.elsewhere = click.get_current_context().with_resource(need_cluster().Cluster(scheduler, say, same_processor))


def need_cluster() -> Any:
    """The module that needs Dask. Raises InputError where that is not installed."""
    try:
        from ..cluster import cluster
    except ModuleNotFoundError as error:
        raise InputError(f"More than one machine needs the package {error.name}; install sivrel[cluster].") from None
    return cluster


def say(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


def print_result(as_json: bool, result: dict[str, Any], words: Callable[[], str]) -> None:
    """One JSON object, or the same in words."""
    click.echo(json.dumps(result) if as_json else words())


def values_of(assignments: tuple[str, ...], example: str = "sampling.max=32") -> dict[str, str]:
    """KEY=VALUE arguments as a dictionary. Raises InputError."""
    values = {}
    for assignment in assignments:
        key, equals, value = assignment.partition("=")
        if not equals:
            raise InputError(f"“{assignment}” is not a setting; write it like {example}.")
        values[key.strip()] = value.strip()
    return values


def recipe_of(recipe: str | None, assignments: tuple[str, ...]) -> "tuple[Recipe, Edits]":
    """The recipe and the edits of --recipe and --set. Raises InputError."""
    from ..shot import recipe_and_edits

    return recipe_and_edits(recipe or None, values=values_of(assignments))


def view_of(size: str, region: str | None, camera: str | None, seed: int, edits: "Edits") -> "View":
    """--size, --region, --camera and --seed for the library. Raises InputError."""
    try:
        width, height = (int(part) for part in size.lower().split("x"))
    except ValueError:
        raise InputError(f"The size “{size}” can't be read; write it like 480x270.") from None
    box = None
    if region:
        try:
            x0, y0, x1, y1 = (int(part) for part in region.split(","))
        except ValueError:
            raise InputError(f"The region “{region}” can't be read; write it like 0,0,240,135.") from None
        box = (x0, y0, x1, y1)
    from ..core.render.frame import Frame

    Frame(width, height, box, seed)  # raises an error if they are wrong
    return {"edits": edits, "camera": camera, "size": (width, height), "region": box, "seed": seed}


def open_shot(name: str, frame: float | None = None, caches: str | None = None) -> "Shot":
    """Open a shot: inspected first in a process with limits, unless it is a demo shot. Raises InputError."""
    from ..core.scene.model import LAST_TIME
    from ..demo.shots import FOLDER, find_shot
    from ..shot import open
    from ..work.looking_in import inspect_sandboxed
    from ..work.openings import in_words

    if frame is not None and not abs(frame) <= LAST_TIME:
        raise InputError(f"There is no frame {frame:g}; give a number of the file's range.")
    path = find_shot(name)
    if path.is_file() and not path.resolve().is_relative_to(FOLDER):
        report = Reporter()
        report.next = time.monotonic() + 2.0  # most files are read sooner
        facts = inspect_sandboxed(path, None, frame, hear=lambda share, what: report(f"reading, {what}", share) if what else None)
        report.done()
        large = in_words(path.name, facts["load"])
        if large:
            say(large)
    return open(path, frame=frame, caches=caches)


def check_camera(shot: "Shot", view: "View") -> None:
    """Raise InputError where there is no such camera, before kernels are compiled."""
    shot.edited(view.get("edits")).camera(view.get("camera"))


def output_path(name: str, suffixes: tuple[str, ...], sentence: str) -> Path:
    """A file to write. Raises InputError with the `sentence`, in which `{name}` is the right name, or if its folder does not exist."""
    out = Path(name)
    if out.suffix.lower() not in suffixes:
        raise InputError(sentence.format(name=out.with_suffix(suffixes[0]).name))
    if not out.parent.is_dir():
        raise InputError(f"There is no folder {out.parent}; create it first.")
    return out


def check_distance(per_degree: float) -> None:
    """Raise InputError for an impossible viewing distance."""
    if not 5.0 <= per_degree <= 300.0:
        raise InputError(f"{per_degree:g} pixels per degree is not a viewing distance; give 5 to 300 (a screen at arm's length has 40 to 70).")


def check_seconds(seconds: float) -> None:
    if not 1.0 <= seconds <= MOST_SECONDS:
        raise InputError(f"{seconds:g} seconds can't be used; give 1 to {MOST_SECONDS:.0f}.")
