"""A finished render: its picture and measurements."""

import functools
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from . import machine
from .edits.edits import Edits
from .measure.ledger import LedgerRow, measure_ledger
from .measure.meters import measure_meters
from .measure.noise import LUMINANCE, Noise, measure_noise
from .measure.unfound import unfound_variance
from .pack.objects import packed_meshes
from .pack.texture_memory import texture_meter
from .pictures.exr import Picture, save_exr
from .render.even import render_even
from .render.film import DROPPED, SAMPLES, clock_entries, coarse_share, film_columns
from .render.frame import Frame, assemble
from .render.passes import Placed, film_passes, motion_pass
from .render.prepare import Prepared
from .render.recipe import Recipe
from .render.tiles import render_tiles
from .scene.triangles import objects_at
from .task import HERE, Task
from .work_time import processor_time


@dataclass
class Spent:
    """What a render took. processor: seconds of all processors, with preparation; threads: on which its pixels were rendered; where: in words."""

    processor: float = 0.0
    threads: int = 0
    where: str = HERE


@dataclass
class Render:
    """One finished render of a shot.

    picture: the pixels with all passes, as in a file
    film: float32 [rows, columns, film_columns], the data that the passes are made of
    ready: the prepared shot
    clock: float64 [clock_entries], processor cycles by what they were spent on
    seconds, prepare_seconds: wall time of the pixels, and of preparation
    spent: processor time, and where it was spent
    """

    picture: Picture
    film: np.ndarray
    ready: Prepared
    clock: np.ndarray
    seconds: float = 0.0
    prepare_seconds: float = 0.0
    spent: Spent = field(default_factory=Spent)

    @property
    def passes(self) -> dict[str, np.ndarray]:
        """float32 [rows, columns, channels] by name, linear; “beauty” has red, green, blue and alpha."""
        return self.picture.passes

    @property
    def mean_light(self) -> float:
        """Mean luminance, linear."""
        return float((self.picture.beauty[..., :3] @ LUMINANCE).mean())

    @property
    def dropped(self) -> int:
        """Samples that were not finite and were left out."""
        return int(self.film[..., DROPPED].sum())

    @functools.cached_property
    def noise(self) -> Noise | None:
        """The measured noise, with a bound on light that no sample has found yet; None if nothing was measured."""
        return measure_noise(self.picture, unfound_variance(self.picture, self.ready.arrays))

    @functools.cached_property
    def lights(self) -> list[LedgerRow]:
        """Shares of time and noise by source: each light, bounced light and the rest."""
        return measure_ledger(self.film, self.ready.passes, self.clock)

    @functools.cached_property
    def measured(self) -> dict[str, Any]:
        """All measurements, as JSON: lights, meters (limits, noise, samples, caches), depth maps, names of the passes."""
        return {
            "lights": [row.as_dict() for row in self.lights],
            "meters": {
                **measure_meters(self.film, self.picture.objects, functools.partial(objects_at, self.ready.arrays)),
                "noise": self.noise.as_dict() if self.noise is not None else None,
                "samples": float(self.film[..., SAMPLES].mean()),
                "stand_ins": self.ready.stand_ins,
                "blur": self.ready.blur,
                "geometry": asdict(self.ready.geometry.cost) if self.ready.geometry.cost is not None else None,
                "textures": texture_meter(self.ready.arrays.pictures),
                "ways": [asdict(note) for note in self.ready.ways],
                "spent": asdict(self.spent),
            },
            "maps": [{**asdict(note), "coarse": coarse_share(self.film)} for note in self.ready.maps],
            "passes": list(self.picture.passes),
        }

    def save(self, path: str | Path) -> None:
        """Write the picture as EXR with all passes, recipe and edits. Raises InputError if the path is not an EXR."""
        save_exr(Path(path), self.picture)


@dataclass(frozen=True)
class Neighbours:
    """Where surfaces and camera are one frame before, and after."""

    before: Placed
    after: Placed


def make_picture(
    film: np.ndarray, ready: Prepared, frame: Frame, recipe: Recipe, shot: str, edits: Edits | None = None, neighbours: Neighbours | None = None
) -> Picture:  # fmt: skip
    """The picture of a film of the shot `ready`; with its neighbouring frames it has the passes of motion."""
    passes = film_passes(film, ready.passes, ready.arrays)
    for name, other in (("motion", neighbours.after), ("motion_back", neighbours.before)) if neighbours is not None else ():
        moved = motion_pass(film, ready.placed, other, (frame.width, frame.height))
        if moved is not None:
            passes[name] = moved
    objects = [mesh.name for mesh in packed_meshes(ready.scene)]
    return Picture(passes, frame, recipe, shot, ready.camera.name, edits=edits or Edits(), objects=objects, exposure=ready.camera.exposure)


def render_prepared(
    ready: Prepared, recipe: Recipe, frame: Frame, shot: str, edits: Edits | None = None, *, threads: int = 0,
    task: Task | None = None, neighbours: Neighbours | None = None, tiles: dict[int, np.ndarray] | None = None,
    keep: Callable[[int, np.ndarray], None] = lambda index, film: None,
) -> Render:  # fmt: skip
    """Render a prepared shot on `threads`, all cores if 0. If the recipe sets a time, the whole picture is rendered evenly
    until it is over. `task` receives each tile or round. `tiles`: finished ones of an earlier call, by number; `keep` receives each new one. Raises
    Cancelled."""
    task = task or Task()
    clock, tiles = np.zeros(clock_entries(ready.arrays.slots)), dict(tiles or {})
    begun, before, count, limit = time.monotonic(), processor_time(), len(frame.tiles()), recipe.sampling.seconds
    workers = threads if threads and task.where() == HERE else task.threads()
    how: dict[str, Any] = {"threads": threads or machine.threads(), "clock": clock, "task": task, "shutter": ready.shutter}

    def on_tile(index: int, film: np.ndarray) -> None:
        tiles[index] = film
        keep(index, film)
        if limit == 0.0:
            left = (time.monotonic() - begun) * (count - len(tiles)) / len(tiles)
            task.report(f"rendering, about {left:.0f} s left", len(tiles) / count)

    def on_round(samples: int) -> None:
        task.report(f"rendering, {samples} samples a pixel", min(1.0, (time.monotonic() - begun) / limit))

    task.report("rendering")
    if limit > 0.0:
        render_even(ready.arrays, ready.camera, recipe, frame, limit, on_tile, films=tiles, on_round=on_round, **how)
    else:
        render_tiles(ready.arrays, ready.camera, recipe, frame, on_tile, finished=list(tiles), **how)
    film = assemble(frame, film_columns(ready.arrays.slots), tiles)
    seconds, spent = time.monotonic() - begun, Spent(processor_time() - before, workers, task.where())
    return Render(make_picture(film, ready, frame, recipe, shot, edits, neighbours), film, ready, clock, seconds, spent=spent)
