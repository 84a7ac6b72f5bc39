"""`sivrel recipes`: every setting with its range and what it trades."""

import click

from .common import json_option, print_result


@click.command(short_help="Show every setting with its range and what it trades.")
@json_option
def recipes(as_json: bool) -> None:
    """Show every setting of recipes, edits and finishing with its range and what it trades, and the starting recipes."""
    from ..core.edits.edits import SETTINGS, span_in_words
    from ..core.finish.finishing import Finish
    from ..core.gi.ways import WAYS
    from ..core.render.recipe import settings
    from ..core.render.starting import STARTING
    from ..core.shadows.ways import WAYS as SHADOW_WAYS
    from ..core.stored import RECIPE

    infos = settings()
    finishing = Finish.model_json_schema()["properties"]

    def table() -> str:
        lines = []
        for key, info in infos.items():
            span = ", ".join(info.choices) if info.choices else f"{info.minimum:g} to {info.maximum:g} {info.unit}".strip()
            lines.append(f"{key}  (default {info.default}; {span})\n    {info.trades}")
        for group, fields in SETTINGS.items():
            for field, about in fields.items():
                lines.append(f"{group}.NAME.{field}  ({span_in_words(about)})\n    {about['trades']}")
        for name, about in finishing.items():
            lines.append(f"finish.{name}  (default {about['default']})\n    {about['description']} With `sivrel finish`.")
        for key, start in STARTING.items():
            lines.append(f"--recipe {key}  ({start.title})\n    {start.reason}")
        return "\n".join(lines)

    shadow_ways = [{"key": w.key, "title": w.title, "does": w.does, "costs": w.costs} for w in SHADOW_WAYS]
    ways = [{"key": w.key, "title": w.title, "does": w.does, "costs": w.costs} for w in WAYS]
    starting = {key: {"title": s.title, "reason": s.reason, "values": s.values} for key, s in STARTING.items()}
    keys = {key: info.model_dump(exclude={"key", "phrase", "needs"}) for key, info in infos.items()}
    result = {
        "version": RECIPE.version, "keys": keys, "ways": ways, "shadow_ways": shadow_ways, "edits": SETTINGS, "finish": finishing,
        "starting": starting,
    }  # fmt: skip
    print_result(as_json, result, table)
