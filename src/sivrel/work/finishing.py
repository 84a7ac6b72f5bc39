"""Files of a finished proof: the EXR, its thumbnail, and a crop of the largest change."""

import sqlite3
from pathlib import Path

import numpy as np
from PIL import Image

from ..core.finish.view import to_bytes, to_display
from ..core.measure.verdict import judge
from ..core.pictures.exr import Picture, read_exr, write_exr
from ..core.whole_file import whole_file
from ..store import files, proofs

THUMBNAIL_WIDTH = 320


def keep_picture(data: Path, picture: Picture) -> str:
    """Store the EXR under its hash, which is returned."""
    return files.keep(files.pictures(data), ".exr", lambda path: write_exr(path, picture))


def make_thumbnail(data: Path, digest: str, picture: Picture, exposure: float) -> None:
    """A PNG for the lineage, of the region only, at the camera's exposure."""
    _keep_small(files.thumbnail_path(data, digest), picture.beauty, exposure)


def _keep_small(path: Path, linear: np.ndarray, exposure: float) -> None:
    image = Image.fromarray(to_bytes(to_display(linear, exposure)))
    if image.width > THUMBNAIL_WIDTH:
        height = max(1, round(image.height * THUMBNAIL_WIDTH / image.width))
        image = image.resize((THUMBNAIL_WIDTH, height), Image.Resampling.LANCZOS)
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as beside:
        image.save(beside, format="PNG")


FOCUS_SHARE = 1 / 3
"""Size of the crop around the largest change, as a share of the picture's sides."""


def keep_focus(
    data: Path, db: sqlite3.Connection, proof: proofs.Proof, parent: str, digest: str, picture: Picture, exposure: float
) -> None:  # fmt: skip
    """Store a small picture of the part that changed most against the parent's picture, if any change is visible."""
    before = read_exr(files.picture_path(data, parent))
    if before.beauty.shape != picture.beauty.shape or before.frame.window != picture.frame.window:
        return
    verdict = judge(before, picture, exposure)
    worst = next((place for place in verdict.places if not place.grain), None)
    if worst is None or worst.share > 0.4:
        return
    (rows, columns), (x0, y0) = picture.beauty.shape[:2], picture.frame.window[:2]
    half_width, half_height = columns * FOCUS_SHARE / 2.0, rows * FOCUS_SHARE / 2.0
    x = min(max((worst.box[0] + worst.box[2]) / 2.0 - x0, half_width), columns - half_width)
    y = min(max((worst.box[1] + worst.box[3]) / 2.0 - y0, half_height), rows - half_height)
    proofs.set_focus(
        db, proof.id, ((x - half_width) / columns, (y - half_height) / rows, (x + half_width) / columns, (y + half_height) / rows)
    )  # fmt: skip
    cut = picture.beauty[round(y - half_height) : max(round(y + half_height), 1), round(x - half_width) : max(round(x + half_width), 1)]
    _keep_small(files.focus_path(data, digest), cut, exposure)
