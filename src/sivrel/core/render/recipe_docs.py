"""The recipe reference, docs/recipe.md: `python -m sivrel.core.render.recipe_docs > docs/recipe.md`."""

from ..edits.edits import SETTINGS
from ..finish.finishing import SETTINGS as FINISHING
from ..gi.ways import WAYS
from ..shadows.ways import WAYS as SHADOW_WAYS
from .recipe import QUESTIONS, settings

EDIT_GROUPS = {
    "light": (
        "Edits of lights",
        "NAME is the light's, as the file or the artist gave it. An edit replaces the file's value; the file is never changed.",
    ),
    "object": ("Edits of objects", "NAME is a mesh's path, or the beginning of one for everything below it."),
    "card": ("Cards", "NAME is the artist's."),
    "camera": ("Edits of cameras", "NAME is the camera's, or a new one's."),
    "scene": ("Edits of the whole scene", "NAME is `whole`."),
}


def recipe_reference() -> str:
    """Markdown made from the declarations of all settings and ways."""
    lines = ["# Recipe reference", "", "Made from the schema by `make docs`; do not edit.", ""]
    infos = settings()
    for group, question in QUESTIONS.items():
        lines += [f"## {question}", "", "| key | default | range | what it trades |", "|---|---|---|---|"]
        for key, info in infos.items():
            if key.startswith(f"{group}."):
                lines.append(f"| `{key}` | {info.default} | {info.range_in_words} | {info.trades} |")
        lines.append("")
    lines += ["## Ways of finding bounced light", "", "| way | seen | beyond | does | costs |", "|---|---|---|---|---|"]
    for way in WAYS:
        places = ["yes" if place else "no" for place in (way.seen, way.beyond)]
        lines.append(f"| `{way.key}` | {places[0]} | {places[1]} | {way.does} | {way.costs} |")
    lines += ["", "## Ways of casting shadows", "", "| way | does | costs |", "|---|---|---|"]
    lines += [f"| `{way.key}` | {way.does} | {way.costs} |" for way in SHADOW_WAYS]
    for group, intro in EDIT_GROUPS.items():
        lines += ["", f"## {intro[0]}", "", intro[1], "", "| key | takes | what it does |", "|---|---|---|"]
        lines += [f"| `{group}.NAME.{field}` | {info.range_in_words} | {info.trades} |" for field, info in SETTINGS[group].items()]
    lines += [
        "",
        "## Finishing",
        "",
        "For `sivrel finish`; the EXR stays as it was rendered.",
        "",
        "| key | default | range | what it does |",
        "|---|---|---|---|",
    ]
    lines += [f"| `finish.{name}` | {info.default} | {info.range_in_words} | {info.trades} |" for name, info in FINISHING.items()]
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(recipe_reference(), end="")
