"""`sivrel sequence`: frames of a moving shot to EXR pictures, PNG and a film."""

import re
import signal
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..core.errors import InputError
from .common import (
    Given,
    Reporter,
    check_distance,
    distance_option,
    frames_view_options,
    json_option,
    output_path,
    print_result,
    say,
    scheduler_options,
    shot_argument,
    threads_option,
    use_helpers,
)

if TYPE_CHECKING:
    from ..core.pictures.exr import Picture
    from ..core.sequence.judge import Judged
    from ..core.sequence.render import Sequence


@click.command(short_help="Render frames of a moving shot.")
@shot_argument
@click.option("-o", "--output", required=True, metavar="NAME.####.exr", help="Files to write; the # stand for the frame's number.")
@click.option("--frames", default="", metavar="1-96[x8]", help="Frames, also every n-th, or a list; default: all.")
@click.option("--png", metavar="NAME.####.png", help="Write each frame as PNG, too, at the camera's exposure.")
@click.option("--video", metavar="OUT.webm", help="Write the frames as a film, too.")
@click.option("--filter", "filtered", is_flag=True, help="Filter noise through time, in PNG and film; the EXR keep their grain.")
@click.option("--all-passes", is_flag=True, help="Keep the passes of each light, too; with many lights the files grow by them.")
@frames_view_options
@distance_option
@threads_option
@scheduler_options
@json_option
def sequence(
    shot: str, output: str, frames: str, png: str | None, video: str | None, filtered: bool, all_passes: bool, given: Given, per_degree: float,
    threads: int, as_json: bool,
) -> None:  # fmt: skip
    """Render frames of SHOT, a scene file that moves or demo:NAME, to EXR pictures with their passes, and measure their flicker.

    Frames that are there already, with the same recipe, are kept; a frame that was interrupted goes on from its finished tiles.
    """
    signal.signal(signal.SIGINT, signal.default_int_handler)
    check_distance(per_degree)
    settings, view = given.settings()
    opened = given.open(shot, view)
    report = Reporter()
    use_helpers(opened)
    made = opened.sequence(frames, settings, threads=threads, progress=report, **view)
    names = Names(output, ".exr", len(made.frames))
    names_png = Names(png, ".png", len(made.frames)) if png else None
    film = output_path(video, (".webm",), "The film is written as WebM; name it {name}.") if video else None
    for note in opened.notes:
        say(note)
    from ..core.sequence.judge import Judge, over_all
    from ..shot import warm_up

    assert opened.scene.frames is not None and opened.path is not None
    warm_up(report, settings, view["edits"], everything=False)
    judge = Judge(opened.scene.frames.rate, per_degree, filtered)
    rows: list[dict[str, Any]] = []
    shown: list[Any] = []
    levels = []
    changed = opened.path.stat().st_mtime
    for at, (path, picture, seconds, kept) in enumerate(_pictures(made, names, changed, report, all_passes)):
        rows.append({"frame": picture.frame.time, "file": str(path), "seconds": round(seconds, 3), "kept": kept, "flicker": None})
        ready = list(judge.add(picture))
        if at == len(made.frames) - 1:
            ready += judge.finish()
        for one in ready:
            if one.flicker is not None:
                body = one.flicker.as_dict()
                levels.append((one.time, body))
                next(row for row in rows if row["frame"] == one.time)["flicker"] = body
            if names_png or film:
                shown.append(_display(one, names_png))
            _say_frame(one, next(row for row in rows if row["frame"] == one.time), as_json)
    report.done()
    if film:
        from ..core.pictures.video import write_video

        write_video(film, shown, opened.scene.frames.rate)
    whole = over_all(levels)
    result = {
        "shot": opened.name, "camera": view.get("camera") or opened.cameras[0], "frames": rows,
        "flicker": whole, "rate": opened.scene.frames.rate, "video": str(film) if film else None, "filtered": filtered,
        "seconds": round(sum(row["seconds"] for row in rows), 3), "recipe": settings.flat(),
    }  # fmt: skip
    print_result(as_json, result, lambda: _words(result))


class Names:
    """File names of frames: a pattern whose run of # is the frame's number."""

    def __init__(self, pattern: str, suffix: str, count: int) -> None:
        self.path = output_path(pattern, (suffix,), "The frames are written as " + suffix[1:].upper() + "; name them {name}.")
        self.marks = re.search(r"#+", self.path.name)
        if self.marks is None and count > 1:
            raise InputError(f"{count} frames need a name with # for their numbers, like {self.path.stem}.####{suffix}.")

    def of(self, frame: float) -> Path:
        if self.marks is None:
            return self.path
        number = f"{int(frame):0{len(self.marks[0])}d}"
        return self.path.with_name(self.path.name[: self.marks.start()] + number + self.path.name[self.marks.end() :])


def _pictures(made: "Sequence", names: Names, changed: float, report: Reporter, all_passes: bool) -> "Iterator[tuple[Path, Picture, float, bool]]":
    """(file, picture, seconds, whether it was there already) of each frame in order; those that are missing are rendered."""
    from ..core.caches import hash_of
    from ..core.pictures.exr import save_exr
    from ..core.render.recipe import to_json
    from ..core.render.tile_folder import TileFolder
    from ..core.sequence.render import without_lights

    spent: list[float] = []
    for k, frame in enumerate(made.frames):
        path = names.of(frame)
        known = _known(path, made, frame, changed)
        if known is not None:
            yield path, known, 0.0, True
            continue
        left = f", about {sum(spent) / len(spent) * (len(made.frames) - k):.0f} s left" if spent else ""
        report(f"frame {frame:g}, {k + 1} of {len(made.frames)}{left}", k / len(made.frames))
        begun = time.monotonic()
        tiles = TileFolder(path.with_name(f".{path.stem}.tiles"))
        finished = tiles.of_work(hash_of(to_json(made.recipe), made.edits.flat(), made.camera, made.at(frame), made.moving.of, made.through))
        picture = made.render(frame, finished, tiles.add).picture
        if not all_passes:
            picture = without_lights(picture)
        save_exr(path, picture)
        tiles.remove()
        spent.append(time.monotonic() - begun)
        yield path, picture, spent[-1], False


def _known(path: Path, made: "Sequence", frame: float, changed: float) -> "Picture | None":
    """The picture of a frame, if its file is there and was made from exactly this, after the scene was `changed` last."""
    from .. import __version__
    from ..core.pictures.exr import read_exr

    if not path.is_file() or path.stat().st_mtime < changed:
        return None
    try:
        picture = read_exr(path)
    except InputError:
        return None
    same = (picture.recipe, picture.edits, picture.frame, picture.shot, picture.version, picture.through) == (
        made.recipe,
        made.edits,
        made.at(frame),
        made.name,
        __version__,
        made.through,
    )
    return picture if same and made.camera in (None, picture.camera) else None


def _display(one: "Judged", names: Names | None) -> Any:
    """The frame as the screen shows it, uint8; written as PNG under its name, if any."""
    from PIL import Image

    from ..core.finish.view import to_bytes, to_display

    pixels = to_bytes(to_display(one.image, one.picture.exposure))
    if names is not None:
        Image.fromarray(pixels).save(names.of(one.time), format="PNG")
    return pixels


def _say_frame(one: "Judged", row: dict[str, Any], quiet: bool) -> None:
    if quiet:
        return
    spent = "was there" if row["kept"] else f"{row['seconds']:.1f} s"
    seen = f", flicker {one.flicker.level:.2g}" if one.flicker is not None else ""
    say(f"{row['file']}: {spent}{seen}")


def _words(result: dict[str, Any]) -> str:
    from ..core.sequence.words import flicker_in_words

    frames = result["frames"]
    count = "1 frame" if len(frames) == 1 else f"{len(frames)} frames"
    return f"{count} in {result['seconds']:.0f} s. {flicker_in_words(result['flicker'], result['rate'])}"
