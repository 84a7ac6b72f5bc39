"""Pictures of a data folder, named by the hash of their contents, and the tiles of running jobs."""

import hashlib
import io
import os
import shutil
import tempfile
import zlib
from collections.abc import Callable
from pathlib import Path

import numpy as np


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


def focus_path(data: Path, digest: str) -> Path:
    """The part of a picture that changed most, small."""
    return data / "thumbnails" / f"{digest}-focus.png"


def trials(data: Path) -> Path:
    """Small pictures of findings and trials."""
    return data / "trials"


def trial_path(data: Path, digest: str) -> Path:
    return trials(data) / f"{digest}.png"


def moments(data: Path) -> Path:
    return data / "moments"


def moment_path(data: Path, client: str) -> Path:
    """The latest live preview of a page; see work.moments."""
    return moments(data) / f"{client}.half"


def all_of_picture(data: Path, digest: str) -> list[Path]:
    """Every file that may stand for a picture: they are deleted together."""
    paths = (picture_path, thumbnail_path, focus_path, filtered_path, filtered_exr_path)
    return [path(data, digest) for path in paths]


LARGEST_HALF = 65504.0


def halves(linear: np.ndarray) -> bytes:
    """Linear colour [rows, columns, 3 or more] as RGBA half floats, opaque."""
    pixels = np.ones((*linear.shape[:2], 4), np.float16)
    pixels[..., :3] = np.clip(np.nan_to_num(linear[..., :3], posinf=LARGEST_HALF), -LARGEST_HALF, LARGEST_HALF)
    return pixels.tobytes()


class DamagedTile(ValueError):
    """A tile's file is damaged."""


class Tiles:
    """The finished tiles of a job: one file each, and their order of arrival.

    A tile counts once its file has its final name, so a killed program leaves only whole tiles.
    """

    def __init__(self, data: Path, job: int) -> None:
        self.folder = data / "jobs" / str(job)

    def add(self, index: int, film: np.ndarray) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        beside = self.folder / f".{index}.npy"
        body = io.BytesIO()
        np.save(body, film)
        beside.write_bytes(body.getvalue() + zlib.crc32(body.getbuffer()).to_bytes(4, "little"))
        beside.replace(self.folder / f"{index}.npy")
        self._append(index)

    def _append(self, index: int) -> None:
        with open(self.folder / "order", "ab") as order:
            order.write(index.to_bytes(4, "little"))

    def order(self) -> list[int]:
        """Indices of the finished tiles, in order of arrival."""
        try:
            raw = (self.folder / "order").read_bytes()
        except FileNotFoundError:
            return []
        return np.frombuffer(raw[: len(raw) // 4 * 4], "<u4").tolist()

    def recover(self) -> list[int]:
        """Like `order`, after a crash: stored tiles that are not listed yet are added."""
        if not self.folder.is_dir():
            return []
        # A picture rendered in rounds lists a tile once per round.
        listed = [i for i in dict.fromkeys(self.order()) if (self.folder / f"{i}.npy").exists()]
        kept = [int(f.stem) for f in self.folder.glob("[0-9]*.npy") if f.stem.isascii() and f.stem.isdecimal()]
        order = listed + sorted(set(kept) - set(listed))
        self._list(order)
        return order

    def _list(self, order: list[int]) -> None:
        (self.folder / "order").write_bytes(np.array(order, "<u4").tobytes())

    def load(self, index: int) -> np.ndarray:
        """The film of a tile. Raises DamagedTile if its file is truncated or altered, FileNotFoundError if there is none."""
        stored = (self.folder / f"{index}.npy").read_bytes()
        body = stored[:-4]
        if len(stored) < 4 or zlib.crc32(body) != int.from_bytes(stored[-4:], "little"):
            raise DamagedTile(index)
        try:
            return np.load(io.BytesIO(body), allow_pickle=False)
        except ValueError:
            raise DamagedTile(index) from None

    def drop(self, index: int) -> None:
        """Remove a tile so that it is rendered again."""
        (self.folder / f"{index}.npy").unlink(missing_ok=True)
        self._list([i for i in self.order() if i != index])

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
        beside = path.with_name(f".{path.stem}")
        beside.write_bytes(halves(picture))
        beside.replace(path)

    def remove(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)
