"""Films: display pictures as VP9 in a WebM file, by PyAV, which ships the codec."""

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import cast

import av
import numpy as np

from ..errors import InputError
from ..whole_file import whole_file

CODEC, QUALITY = "libvpx-vp9", "20"
"""Constant quality, 0 to 63: what it loses is not seen in grain of a test render."""


def write_video(path: Path, pictures: Iterable[np.ndarray], rate: float) -> int:
    """Write display pictures uint8 [rows, columns, 3] of one size, `rate` a second, in one step; returns how many there were. Odd sizes lose a row or
    column, since colour is stored for two pixels together. Raises InputError."""
    if path.suffix.lower() != ".webm":
        raise InputError(f"The film is written as WebM; name it {path.with_suffix('.webm').name}.")
    count = 0
    with whole_file(path) as beside, av.open(str(beside), "w", format="webm") as file:
        stream: av.VideoStream | None = None
        for picture in pictures:
            rows, columns = (side // 2 * 2 for side in picture.shape[:2])
            if min(rows, columns) < 2:
                raise InputError("A film needs pictures of at least 2 by 2 pixels; render it larger.")
            if stream is None:
                stream = cast(av.VideoStream, file.add_stream(CODEC, rate=Fraction(rate).limit_denominator(100_000)))
                stream.width, stream.height, stream.pix_fmt = columns, rows, "yuv420p"
                stream.options = {"crf": QUALITY, "b": "0", "row-mt": "1", "cpu-used": "4"}
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture[:rows, :columns]), format="rgb24")
            file.mux(stream.encode(frame))
            count += 1
        if stream is None:
            raise InputError("There are no frames for a film; render some first.")
        file.mux(stream.encode())
    return count
