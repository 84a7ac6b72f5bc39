"""Renders trials: of one shot with its proof's recipe and one change at a time."""

import json
import math
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import numpy as np

from ..caches import Cache, CacheFolder, from_bytes
from ..edits.edits import Edits, to_json, with_edits
from ..gi.ways import PREPARING, SEEN
from ..render.frame import Frame
from ..render.passes import on_screen
from ..render.prepare import Files, Geometry, Prepared, prepare
from ..render.recipe import Recipe, with_values
from ..scene.model import Scene, Shadow
from ..shadows.ways import BY_KEY as SHADOW_WAYS
from ..survey.look import Look
from ..task import Task
from .finding import Box
from .grid import Grid
from .paired_render import PairedRender
from .patch import Patch, render_patch
from .truth import DEEP, OF_CHANCE, UNBIASED, Coarse, brute_force, dependencies, traced_shadows
from .truth import KIND as KIND_OF_TRUTH

BY_VIEW = {way.kind for way in PREPARING.values() if way.by_view}
"""Kinds of caches that are made for a camera's view: a trial makes them for its region only."""


def _by_view(recipe: Recipe) -> bool:
    return SEEN[recipe.gi.seen].by_view


class _Partial(CacheFolder):
    """Keeps caches of a region in memory, and all others in their folder."""

    def __init__(self, whole: CacheFolder) -> None:
        super().__init__()
        self.whole = whole

    def find(self, kind: str, depends: dict[str, str]) -> Cache | None:
        return super().find(kind, depends) or self.whole.find(kind, depends)

    def keep(self, cache: Cache) -> None:
        super().keep(cache) if cache.kind in BY_VIEW else self.whole.keep(cache)

    def locked(self, kind: str, subject: str) -> Cache | None:
        return None if kind in BY_VIEW else self.whole.locked(kind, subject)

    def alike(self, kind: str, subject: str) -> list[Cache]:
        return []

    @contextmanager
    def making(self, digest: str, check: Callable[[], None]) -> Iterator[None]:
        with self.whole.making(digest, check):
            yield


def _spent(ready: Prepared) -> float:
    """Seconds that the caches of a shot took to make."""
    return sum(note.seconds for note in ready.ways) + sum(note.seconds for note in ready.maps)


class TrialRenderer:
    """scene, as its file has it; recipe and edits of the proof; camera; frame of the proof, for which caches are made; `task`: all its renders are
    part of it."""

    def __init__(
        self,
        scene: Scene,
        recipe: Recipe,
        edits: Edits,
        camera: str | None,
        frame: Frame,
        *,
        caches: CacheFolder | None = None,
        files: Files | None = None,
        geometry: Geometry | None = None,
        task: Task | None = None,
        ready: Prepared | None = None,
    ) -> None:
        self.scene, self.recipe, self.edits, self.camera, self.frame = scene, recipe, edits, camera, frame
        self.caches, self.files = caches or CacheFolder(), files or Files()
        self.geometries: dict[str, Geometry] = {to_json(edits.of_geometry()): geometry} if geometry else {}
        self.task = task or Task()
        self.making = self.task.before(math.inf)
        self.known: dict[str, tuple[Prepared, float]] = {}
        self.tried: dict[int, Any] = {}  # by the finding's id: data shared by its trials
        if ready is not None:
            self.known[self._key(recipe, edits, None)] = ready, _spent(ready)

    @contextmanager
    def within(self, until: float) -> Iterator[None]:
        """Limit preparation to the work time `until`: OutOfTime is raised after that."""
        before, self.making = self.making, self.task.before(until)
        try:
            yield
        finally:
            self.making = before

    def _key(self, recipe: Recipe, edits: Edits, only: Box | None) -> str:
        # The number of samples does not affect preparation.
        plain = with_values(recipe, {"sampling.max": 1, "sampling.min": 2, "sampling.noise_target": 0, "sampling.seconds": 0})
        return json.dumps([plain.flat(), edits.flat(), only if _by_view(recipe) else None])

    def ready(self, recipe: Recipe, edits: Edits, only: Box | None = None) -> tuple[Prepared, float]:
        """The shot prepared for a recipe and edits, and the seconds its caches took to make. With `only`, a box of the
        frame's pixels, records are only made for what is visible there. Raises as `Task.check`."""
        key = self._key(recipe, edits, only)
        if key not in self.known:
            partial = only is not None and _by_view(recipe)
            shape = to_json(edits.of_geometry())
            caches = _Partial(self.caches) if partial else self.caches
            ready = prepare(
                self.scene, recipe, edits, self.camera, geometry=self.geometries.get(shape), files=self.files, caches=caches, task=self.making,
                frame=self.frame, only=only if partial else None,
            )  # fmt: skip
            while len(self.geometries) >= 4 and shape not in self.geometries:
                self.geometries.pop(list(self.geometries)[1])
            self.geometries[shape] = ready.geometry
            while len(self.known) >= 6:
                self.known.pop(next(iter(self.known)))
            self.known[key] = ready, _spent(ready)
        self.known[key] = self.known.pop(key)  # most recently used, evicted last
        return self.known[key]

    def for_frame(self, frame: Frame) -> "TrialRenderer":
        """The same for another frame of the view: caches that depend on the camera are made for it, and not stored."""
        return TrialRenderer(
            self.scene, self.recipe, self.edits, self.camera, frame, caches=_Partial(self.caches), files=self.files,
            geometry=self.geometries.get(to_json(self.edits.of_geometry())), task=self.task,
        )  # fmt: skip

    def prepares(self, recipe: Recipe, edits: Edits, only: Box) -> float:
        """Estimated seconds of all caches of a recipe, from those of a box: scaled by the proof's own, in the box and in total."""
        own = self.ready(recipe, edits, only)[1]
        if not _by_view(recipe):
            return own
        if not _by_view(self.recipe):
            return own * self.frame.width * self.frame.height / max(1, (only[2] - only[0]) * (only[3] - only[1]))
        there = self.ready(self.recipe, self.edits, only)[1]
        return self.ready(self.recipe, self.edits)[1] * own / max(there, 1e-3)

    def changed(self, values: dict[str, Any], edits: dict[str, Any]) -> tuple[Recipe, Edits]:
        return with_values(self.recipe, values), with_edits(self.edits, edits)

    def base(self) -> Prepared:
        return self.ready(self.recipe, self.edits)[0]

    def truth(self, edits: dict[str, Any] | None = None) -> tuple[Prepared, Recipe]:
        """The shot prepared for brute force, and its recipe; with further edits, if any."""
        laid = with_edits(self.edits, edits or {})
        laid = with_edits(laid, traced_shadows(laid, self.scene.lights))
        recipe = brute_force(self.recipe)
        return self.ready(recipe, laid)[0], recipe

    def coarse(self, grid: Grid) -> tuple[Coarse, Prepared, Recipe]:
        """Stored brute force of a grid, and the shot to refine it with."""
        truth, (ready, recipe) = Coarse(grid), self.truth()
        kept = self.found(KIND_OF_TRUTH, dependencies(ready, recipe, grid))
        if kept is not None:
            truth.take(kept)
        return truth, ready, recipe

    def keep_coarse(self, truth: Coarse, ready: Prepared, recipe: Recipe) -> None:
        """Store brute force for the next diagnosis of the same view."""
        self.keep(truth.cache(self.scene.name, dependencies(ready, recipe, truth.grid)))

    def paired(self, truth: Coarse, seconds: float) -> PairedRender:
        """The unchanged recipe on brute force's grid, with the same caches. Raises Cancelled."""
        paired = PairedRender()
        paired.follow(truth, self.base(), self.recipe, seconds, self.task)
        return paired

    def found(self, kind: str, depends: dict[str, str]) -> Cache | None:
        return self.caches.find(kind, depends)

    def keep(self, cache: Cache) -> None:
        self.caches.keep(cache)

    def traced(self) -> tuple[Prepared, Recipe]:
        """The shot prepared for the recipe with traced shadows, and that recipe."""
        laid = with_edits(self.edits, traced_shadows(self.edits, self.scene.lights))
        recipe = with_values(self.recipe, {"shadows.way": "traced"} if SHADOW_WAYS[self.recipe.shadows.way].approximates else {})
        return self.ready(recipe, laid)[0], recipe

    def recipe_differs(self, truth: Recipe) -> bool:
        """Whether the recipe takes shortcuts, so that it can deviate from brute force at all."""
        return self.shortcuts(self.recipe, truth) or self.recipe.limits.diffuse_bounces < 8

    def shortcuts(self, recipe: Recipe, truth: Recipe) -> bool:
        """Whether another recipe with the same edits takes any shortcut besides lower limits."""
        plain = {"sampling.max": 1, "sampling.min": 2, **OF_CHANCE, **UNBIASED, **dict.fromkeys(DEEP, 1)}
        return with_values(recipe, plain) != with_values(truth, plain) or bool(traced_shadows(self.edits, self.scene.lights))

    def patch(self, ready: Prepared, recipe: Recipe, frame: Frame, seconds: float, **how: Any) -> Patch:
        return render_patch(ready, recipe, frame, seconds, self.task, **how)

    def look(self, effort: float = 1.0) -> Look:
        """The scene's Look; see there for `effort`."""
        plain, laid = self.changed({"gi.seen": "off", "caustics.on": "no"}, {})
        return Look(self.ready(plain, laid)[0], self.recipe, effort=effort)

    def radii(self) -> dict[str, float]:
        """Automatic distances of the caches in metres, by setting, where the recipe leaves them open."""
        ready, found = self.base(), dict[str, float]()
        for note in ready.ways:
            measured = PREPARING[note.way].distances
            found |= measured(ready.arrays, note.notes) if measured is not None else {}
        return found

    def spacing(self, depth: float, there: np.ndarray) -> tuple[str, float] | None:
        """The expected size of blotches, in words and in pixels: the distance of records in a mask of the frame's pixels, or the
        gather radius of photons or size of cells at a distance in metres. None if nothing interpolates there."""
        ready = self.base()
        pixel = 2.0 * ready.camera.half_width / self.frame.width * (1.0 if ready.camera.orthographic else depth)
        for note in reversed(ready.ways):
            cache = self.cache(note.digest)
            if PREPARING[note.way].by_view and cache is not None:
                at = on_screen(cache.arrays["records"][:, :3].astype(float), ready.camera, (self.frame.width, self.frame.height)).astype(int)
                at = at[((at >= 0) & (at < [there.shape[1], there.shape[0]])).all(axis=1)]
                count = int(there[at[:, 1], at[:, 0]].sum())
                return ("records are {} pixels apart there", (float(there.sum()) / count) ** 0.5) if count else None
            width = PREPARING[note.way].width
            found = width(note.notes) if width is not None else None
            if found is not None:
                return found[0], found[1] / max(pixel, 1e-9)
        return None

    def cache(self, digest: str) -> Cache | None:
        """A cache by its digest, if it still exists."""
        held, path = self.caches.held.get(digest), self.caches.path(digest)
        if held is None and path is not None and path.is_file():
            return from_bytes(path.read_bytes(), path.name)
        return held

    def own_shadows(self) -> dict[str, Shadow]:
        """Approximated shadows of lights with a way of their own, with the recipe's other settings filled in."""
        by_recipe = self.recipe.shadows
        return {
            light.name: Shadow(
                light.shadow.way,
                light.shadow.rays,
                light.shadow.resolution or by_recipe.resolution,
                by_recipe.filter if light.shadow.filter is None else light.shadow.filter,
                by_recipe.bias if light.shadow.bias is None else light.shadow.bias,
                "scene" if light.kind == "sun" and (light.shadow.fit or by_recipe.fit) == "scene" else "view",
            )
            for light in self.base().scene.lights
            if SHADOW_WAYS[light.shadow.way or "traced"].approximates
        }

    def glowing(self) -> list[str]:
        """Objects that glow and are not aimed at, brightest first."""
        ready = self.base()
        found = []
        for mesh in ready.scene.meshes:
            surfaces = [ready.scene.surfaces[int(s)] for s in set(mesh.surfaces.tolist())]
            bright = max((max(s.emission) for s in surfaces), default=0.0)
            if bright > 0.0 and not mesh.aimed and not mesh.stand_in:
                found.append((bright, mesh.name))
        return [name for _, name in sorted(found, reverse=True)]
