"""`sivrel recipes`: every setting with its range and what it trades."""

import click

from .common import json_option, print_result


@click.command(short_help="Show every setting with its range and what it trades.")
@json_option
def recipes(as_json: bool) -> None:
    """Show every setting of recipes, edits and finishing with its range and what it trades, and the starting recipes."""
    from ..core.edits.edits import SETTINGS
    from ..core.finish.finishing import SETTINGS as FINISHING
    from ..core.gi.ways import WAYS
    from ..core.render.recipe import settings
    from ..core.render.starting import STARTING
    from ..core.shadows.ways import WAYS as SHADOW_WAYS
    from ..core.stored import RECIPE

    infos = settings()

    def table() -> str:
        lines = []
        for key, info in infos.items():
            lines.append(f"{key}  (default {info.default}; {info.range_in_words})\n    {info.trades}")
        for group, fields in SETTINGS.items():
            for field, info in fields.items():
                lines.append(f"{group}.NAME.{field}  ({info.range_in_words})\n    {info.trades}")
        for name, info in FINISHING.items():
            lines.append(f"finish.{name}  (default {info.default}; {info.range_in_words})\n    {info.trades} With `sivrel finish`.")
        for key, start in STARTING.items():
            lines.append(f"--recipe {key}  ({start.title})\n    {start.reason}")
        return "\n".join(lines)

    shadow_ways = [{"key": w.key, "title": w.title, "does": w.does, "costs": w.costs} for w in SHADOW_WAYS]
    ways = [{"key": w.key, "title": w.title, "does": w.does, "costs": w.costs} for w in WAYS]
    starting = {key: {"title": s.title, "reason": s.reason, "values": s.values} for key, s in STARTING.items()}
    keys = {key: info.public() for key, info in infos.items()}
    edits = {group: {field: info.public() for field, info in fields.items()} for group, fields in SETTINGS.items()}
    finishing = {name: info.public() for name, info in FINISHING.items()}
    result = {
        "version": RECIPE.version, "keys": keys, "ways": ways, "shadow_ways": shadow_ways, "edits": edits, "finish": finishing,
        "starting": starting,
    }  # fmt: skip
    print_result(as_json, result, table)
