"""`sivrel export`: a scene with all its edits as glTF."""

import click

from .common import frame_option, json_option, open_shot, output_path, print_result, recipe_of, say, set_option, shot_argument


@click.command(short_help="Write a scene with all its edits as glTF (.glb).")
@shot_argument
@click.option("-o", "--output", required=True, metavar="OUT.glb", help="File to write.")
@set_option
@frame_option
@json_option
def export(shot: str, output: str, assignments: tuple[str, ...], frame: float | None, as_json: bool) -> None:
    """Write SHOT with all edits as glTF."""
    wrong = "The scene is written as glTF; name it {name}. (`sivrel layer` writes only the edits, as USD.)"
    out = output_path(output, (".glb",), wrong)
    _, edits = recipe_of(None, assignments)
    opened = open_shot(shot, frame)
    left_out = opened.export(out, edits)
    for sentence in left_out:
        say(sentence)
    triangles = opened.edited(edits).triangle_count()
    result = {"output": str(out), "triangles": triangles, "edits": edits.flat(), "left_out": left_out}
    print_result(as_json, result, lambda: f"{out}: {triangles:,} triangles, {len(left_out)} things left out")
