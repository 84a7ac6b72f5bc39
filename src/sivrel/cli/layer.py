"""`sivrel layer`: edits as a USD layer over a scene, which is not changed."""

import click

from .common import json_option, open_shot, output_path, print_result, recipe_of, say, set_option, shot_argument


@click.command(short_help="Write edits as a USD layer over the scene.")
@shot_argument
@click.option("-o", "--output", required=True, metavar="OUT.usda", help="File to write.")
@set_option
@json_option
def layer(shot: str, output: str, assignments: tuple[str, ...], as_json: bool) -> None:
    """Write edits of lights and objects as a USD layer over SHOT, which is not changed."""
    out = output_path(output, (".usda", ".usdc"), "The layer is written as USD; name it {name}.")
    _, edits = recipe_of(None, assignments)
    opened = open_shot(shot)
    assert opened.path is not None
    left_out = opened.write_layer(out, edits)
    for sentence in left_out:
        say(sentence)
    count, name = len(edits.flat()), opened.path.name
    print_result(as_json, {"output": str(out), "edits": edits.flat(), "left_out": left_out}, lambda: f"{out}: {count} edits over {name}")
