"""Pictures side by side, each with a line of words: a contact strip."""

from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from ..whole_file import whole_file
from .view import to_bytes, to_display

MARGIN, LINE = 8, 18
"""Pixels between pictures, and for the words under each."""
PAPER, INK = (250, 249, 245), (30, 30, 30)


def write_strip(path: Path, pictures: list[np.ndarray], words: list[str], exposure: float) -> None:
    """Write linear pictures [rows, columns, 3] of one size in a row, at an exposure in stops, as a PNG."""
    rows, columns = pictures[0].shape[:2]
    sheet = Image.new("RGB", (MARGIN + len(pictures) * (columns + MARGIN), rows + 2 * MARGIN + LINE), PAPER)
    draw, font = ImageDraw.Draw(sheet), ImageFont.load_default(12)
    for k, (picture, said) in enumerate(zip(pictures, words, strict=True)):
        left = MARGIN + k * (columns + MARGIN)
        sheet.paste(Image.fromarray(to_bytes(to_display(picture, exposure))), (left, MARGIN))
        draw.text((left, MARGIN + rows + 3), said, INK, font)
    with whole_file(path) as beside:
        sheet.save(beside, format="PNG")
