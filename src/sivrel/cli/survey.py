"""`sivrel survey`: check a scene before any render."""

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


@click.command(short_help="Check a scene before rendering.")
@shot_argument
@recipe_option
@set_option
@camera_option
@frame_option
@json_option
def survey(shot: str, recipe: str | None, assignments: tuple[str, ...], camera: str | None, frame: float | None, as_json: bool) -> None:
    """Check SHOT before any render: problems, where they are, why they matter for this recipe, and fixes."""
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
