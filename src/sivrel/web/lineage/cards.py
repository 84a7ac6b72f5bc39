"""The proofs of a shot as a tree of experiments."""

import functools
from dataclasses import dataclass
from typing import NamedTuple

from ...store.proofs import Proof
from ..words import changes, in_one_line, percent, seconds_against


@dataclass(frozen=True, eq=False)
class Card:
    """One proof in the lineage: its depth, its parent card, the number of descendants, its changes, and their effect on time
    and noise."""

    proof: Proof
    depth: int
    under: int | None
    children: int
    changed: list[tuple[str, str, str]]
    time: str | None
    noise: str | None

    @property
    def said(self) -> str:
        """Its changes, in one line."""
        return in_one_line(self.changed) or ("same again" if self.proof.parent_id else "first proof")


DEEPEST = 6
"""Most steps of indentation; deeper cards are not indented further."""


class Place(NamedTuple):
    """A proof's place in the tree: depth, parent, and number of descendants."""

    number: int
    depth: int
    under: int | None
    children: int


@functools.lru_cache(16)
def tree(links: tuple[tuple[int, int | None], ...]) -> list[Place]:
    """Places in tree order, from (number, parent) of proofs, oldest first: each proof, then its descendants."""
    known = {number for number, _ in links}
    children: dict[int | None, list[int]] = {}
    for number, parent in links:
        children.setdefault(parent if parent in known else None, []).append(number)
    places: list[Place] = []
    waiting: list[tuple[int, int, int | None]] = [(number, 0, None) for number in reversed(children.get(None, []))]
    while waiting:
        number, depth, under = waiting.pop()
        below = children.get(number, [])
        places.append(Place(number, depth, under, len(below)))
        # A chain of single children is not indented; only branches are.
        step = 1 if len(below) > 1 or depth == 0 else 0
        waiting += [(child, min(depth + step, DEEPEST), number) for child in reversed(below)]
    return places


def cards_of(places: list[Place], proofs: dict[int, Proof]) -> list[Card]:
    """The cards of places, from proofs by number, including parents."""
    found = [(place, proofs.get(place.number)) for place in places]
    return [_card(proof, proofs.get(place.under or 0), place.depth, place.children) for place, proof in found if proof is not None]


def lineage(proofs: list[Proof]) -> list[Card]:
    """Cards of all proofs in the order of the tree."""
    return cards_of(tree(tuple((proof.id, proof.parent_id) for proof in proofs)), {proof.id: proof for proof in proofs})


def to_thin(cards: list[Card]) -> list[int]:
    """The proofs that thinning removes: those without star, name or note that are neither branch points, nor the first or
    the last of their line, nor still rendering."""
    return [
        card.proof.id
        for card in cards
        if card.children == 1 and card.under is not None and card.proof.state not in ("waiting", "rendering")
        and not (card.proof.starred or card.proof.name or card.proof.note)
    ]  # fmt: skip


@functools.lru_cache(8192)
def _card(proof: Proof, parent: Proof | None, depth: int, below: int) -> Card:
    """The card of a proof, cached until the proof, its parent or its place changes."""
    if parent is None:
        return Card(proof, depth, None, below, [], None, None)
    time = noise = None
    if proof.seconds is not None and parent.seconds is not None:
        time = seconds_against(proof.seconds, parent.seconds)
    if proof.noise is not None and parent.noise is not None:
        noise = f"{percent(parent.noise).removesuffix(' %')} → {percent(proof.noise)}"
    return Card(proof, depth, parent.id, below, changes(parent, proof), time, noise)
