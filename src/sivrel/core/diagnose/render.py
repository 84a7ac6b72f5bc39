"""From a render to a diagnosis: the case of a finished render, and a shot rendered for one."""

import time

from ..caches import CacheFolder
from ..edits.edits import Edits
from ..render.frame import Frame
from ..render.prepare import Files, prepare
from ..render.recipe import Recipe
from ..rendered import Render, render_prepared
from ..scene.model import Scene
from ..task import Task
from .case import Case
from .trial_renderer import TrialRenderer


def case_of(render: Render) -> Case:
    """The case of a finished render."""
    facts, picture = render.measured, render.picture
    return Case(
        picture, render.ready.camera.exposure, picture.recipe, picture.edits or Edits(), facts["lights"], facts["meters"], facts["maps"],
        render.seconds + render.prepare_seconds, render.seconds,
    )  # fmt: skip


def render_case(
    scene: Scene, recipe: Recipe, edits: Edits, camera: str | None, frame: Frame, *, caches: CacheFolder | None = None, files: Files | None = None,
    task: Task | None = None,
) -> tuple[Case, TrialRenderer]:  # fmt: skip
    """Render a shot, and give its case and a renderer for trials. Raises Cancelled."""
    caches, task = caches or CacheFolder(), task or Task()
    begun = time.monotonic()
    ready = prepare(scene, recipe, edits, camera, frame=frame, caches=caches, files=files, task=task)
    prepared = time.monotonic() - begun
    render = render_prepared(ready, recipe, frame, scene.name, edits, task=task)
    render.prepare_seconds = prepared
    renderer = TrialRenderer(scene, recipe, edits, camera, frame, caches=caches, files=files, geometry=ready.geometry, task=task, ready=ready)
    return case_of(render), renderer
