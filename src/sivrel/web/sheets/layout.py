"""Layout of a contact sheet: pictures in a grid on grey, with captions."""

import functools
import io
from pathlib import Path
from typing import NamedTuple

from PIL import Image, ImageDraw, ImageFont

from ...core.finish.finishing import Finish, finished
from ...core.finish.view import to_bytes
from ...core.pictures.exr import read_exr

MOST_PROOFS = 48
WIDTH, GAP, MARGIN, ROWS_OF_TEXT, LINE = 480, 28, 48, 4, 21
"""In pixels: size of a picture, gap, margin; lines of each caption, and their height."""
BOOTH, INK, FAINT = (118, 118, 118), (255, 255, 255), (226, 226, 226)

FONT, WEIGHT = str(Path(__file__).parents[1] / "static" / "fonts" / "source-sans-3-latin-wght-normal.woff2"), 450


class Frame(NamedTuple):
    """One picture of the sheet: its file, its finishing, and its caption."""

    path: Path
    settings: Finish
    name: str
    changed: str
    figures: str
    note: str


def contact_sheet(title: str, frames: list[Frame], form: str) -> bytes:
    """The sheet as PNG or PDF; form: “PNG” or “PDF”."""
    columns = min(len(frames), 3 if len(frames) > 4 else 2)
    pictures = [_small(frame) for frame in frames]
    tallest = max(picture.height for picture in pictures)
    cell = tallest + 10 + ROWS_OF_TEXT * LINE
    rows = -(-len(frames) // columns)
    size = (2 * MARGIN + columns * WIDTH + (columns - 1) * GAP, 2 * MARGIN + 44 + rows * cell + (rows - 1) * GAP)
    sheet = Image.new("RGB", size, BOOTH)
    draw = ImageDraw.Draw(sheet)
    draw.text((MARGIN, MARGIN - 14), title, INK, _font(30))
    for k, (frame, picture) in enumerate(zip(frames, pictures, strict=True)):
        x, y = MARGIN + (k % columns) * (WIDTH + GAP), MARGIN + 44 + (k // columns) * (cell + GAP)
        sheet.paste(picture, (x + (WIDTH - picture.width) // 2, y + (tallest - picture.height) // 2))
        lines = [(frame.name, INK, 17), (frame.changed, INK, 15), (frame.figures, FAINT, 14), (frame.note, FAINT, 14)]
        for row, (text, colour, points) in enumerate(lines):
            draw.text((x, y + tallest + 10 + row * LINE), _fitted(draw, text, points), colour, _font(points))
    buffer = io.BytesIO()
    sheet.save(buffer, form, **({"resolution": 144.0, "title": title} if form == "PDF" else {}))
    return buffer.getvalue()


def _small(frame: Frame) -> Image.Image:
    image = Image.fromarray(to_bytes(finished(read_exr(frame.path).beauty, frame.settings)))
    scale = min(WIDTH / image.width, WIDTH / image.height)
    return image.resize((max(1, round(image.width * scale)), max(1, round(image.height * scale))), Image.Resampling.LANCZOS)


@functools.cache
def _font(points: int) -> ImageFont.FreeTypeFont:
    font = ImageFont.truetype(FONT, points)
    font.set_variation_by_axes([WEIGHT])
    return font


def _fitted(draw: ImageDraw.ImageDraw, text: str, points: int) -> str:
    """The text, cut with dots if it is wider than a picture; symbols that the font lacks are replaced by words."""
    text = text.replace("→", "to").replace("−", "-")
    if draw.textlength(text, _font(points)) <= WIDTH:
        return text
    while text and draw.textlength(text + "…", _font(points)) > WIDTH:
        text = text[:-1]
    return text.rstrip() + "…"
