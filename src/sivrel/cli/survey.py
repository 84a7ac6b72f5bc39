"""`sivrel survey`: look a scene over before any render."""

from typing import Any

import click

from .common import (
    Reporter,
    camera_option,
    frame_option,
    json_option,
    open_shot,
    print_result,
    recipe_of,
    recipe_option,
    set_option,
    shot_argument,
)


@click.command(short_help="Look a scene over before rendering.")
@shot_argument
@recipe_option
@set_option
@camera_option
@frame_option
@json_option
def survey(shot: str, recipe: str | None, assignments: tuple[str, ...], camera: str | None, frame: float | None, as_json: bool) -> None:
    """Look SHOT over before any render: what is wrong with it, where, why it matters for this recipe, and how to fix it."""
    settings, edits = recipe_of(recipe, assignments)
    opened = open_shot(shot, frame)
    name = opened.edited(edits).camera(camera).name
    from ..shot import warm_up

    report = Reporter()
    warm_up(report)
    found = opened.survey(settings, edits=edits, camera=camera, progress=report)
    report.done()
    result = {
        "shot": opened.name, "camera": name, "triangles": opened.scene.triangle_count(), "notes": opened.notes, **found.as_dict(),
    }  # fmt: skip
    print_result(as_json, result, lambda: _words(found, f"Nothing found in {opened.name}, seen from {name}."))


def _words(found: Any, nothing: str) -> str:
    lines = [f"{f.severity}: {f.title}\n    {f.why}\n" + "".join(f"    → {m.words}{_sets(m.edits)}\n" for m in f.mends) for f in found.findings]
    return "".join(lines).rstrip() or nothing


def _sets(edits: dict[str, Any]) -> str:
    return "".join(f"\n        --set '{key}={value}'" for key, value in edits.items())
