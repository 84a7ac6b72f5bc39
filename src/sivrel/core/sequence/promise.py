"""Whether a remedy for flicker did what was promised: the new frames are held against the prediction, at the place that it was made for."""

from typing import Any

import numpy as np

NEAR = 1.3
"""Ratio to the promise up to which it counts as kept."""
NO_BETTER = 0.9
"""Ratio to what was there before from which nothing is gained."""


def promise_of(cause: dict[str, Any], remedy: dict[str, Any]) -> dict[str, Any]:
    """What a remedy promises, to be kept with the sequence that it is rendered as: `level` and `before`, flicker in times what is just seen, in the
    pixels `box` of the frame `time`; `seconds` a frame."""
    return {"level": remedy["level"], "before": cause["level"], "seconds": remedy["seconds"], "time": cause["time"], "box": cause["box"]}


def level_in(seen: np.ndarray, box: list[int]) -> float | None:
    """Root mean square of a map of flicker [rows, columns] in a box of its pixels, of what was judged; None if nothing was."""
    part = seen[box[1] : box[3], box[0] : box[2]].astype(np.float64)
    there = part[part > 0.0]
    return float((there**2).mean() ** 0.5) if len(there) else None


def promise_in_words(promised: dict[str, Any], level: float | None, seconds: float | None) -> dict[str, Any]:
    """What became of a promise: `state` kept, better, short, failed, or open while it is not measured; `says` in a sentence."""
    if level is None:
        return {
            "state": "open",
            "says": f"Promised: flicker {promised['before']:.2g} → {promised['level']:.2g} where it was worst. Not measured yet.",
        }
    wanted, before = promised["level"], promised["before"]
    if level > NO_BETTER * before:
        state, verdict = "failed", "it did not help"
    elif level <= max(1.0, wanted / NEAR):
        state, verdict = ("kept", "as promised") if wanted <= 1.0 else ("better", "better than promised")
    elif level <= NEAR * max(wanted, 1.0):
        state, verdict = "kept", "as promised"
    else:
        state, verdict = "short", "less than promised"
    time = f", {seconds:.3g} s a frame instead of {promised['seconds']:.3g} s" if seconds and promised["seconds"] else ""
    return {"state": state, "says": f"Where it was worst, flicker {before:.2g} → {level:.2g}, promised {wanted:.2g}: {verdict}{time}."}
