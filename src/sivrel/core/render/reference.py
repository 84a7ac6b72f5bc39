"""The recipe reference, docs/recipe.md: `python -m sivrel.core.render.reference > docs/recipe.md`."""

from ..gi.ways import WAYS
from .recipe import QUESTIONS, settings


def recipe_reference() -> str:
    """Markdown made from the declarations of all settings and ways."""
    lines = ["# Recipe reference", "", "Made from the schema by `make docs`; do not edit.", ""]
    infos = settings()
    for group, question in QUESTIONS.items():
        lines += [f"## {question}", "", "| key | default | range | what it trades |", "|---|---|---|---|"]
        for key, info in infos.items():
            if key.startswith(f"{group}."):
                span = ", ".join(info.choices) if info.choices else f"{info.minimum:g} to {info.maximum:g} {info.unit}".strip()
                lines.append(f"| `{key}` | {info.default} | {span} | {info.trades} |")
        lines.append("")
    lines += ["## Ways of finding bounced light", "", "| way | seen | beyond | does | costs |", "|---|---|---|---|---|"]
    for way in WAYS:
        places = ["yes" if place else "no" for place in (way.seen, way.beyond)]
        lines.append(f"| `{way.key}` | {places[0]} | {places[1]} | {way.does} | {way.costs} |")
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    print(recipe_reference(), end="")
