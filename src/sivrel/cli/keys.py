"""`sivrel keys`: the commands of the pages with their keys, and what is wrong with a file of own keys."""

from pathlib import Path

import click

from .common import json_option, print_result
from .serve import data_option


@click.command(short_help="List the keys of the pages, with those of a data folder.")
@data_option
@json_option
def keys(data: str, as_json: bool) -> None:
    """List the commands with their keys. Own keys go into keys.json of the data folder: {"wipe": "b", "compare": ["w", "m b"]}.
    A key is a letter, a digit, two of them pressed one after the other ("g s"), or a named one such as Enter or ArrowUp."""
    from ..web.keys.own import CHANGEABLE, keys_of
    from ..web.keys.pages import PAGES

    found = {page or "every other page": keys_of(page, Path(data)) for page in PAGES}
    problems = list(dict.fromkeys(problem for one in found.values() for problem in one.problems))
    lines = []
    for page, of_page in found.items():
        lines += ["", page[0].upper() + page[1:]]
        for one in of_page.commands:
            lines.append(f"  {one.name:<14} {' or '.join(one.keys):<12} {one.says}{'' if one.name in CHANGEABLE else ' (fixed)'}")
    for problem in problems:
        click.echo(problem, err=True)
    pages = {page: {one.name: list(one.keys) for one in of_page.commands} for page, of_page in found.items()}
    print_result(as_json, {"pages": pages, "problems": problems}, lambda: "\n".join(lines).strip())
