"""Offers of a ladder, budget, match or advice to prove: changes and their predictions."""

from dataclasses import dataclass, field
from typing import Any

from ...core.errors import InputError
from ...store.tunings import Tuning


@dataclass(frozen=True)
class Offer:
    """words: of the proof's note; changes: of recipe and edits, by key; predicted: seconds and noise, if known."""

    words: str
    changes: dict[str, Any]
    predicted: dict[str, float] = field(default_factory=dict)


def offer_of(one: Tuning, number: int) -> Offer:
    """The offer of that number: a rung, a plan, a way, or a recipe of the advice. Raises InputError."""
    listed = {"ladder": "rungs", "budget": "plans", "match": "entrants", "advice": "recipes"}[one.kind]
    offers = (one.result or {}).get(listed, [])
    if not 0 <= number < len(offers):
        raise InputError("This is no longer offered; reload the page.")
    chosen = offers[number]
    if one.kind == "ladder":
        words = ", ".join(f"{v['name']} {chosen['values'][v['key']]:g}" for v in (one.result or {})["varied"])
        predicted = {"seconds": chosen["frame_seconds"], "noise": chosen["error"]["noise"]} if chosen["error"] else {}
        return Offer(f"ladder: {words}", chosen["values"], predicted)
    if one.kind == "budget":
        return Offer(f"budget: {chosen['name']}", {**chosen["values"], **chosen["edits"]}, {"seconds": chosen["seconds"], "noise": chosen["noise"]})
    if one.kind == "match":
        return Offer(f"match: {chosen['title']}", chosen["values"])
    return Offer(f"advice: {chosen['purpose']}", chosen["values"])
