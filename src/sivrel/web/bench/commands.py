"""The commands of the bench: one declaration for buttons, key sheet and key bindings. Their functions are in bench.js, by name."""

from dataclasses import dataclass
from typing import Any

SPELLINGS = {
    "prove": "render start run go draft", "leave": "cancel stop abort back", "oneByOne": "separately each change", "live": "interactive preview",
    "before": "previous up", "after": "next down", "fold": "collapse hide", "unfold": "expand show", "star": "favourite mark keep",
    "name": "rename note comment label", "putAside": "remove trash discard", "find": "search proofs lineage",
    "queue": "jobs waiting renders priority",
    "parent": "previous original before", "wipe": "split slide", "difference": "diff subtract", "weaker": "difference gain",
    "stronger": "difference gain", "compare": "two beside", "region": "crop part box area", "enlarge": "zoom crop bigger",
    "half": "smaller resolution", "double": "larger bigger resolution", "pin": "probe marker watch value", "walk": "orbit navigate view move",
    "rise": "up crane", "sink": "down crane", "darker": "exposure brightness", "lighter": "exposure brighter brightness",
    "asCamera": "reset exposure", "lights": "lamps panel", "solo": "isolate only", "lightOn": "light off mute",
    "reach": "blocked shadow who lights this",
    "plan": "top view map place aim light", "marks": "records photons cells", "hatch": "overlay served traced", "undo": "redo back history",
    "findings": "diagnose flaws problems fireflies blotches leaks grain wrong", "findingBefore": "previous flaw", "findingAfter": "next flaw",
    "proveFirst": "fix cure repair flaw", "survey": "check geometry problems", "ladder": "how high enough test values samples",
    "budget": "time seconds split spend", "match": "compare brute force cache photons gi", "advice": "recommend suggest help choose",
    "filter": "denoise clean grain", "finish": "grade balance contrast white tone", "measure": "auto automatic exposure", "view": "tone display",
    "pass": "aov layer channel albedo normal depth", "zoomIn": "closer larger", "zoomOut": "zoom smaller", "fit": "zoom whole picture",
    "pixels": "zoom 100 percent actual size", "paper": "dark mode night", "sheet": "help keys keyboard shortcuts",
}  # fmt: skip
"""Other words by which a command is found in the palette."""
SHOWN = {
    "Enter": "⏎", "Escape": "Esc", "ArrowUp": "↑", "ArrowDown": "↓", "ArrowLeft": "←", "ArrowRight": "→", "Delete": "Del", "PageUp": "PgUp",
    "PageDown": "PgDn", "-": "−", " ": "Space",
}  # fmt: skip
"""Labels of keys that differ from the key itself."""


@dataclass(frozen=True)
class Command:
    """name: of its function in bench.js; keys: as KeyboardEvent.key, letters in lower case; says: in the key sheet; label, title: of its button;
    toggles: whether it stays pressed; of_scene: whether it needs a scene, which pictures from elsewhere lack; by_page: whether its key is
    handled elsewhere (held down, with Ctrl, on every page)."""

    name: str
    keys: tuple[str, ...]
    says: str
    label: str = ""
    title: str = ""
    toggles: bool = False
    of_scene: bool = False
    by_page: bool = False

    @property
    def shown(self) -> list[str]:
        """Labels of its keys on the page."""
        return [SHOWN.get(key, key.upper() if len(key) == 1 else key) for key in self.keys]


SHEET: tuple[tuple[Command, ...], ...] = (
    (Command("prove", ("Enter",), "prove the recipe", of_scene=True),),
    (Command("leave", ("Escape",), "cancel the render; leave region, wipe or difference"),),
    (Command("oneByOne", ("j",), "several changes: prove them one by one", of_scene=True),),
    (Command("live", ("h",), "live: render every change as it is made (dragging a number sideways always renders a region at once)", "live",
             "render every change as it is made", True, True),),
    (Command("before", ("ArrowUp",), "proof before"), Command("after", ("ArrowDown",), "proof after"),
     Command("fold", ("ArrowLeft",), "fold its descendants"), Command("unfold", ("ArrowRight",), "unfold it")),
    (Command("star", ("*",), "star"), Command("name", ("y",), "name and note"), Command("putAside", ("Delete",), "delete"),
     Command("find", ("/",), "find")),
    (Command("queue", ("u",), "the queue: order, hold, give way", of_scene=True),),
    (Command("parent", ("p",), "compare with its parent"),),
    (Command("flip", ("f",), "hold to see the other proof", "flip", "hold to see the other proof", by_page=True),),
    (Command("wipe", ("w",), "wipe between the two", "wipe", "", True),),
    (Command("difference", ("d",), "difference, mid grey is none", "difference", "", True), Command("weaker", (",",), "weaker"),
     Command("stronger", (".",), "stronger")),
    (Command("compare", ("b",), "side by side, with the visible difference", "beside",
             "side by side, with the visible difference"),),
    (Command("region", ("r",), "drag a region; again for the whole frame", "region", "drag a part of the picture to render only that", True, True),
     Command("enlarge", ("z",), "enlarge it", "enlarge", "render the region enlarged to the whole plate; again: back", of_scene=True),
     Command("half", ("<",), "half size", of_scene=True), Command("double", (">",), "double size", of_scene=True)),
    (Command("pin", ("i",), "pin a point or a box", "pin", "watch a point or a box through all proofs", True),
     Command("walk", ("k",), "move the camera", "camera", "move the camera on the plate", True, True),
     Command("rise", ("PageUp",), "the camera rises", of_scene=True), Command("sink", ("PageDown",), "it sinks", of_scene=True)),
    (Command("darker", ("[",), "darker by a third of a stop"), Command("lighter", ("]",), "lighter"),
     Command("asCamera", ("\\",), "the camera's exposure")),
    (Command("lights", ("l",), "lights, or back to the recipe", of_scene=True),
     Command("solo", ("s",), "solo the light under the pointer, or the open", of_scene=True), Command("lightOn", ("x",), "switch it", of_scene=True)),
    (Command("reach", ("q",), "click a point: which lights reach it, and what blocks the others", "reach",
             "click a point: which lights reach it, and what blocks the others", True, True),),
    (Command("plan", ("g",), "plan and elevation: drag lights to move, aim and size them", "plan", "plan and elevation, to move and aim lights", True,
             True),),
    (Command("marks", ("c",), "show the contents of this proof's caches: records, photons, cells, elements", "caches",
             "the contents of this proof's caches", True, True),),
    (Command("hatch", ("o",), "hatch where no cache was used and rays were traced; again: where a depth map's texels are larger than pixels",
             of_scene=True),),
    (Command("undo", ("Ctrl", "z"), "undo a change; with Shift redo", by_page=True),),
    (Command("findings", (";",), "findings: what is wrong with this picture"), Command("findingBefore", ("(",), "the one before"),
     Command("findingAfter", (")",), "the next"), Command("proveFirst", (":",), "prove the first remedy", of_scene=True)),
    (Command("survey", ("!",), "survey: what is wrong with the scene, and how to fix it", of_scene=True),),
    (Command("ladder", ("^",), "ladder of the last used number, on the region"),
     Command("budget", ("$",), "budget: where the next second goes")),
    (Command("match", ("%",), "match: which way wins"), Command("advice", ("&",), "advice: which way this shot should use, and why")),
    (Command("filter", ("n",), "filter the noise of this proof, with the unfiltered one beside it", "Filter this proof", "", True),),
    (Command("finish", ("e",), "finishing, or back to the recipe"), Command("measure", ("m",), "measure the exposure")),
    (Command("view", ("v",), "next view"),),
    (Command("pass", ("a",), "next pass"),),
    (Command("zoomIn", ("+", "="), "zoom in"), Command("zoomOut", ("-",), "out"), Command("fit", ("0",), "fit"),
     Command("pixels", ("1",), "pixel for pixel, wheel at the pointer")),
    (Command("paper", ("t",), "light or dark theme", by_page=True),),
    (Command("palette", (" ",), "find anything: actions, settings, lights, proofs, pages"),),
    (Command("sheet", ("?",), "this sheet", by_page=True),),
)  # fmt: skip
"""Rows of the key sheet."""
COMMANDS = tuple(command for row in SHEET for command in row)
BY_NAME = {command.name: command for command in COMMANDS}


def palette(outside: bool) -> list[dict[str, Any]]:
    """The commands as the palette lists them: all but those that are held down."""
    chosen = [command for command in COMMANDS if command.name != "flip" and not (outside and command.of_scene)]
    return [
        {"name": one.name, "title": one.says[0].upper() + one.says[1:], "keys": one.shown, "words": f"{one.label} {SPELLINGS.get(one.name, '')}"}
        for one in chosen
    ]  # fmt: skip


def bindings(outside: bool) -> dict[str, str]:
    """Names of commands by their keys, for a shot, or for pictures from `outside`."""
    return {key: command.name for command in COMMANDS if not command.by_page and not (outside and command.of_scene) for key in command.keys}
