"""Puts textures into the memory that kernels read: small ones are copied, those of files are mapped, so that only what is touched takes memory."""

import contextlib
import ctypes
import mmap
from collections.abc import Collection

import numpy as np

from ..scene.arrays import (
    ALPHAS,
    AS_BYTE,
    AS_FLOAT,
    AS_SHORT,
    BIAS,
    BRIGHTEST,
    CHANNELS,
    COLOURS,
    FINENESS,
    HEIGHT,
    IDENTITY,
    LEVEL_STARTS,
    LEVELS,
    SCALE,
    STORED_AS,
    TEXTURE_COLUMNS,
    TILE_COLUMNS,
    TILE_ROWS,
    TRANSFORM,
    WIDTH,
    WRAP_S,
    WRAP_T,
    WRAPS,
    Pictures,
)
from ..scene.model import Texture, TextureUse
from ..scene.texels import HALF, LINEAR, RAW, Texels, table_of

PAGE = mmap.PAGESIZE
ALIGNED = 64
"""Bytes at whose multiples copied textures start."""
MAP_FIXED = 0x10
"""Of Linux and macOS: a mapping that takes the place of another."""
WITHOUT_SWAP = mmap.MAP_PRIVATE | mmap.MAP_ANONYMOUS | getattr(mmap, "MAP_NORESERVE", 0)
STORED = {np.dtype(np.uint8): AS_BYTE, np.dtype(np.uint16): AS_SHORT, np.dtype(np.float32): AS_FLOAT}


class TexturePool:
    """Collects the textures of surfaces, each once, and lays them out."""

    def __init__(self) -> None:
        self.rows: list[np.ndarray] = []
        self._known: dict[int, int] = {}
        self._texels: dict[str, Texels] = {}
        self._of_row: list[Texels | None] = []

    def reference(self, use: TextureUse | None) -> tuple[float, float]:
        """(number of the texture, channel) for a surface's row."""
        if use is None:
            return -1.0, 0.0
        texture = use.texture
        if id(texture) not in self._known:
            self._known[id(texture)] = len(self.rows)
            self._add(texture)
        return float(self._known[id(texture)]), float(use.channel)

    def _add(self, texture: Texture) -> None:
        row, texels = texture_row(texture), texture.texels
        stretch = abs(float(np.linalg.det(texture.transform[:, :2])))
        if isinstance(texels, Texels):
            self._fill(row, texels, stretch)
            return
        columns, rows = texels.grid
        row[[TILE_COLUMNS, TILE_ROWS]] = columns, rows
        self.rows.append(row)
        self._of_row.append(None)
        for r in range(rows):
            for c in range(columns):
                tile = np.zeros(TEXTURE_COLUMNS)
                tile[[WRAP_S, WRAP_T]] = WRAPS["clamp"]
                if (c, r) in texels.tiles:
                    self._fill(tile, texels.tiles[c, r], stretch)
                else:
                    self.rows.append(tile)
                    self._of_row.append(None)

    def _fill(self, row: np.ndarray, texels: Texels, stretch: float) -> None:
        height, width = texels.shape
        row[[WIDTH, HEIGHT, CHANNELS, LEVELS]] = width, height, texels.levels[0].shape[2], len(texels.levels)
        row[STORED_AS] = STORED[texels.levels[0].dtype]
        row[FINENESS] = 0.5 * np.log2(max(stretch * width * height, 1e-30))
        row[BRIGHTEST] = texels.brightest
        row[IDENTITY : IDENTITY + 2] = int(texels.digest[:12], 16), int(texels.digest[12:24], 16)
        self._texels.setdefault(texels.digest, texels)
        self.rows.append(row)
        self._of_row.append(texels)

    def pictures(self) -> Pictures:
        """The textures for the kernels."""
        memory, starts = _laid_out(self._texels.values())
        tables: dict[tuple[str, int], int] = {}
        decoding: list[np.ndarray] = []

        def table(coding: str, bits: int) -> int:
            if (coding, bits) not in tables:
                tables[coding, bits] = sum(map(len, decoding))
                decoding.append(table_of(coding, bits))
            return tables[coding, bits]

        for row, texels in zip(self.rows, self._of_row, strict=True):
            if texels is not None:
                size = texels.levels[0].itemsize
                row[LEVEL_STARTS : LEVEL_STARTS + len(texels.levels)] = [start // size for start in starts[texels.digest]]
                if texels.coding != LINEAR:
                    row[[COLOURS, ALPHAS]] = table(texels.coding, 8 * size), table(HALF if texels.coding == HALF else RAW, 8 * size)
        whole = np.concatenate(decoding) if decoding else np.zeros(1, np.float32)
        rows = np.array(self.rows, np.float64).reshape(-1, TEXTURE_COLUMNS)
        return Pictures(rows, memory, memory.view(np.uint16), memory.view(np.float32), whole, np.zeros(4, np.float32))


class LightPictures:
    """Collects the pictures of lights, which come after those of the surfaces: geometry is packed without lights, so that it can be reused."""

    def __init__(self, pictures: Pictures) -> None:
        self._before, self._rows = pictures, list[np.ndarray]()
        self._texels, self._used = list[np.ndarray](), 0

    def add(self, texture: Texture) -> float:
        """Number of a light's picture, which is looked up in full."""
        row, linear = texture_row(texture), texture.image.linear()
        row[[WIDTH, HEIGHT]] = linear.shape[1], linear.shape[0]
        row[[LEVEL_STARTS, BRIGHTEST]] = self._used, texture.image.brightest
        self._rows.append(row)
        self._texels.append(linear.reshape(-1))
        self._used += linear.size
        return float(len(self._before.rows) + len(self._rows) - 1)

    def pictures(self) -> Pictures:
        """All textures."""
        if not self._rows:
            return self._before
        return self._before._replace(rows=np.concatenate([self._before.rows, self._rows]), of_lights=np.concatenate(self._texels))


def texture_row(texture: Texture) -> np.ndarray:
    """What all textures state: how they wrap, and how coordinates and values are transformed."""
    row = np.zeros(TEXTURE_COLUMNS)
    row[[WRAP_S, WRAP_T]] = [WRAPS[w] for w in texture.wrap]
    row[SCALE : SCALE + 4], row[BIAS : BIAS + 4] = texture.scale, texture.bias
    row[TRANSFORM : TRANSFORM + 6] = texture.transform.reshape(-1)
    return row


def _laid_out(every: Collection[Texels]) -> tuple[np.ndarray, dict[str, list[int]]]:
    """(memory uint8 with all levels, in which those of files are mapped; where the levels of each texture start in it, by its digest)."""
    starts: dict[str, list[int]] = {}
    used, mapped = 0, False
    for texels in every:
        if texels.file:
            used, mapped = -(-used // PAGE) * PAGE, True
            starts[texels.digest] = [used + start for start in texels.starts]
            used += texels.starts[-1] + texels.levels[-1].nbytes
        else:
            starts[texels.digest] = []
            for level in texels.levels:
                starts[texels.digest].append(used)
                used += -(-level.nbytes // ALIGNED) * ALIGNED
    used = -(-max(used, 1) // PAGE) * PAGE
    memory = np.frombuffer(mmap.mmap(-1, used, WITHOUT_SWAP), np.uint8) if mapped else np.zeros(used, np.uint8)
    for texels in every:
        at = starts[texels.digest]
        if not (texels.file and _map_file(memory, at[0] - texels.starts[0], texels)):
            for level, start in zip(texels.levels, at, strict=True):
                memory[start : start + level.nbytes] = level.reshape(-1).view(np.uint8)
    return memory, starts


def _map_file(memory: np.ndarray, at: int, texels: Texels) -> bool:
    """Map a stored texture into `memory` at a page; whether the system could."""
    assert texels.file is not None
    size, place = texels.starts[-1] + texels.levels[-1].nbytes, memory.ctypes.data + at
    with contextlib.suppress(OSError, AttributeError), texels.file.open("rb") as file:
        system = ctypes.CDLL(None, use_errno=True).mmap
        system.restype = ctypes.c_void_p
        system.argtypes = [ctypes.c_void_p, ctypes.c_size_t, ctypes.c_int, ctypes.c_int, ctypes.c_int, ctypes.c_long]
        return bool(system(place, size, mmap.PROT_READ, mmap.MAP_PRIVATE | MAP_FIXED, file.fileno(), 0) == place)
    return False
