"""A command of a page: its keys, its words, its button."""

from dataclasses import dataclass

SHOWN = {
    "Enter": "⏎", "Escape": "Esc", "ArrowUp": "↑", "ArrowDown": "↓", "ArrowLeft": "←", "ArrowRight": "→", "Delete": "Del", "PageUp": "PgUp",
    "PageDown": "PgDn",
}  # fmt: skip
"""Labels of keys that differ from the key itself."""
NAMED = (*SHOWN, "Space", "Home", "End", "Ctrl")
"""Keys with names. All others are single letters and digits: no key needs Shift on any keyboard."""


@dataclass(frozen=True)
class Command:
    """name: of its function in the page's script; keys: each a key ("w", "Enter") or two letters pressed one after the other ("g s");
    says: in the key sheet and the palette; label, title: of its button; toggles: whether its button stays pressed; of_scene: whether it
    needs a scene, which pictures from elsewhere lack; held: whether it works only as long as its key is down; by_page: whether its key is
    handled by every page or with Ctrl, and cannot be changed; words: other words by which the palette finds it."""

    name: str
    keys: tuple[str, ...]
    says: str
    label: str = ""
    title: str = ""
    toggles: bool = False
    of_scene: bool = False
    held: bool = False
    by_page: bool = False
    words: str = ""

    @property
    def shown(self) -> list[str]:
        """Labels of its keys on the page."""
        return [" ".join(SHOWN.get(part, part.upper() if len(part) == 1 else part) for part in key.split(" ")) for key in self.keys]

    @property
    def hint(self) -> str:
        """The tooltip of its button: what it does, and its keys."""
        return f"{self.title or self.says} ({' or '.join(self.shown)})"


@dataclass(frozen=True)
class Group:
    """Commands of one task, as the key sheet lists them."""

    title: str
    commands: tuple[Command, ...]
