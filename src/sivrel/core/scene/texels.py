"""The texels of an image as they are stored: coded in 8 or 16 bits or as floats, with smaller and smaller copies of the whole.

The copies are averages over areas of linear light (Williams 1983, "Pyramidal Parametrics"), so that every level has the mean of the image.
"""

import functools
import hashlib
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from .. import machine
from ..vector import LUMINANCE
from .halving import halve_codes, halve_floats

SRGB, RAW, HALF, LINEAR = "sRGB", "raw", "half", "linear"
"""Codings: integers as IEC 61966-2-1 says; integers from 0 to 1; half floats as uint16; float32."""
LARGEST_HALF = 0x7C00
"""Codes of half floats below this one are finite, positive and in order."""

BAND, STEPS = 256, 1 << 16
"""Rows that are halved at a time by one thread; steps of the table from linear light to codes of 8 bits."""


def srgb_to_linear(encoded: np.ndarray) -> np.ndarray:
    """Linear values of sRGB-encoded ones in [0, 1] (IEC 61966-2-1)."""
    return np.where(encoded <= 0.04045, encoded / 12.92, ((encoded + 0.055) / 1.055) ** 2.4)


@functools.cache
def table_of(coding: str, bits: int) -> np.ndarray:
    """Linear values float32 of the codes of `bits` bits."""
    if coding == HALF:
        return np.arange(1 << 16, dtype=np.uint16).view(np.float16).astype(np.float32)
    levels = np.arange(1 << bits, dtype=np.float64) / ((1 << bits) - 1)
    return (srgb_to_linear(levels) if coding == SRGB else levels).astype(np.float32)


@dataclass
class Texels:
    """levels: of an image, [rows, columns, channels] uint8, uint16 or float32, row 0 at the top, the whole first; channels: grey, grey and
    alpha, RGB, RGBA; alpha is never coded as sRGB. digest: of its content. brightest: no texel has more luminance. file: the stored levels, if they
    are read from a file, and the bytes at which each starts."""

    levels: list[np.ndarray]
    coding: str
    digest: str
    brightest: float
    file: Path | None = None
    starts: tuple[int, ...] = ()

    @property
    def shape(self) -> tuple[int, int]:
        """Rows, columns."""
        return self.levels[0].shape[0], self.levels[0].shape[1]

    @property
    def nbytes(self) -> int:
        """Bytes of all levels."""
        return sum(level.nbytes for level in self.levels)

    @property
    def mapped_bytes(self) -> int:
        """Bytes that are mapped from a file."""
        return self.nbytes if self.file else 0

    def linear(self, level: int = 0) -> np.ndarray:
        """float32 [rows, columns, 4] of a level, linear."""
        return linear_of(self.levels[level], self.coding)

    def plane(self, channel: int) -> np.ndarray:
        """float32 [rows, columns] of one of the four channels, linear."""
        return plane_of(self.levels[0], self.coding, channel)

    def mean(self) -> np.ndarray:
        """Mean of the four channels, float64 [4]."""
        return self.linear(len(self.levels) - 1).reshape(-1, 4).mean(axis=0, dtype=float)


@dataclass
class TileSet:
    """Images by their column and row in a grid; the one in column c and row r covers the texture coordinates from (c, r) to (c + 1, r + 1)."""

    tiles: Mapping[tuple[int, int], Texels]

    @property
    def grid(self) -> tuple[int, int]:
        """Columns, rows."""
        return 1 + max(c for c, _ in self.tiles), 1 + max(r for _, r in self.tiles)

    @property
    def nbytes(self) -> int:
        return sum(tile.nbytes for tile in self.tiles.values())

    @property
    def mapped_bytes(self) -> int:
        return sum(tile.mapped_bytes for tile in self.tiles.values())

    @property
    def brightest(self) -> float:
        return max(tile.brightest for tile in self.tiles.values())

    @property
    def digest(self) -> str:
        return hashlib.sha256(repr(sorted((place, tile.digest) for place, tile in self.tiles.items())).encode()).hexdigest()

    def mean(self) -> np.ndarray:
        return np.mean([tile.mean() for tile in self.tiles.values()], axis=0)


def plane_of(coded: np.ndarray, coding: str, channel: int) -> np.ndarray:
    """float32 [rows, columns], linear: one of four channels of a coded image [rows, columns, 1 to 4 channels]; alpha is 1 where there is none."""
    channels = coded.shape[2]
    if channel == 3:
        if channels in (1, 3):
            return np.ones(coded.shape[:2], np.float32)
        coding = RAW if coding == SRGB else coding
    plane = coded[..., min(channel, channels - 1) if channel == 3 or channels > 2 else 0]
    return plane if coding == LINEAR else table_of(coding, 8 * coded.itemsize)[plane]


def linear_of(coded: np.ndarray, coding: str) -> np.ndarray:
    """float32 [rows, columns, 4], linear, of a coded image."""
    whole = np.empty((*coded.shape[:2], 4), np.float32)
    for channel in range(4):
        whole[..., channel] = plane_of(coded, coding, channel)
    return whole


def texels_of(coded: np.ndarray, coding: str = LINEAR, digest: str = "", levels: int = 64) -> Texels:
    """An image [rows, columns, 1 to 4 channels] with its smaller copies, up to so many levels. float32 is stored as half floats where that loses
    nothing."""
    if coding == LINEAR:
        coded = np.ascontiguousarray(coded, np.float32)
        with np.errstate(over="ignore", invalid="ignore"):
            halves = coded.astype(np.float16)
            if np.array_equal(halves.astype(np.float32), coded):
                coded, coding = halves.view(np.uint16), HALF
    digest = digest or hashlib.sha256(repr((coded.shape, coding)).encode() + np.ascontiguousarray(coded).tobytes()).hexdigest()
    made = [np.ascontiguousarray(coded)]
    while max(made[-1].shape[:2]) > 1 and len(made) < levels:
        made.append(_halved(made[-1], coding))
    return Texels(made, coding, digest, _brightest(made[0], coding))


def _brightest(coded: np.ndarray, coding: str) -> float:
    numbers = coded.view(np.float16) if coding == HALF else coded
    most = numbers.max(axis=0).max(axis=0)  # along whole rows first, which is fast
    if coding in (SRGB, RAW):
        most = table_of(coding, 8 * coded.itemsize)[most]
    rgb = most[:3] if len(most) > 2 else np.repeat(most[:1], 3)
    return float(np.maximum(rgb.astype(float), 0.0) @ LUMINANCE)


def _halved(coded: np.ndarray, coding: str) -> np.ndarray:
    """The level with half as many rows and columns, rounded down."""
    rows, columns, channels = coded.shape
    half = np.empty((max(1, rows // 2), max(1, columns // 2), channels), coded.dtype)
    if coding == LINEAR:
        halve_floats(coded, half)
        return half
    bits = 8 * coded.itemsize
    colours = table_of(coding, bits)
    alphas = colours if coding == HALF else table_of(RAW, bits)
    count, alpha = LARGEST_HALF if coding == HALF else len(colours), channels - 1 if channels in (2, 4) else channels
    nearest = _nearest(coding) if bits == 8 else np.zeros(0, np.uint8)

    def band(first: int) -> None:
        halve_codes(coded, colours, alphas, count, nearest, alpha, half, first, min(first + BAND, len(half)))

    with ThreadPoolExecutor(machine.threads()) as pool:
        list(pool.map(band, range(0, len(half), BAND)))
    return half


@functools.cache
def _nearest(coding: str) -> np.ndarray:
    """Codes uint8 of even steps of linear light from 0 to 1, fine enough for the darkest codes."""
    values = table_of(coding, 8)
    return np.searchsorted(0.5 * (values[1:] + values[:-1]), np.arange(STEPS) / (STEPS - 1)).astype(np.uint8)
