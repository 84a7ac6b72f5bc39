"""The demo shots of *Skerry Light*, an invented lighthouse station in an invented short film."""

from dataclasses import dataclass
from pathlib import Path

from ..core.errors import InputError

FOLDER = Path(__file__).parent / "shots"
PREFIX = "demo:"


@dataclass(frozen=True)
class DemoShot:
    """A shot that ships with the program: its USD file, and what it shows."""

    name: str
    title: str
    about: str

    @property
    def path(self) -> Path:
        return FOLDER / self.name / f"{self.name}.usdc"

    @property
    def proofs(self) -> Path:
        """The folder of proofs that ship with the shot."""
        return FOLDER / self.name / "proofs"

    @property
    def sequences(self) -> Path:
        """The folder of sequences that ship with the shot, a folder each."""
        return FOLDER / self.name / "sequences"


SHOTS = (
    DemoShot(
        "keepers-kitchen",
        "Keeper's kitchen",
        "A whitewashed room in evening sun, with a lamp and a glowing fire. Many bounces; one wall is a single sheet, the roof has an open joint.",
    ),
    DemoShot(
        "slipway",
        "Slipway",
        "Noon at the landing: boat, ropes and posts under sun and sky. The sun's size decides the shadows; bounced light hardly matters.",
    ),
    DemoShot(
        "lamp-room",
        "Lamp room",
        "Night around the lens: prisms, brass, a lamp behind them. Light that paths rarely find through glass; fireflies, glass that turns black.",
    ),
    DemoShot(
        "stairwell",
        "Stairwell",
        "Night, four seconds up a spiral stair: dozens of lanterns, a lamp that swings, a door that opens. Many lights, a dark room, and flicker.",
    ),
)


def find_shot(spec: str) -> Path:
    """The file of `spec`: a path, or demo:NAME. Raises InputError with the names of demo shots."""
    if not spec.startswith(PREFIX):
        return Path(spec)
    for shot in SHOTS:
        if spec == PREFIX + shot.name:
            return shot.path
    names = ", ".join(PREFIX + shot.name for shot in SHOTS)
    raise InputError(f"There is no demo shot “{spec.removeprefix(PREFIX)}”; choose one of: {names}.")
