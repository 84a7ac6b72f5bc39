"""The match: chosen ways on one region, in equal time and to equal error; with bias separate from noise, and preparation separate from pixels."""

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..diagnose.finding import cleared
from ..diagnose.trial_renderer import TrialRenderer
from ..errors import Cancelled
from ..measure.noise import LUMINANCE
from ..render.film import film_beauty
from ..render.filter import filter_film
from ..render.frame import Frame
from ..render.recipe import Recipe, with_values
from ..task import OutOfTime
from ..work_time import work_time
from .candidates import Candidate
from .error import Error, Reference, error_of, noise_of_mean, reference
from .in_motion import JudgeInMotion, MotionLevel
from .render import take

LEVEL = 0.10
"""Relative margin to the least error within which ways count as tied."""
CALMER = 0.8
"""Ratio of flicker to that of the best way from which a way is named for its calm."""
REFERENCE_TIMES = 2.0
"""Least time of the reference, relative to that of a way's pixels."""
LEAST_REFERENCE = 4.0
MOST_PREPARING = 6.0
"""Longest preparation of a way, relative to the seconds of the match, before it is dropped."""
FRAMES = (1, 2, 3, 5, 10, 20, 50, 100, 200, 500, 1000)


@dataclass
class Point:
    """After that many seconds of the frame's pixels: samples per pixel, and the error."""

    seconds: float
    samples: int
    error: Error

    def as_dict(self) -> dict[str, Any]:
        return {"seconds": self.seconds, "samples": self.samples, **self.error.as_dict()}


@dataclass
class Entrant:
    """A way in the match. prepares: seconds of its caches, for the whole frame; each_frame: whether they are remade as the camera moves; points:
    its error over time; error: after the equal time, its caches counted; to_reach: seconds of pixels until it reaches the goal, None if
    never; pays_from: frame from which its caches pay against brute force; frame_seconds: by number of frames, seconds of each to reach
    the goal; flicker: in motion, with the samples of the equal time, if asked; out: why it was dropped."""

    candidate: Candidate
    prepares: float = 0.0
    each_frame: bool = False
    points: list[Point] = field(default_factory=list)
    error: Error | None = None
    to_reach: float | None = None
    pays_from: int | None = None
    frame_seconds: dict[int, float] = field(default_factory=dict)
    flicker: MotionLevel | None = None
    out: str = ""
    picture: Any = None

    def as_dict(self) -> dict[str, Any]:
        apart = ("candidate", "points", "error", "flicker", "frame_seconds")
        others = {name: value for name, value in self.__dict__.items() if name not in apart}
        return {
            "name": self.candidate.name, "title": self.candidate.title, "values": self.candidate.values, **others,
            "flicker": self.flicker.as_dict() if self.flicker else None, "points": [point.as_dict() for point in self.points],
            "error": self.error.as_dict() if self.error else None,
            "frame_seconds": {str(frames): seconds for frames, seconds in self.frame_seconds.items()},
        }  # fmt: skip


@dataclass
class Match:
    """seconds: of one frame for each way, including caches; region; entrants, best first once all are done; level: those tied
    with the first; goal: error for all to reach; reference_error: of brute force; filtered: whether errors are of the pictures as the noise filter
    shows them."""

    seconds: float
    region: tuple[int, int, int, int]
    size: tuple[int, int]
    entrants: list[Entrant] = field(default_factory=list)
    level: list[str] = field(default_factory=list)
    goal: float = 0.0
    reference_error: float = 0.0
    reference_seconds: float = 0.0
    reference_picture: Any = None
    says: str = ""
    complete: bool = False
    filtered: bool = False

    def as_dict(self) -> dict[str, Any]:
        return cleared({**self.__dict__, "region": list(self.region), "size": list(self.size), "entrants": [e.as_dict() for e in self.entrants]})


def run_match(
    renderer: TrialRenderer, chosen: list[Candidate], frame: Frame, *, seconds: float = 20.0, filtered: bool = False,
    in_motion: JudgeInMotion | None = None,
) -> Match:  # fmt: skip
    """Give each way `seconds` per frame, of which the region of `frame` has its share, including caches, and measure it, `filtered` if asked, against
    brute force; with `in_motion` its flicker, too.
    The renderer's task receives each step with the match so far, which is returned if it is cancelled."""
    match = Match(seconds, frame.window, (frame.width, frame.height), [Entrant(one) for one in chosen], filtered=filtered)
    share = frame.pixels / (frame.width * frame.height)
    try:
        renderer.task.report("rendering brute force as the reference", 0.02, match)
        held = reference(renderer, frame, max(LEAST_REFERENCE, REFERENCE_TIMES * seconds * share))
        match.reference_error, match.reference_seconds, match.reference_picture = held.error, held.seconds, held.colour
        for k, entrant in enumerate(match.entrants):
            renderer.task.report(entrant.candidate.title, 0.2 + 0.8 * k / len(match.entrants), match)
            _enter(renderer, entrant, frame, held, seconds, share, filtered)
            if in_motion is not None and entrant.points:
                recipe, edits = renderer.changed(entrant.candidate.values, {})
                taken = {"sampling.max": max(1, entrant.points[-1].samples), "sampling.noise_target": 0.0}
                renderer.task.report(f"{entrant.candidate.title}, in motion", 0.2 + 0.8 * (k + 0.5) / len(match.entrants), match)
                entrant.flicker = in_motion(with_values(recipe, taken), edits)
            rank(match)
        match.complete = True
    except Cancelled:
        pass
    return match


def _enter(
    renderer: TrialRenderer, entrant: Entrant, frame: Frame, held: Reference, seconds: float, share: float, filtered: bool
) -> None:  # fmt: skip
    recipe, edits = renderer.changed(entrant.candidate.values, {})
    try:
        with renderer.within(work_time() + MOST_PREPARING * seconds):
            ready = renderer.ready(recipe, edits, frame.window)[0]
            entrant.prepares = renderer.prepares(recipe, edits, frame.window)
    except OutOfTime:
        entrant.out = f"its caches take more than {MOST_PREPARING:g} times the {seconds:g} s"
        return
    entrant.each_frame = follows_camera(recipe)
    if entrant.each_frame and recipe.motion.caches == "shared":
        # Gathered from that many frames before the first one; the equal time is that of a later frame.
        entrant.each_frame, entrant.prepares = False, entrant.prepares * recipe.motion.keys
    # If caches leave too little time, a few samples still show their result.
    before_all = recipe.motion.caches == "shared"
    left = max(seconds - (0.0 if before_all else entrant.prepares), 0.0) * share
    sums, taken, spent, n = [np.zeros(0), np.zeros(0)], [0, 0], 0.0, 1
    while True:
        for half in (0, 1):
            seeded = replace(frame, seed=(frame.seed + 100_000 * (half + 1) + taken[half]) % (1 << 32))
            render = take(ready, with_values(recipe, {"sampling.max": n, "sampling.noise_target": 0.0}), seeded, renderer.task)
            sums[half] = render.films[0] * n if taken[half] == 0 else sums[half] + render.films[0] * n
            taken[half], spent = taken[half] + n, spent + render.seconds
        films = sums[0] / taken[0], sums[1] / taken[1]
        if filtered:
            # Each half is filtered alone, so that the error is that of half of the samples, after half of the time.
            begun = work_time()
            pictures = [filter_film(film, ready.arrays) for film in films]
            filtering = work_time() - begun
            error = error_of(pictures[0] @ LUMINANCE, pictures[1] @ LUMINANCE, held)
            entrant.points.append(Point((spent + filtering) / 2.0 / share, taken[0], error))
        else:
            pictures = [film_beauty(film) for film in films]
            lights = pictures[0] @ LUMINANCE, pictures[1] @ LUMINANCE
            error = replace(error_of(*lights, held), noise=noise_of_mean(*lights, held.colour @ LUMINANCE))
            entrant.points.append(Point(spent / share, sum(taken), error))
        following = n if taken[0] < 2 else taken[0]
        if spent * (1.0 + 0.75 * following / taken[0]) > (2.0 * left if filtered else left) or sum(taken) > 1 << 16:
            break
        n = following
    entrant.picture = pictures[0] if filtered else (pictures[0] * taken[0] + pictures[1] * taken[1]) / sum(taken)
    entrant.error = _after(entrant, left / share)


def _after(entrant: Entrant, seconds: float) -> Error | None:
    """The error after so many seconds of the frame's pixels, interpolated, or slightly extrapolated; None if there was no time for a
    sample."""
    if seconds <= 0.0 or seconds < 0.5 * entrant.points[0].seconds:
        return None
    return replace(entrant.points[-1].error, noise=_noise_at(entrant.points, seconds))


def _noise_at(points: list[Point], seconds: float) -> float:
    """Noise after some time, linear between points in log-log scale; beyond the last continued for twice its time,
    then with the root law of independent samples: where few pixels hold most of it, it falls by less at first."""
    times, noises = np.log([p.seconds for p in points]), np.log([max(p.error.noise, 1e-9) for p in points])
    at = float(np.log(seconds))
    if at >= times[-1]:
        steps = [(noises[-1] - y) / (times[-1] - x) for x, y in zip(times[-3:-1], noises[-3:-1], strict=True)]
        falls = float(np.clip(np.mean(steps), -0.5, 0.0)) if steps else -0.5
        near = min(at - times[-1], float(np.log(2.0)))
        return float(np.exp(noises[-1] + falls * near - 0.5 * (at - times[-1] - near)))
    if at <= times[0]:
        return float(np.exp(noises[0] + 0.5 * (times[0] - at)))
    return float(np.exp(np.interp(at, times, noises)))


def _time_until(points: list[Point], noise: float) -> float:
    """Seconds until the noise reaches a value: the inverse of `_noise_at`."""
    low, high = np.log(points[0].seconds) - 12.0, np.log(points[-1].seconds) + 24.0
    for _ in range(60):
        middle = (low + high) / 2.0
        low, high = (middle, high) if _noise_at(points, float(np.exp(middle))) > noise else (low, middle)
    return float(np.exp(high))


def follows_camera(recipe: Recipe) -> bool:
    """Whether a cache of a recipe is remade as the camera moves."""
    return any(getattr(recipe.of(way.key), "camera", "shared") == "own" for way in recipe.preparing())


def rank(match: Match) -> None:
    """Sort finished ways by their error in equal time, and compute each one's time to the goal and the frame from which its caches pay."""
    done = [e for e in match.entrants if e.error is not None]
    if not done:
        return
    plain = next((e for e in done if not e.prepares and e.candidate.values.get("gi.seen") == "brute_force"), None)
    match.goal = (plain or min(done, key=_total)).error.total  # type: ignore[union-attr]
    for entrant in match.entrants:
        if not entrant.points:
            continue
        bias = entrant.points[-1].error.bias
        entrant.to_reach = _time_until(entrant.points, (match.goal**2 - bias**2) ** 0.5) if bias < 0.98 * match.goal else None
        if entrant.to_reach is not None:
            entrant.frame_seconds = {n: entrant.to_reach + entrant.prepares * (1.0 if entrant.each_frame else 1.0 / n) for n in FRAMES}
    if plain is not None and plain.to_reach is not None:
        for entrant in match.entrants:
            entrant.pays_from = _pays_from(entrant, plain.to_reach)
    best = min(map(_total, done))
    match.level = [e.candidate.name for e in done if _total(e) <= best * (1.0 + LEVEL)]
    match.entrants.sort(key=lambda e: (e.error is None, _total(e) if e.error else 0.0, not e.points))
    match.says = _sentence(match, plain)


def _total(entrant: Entrant) -> float:
    return entrant.error.total if entrant.error else float("inf")


def _pays_from(entrant: Entrant, plain: float) -> int | None:
    """The first frame from which its caches have cost less than brute force would have; None if they never pay."""
    if entrant.to_reach is None or entrant.prepares <= 0.0:
        return None
    saved = plain - entrant.to_reach - (entrant.prepares if entrant.each_frame else 0.0)
    if saved <= 0.0:
        return None
    return 1 if entrant.each_frame else max(1, int(np.ceil(entrant.prepares / saved)))


def _sentence(match: Match, plain: Entrant | None) -> str:
    first = match.entrants[0]
    if first.error is None:
        return ""
    parts = f"{first.error.noise:.1%} noise, {first.error.bias:.1%} bias"
    after = " once it is filtered" if match.filtered else ""
    text = f"In {match.seconds:g} s a frame {first.candidate.title} is best{after}, with an error of {first.error.total:.1%}: {parts}."
    others = [e.candidate.title for e in match.entrants if e.candidate.name in match.level and e is not first]
    if others:
        text += f" Level with it: {'; '.join(others)}."
    elif plain is not None and plain is not first and plain.error is not None:
        text += f" Brute force has {plain.error.total:.1%}."
    paying = [e for e in match.entrants if e.pays_from and e.pays_from > 1 and not e.each_frame]
    moving = [e for e in match.entrants if e.flicker is not None and e.error is not None and e is not first]
    if first.flicker is not None:
        text += f" In motion its flicker is {first.flicker.words}"
        calmest = min(moving, key=lambda e: e.flicker.level if e.flicker else 0.0, default=None)
        if calmest is not None and calmest.flicker is not None and calmest.flicker.level < CALMER * first.flicker.level and not first.flicker.hidden:
            text += f"; {calmest.candidate.title} has {calmest.flicker.level:.2g}"
        text += "."
    if paying:
        soonest = min(paying, key=lambda e: e.pays_from or 0)
        title = soonest.candidate.title
        text += f" {title[0].upper()}{title[1:]} pays from frame {soonest.pays_from} on."
    return text
