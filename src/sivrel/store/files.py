"""Pictures of a data folder, named by the hash of their contents, and the tiles of running jobs."""

import hashlib
import os
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from ..core.render.tile_folder import DamagedTile, TileFolder
from ..core.whole_file import whole_file

__all__ = ["DamagedTile"]


def keep(folder: Path, suffix: str, write: Callable[[Path], None]) -> str:
    """Let `write` write a file, then store it in `folder` under its SHA-256: written to a temporary name, then renamed."""
    folder.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=folder, prefix=".new-", suffix=suffix)
    os.close(handle)
    path = Path(name)
    try:
        write(path)
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        path.replace(folder / f"{digest}{suffix}")
    finally:
        path.unlink(missing_ok=True)
    return digest


def folder_for(data: Path, name: str) -> Path:
    """A folder of the data folder, created if missing."""
    folder = data / name
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    return folder


def pictures(data: Path) -> Path:
    return data / "pictures"


def picture_path(data: Path, digest: str) -> Path:
    return pictures(data) / f"{digest}.exr"


def thumbnail_path(data: Path, digest: str) -> Path:
    return data / "thumbnails" / f"{digest}.png"


def filtered_path(data: Path, digest: str) -> Path:
    """The noise filter's result for a picture: an .npz of image, smear, smeared and where."""
    return data / "filtered" / f"{digest}.npz"


def filtered_exr_path(data: Path, digest: str) -> Path:
    """A picture with its filtered passes."""
    return data / "filtered" / f"{digest}.exr"


def mattes_path(data: Path, digest: str, by: str) -> Path:
    """Mattes of a picture by object or surface."""
    return data / "filtered" / f"{digest}-{by}-mattes.exr"


def focus_path(data: Path, digest: str) -> Path:
    """The part of a picture that changed most, small."""
    return data / "thumbnails" / f"{digest}-focus.png"


def trials(data: Path) -> Path:
    """Small pictures of findings and trials."""
    return data / "trials"


def trial_path(data: Path, digest: str) -> Path:
    return trials(data) / f"{digest}.png"


def flicker_path(data: Path, name: str) -> Path:
    """The map of a frame's flicker: float16 [rows, columns] as .npy, see core.measure.flicker."""
    return data / "flicker" / f"{name}.npy"


def in_time_path(data: Path, digest: str) -> Path:
    """A frame's picture filtered with its neighbours: an .npz of image and error."""
    return data / "filtered" / f"{digest}-in-time.npz"


def export_path(data: Path, sequence: int, name: str) -> Path | None:
    """The file of that name which a sequence was written to; None for an impossible name."""
    plain = name.replace("-", "").replace(".", "")
    return data / "exports" / f"{sequence}-{name}" if plain.isascii() and plain.isalnum() and len(name) < 40 and not name.startswith(".") else None


def moments(data: Path) -> Path:
    return data / "moments"


def moment_path(data: Path, client: str) -> Path:
    """The latest live preview of a page; see work.moments."""
    return moments(data) / f"{client}.half"


def all_of_picture(data: Path, digest: str) -> list[Path]:
    """Every file that may stand for a picture: they are deleted together."""
    paths = (picture_path, thumbnail_path, focus_path, filtered_path, filtered_exr_path, in_time_path)
    return [
        *(path(data, digest) for path in paths),
        flicker_path(data, digest),
        flicker_path(data, f"{digest}-in-time"),
        *(mattes_path(data, digest, by) for by in ("object", "surface")),
    ]


LARGEST_HALF = 65504.0


def halves(linear: np.ndarray) -> bytes:
    """Linear colour [rows, columns, 3 or more] as RGBA half floats, opaque."""
    pixels = np.ones((*linear.shape[:2], 4), np.float16)
    pixels[..., :3] = np.clip(np.nan_to_num(linear[..., :3], posinf=LARGEST_HALF), -LARGEST_HALF, LARGEST_HALF)
    return pixels.tobytes()


class Tiles(TileFolder):
    """The finished tiles of a job, and pictures of it as far as it is."""

    def __init__(self, data: Path, job: int) -> None:
        super().__init__(data / "jobs" / str(job))

    @property
    def sketch(self) -> Path:
        """The whole window at once, coarse, as RGBA half floats: shown until tiles arrive."""
        return self.folder / "sketch.half"

    @property
    def live(self) -> Path:
        """The whole window as far as it is rendered, filtered, as RGBA half floats."""
        return self.folder / "live.half"

    def shown_at(self) -> int:
        """When `live` was written last, in milliseconds; 0 if there is none."""
        try:
            return self.live.stat().st_mtime_ns // 1_000_000
        except FileNotFoundError:
            return 0

    def show(self, path: Path, picture: np.ndarray) -> None:
        """Write `sketch` or `live`, linear [rows, columns, 3]."""
        self.folder.mkdir(parents=True, exist_ok=True)
        with whole_file(path) as beside:
            beside.write_bytes(halves(picture))
