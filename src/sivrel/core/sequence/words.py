"""Flicker in words."""

from typing import Any

SEEN, STRONG = 1.0, 3.0
"""Times the threshold from which flicker is seen, and from which it is strong."""


def flicker_in_words(whole: dict[str, Any] | None, rate: float) -> str:
    """A sentence or two on the flicker of a sequence, as `judge.over_all` gives it."""
    if whole is None:
        return "Its flicker was not measured: that takes three frames that follow one another."
    level = float(whole["level"])
    if level < 0.005:
        return "It does not flicker at all."
    how = "is not seen" if level < SEEN else "is seen" if level < STRONG else "is strong"
    times = f"{level:.2g} times what is just seen" if level >= SEEN else f"{level:.2f} of what is just seen"
    sentence = f"At {rate:g} frames a second its flicker {how}: {times}"
    place = whole.get("place")
    if level < SEEN or not place:
        return f"{sentence}."
    where = f" on {place['object'].rsplit('/', 1)[-1]}" if place["object"] else ""
    return f"{sentence}; worst in frame {whole['worst']:g}{where} ({whole['worst_level']:.2g})."
