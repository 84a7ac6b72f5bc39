"""Finished tiles as files, from which a render goes on after its program was killed."""

import io
import shutil
import zlib
from pathlib import Path

import numpy as np


class DamagedTile(ValueError):
    """A tile's file is damaged."""


class TileFolder:
    """The finished tiles of a render: one file each, and their order of arrival.

    A tile counts once its file has its final name, so a killed program leaves only whole tiles.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder

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

    def remove(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)

    def of_work(self, what: str) -> dict[int, np.ndarray]:
        """The finished tiles of the work that a hash names, by index; those of other work are removed first."""
        mark, found = self.folder / "of", dict[int, np.ndarray]()
        if not mark.is_file() or mark.read_text() != what:
            self.remove()
            self.folder.mkdir(parents=True)
            mark.write_text(what)
        for index in self.recover():
            try:
                found[index] = self.load(index)
            except DamagedTile:
                self.drop(index)
        return found
