"""Frames of a moving shot, written as text."""

import re
from collections.abc import Sequence

from ..errors import InputError
from ..scene.model import FrameRange

MOST_FRAMES = 100_000
_PART = re.compile(r"\s*(-?\d+)\s*(?:(?:-|–|\.\.)\s*(-?\d+)\s*(?:x\s*(\d+)\s*)?)?")


def every_frame(of: FrameRange) -> tuple[float, ...]:
    """All whole frames of a range, at most MOST_FRAMES."""
    count = min(int(of.last - of.first) + 1, MOST_FRAMES)
    return tuple(of.first + k for k in range(count))


def parse_frames(text: str, of: FrameRange | None = None) -> tuple[float, ...]:
    """Frames in rising order from text: `1-96`, every eighth as `1-96x8`, a list as `3,7,20-30`; empty: all of them. `of`: the shot's range, in which
    they must lie. Raises InputError."""
    if not text.strip() and of is not None:
        return every_frame(of)
    found: set[int] = set()
    for part in text.split(","):
        match = _PART.fullmatch(part)
        if match is None or len(part) > 40:
            raise InputError(f"The frames “{text[:80]}” can't be read; write them like 1-96, 1-96x8 for every eighth, or 3,7,20-30.")
        first, last = int(match[1]), int(match[2] or match[1])
        step = int(match[3] or 1)
        if last < first or step < 1:
            raise InputError(f"The frames “{part.strip()}” run backwards or stand still; write the smaller number first, and a step of 1 or more.")
        if of is not None and not (of.first <= first and last <= of.last):
            raise InputError(f"The frames “{part.strip()}” are not in this shot, which has the frames {of.first:g} to {of.last:g}.")
        if (last - first) // step + len(found) >= MOST_FRAMES:
            raise InputError(f"These are more than {MOST_FRAMES:,} frames; render the shot in parts.")
        found |= set(range(first, last + 1, step))
    return tuple(float(frame) for frame in sorted(found))


def frames_in_words(frames: Sequence[float]) -> str:
    """The shortest text for frames that `parse_frames` reads again."""
    parts, k = [], 0
    while k < len(frames):
        step = frames[k + 1] - frames[k] if k + 1 < len(frames) else 0.0
        end = k
        while step and end + 1 < len(frames) and frames[end + 1] - frames[end] == step:
            end += 1
        if end - k < 2 and step != 1.0:
            end = k
        every = "" if step in (0.0, 1.0) else f"x{step:g}"
        parts.append(f"{frames[k]:g}" if end == k else f"{frames[k]:g}-{frames[end]:g}{every}")
        k = end + 1
    return ",".join(parts)
