"""What is made of a finished film: the EXR, its thumbnail, its measurements."""

from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from ..core.finish.view import to_bytes, to_display
from ..core.formats.exr import Picture, film_passes, write_exr
from ..core.measure.lights import measure_lights
from ..core.measure.meters import measure_meters
from ..core.measure.noise import LUMINANCE, noise_level
from ..core.render.film import DROPPED, coarse_share
from ..core.render.frame import Frame
from ..core.render.prepare import Prepared
from ..core.render.recipe import Recipe
from ..core.scene.edits import Edits
from ..core.scene.pack import packed_meshes
from ..store import files

THUMBNAIL_WIDTH = 320


def make_picture(film: np.ndarray, lights: list[str], frame: Frame, recipe: Recipe, shot: str, camera: str, edits: Edits | None = None) -> Picture:
    """The picture of a film whose light passes are those of `lights`."""
    return Picture(film_passes(film, lights), frame, recipe, shot, camera, edits=edits or Edits())


def keep_picture(data: Path, picture: Picture) -> str:
    """Keep the EXR under its hash, which is returned."""
    return files.keep(files.pictures(data), ".exr", lambda path: write_exr(path, picture))


def make_thumbnail(data: Path, digest: str, picture: Picture, exposure: float) -> None:
    """A PNG for the lineage, of the region alone, at the camera's exposure."""
    image = Image.fromarray(to_bytes(to_display(picture.beauty, exposure)))
    if image.width > THUMBNAIL_WIDTH:
        height = max(1, round(image.height * THUMBNAIL_WIDTH / image.width))
        image = image.resize((THUMBNAIL_WIDTH, height), Image.Resampling.LANCZOS)
    path = files.thumbnail_path(data, digest)
    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_suffix(".new")
    image.save(beside, format="PNG")
    beside.replace(path)


def measurements(picture: Picture, film: np.ndarray) -> tuple[float | None, float, int]:
    """(noise, mean luminance, samples dropped) of a finished picture."""
    light = float((picture.beauty[..., :3] @ LUMINANCE).mean())
    return noise_level(picture), light, int(film[..., DROPPED].sum())


def found_in(film: np.ndarray, ready: Prepared, clock: np.ndarray, picture: Picture) -> dict[str, Any]:
    """What a finished render tells beside its picture: what each light did, what the limits cost, its depth maps with the
    share of the plate that they are too coarse for, and the names of its passes."""
    return {
        "lights": [measure.as_dict() for measure in measure_lights(film, ready.passes, clock)],
        "meters": measure_meters(film, [mesh.name for mesh in packed_meshes(ready.scene)]),
        "maps": [{**asdict(note), "coarse": coarse_share(film)} for note in ready.maps],
        "passes": list(picture.passes),
    }
