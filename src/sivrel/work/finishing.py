"""What is made of a finished film: the EXR, its thumbnail, its measurements."""

import os
import sqlite3
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from ..core.finish.view import to_bytes, to_display
from ..core.formats.exr import Picture, read_exr, write_exr
from ..core.measure.ledger import measure_ledger
from ..core.measure.meters import measure_meters
from ..core.measure.noise import LUMINANCE, Noise, measure_noise
from ..core.measure.unfound import unfound_variance
from ..core.measure.verdict import judge
from ..core.render.film import DROPPED, SAMPLES, clock_entries, coarse_share, film_columns
from ..core.render.frame import Cancel, Frame, assemble, render_tiles
from ..core.render.passes import film_passes, motion_pass
from ..core.render.prepare import Prepared
from ..core.render.recipe import Recipe
from ..core.scene.edits import Edits
from ..core.scene.pack import packed_meshes
from ..store import files, proofs

THUMBNAIL_WIDTH = 320


def make_picture(
    film: np.ndarray, ready: Prepared, frame: Frame, recipe: Recipe, shot: str, edits: Edits | None = None, following: Prepared | None = None
) -> Picture:  # fmt: skip
    """The picture of a film of the shot `ready`; with `following`, the shot at the next frame, it has a motion pass."""
    passes = film_passes(film, ready.passes, ready.arrays)
    if following is not None:
        motion = motion_pass(film, ready.arrays, ready.camera, following.arrays, following.camera, (frame.width, frame.height))
        if motion is not None:
            passes["motion"] = motion
    objects = [mesh.name for mesh in packed_meshes(ready.scene)]
    return Picture(
        passes, frame, recipe, shot, ready.camera.name, edits=edits or Edits(), objects=objects, exposure=ready.camera.exposure
    )  # fmt: skip


def render_picture(
    ready: Prepared, recipe: Recipe, frame: Frame, shot: str, edits: Edits, cancel: Cancel | None = None
) -> tuple[Picture, np.ndarray, np.ndarray] | None:  # fmt: skip
    """Render a prepared shot on all cores: its picture, its film and the processor's cycles by what they were spent on; None when cancelled."""
    clock = np.zeros(clock_entries(ready.arrays.slots))
    tiles: dict[int, np.ndarray] = {}
    if not render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1, clock=clock, cancel=cancel):
        return None
    film = assemble(frame, film_columns(ready.arrays.slots), tiles)
    return make_picture(film, ready, frame, recipe, shot, edits), film, clock


def keep_picture(data: Path, picture: Picture) -> str:
    """Keep the EXR under its hash, which is returned."""
    return files.keep(files.pictures(data), ".exr", lambda path: write_exr(path, picture))


def make_thumbnail(data: Path, digest: str, picture: Picture, exposure: float) -> None:
    """A PNG for the lineage, of the region alone, at the camera's exposure."""
    _keep_small(files.thumbnail_path(data, digest), picture.beauty, exposure)


def _keep_small(path: Path, linear: np.ndarray, exposure: float) -> None:
    image = Image.fromarray(to_bytes(to_display(linear, exposure)))
    if image.width > THUMBNAIL_WIDTH:
        height = max(1, round(image.height * THUMBNAIL_WIDTH / image.width))
        image = image.resize((THUMBNAIL_WIDTH, height), Image.Resampling.LANCZOS)
    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_suffix(".new")
    image.save(beside, format="PNG")
    beside.replace(path)


FOCUS_SHARE = 1 / 3
"""Of the picture's sides: what is cut out about the place that changed most."""


def keep_focus(
    data: Path, db: sqlite3.Connection, proof: proofs.Proof, parent: str, digest: str, picture: Picture, exposure: float
) -> None:  # fmt: skip
    """Keep, and make a small picture of, the part that changed most against the parent's picture; nothing where none is seen to."""
    before = read_exr(files.picture_path(data, parent))
    if before.beauty.shape != picture.beauty.shape or before.frame.window != picture.frame.window:
        return
    verdict = judge(before, picture, exposure)
    worst = next((place for place in verdict.places if not place.grain), None)
    if worst is None or worst.share > 0.4:
        return
    (rows, columns), (x0, y0) = picture.beauty.shape[:2], picture.frame.window[:2]
    half_width, half_height = columns * FOCUS_SHARE / 2.0, rows * FOCUS_SHARE / 2.0
    x = min(max((worst.box[0] + worst.box[2]) / 2.0 - x0, half_width), columns - half_width)
    y = min(max((worst.box[1] + worst.box[3]) / 2.0 - y0, half_height), rows - half_height)
    proofs.set_focus(
        db, proof.id, ((x - half_width) / columns, (y - half_height) / rows, (x + half_width) / columns, (y + half_height) / rows)
    )  # fmt: skip
    cut = picture.beauty[round(y - half_height) : max(round(y + half_height), 1), round(x - half_width) : max(round(x + half_width), 1)]
    _keep_small(files.focus_path(data, digest), cut, exposure)


def measurements(picture: Picture, film: np.ndarray, noise: Noise | None) -> tuple[float | None, float, int]:
    """(noise, None where it is not known; mean luminance; samples dropped) of a finished picture."""
    light = float((picture.beauty[..., :3] @ LUMINANCE).mean())
    return noise.level if noise is not None else None, light, int(film[..., DROPPED].sum())


def noise_of(picture: Picture, ready: Prepared) -> Noise | None:
    """The noise of a finished picture, with a bound on what glow could bring that chance has not found."""
    return measure_noise(picture, unfound_variance(picture, ready.arrays))


def found_in(film: np.ndarray, ready: Prepared, clock: np.ndarray, picture: Picture, noise: Noise | None) -> dict[str, Any]:
    """What a finished render tells beside its picture: what each light did, what the limits cost, its depth maps with the
    share of the plate that they are too coarse for, and the names of its passes."""
    return {
        "lights": [row.as_dict() for row in measure_ledger(film, ready.passes, clock)],
        "meters": {
            **measure_meters(film, picture.objects, ready.arrays.object_of),
            "noise": noise.as_dict() if noise is not None else None,
            "samples": float(film[..., SAMPLES].mean()),
            "stand_ins": ready.stand_ins,
            "ways": [asdict(note) for note in ready.ways],
        },
        "maps": [{**asdict(note), "coarse": coarse_share(film)} for note in ready.maps],
        "passes": list(picture.passes),
    }
