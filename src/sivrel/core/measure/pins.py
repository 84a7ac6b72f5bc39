"""Readings of a pin: the light, colour and noise of a small box of a picture."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..pictures.exr import Picture
from .difference import visible_difference
from .noise import LUMINANCE

LEAST_SIDE = 5
"""Side in pixels of the box that is read at a point."""
MARGIN = 16
"""Margin in pixels that FLIP sees around the box."""
Box = tuple[float, float, float, float]


@dataclass(frozen=True)
class Reading:
    """colour: mean linear red, green, blue; luminance: its mean; noise: mean standard error of a pixel relative to that luminance, None if the
    picture was not measured; pixels: number read; visible: mean FLIP value against the compared picture, None without
    one."""

    colour: tuple[float, float, float]
    luminance: float
    noise: float | None
    pixels: int
    visible: float | None = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def pixels_of(box: Box, picture: Picture, margin: int = 0) -> tuple[slice, slice] | None:
    """Rows and columns of a picture covered by a box, (left, top, right, bottom) as shares of the frame; None if it is outside the
    picture's region. A box smaller than a few pixels is enlarged to them."""
    x0, y0, x1, y1 = picture.frame.window
    found = []
    for low, high, size, start, end in ((box[0], box[2], picture.frame.width, x0, x1), (box[1], box[3], picture.frame.height, y0, y1)):
        first, last = low * size, high * size
        if last - first < LEAST_SIDE:
            first = round((first + last - LEAST_SIDE) / 2.0)
            last = first + LEAST_SIDE
        first, last = max(start, round(first) - margin), min(end, round(last) + margin)
        if first >= last:
            return None
        found.append(slice(first - start, last - start))
    return found[1], found[0]


def read_pin(picture: Picture, box: Box, against: Picture | None = None, exposure: float = 0.0) -> Reading | None:
    """Read a box, (left, top, right, bottom) as shares of the frame; None if the picture does not contain it. With `against`, a picture of
    the same pixels, also the visible difference at `exposure` stops."""
    place = pixels_of(box, picture)
    if place is None:
        return None
    colours = picture.beauty[place][..., :3].reshape(-1, 3).astype(float)
    colour = colours.mean(axis=0)
    light = float(colour @ LUMINANCE)
    variance, noise = picture.passes.get("variance"), None
    if variance is not None and np.isfinite(variance[place]).all():
        error = np.sqrt(np.maximum(variance[place], 0.0)) @ LUMINANCE
        noise = float(error.mean()) / light if light > 0.0 else 0.0
    visible = None
    if against is not None and against.frame.window == picture.frame.window and against.beauty.shape == picture.beauty.shape:
        wide = pixels_of(box, picture, MARGIN)
        assert wide is not None
        seen = visible_difference(against.beauty[wide][..., :3], picture.beauty[wide][..., :3], exposure)
        rows, columns = (slice(p.start - w.start, p.stop - w.start) for p, w in zip(place, wide, strict=True))
        visible = float(seen[rows, columns].mean())
    return Reading((float(colour[0]), float(colour[1]), float(colour[2])), light, noise, len(colours), visible)
