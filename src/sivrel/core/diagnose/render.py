"""From a render to a diagnosis: the case of a render with what was measured of it, and a shot rendered for one."""

import time
from typing import Any

from ..caches import CacheFolder
from ..render.frame import Cancel, Frame
from ..render.prepare import Files, prepare
from ..render.recipe import Recipe
from ..rendered import Render, render_prepared
from ..scene.edits import Edits
from ..scene.model import Scene
from .case import Case
from .stand import Stand


def case_of(render: Render) -> Case:
    """The case of a finished render."""
    told, picture = render.measured, render.picture
    return Case(
        picture, render.ready.camera.exposure, picture.recipe, picture.edits or Edits(), told["lights"], told["meters"], told["maps"],
        render.seconds + render.prepare_seconds, render.seconds,
    )  # fmt: skip


def render_case(
    scene: Scene, recipe: Recipe, edits: Edits, camera: str | None, frame: Frame, *, caches: CacheFolder | None = None, files: Files | None = None,
    cancel: Cancel | None = None, told: Any = None,
) -> tuple[Case, Stand] | None:  # fmt: skip
    """Render a shot, and give its case and a stand for trials; None when cancelled."""
    caches, cancel = caches or CacheFolder(), cancel or Cancel()
    begun = time.monotonic()
    ready = prepare(scene, recipe, edits, camera, frame=frame, caches=caches, files=files, progress=told)
    prepared = time.monotonic() - begun
    render = render_prepared(ready, recipe, frame, scene.name, edits, cancel=cancel)
    if render is None:
        return None
    render.prepare_seconds = prepared
    stand = Stand(scene, recipe, edits, camera, frame, caches=caches, files=files, geometry=ready.geometry, cancel=cancel, ready=ready)
    return case_of(render), stand
