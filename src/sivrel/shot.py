"""The library's API: open a shot, render it, survey it, tune it; compare and diagnose pictures.

Every command of the command line is a call to this module. Long work takes `progress(what, share)`, called at each step with the current step
and the share that is done, and `cancel`, a `Cancel` that may be set from another thread; cancelled work raises `Cancelled`.
"""

import time
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, TypedDict, Unpack

from .core.caches import CacheFolder
from .core.edits.edits import Edits, apart, with_edits
from .core.errors import InputError
from .core.pictures.exr import Picture, read_exr
from .core.render.frame import Frame
from .core.render.recipe import Recipe, with_values
from .core.render.starting import STARTING, named_from_json
from .core.rendered import Render
from .core.scene.model import Scene
from .core.task import Cancel, Task
from .core.work_time import processor_time

if TYPE_CHECKING:
    from .core.diagnose.diagnosis import Diagnosis
    from .core.diagnose.trial_renderer import TrialRenderer
    from .core.measure.comparison import Comparison
    from .core.render.prepare import Files, Prepared
    from .core.render.through_time import Moving
    from .core.rendered import Neighbours
    from .core.sequence.render import Sequence
    from .core.spread import Elsewhere
    from .core.survey.survey import Survey
    from .core.tune.advice import Advice
    from .core.tune.budget import Budget
    from .core.tune.in_motion import JudgeInMotion
    from .core.tune.ladder import Ladder
    from .core.tune.match import Match

Progress = Callable[[str, float], None]
RecipeLike = Recipe | str | Path | Mapping[str, Any] | None
"""A recipe; the name of a starting recipe; a JSON file; settings by key over the defaults, which may include edits; None: the defaults."""
EditsLike = Edits | Mapping[str, Any] | None


class View(TypedDict, total=False):
    """What to render of a shot. edits of lights, objects and cameras, as `Edits` or values by key; camera: by name, the first one if None;
    size: width and height of the whole frame in pixels, 480 by 270 if left out; region: (x0, y0, x1, y1) in its pixels; seed of the random
    numbers, 0 if left out."""

    edits: EditsLike
    camera: str | None
    size: tuple[int, int]
    region: tuple[int, int, int, int] | None
    seed: int


def open(path: str | Path, *, frame: float | None = None, caches: str | Path | None = None, confine_to: str | Path | None = None) -> "Shot":  # noqa: A001
    """Read a scene file (USD, glTF, OBJ), or a demo shot as `demo:NAME`, at a time code `frame`.

    caches: folder for caches, in memory if None; confine_to: nothing outside this folder is read. Raises
    InputError with one sentence when the file can't be used.
    """
    from .core.formats.scenes import read_scene
    from .demo.shots import find_shot

    found, confined = find_shot(str(path)), Path(confine_to) if confine_to is not None else None
    scene = read_scene(found, frame=frame, confine_to=confined)
    return Shot(scene, found, frame=frame, caches=caches, confine_to=confined)


class Shot:
    """A scene with the data its renders share: packed geometry and caches. Not thread-safe. elsewhere: other processes that render its pictures and
    sequences (`sivrel.cluster.cluster.Cluster`), None for this one."""

    def __init__(
        self, scene: Scene, path: Path | None = None, *, frame: float | None = None, caches: str | Path | None = None, confine_to: Path | None = None
    ) -> None:  # fmt: skip
        self.scene, self.path, self.frame, self.confine_to = scene, path, frame, confine_to
        self.caches = CacheFolder(Path(caches) if caches is not None else None)
        self.elsewhere: Elsewhere | None = None
        self._files: Files | None = None
        self._last: Prepared | None = None

    @property
    def name(self) -> str:
        return self.scene.name

    @property
    def cameras(self) -> list[str]:
        """Names of the file's cameras; the first is the default."""
        return [camera.name for camera in self.scene.cameras]

    @property
    def notes(self) -> list[str]:
        """What was left out or repaired on reading, a sentence each."""
        return self.scene.notes

    def render(
        self, recipe: RecipeLike = None, *, seconds: float | None = None, threads: int = 0, progress: Progress | None = None,
        cancel: Cancel | None = None, **view: Unpack[View],
    ) -> Render:  # fmt: skip
        """Render a picture with all its passes and measurements. `seconds`: render the whole picture evenly for this time, instead of the
        recipe's samples; `threads`: all cores if 0. The same scene, recipe, view and version give the same bytes, on any number of threads,
        unless limited by time. Raises Cancelled, and InputError if recipe, edits or view can't be used."""
        from .core.rendered import render_prepared

        settings, edits = recipe_and_edits(recipe, view.get("edits"))
        if seconds is not None:
            settings = with_values(settings, {"sampling.seconds": seconds})
        frame, camera, task = self._frame(view), view.get("camera"), _task(progress, cancel, self.elsewhere)
        begun, before = time.monotonic(), processor_time()
        ready = self._prepare(settings, edits, camera, frame, task)
        prepared, worked = time.monotonic() - begun, processor_time() - before
        made = render_prepared(
            ready, settings, frame, self.name, edits, threads=threads, task=task, neighbours=self._neighbours(edits, camera, ready),
        )  # fmt: skip
        made.prepare_seconds, made.spent.processor = prepared, made.spent.processor + worked
        return made

    def mattes(
        self, by: Literal["object", "surface"] = "object", *, rays: int = 16, progress: Progress | None = None, cancel: Cancel | None = None,
        **view: Unpack[View],
    ) -> Picture:  # fmt: skip
        """How much of each pixel every object, or every surface, covers, as passes “matte.NAME” for compositing; from `rays` points of each pixel, a
        square number. Save it with `sivrel.core.pictures.exr.save_exr`."""
        from .core.pictures.mattes import mattes

        settings, edits = recipe_and_edits(None, view.get("edits"))
        frame, task = self._frame(view), _task(progress, cancel, self.elsewhere)
        return mattes(self._prepare(_lights_alone(settings), edits, view.get("camera"), frame, task), frame, by, rays, task)

    def survey(
        self, recipe: RecipeLike = None, *, edits: EditsLike = None, camera: str | None = None, progress: Progress | None = None,
        cancel: Cancel | None = None,
    ) -> "Survey":  # fmt: skip
        """Check the scene before any render, for this recipe: problems, where they are, why they matter, and fixes."""
        from .core.survey.survey import survey

        settings, laid = recipe_and_edits(recipe, edits)
        task = _task(progress, cancel, self.elsewhere)
        ready = self._prepare(_lights_alone(settings), laid, camera, Frame(), task.before(task.until))
        return survey(ready, settings, task)

    def diagnose(self, picture: Render | Picture, **how: Any) -> "Diagnosis":
        """`sivrel.diagnose` of a picture of this shot, with trials on it."""
        return diagnose(picture, self, **how)

    def ladder(
        self, vary: Mapping[str, Iterable[Any] | None], recipe: RecipeLike = None, *, seconds: float = 60.0, per_degree: float = 67.0,
        filtered: bool = False, in_motion: bool = False, progress: Progress | None = None, cancel: Cancel | None = None, **view: Unpack[View],
    ) -> "Ladder":  # fmt: skip
        """Render one or two settings at several values, and find which is enough at a viewing distance in pixels per degree. `vary`: values by key;
        None chooses them around the recipe's value. filtered: whether the pictures are judged as the noise filter shows them; in_motion: whether
        flicker is judged, too, in three frames of a moving shot."""
        from .core.tune.ladder import climb, rungs_of

        if not 1 <= len(vary) <= 2:
            raise InputError("A ladder varies one setting, or two as a grid; name one or two.")
        renderer, exposure = self._renderer(recipe, _task(progress, cancel, self.elsewhere), view)
        chosen = [rungs_of(renderer, key, None if values is None else list(values), exposure) for key, values in vary.items()]
        judge = self._in_motion(renderer, exposure, per_degree) if in_motion else None
        return climb(
            renderer, chosen, renderer.frame, exposure, seconds=seconds, per_degree=per_degree, filtered=filtered, in_motion=judge,
        )  # fmt: skip

    def budget(
        self, recipe: RecipeLike = None, *, seconds: float | None = None, noise: float | None = None, progress: Progress | None = None,
        cancel: Cancel | None = None, **view: Unpack[View],
    ) -> "Budget":  # fmt: skip
        """The split of samples with the least noise in `seconds` per frame, or that reaches a relative `noise` (0.02 is 2 %) fastest."""
        from .core.tune.budget import plan_budget

        renderer, _ = self._renderer(recipe, _task(progress, cancel, self.elsewhere), view)
        return plan_budget(renderer, renderer.frame, seconds=seconds, noise=noise)

    def match(
        self, ways: Iterable[str] = (), recipe: RecipeLike = None, *, seconds: float = 20.0, filtered: bool = False, in_motion: bool = False,
        progress: Progress | None = None, cancel: Cancel | None = None, **view: Unpack[View],
    ) -> "Match":  # fmt: skip
        """Compare ways of finding light, each with `seconds` per frame, including caches. `ways`: SEEN[/BEYOND][:looked_up]
        [+SHADOWS][+caustics][+shared]; the default ones if none is given. filtered: whether the pictures are judged as the noise filter shows them;
        in_motion: whether flicker is measured, too, in three frames of a moving shot."""
        from .core.tune.candidates import candidates
        from .core.tune.match import run_match

        settings, laid = recipe_and_edits(recipe, view.get("edits"))
        chosen = candidates(list(ways), settings, in_motion)
        renderer, exposure = self._renderer(settings, _task(progress, cancel, self.elsewhere), {**view, "edits": laid})
        judge = self._in_motion(renderer, exposure) if in_motion else None
        return run_match(renderer, chosen, renderer.frame, seconds=seconds, filtered=filtered, in_motion=judge)

    def advise(
        self, recipe: RecipeLike = None, *, seconds: float = 60.0, progress: Progress | None = None, cancel: Cancel | None = None,
        **view: Unpack[View],
    ) -> "Advice":  # fmt: skip
        """Measure facts about the shot, and recommend recipes for a final frame that may take `seconds`."""
        from .core.formats.scenes import two_frames
        from .core.tune.advice import advise
        from .core.tune.facts import measure_facts, motion_between

        renderer, exposure = self._renderer(recipe, _task(progress, cancel, self.elsewhere), view)
        frames = two_frames(self.path, first=self.frame) if self.path is not None and self.scene.frames is not None else None
        motion = motion_between(*frames, view.get("camera")) if frames else None
        facts = measure_facts(renderer, renderer.frame, exposure, motion, seconds=seconds)
        judge = self._in_motion(renderer, exposure) if frames is not None else None
        return advise(facts, renderer.recipe, seconds=seconds, in_motion=judge, edits=renderer.edits)

    def _in_motion(self, renderer: "TrialRenderer", exposure: float, per_degree: float = 67.0) -> "JudgeInMotion":
        """Judges recipes by the flicker of three frames about the one that is open."""
        from .core.sequence.trials import judge_in_motion

        moving, frames = self.moving(), self.scene.frames
        if moving is None or frames is None:
            raise InputError("This shot stands still: its file has no range of frames, so it can't be judged in motion.")
        return judge_in_motion(renderer, moving, frames, renderer.frame, exposure, per_degree)

    def edited(self, edits: EditsLike) -> Scene:
        """The scene with edits applied."""
        from .core.edits.apply_edits import apply_edits

        return apply_edits(self.scene, recipe_and_edits(None, edits)[1])

    def exposure(self, camera: str | None = None, edits: EditsLike = None) -> float:
        """Exposure of a camera in stops."""
        return self.edited(edits).camera(camera).exposure

    def export(self, path: str | Path, edits: EditsLike = None) -> list[str]:
        """Write the scene with edits as glTF (.glb); returns a sentence for everything that glTF can't express."""
        from .core.formats.gltf_out import write_gltf

        return write_gltf(self.edited(edits), Path(path))

    def write_layer(self, path: str | Path, edits: EditsLike) -> list[str]:
        """Write edits as a USD layer over the scene's own file; returns a sentence for each edit that USD can't express."""
        from .core.formats.usd_edits import write_layer

        if self.path is None:
            raise InputError("This scene was not read from a file, so there is no file for a layer.")
        return write_layer(self.path, recipe_and_edits(None, edits)[1], Path(path))

    def _frame(self, view: View) -> Frame:
        width, height = view.get("size", (480, 270))
        return Frame(width, height, view.get("region"), view.get("seed", 0), self.frame if self.scene.frames is not None else None)

    def _prepare(
        self, settings: Recipe, edits: Edits, camera: str | None, frame: Frame, task: Task
    ) -> "Prepared":  # fmt: skip
        from .core.render.prepare import Files, prepare

        if camera not in edits.cameras:
            self.scene.camera(camera)
        self._files = self._files or Files()
        geometry = self._last.geometry if self._last is not None else None
        ready = prepare(
            self.scene, settings, edits, camera, geometry=geometry, files=self._files, caches=self.caches, frame=frame,
            task=task, moving=self.moving(),
        )  # fmt: skip
        self._last = ready
        return ready

    def moving(self, frames: Iterable[float] | None = None) -> "Moving | None":
        """The shot as it moves through its file's frames, or through some of them; None if it stands still."""
        from .core.formats.scenes import read_scene
        from .core.render.through_time import Moving
        from .core.sequence.frames import every_frame

        if self.path is None or self.scene.frames is None:
            return None
        path, confine_to = self.path, self.confine_to
        chosen = tuple(frames) if frames is not None else every_frame(self.scene.frames)
        return Moving(lambda time: read_scene(path, frame=time, confine_to=confine_to), chosen, f"{path} {path.stat().st_mtime_ns}")

    def _neighbours(self, edits: Edits, camera: str | None, ready: "Prepared") -> "Neighbours | None":
        """Where the things of a picture are in the neighbouring frames, for the passes of motion, if a frame of a moving shot was
        requested."""
        moving = self.moving() if self.frame is not None else None
        if moving is None or self.frame is None:
            return None
        from .core.sequence.render import neighbours_of

        return neighbours_of(moving, self.frame, edits, camera, self._files, ready)

    def sequence(
        self, frames: str | Iterable[float], recipe: RecipeLike = None, *, threads: int = 0, progress: Progress | None = None,
        cancel: Cancel | None = None, **view: Unpack[View],
    ) -> "Sequence":  # fmt: skip
        """Frames of this moving shot, as text (`1-96`, `1-96x8`, `3,7,20-30`) or as numbers, to be rendered one after the other with what they share.
        Raises InputError if the shot stands still or does not have them."""
        from .core.sequence.frames import parse_frames
        from .core.sequence.render import Sequence

        if self.scene.frames is None:
            raise InputError(f"{self.name} stands still: its file has no range of frames; render it as a picture.")
        chosen = parse_frames(frames, self.scene.frames) if isinstance(frames, str) else tuple(frames)
        moving = self.moving(chosen)
        assert moving is not None
        settings, edits = recipe_and_edits(recipe, view.get("edits"))
        return Sequence(
            moving, settings, edits, view.get("camera"), self._frame(view), name=self.name, caches=self.caches, files=self._files, threads=threads,
            task=_task(progress, cancel, self.elsewhere),
        )  # fmt: skip

    def _renderer(self, recipe: RecipeLike, task: Task, view: View) -> tuple["TrialRenderer", float]:
        """The renderer for trials, and the camera's exposure in stops."""
        from .core.diagnose.trial_renderer import TrialRenderer

        settings, edits = recipe_and_edits(recipe, view.get("edits"))
        camera, frame = view.get("camera"), self._frame(view)
        if camera not in edits.cameras:
            self.scene.camera(camera)
        renderer = TrialRenderer(self.scene, settings, edits, camera, frame, caches=self.caches, task=task)
        return renderer, self.exposure(camera, edits)


def diagnose(
    picture: Render | Picture | str | Path, shot: Shot | None = None, *, seconds: float = 20.0, exposure: float | None = None,
    per_degree: float = 67.0, filtered: bool = False, progress: Progress | None = None, cancel: Cancel | None = None,
) -> "Diagnosis":  # fmt: skip
    """Find the flaws of a picture; with its `shot`, prove their causes by trials and offer remedies. Without, findings rest on the picture only.

    picture: a render, or a file of any program (EXR with its passes, PNG); seconds: processor time for brute force and trials; exposure: in stops,
    for viewing, the camera's or a measured one if None; per_degree: viewing distance in pixels per degree; filtered: whether the noise filter's
    picture is judged, which needs the passes of a render.
    """
    from .core.diagnose.case import Case, as_filtered
    from .core.diagnose.diagnosis import diagnose as look_into
    from .core.diagnose.render import case_of
    from .core.diagnose.trial_renderer import TrialRenderer
    from .core.finish.finishing import measured_exposure
    from .core.render.filter import filter_noise

    if isinstance(picture, Render):
        case, given = case_of(picture), picture.picture
        if exposure is not None:
            case.exposure = exposure
    else:
        given = picture if isinstance(picture, Picture) else read_picture(picture)
        if exposure is None:
            exposure = shot.scene.camera(given.camera).exposure if shot is not None and given.recipe else measured_exposure(given.beauty)
        case = Case(given, exposure, given.recipe, given.edits or Edits())
    case.per_degree = per_degree
    if filtered:
        done = filter_noise(given.passes)
        case = as_filtered(case, done.image, done.smear, done.error)
    renderer = None
    if shot is not None:
        if given.recipe is None:
            raise InputError("This picture was not rendered here, so no cause can be tried on it; leave the shot out and see each finding's tests.")
        ready = picture.ready if isinstance(picture, Render) else None
        renderer = TrialRenderer(
            shot.scene, given.recipe, given.edits or Edits(), given.camera, given.frame, caches=shot.caches,
            task=_task(progress, cancel, shot.elsewhere), ready=ready, geometry=ready.geometry if ready is not None else None,
        )  # fmt: skip
    return look_into(case, renderer, seconds=seconds)


def compare(a: Render | Picture | str | Path, b: Render | Picture | str | Path, exposure: float | None = None) -> "Comparison":
    """The differences from A to B: in numbers, settings and visibly; pictures, or EXR files written here. `exposure` in stops, that of
    A's camera if None. Raises InputError if they share no pixels of one frame."""
    from .core.measure.comparison import compare_pictures

    return compare_pictures(_picture(a), _picture(b), exposure)


def read_picture(path: str | Path) -> Picture:
    """A picture of any program: EXR with passes under common names, or PNG. Raises InputError."""
    from .core.pictures.outside import read_outside

    return read_outside(Path(path))


def recipe(base: RecipeLike = None, values: Mapping[str, Any] | None = None) -> Recipe:
    """A recipe by name, from a JSON file or from values by key, with further `values` over it. Raises InputError."""
    made, edits = recipe_and_edits(base)
    own, laid = apart(dict(values or {}))
    if laid or edits.flat():
        raise InputError(f"{next(iter(laid or edits.flat()))} is an edit of the scene, not a setting of the recipe; give it with the edits.")
    return with_values(made, own)


def recipe_and_edits(base: RecipeLike = None, edits: EditsLike = None, values: Mapping[str, Any] | None = None) -> tuple[Recipe, Edits]:
    """A recipe and edits, from any of the accepted forms; `values` by key, of either kind, override both. Raises InputError."""
    more: dict[str, Any] = {}
    if base is None or base == "default":
        made = Recipe()
    elif isinstance(base, Recipe):
        made = base
    elif isinstance(base, Mapping):
        made, more = Recipe(), dict(base)
    elif str(base) in STARTING:
        made = STARTING[str(base)].recipe()
    else:
        path = Path(base)
        if not path.is_file():
            raise InputError(f"There is no recipe “{base}”; name a JSON file, or one of: {', '.join(['default', *STARTING])}.")
        made = named_from_json(path.read_bytes())[2]
    own, laid = apart({**more, **(values or {})})
    known = edits if isinstance(edits, Edits) else with_edits(Edits(), dict(edits or {}))
    return with_values(made, own), with_edits(known, laid)


def warm_up(progress: Progress | None = None, recipe: RecipeLike = None, edits: EditsLike = None, everything: bool = True) -> None:
    """Compile the renderer's kernels, or load them if already compiled: all of them, or, without `everything`, those that a render of this
    recipe needs. Renders do this by themselves if needed."""
    from .core.render.warmup import Warming, compiling, stages_of, warm_up

    report = None if progress is None else lambda done, total, name: progress(f"compiling kernels, {name}", done / total)
    if everything:
        warm_up(report)
    else:
        with compiling(report):
            Warming().need(stages_of(*recipe_and_edits(recipe, edits)))


def _lights_alone(settings: Recipe) -> Recipe:
    """The recipe without anything that needs preparation."""
    return with_values(settings, {"gi.seen": "off", "caustics.on": "no"})


def _picture(given: Render | Picture | str | Path) -> Picture:
    if isinstance(given, Render):
        return given.picture
    return given if isinstance(given, Picture) else read_exr(Path(given))


def _task(progress: Progress | None, cancel: Cancel | None, elsewhere: "Elsewhere | None" = None) -> Task:
    return Task(None if progress is None else lambda what, share, result: progress(what, share), cancel, elsewhere=elsewhere)
