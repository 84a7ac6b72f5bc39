"""From a render to a diagnosis: the case of a picture with what was measured of it, and the picture of a shot that is rendered for one."""

import time
from typing import Any

import numpy as np

from ..core.caches import CacheFolder
from ..core.diagnose.case import Case
from ..core.diagnose.stand import Stand
from ..core.formats.exr import Picture
from ..core.render.frame import Cancel, Frame
from ..core.render.prepare import Files, prepare
from ..core.render.recipe import Recipe
from ..core.scene.edits import Edits
from ..core.scene.model import Scene
from .finishing import found_in, noise_of, render_picture


def case_of(
    picture: Picture, found: dict[str, Any], exposure: float, seconds: float | None, pixel_seconds: float | None, filtered: np.ndarray | None = None,
    smear: np.ndarray | None = None,
) -> Case:  # fmt: skip
    """The case of a picture that was rendered here; `found` as work.finishing.found_in tells it."""
    return Case(
        picture, exposure, picture.recipe, picture.edits or Edits(), found.get("lights", []), found.get("meters", {}), found.get("maps", []), seconds,
        pixel_seconds, filtered, smear,
    )  # fmt: skip


def render_case(
    scene: Scene, recipe: Recipe, edits: Edits, camera: str | None, frame: Frame, *, caches: CacheFolder | None = None, files: Files | None = None,
    cancel: Cancel | None = None, told: Any = None,
) -> tuple[Case, Stand] | None:  # fmt: skip
    """Render a shot, and give its case and a stand for trials; None when cancelled."""
    caches, cancel = caches or CacheFolder(), cancel or Cancel()
    begun = time.monotonic()
    ready = prepare(scene, recipe, edits, camera, frame=frame, caches=caches, files=files, progress=told)
    pixels_begun = time.monotonic()
    rendered = render_picture(ready, recipe, frame, scene.name, edits, cancel)
    if rendered is None:
        return None
    now, (picture, film, clock) = time.monotonic(), rendered
    case = case_of(picture, found_in(film, ready, clock, picture, noise_of(picture, ready)), ready.camera.exposure, now - begun, now - pixels_begun)
    stand = Stand(scene, recipe, edits, camera, frame, caches=caches, files=files, geometry=ready.geometry, cancel=cancel, ready=ready)
    return case, stand
