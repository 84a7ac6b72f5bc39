"""`sivrel keys`: the commands of the pages with their keys, and what is wrong with a file of own keys."""

from pathlib import Path

import click

from .common import json_option, print_result
from .serve import data_option


@click.command(short_help="List the keys of the pages, with those of a data folder.")
@data_option
@json_option
def keys(data: str, as_json: bool) -> None:
    """List the commands with their keys. Own keys go into keys.json of the data folder: {"wipe": "w", "survey": ["j", "g s"]}.
    A key is a letter, a digit, two of them pressed one after the other ("g s"), or a named one such as Enter or ArrowUp."""
    from ..web.keys.own import CHANGEABLE, keys_of
    from ..web.keys.pages import PAGES

    pages, problems = {}, []
    for page in PAGES:
        found = keys_of(page, Path(data))
        pages[page or "every other page"] = {one.name: list(one.keys) for one in found.commands}
        problems += [problem for problem in found.problems if problem not in problems]
    lines = []
    for page, commands in pages.items():
        says = {one.name: one.says for one in keys_of("" if page == "every other page" else page, Path(data)).commands}
        lines += ["", page[0].upper() + page[1:]]
        lines += [f"  {name:<14} {' or '.join(bound):<12} {says[name]}{'' if name in CHANGEABLE else ' (fixed)'}" for name, bound in commands.items()]
    for problem in problems:
        click.echo(problem, err=True)
    print_result(as_json, {"pages": pages, "problems": problems}, lambda: "\n".join(lines).strip())
