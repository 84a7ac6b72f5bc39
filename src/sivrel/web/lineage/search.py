"""Finds proofs by a query in words: “shadow rays > 8 and under 5 s and lamp”."""

import operator
from collections.abc import Callable
from typing import Any

from ...core.render.recipe import settings
from ...store.proofs import Proof
from .cards import Card
from .flaws import FLAWS

Test = Callable[[Card], bool]
OPERATORS: dict[str, Callable[[Any, Any], bool]] = {
    ">=": operator.ge, "<=": operator.le, "≥": operator.ge, "≤": operator.le, "!=": operator.ne, ">": operator.gt, "<": operator.lt, "=": operator.eq,
    "under": operator.lt, "over": operator.gt, "above": operator.gt, "below": operator.lt, "is": operator.eq,
}  # fmt: skip
SIGNS = sorted((word for word in OPERATORS if not word.isalpha()), key=len, reverse=True)
UNITS = ("min", "px", "s", "%", "m")
LONGEST = 200
"""Most characters of a query."""
MEASURED: dict[str, Callable[[Proof], float | None]] = {
    "time": lambda proof: proof.seconds,
    "noise": lambda proof: None if proof.noise is None else proof.noise * 100.0,
    "light": lambda proof: proof.light,
    "width": lambda proof: float(proof.frame.width),
    "height": lambda proof: float(proof.frame.height),
    "seed": lambda proof: float(proof.frame.seed),
}
STATES: dict[str, Test] = {
    "starred": lambda card: card.proof.starred,
    "named": lambda card: bool(card.proof.name),
    "region": lambda card: card.proof.frame.region is not None,
    **{state: (lambda card, state=state: card.proof.state == state) for state in ("done", "waiting", "rendering", "cancelled", "failed")},  # type: ignore[misc]
}


def wanted(text: str, flaw: str = "") -> Test:
    """Whether a card matches: it meets all clauses of the text, joined by “and” or commas, and has the flaw."""
    words = text[:LONGEST].lower().replace(",", " and ").split()
    clauses: list[list[str]] = [[]]
    for word in words:
        if word == "and":
            clauses.append([])
        else:
            clauses[-1].append(word)
    tests = [_clause(" ".join(clause)) for clause in clauses if clause]
    if flaw in FLAWS:
        tests.append(lambda card: FLAWS[flaw].shows(card.proof))
    return lambda card: all(test(card) for test in tests)


def _clause(text: str) -> Test:
    if text in STATES:
        return STATES[text]
    parts = _parts(text)
    if parts is not None:
        name, sign, value, unit = parts
        value_of = _value(name, unit)
        if value_of is not None:
            return _comparison(value_of, OPERATORS[sign], value, unit)
    return lambda card: text in _words(card)


def _parts(text: str) -> tuple[str, str, str, str] | None:
    """Name, operator, value and unit of a clause like “shadow rays > 8” or “under 5 s”; None if it is not one. The first operator counts."""
    spaced = text
    for sign in SIGNS:
        at = spaced.find(sign)
        if at >= 0 and not any(longer in spaced for longer in SIGNS if len(longer) > len(sign) and sign in longer):
            spaced = f"{spaced[:at]} {sign} {spaced[at + len(sign) :]}"
            break
    words = spaced.split()
    at = next((k for k, word in enumerate(words) if word in OPERATORS), len(words))
    if not 2 <= len(words) - at <= 3:
        return None
    value, unit = words[at + 1], words[at + 2] if len(words) - at == 3 else ""
    if not unit:
        unit = next((u for u in UNITS if value.endswith(u) and value[: -len(u)].replace(".", "", 1).isdecimal()), "")
        value = value[: len(value) - len(unit)]
    return None if unit not in ("", *UNITS) else (" ".join(words[:at]), words[at], value, unit)


def _value(name: str, unit: str) -> Callable[[Proof], Any] | None:
    """The meaning of a name: a measurement, or a setting by key or name."""
    if not name:
        name = "time" if unit in ("s", "min") else "noise" if unit == "%" else ""
    if name in MEASURED:
        return MEASURED[name]
    keys = [key for key, info in settings().items() if name in (key, info.name.lower())]
    if not keys:
        return None
    group, field = keys[0].split(".")
    return lambda proof: getattr(getattr(proof.recipe, group), field)


def _comparison(value_of: Callable[[Proof], Any], compare: Callable[[Any, Any], bool], given: str, unit: str) -> Test:
    try:
        number = float(given) * (60.0 if unit == "min" else 1.0)
    except ValueError:
        return lambda card: compare(str(value_of(card.proof)).replace("_", " "), given.replace("_", " "))

    def test(card: Card) -> bool:
        value = value_of(card.proof)
        return isinstance(value, int | float) and compare(float(value), number)

    return test


def _words(card: Card) -> str:
    """The full text of a card, for text search."""
    proof = card.proof
    return " ".join([f"proof {proof.id}", proof.name, proof.note, card.said, proof.camera, proof.state, proof.created_at[:10]]).lower()
