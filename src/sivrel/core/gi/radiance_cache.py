"""The radiance cache in space: short camera paths fill a grid, and lookups reuse their light.

A hash table of cells, by position and facing; all points in a cell share its light. Lookups are jittered by a
cell's width, which turns the edges of cells into grain (Binder, Fricke & Keller 2019, "Massively Parallel Path Space Filtering").
"""

import math
from typing import Any, Literal, NamedTuple

import numpy as np

from ..kernel import allocating_kernel, called_kernel, kernel
from ..scene.triangles import bounds
from ..settings import Group, setting
from ..trace.sampler import hash32, sample_2d
from ..vector import add, frame, scale
from .hemisphere import cosine_directions
from .suspect_cells import suspects
from .way import INDIRECT, NOT_SERVED, WHOLE, Preview, Table, Way

RADIANCE_CACHE = 5
USED = {"gi.seen|gi.beyond": ["radiance_cache"], "gi.seen": ["radiance_cache", "brute_force", "irradiance_cache"]}
# Columns of a cell's values: irradiance of bounced light, and of all light; number of paths.
BOUNCED, ALL, COUNT, COLUMNS = 0, 3, 6, 7
FACES = 0.38
"""A normal counts as facing along an axis if its component along it exceeds this: the sine of 22 degrees."""
NARROWEST = 1e-6
"""Extent of the samples, relative to their distance from the origin, below which they count as one point."""
EMPTY = -1
LEAST_PATHS = 4
"""A cell with fewer paths is not used."""
WANTED_PATHS = 48
"""Paths in the cell of the median sample, at the automatic size."""
LEAST_REFLECTED = 0.02


class RadianceCacheSettings(Group):
    paths: float = setting(
        1.0,
        "fill paths",
        "{} paths for each pixel fill the cells,",
        "Per pixel of the picture. More reduce the blotches of cells, or allow smaller cells; time grows in proportion.",
        needs=USED,
        ge=0.01,
        le=1000.0,
    )
    cell: float = setting(
        0.0,
        "cell",
        "which are {} m wide; 0 follows the paths.",
        "Large cells bleed light through thin objects and round corners; small ones get few paths, and blotch.",
        unit="m",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    corner_distance: float = setting(
        0.1,
        "corner distance",
        "Closer than {} m paths are traced on.",
        "Near corners a cell reaches round the edge: there the path goes on by brute force.",
        unit="m",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    camera: Literal["own", "shared"] = setting(
        "own",
        "camera",
        "The cells of a camera are its {}.",
        "Own: filled for this camera and picture size only. Shared: kept while the camera moves, and extended.",
        needs=USED,
    )


class Cells(NamedTuple):
    """keys int64 [n, 4]: position and facing of each cell, in a hash table with a power of two of rows; values float32 [n, COLUMNS]."""

    keys: np.ndarray
    values: np.ndarray
    size: float
    corner_distance: float


@kernel
def facing_of(n):
    """Which of 26 directions a normal is nearest to, as a number below 64."""
    number = 0
    for c in range(3):
        number = number * 4 + (0 if n[c] < -FACES else 2 if n[c] > FACES else 1)
    return number


@kernel
def _row_of(keys, x, y, z, facing):
    """The row of a cell, or the empty row where it belongs."""
    mask = len(keys) - 1
    mixed = hash32(np.uint32(x & 0xFFFFFFFF) ^ hash32(np.uint32(y & 0xFFFFFFFF) ^ hash32(np.uint32(z & 0xFFFFFFFF) ^ hash32(np.uint32(facing)))))
    row = np.int64(mixed) & mask
    while keys[row, 3] != EMPTY and (keys[row, 0] != x or keys[row, 1] != y or keys[row, 2] != z or keys[row, 3] != facing):
        row = (row + 1) & mask
    return row


@allocating_kernel
def _fill(samples, size, rows):
    """A hash table of the means of samples float64 [n, 12]: position, normal, irradiance bounced, and of all."""
    keys, sums = np.full((rows, 4), EMPTY, np.int64), np.zeros((rows, COLUMNS))
    for k in range(len(samples)):
        x, y, z = int(math.floor(samples[k, 0] / size)), int(math.floor(samples[k, 1] / size)), int(math.floor(samples[k, 2] / size))
        facing = facing_of((samples[k, 3], samples[k, 4], samples[k, 5]))
        row = _row_of(keys, x, y, z, facing)
        keys[row, 0], keys[row, 1], keys[row, 2], keys[row, 3] = x, y, z, facing
        for c in range(6):
            sums[row, c] += samples[k, 6 + c]
        sums[row, COUNT] += 1.0
    values = np.zeros((rows, COLUMNS), np.float32)
    for row in range(rows):
        if sums[row, COUNT] > 0.0:
            for c in range(6):
                values[row, c] = max(0.0, sums[row, c] / sums[row, COUNT])
            values[row, COUNT] = sums[row, COUNT]
    return keys, values


@called_kernel
def _cell_at(cells, p, n):
    """The row of the values of `p`'s cell; -1 if it has too few paths."""
    size = cells.size
    row = _row_of(cells.keys, int(math.floor(p[0] / size)), int(math.floor(p[1] / size)), int(math.floor(p[2] / size)), facing_of(n))
    return row if cells.values[row, COUNT] >= LEAST_PATHS else -1


@kernel
def _lookup(prepared, scene, memory, spot):
    found, light = NOT_SERVED, (0.0, 0.0, 0.0)
    if spot.distance >= prepared.corner_distance:
        n = spot.geometric_normal
        u, v = sample_2d(spot.key, spot.number, spot.dimension)
        x, y = frame(n)
        aside = add(scale(x, (u - 0.5) * prepared.size), scale(y, (v - 0.5) * prepared.size))
        row = _cell_at(prepared, add(spot.position, aside), n)
        if row < 0:
            row = _cell_at(prepared, spot.position, n)
        if row >= 0:
            at = BOUNCED if spot.seen else ALL
            light = (float(prepared.values[row, at]), float(prepared.values[row, at + 1]), float(prepared.values[row, at + 2]))
            found = INDIRECT if spot.seen else WHOLE
    return light, found


def automatic_size(samples: np.ndarray, extent: float) -> float:
    """The least cell size, halved from a sixteenth of the scene's extent in metres, at which the median sample shares its cell with
    WANTED_PATHS."""
    if not len(samples):
        return extent / 64.0
    size = max(extent, NARROWEST * (1.0 + float(np.abs(samples[:, :3]).max()))) / 16.0
    for _ in range(16):
        smaller = size / math.sqrt(2.0)
        _, at, counts = np.unique(_cell_numbers(samples, smaller), return_inverse=True, return_counts=True)
        if np.median(counts[at]) < WANTED_PATHS:
            break
        size = smaller
    return size


def _cell_numbers(samples: np.ndarray, size: float) -> np.ndarray:
    """int64 [n]: the number of the cell of each sample [n, 12], by position and facing, for a size in metres."""
    facing = np.where(samples[:, 3:6] < -FACES, 0, np.where(samples[:, 3:6] > FACES, 2, 1)) @ np.array([16, 4, 1])
    places = np.floor(samples[:, :3] / size).astype(np.int64)
    places -= places.min(axis=0, initial=0)
    spans = places.max(axis=0, initial=0) + 1
    return ((places[:, 0] * spans[1] + places[:, 1]) * spans[2] + places[:, 2]) * 64 + facing


def _samples(job: Any, wanted: RadianceCacheSettings, seed: int) -> np.ndarray:
    """float64 [n, 12] of the points where short paths from the camera end: position, normal, irradiance bounced, and of all.

    Bounced light is looked up at visible points, where the recipe's bounces begin; all light, one bounce later.
    """
    seen = job.recipe.gi.seen == "radiance_cache"
    width, height = job.frame.width, job.frame.height
    count = max(64, round(wanted.paths * width * height))
    random = np.random.default_rng([job.frame.seed, seed])
    origins, d = job.rays_through(random.random(count) * width, random.random(count) * height)
    first = job.points_along(origins, d)
    points = [first] if seen else []
    out = cosine_directions(first.surfaces, random)
    points.append(job.points_along(first.positions + first.surfaces * 2.0 * job.offset, out))
    p, n = np.concatenate([part.positions for part in points]), np.concatenate([part.surfaces for part in points])
    samples = np.zeros((len(p), 12))
    samples[:, 0:3], samples[:, 3:6] = p, n
    kept = np.zeros(len(p), bool)
    for start in range(0, len(p), 1 << 16):
        part = slice(start, start + (1 << 16))
        light, reflected = job.look_at(p[part], n[part], "brute_force")
        bounced = np.zeros_like(light)
        if seen:
            deeper, _ = job.look_at(p[part], n[part], "brute_force", again=True, more_bounces=1)
            bounced = deeper - job.look_at(p[part], n[part], "off", again=True)[0]
        # Black surfaces carry no information about their irradiance.
        kept[part] = reflected.min(axis=1) > LEAST_REFLECTED
        share = math.pi / np.maximum(reflected, LEAST_REFLECTED)
        samples[part, 6:9], samples[part, 9:12] = bounced * share, light * share
        job.report(min(1.0, (start + (1 << 16)) / len(p)))
    return samples[kept]


def _make(job: Any, wanted: RadianceCacheSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    return _extend(job, wanted, {"samples": np.zeros((0, 12), np.float32)})


def _extend(job: Any, wanted: RadianceCacheSettings, arrays: dict[str, np.ndarray]) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    more = _samples(job, wanted, len(arrays["samples"])).astype(np.float32)
    return {"samples": np.concatenate([arrays["samples"], more])}, {"paths": len(more)}


def _serve(job: Any, wanted: RadianceCacheSettings, arrays: dict[str, np.ndarray], notes: dict[str, Any]) -> Cells:
    samples = arrays["samples"].astype(np.float64)
    low, high = bounds(job.arrays)
    extent = float(np.linalg.norm(high - low))
    size = wanted.cell or automatic_size(samples, extent)
    cells = len(np.unique(_cell_numbers(samples, size)))
    keys, values = _fill(samples, size, 1 << max(4, int(math.ceil(math.log2(2 * cells + 16)))))
    notes["cell"], notes["cells"] = size, int((values[:, COUNT] > 0).sum())
    return Cells(keys, values, size, wanted.corner_distance)


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    samples = arrays["samples"].astype(np.float64)
    size = automatic_size(samples, float(np.ptp(samples[:, :3], axis=0).max()))
    places, at = np.unique(np.floor(samples[:, :3] / size), axis=0, return_inverse=True)
    sums = np.stack([np.bincount(at.reshape(-1), samples[:, 9 + c], len(places)) for c in range(3)], axis=1)
    counts = np.bincount(at.reshape(-1), minlength=len(places))
    step = max(1, len(places) // 20_000)
    centres = ((places + 0.5) * size)[::step]
    return Preview(centres, np.full(len(centres), size / 2.0), (sums / counts[:, None])[::step], "boxes", np.zeros_like(centres))


WAY = Way(
    key="radiance_cache",
    code=RADIANCE_CACHE,
    title="a radiance cache in space",
    seen=True,
    beyond=True,
    does="Short paths from the camera fill cells in space; every path that ends in a cell takes the cell's light.",
    costs="Light bleeds through thin objects where cells are large; blotches where cells have few paths.",
    question="How the cells in space serve",
    settings=RadianceCacheSettings,
    kind="radiance cache",
    nothing=Cells(np.full((1, 4), EMPTY, np.int64), np.zeros((1, COLUMNS), np.float32), 1.0, 0.0),
    makes=lambda wanted, recipe: (wanted.paths, wanted.camera, recipe.gi.seen == "radiance_cache"),
    depends=("geometry", "surfaces", "lights", "limits"),
    make=_make,
    extend=_extend,
    join=lambda frames: {"samples": np.concatenate([arrays["samples"] for arrays in frames])},
    serve=_serve,
    lookup=_lookup,
    preview=_preview,
    says=lambda notes: f"Cells are {notes['cell']:.2g} m wide.",
    points=lambda arrays: (len(arrays["samples"]), "paths"),
    holds={"samples": Table(12, places=6)},
    interpolates=True,
    suspects=suspects,
    distances=lambda arrays, notes: {"radiance_cache.cell": float(notes["cell"])} if notes.get("cell") else {},
    width=lambda notes: ("cells are {} pixels wide", 2.0 * float(notes["cell"])) if notes.get("cell") else None,
    chance=lambda own, recipe: 0.8,
    chance_beyond=0.2,
    pilots={"brute_force/radiance_cache": 1.5},
    small={"paths": 1.0},
)
