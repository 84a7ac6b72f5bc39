"""Flaws that a proof's measurements show, as filters of the lineage."""

from collections.abc import Callable
from typing import NamedTuple

from ...store.proofs import Proof


class Flaw(NamedTuple):
    """title: in words; shows: whether a proof's measurements show it."""

    title: str
    shows: Callable[[Proof], bool]


def _meter(name: str, most: float) -> Callable[[Proof], bool]:
    return lambda proof: float(proof.meters.get(name) or 0.0) > most


def _cache_is_off(proof: Proof) -> bool:
    """A way differed significantly from brute force by more than 5 % where it was checked."""
    checks = [way["check"] for way in proof.meters.get("ways", []) if way.get("check")]
    return any(abs(check["mean"]) > max(0.05, 2.0 * check["mean_error"]) for check in checks)


FLAWS = {
    "grain": Flaw("grain over 10 %", lambda proof: (proof.noise or 0.0) > 0.1),
    "fireflies": Flaw("fireflies", _meter("fireflies", 5e-4)),
    "clamped": Flaw("light lost to the clamp", _meter("clamped", 0.005)),
    "bounces": Flaw("light lost to the limits", lambda proof: max(proof.meters.get("beyond", {}).values(), default=0.0) > 0.005),
    "glass": Flaw("black glass", _meter("ended_in_glass", 0.002)),
    "texels": Flaw("coarse depth map", lambda proof: any(note.get("coarse", 0.0) > 0.01 for note in proof.maps)),
    "offset": Flaw("speckle from the offset", _meter("self_hits", 1e-3)),
    "cache": Flaw("cache off by over 5 %", _cache_is_off),
    "stand-ins": Flaw("made with stand-ins", _meter("stand_ins", 0)),
}
