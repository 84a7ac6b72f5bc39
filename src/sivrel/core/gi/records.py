"""Making the records of an irradiance cache: where they are needed, what they see, and how far each is used.

The picture is walked at rising resolutions; where no record applies yet, new ones are made (after Ward, Rubinstein & Clear
1988, in passes, so that the result does not depend on the order of threads). Radii follow Křivánek et al. 2006, "Making Radiance and
Irradiance Caching Practical": limited by the gradient and by neighbouring records.
"""

import math
from typing import TYPE_CHECKING, Any

import numpy as np

from ..vector import LUMINANCE
from .hemisphere import stratified_directions
from .record_lookup import (
    COLUMNS,
    ERROR,
    LEAST,
    LIGHT,
    MEAN,
    MOST,
    MOVING,
    NEAREST,
    NORMAL,
    POSITION,
    RADIUS,
    STEEPNESS,
    SURFACE,
    TURNING,
    as_records,
    count_serving,
)  # fmt: skip

if TYPE_CHECKING:
    from .irradiance_cache import IrradianceCacheSettings

COARSEST = 64
"""Pixels between the points of the first pass; every pass halves them."""
NEIGHBOURS, ALIKE = 8, 0.8
"""Neighbours that limit a record's radius; those with similar normals, by this cosine, say how fast its light changes."""
MOST_RAYS = 1 << 19
"""Rays traced per batch."""


def make_records(job: Any, wanted: "IrradianceCacheSettings", records: np.ndarray) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    """Add to `records` float32 [n, COLUMNS] those that the camera of `job` needs."""
    finest = max(1, int(wanted.min_spacing)) if wanted.spacing_unit == "px" else 1
    steps = [s for s in (COARSEST >> k for k in range(COARSEST.bit_length())) if s >= finest]
    passes, before = [], len(records)
    for level, step in enumerate(steps):
        points = job.points_seen(step)
        cache = as_records(records, wanted, 0.0)
        serving = job.map_parts(lambda p, n, cache=cache: count_serving(job.arrays, cache, p, n), points.positions, points.surfaces)
        missing = serving == 0
        count = int(missing.sum())
        passes.append({"step": step, "points": len(missing), "records": count})
        if count:
            p, surface, n, pixels = (column[missing] for column in points[:4])
            made = _look_about(job, wanted, p, surface, n, pixels, level)
            records = _with_radii(np.concatenate([records, made]))
        job.report((level + 1) / len(steps))
    chance = float(np.sqrt(np.mean(records[:, ERROR].astype(float) ** 2))) if len(records) else 0.0
    return {"records": records}, {"passes": passes, "added": len(records) - before, "chance": chance}


def _look_about(
    job: Any, wanted: "IrradianceCacheSettings", p: np.ndarray, surface: np.ndarray, n: np.ndarray, pixels: np.ndarray, level: int
) -> np.ndarray:
    """Records float32 [k, COLUMNS] at points float64 [k, 3]; `pixels` float64 [k]: size in metres of a pixel there."""
    rings = max(2, round(math.sqrt(wanted.rays / math.pi)))
    slices = max(4, 2 * round(wanted.rays / rings / 2.0))
    each = rings * slices
    made = []
    for start in range(0, len(p), max(1, MOST_RAYS // each)):
        part = slice(start, start + max(1, MOST_RAYS // each))
        k = len(p[part])
        random = np.random.default_rng([job.frame.seed, level, start])
        d, x, y = stratified_directions(n[part], rings, slices, random)
        origins = np.broadcast_to((p[part] + surface[part] * job.offset)[:, None, None], d.shape)
        light, distance = job.gather(origins.reshape(-1, 3), d.reshape(-1, 3))
        # Rays below the geometric surface, where normals are smoothed, bring nothing.
        above = np.einsum("kjic,kc->kji", d, surface[part]) > 0.0
        light = light.reshape(k, rings, slices, 3) * above[..., None]
        distance = np.maximum(distance.reshape(k, rings, slices), job.offset)
        made.append(_records(p[part], surface[part], n[part], pixels[part], x, y, light, distance, wanted))
    return np.concatenate(made)


def _records(
    p: np.ndarray, surface: np.ndarray, n: np.ndarray, pixels: np.ndarray, x: np.ndarray, y: np.ndarray, light: np.ndarray,
    distance: np.ndarray, wanted: "IrradianceCacheSettings",
) -> np.ndarray:  # fmt: skip
    """Irradiance, gradients and radii from radiance float [k, rings, slices, 3] and distances [k, rings, slices] in metres."""
    k, rings, slices = distance.shape
    e = math.pi * light.mean(axis=(1, 2))
    bright = light @ LUMINANCE
    spread = math.pi * bright.std(axis=(1, 2)) / math.sqrt(rings * slices)
    records = np.zeros((k, COLUMNS), np.float32)
    records[:, POSITION : POSITION + 3], records[:, NORMAL : NORMAL + 3], records[:, SURFACE : SURFACE + 3] = p, n, surface
    records[:, LIGHT : LIGHT + 3] = e
    records[:, NEAREST], records[:, MEAN] = distance.min(axis=(1, 2)), 1.0 / np.maximum((1.0 / distance).mean(axis=(1, 2)), 1e-9)
    records[:, ERROR] = spread / np.maximum(e @ LUMINANCE, 1e-9)
    moving, turning = gradients(light, distance, x, y)
    # Two halves of the rays have independent noise, so the product of their gradients is unbiased.
    halves = [gradients(light[:, :, half::2], distance[:, :, half::2], x, y)[0] for half in (0, 1)]
    records[:, STEEPNESS] = np.einsum("kcd,c,ked,e->k", halves[0], LUMINANCE, halves[1], LUMINANCE)
    unit = pixels if wanted.spacing_unit == "px" else np.ones(k)
    records[:, LEAST] = wanted.min_spacing * unit / wanted.error
    records[:, MOST] = np.maximum(wanted.max_spacing * unit / wanted.error, records[:, LEAST])
    records[:, MOVING : MOVING + 9] = moving.reshape(k, 9)
    records[:, TURNING : TURNING + 9] = turning.reshape(k, 9)
    return records


def gradients(light: np.ndarray, distance: np.ndarray, x: np.ndarray, y: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Gradients [k, 3 channels, 3] of the irradiance for translation along the surface, per metre, and for rotation about an axis.

    light [k, rings, slices, 3]: radiance in equal cells of a cosine-stratified hemisphere, from its pole and from axis x on.
    Ward & Heckbert 1992, equations for translation and rotation (cells stratified so that cos² of the polar angle is even).
    """
    _, rings, slices, _ = light.shape
    angle = 2.0 * math.pi * (np.arange(slices) + 0.5) / slices
    edge_angle = 2.0 * math.pi * np.arange(slices) / slices
    u = x[:, None] * np.cos(angle)[:, None] + y[:, None] * np.sin(angle)[:, None]  # [k, slices, 3]: along the middle of each slice
    v = y[:, None] * np.cos(angle)[:, None] - x[:, None] * np.sin(angle)[:, None]  # across it
    v_edge = y[:, None] * np.cos(edge_angle)[:, None] - x[:, None] * np.sin(edge_angle)[:, None]
    # The mean of the tangent over each ring, in closed form: at the horizon it differs much from that of the middle. (The sign is for the rotation
    # from the record's normal to the point's; Ward & Heckbert use the opposite.)
    share = np.arange(rings + 1) / rings
    tangent = rings * np.diff(np.arcsin(np.sqrt(share)) - np.sqrt(share * (1.0 - share)))
    turning = math.pi / (rings * slices) * np.einsum("ksd,ksc->kcd", v, np.einsum("r,krsc->ksc", tangent, light))
    # Between the rings: sin cos² of the edge, over the nearer of the two.
    low = np.arange(1, rings) / rings
    weight = np.sqrt(low) * (1.0 - low)
    nearer = np.minimum(distance[:, 1:], distance[:, :-1])
    across_rings = np.einsum("r,krsc->ksc", weight, (light[:, 1:] - light[:, :-1]) / nearer[..., None])
    moving = 2.0 * math.pi / slices * np.einsum("ksd,ksc->kcd", u, across_rings)
    # Between the slices: difference of the sines of the ring, over the nearer of the two.
    sines = np.sqrt(np.arange(1, rings + 1) / rings) - np.sqrt(np.arange(rings) / rings)
    before = np.roll(light, 1, axis=2)
    nearer = np.minimum(distance, np.roll(distance, 1, axis=2))
    across_slices = np.einsum("r,krsc->ksc", sines, (light - before) / nearer[..., None])
    return moving + np.einsum("ksd,ksc->kcd", v_edge, across_slices), turning


def _with_radii(records: np.ndarray) -> np.ndarray:
    """Set each record's radius of use: the harmonic mean distance of its rays, limited by the gradient of the light, and
    by neighbouring records (Křivánek et al. 2006, sections 4 and 5).

    The gradient is taken from a record's neighbours, not from its own rays: a record that missed a bright spot looks flat. If it
    were used farther for that, the picture would be too dark.
    """
    from scipy.spatial import cKDTree  # 0.2 s, and only preparing needs it

    tree = cKDTree(records[:, :3].astype(float))
    distances, near = tree.query(records[:, :3].astype(float), k=min(1 + NEIGHBOURS, len(records)))
    distances, near = distances.reshape(len(records), -1), near.reshape(len(records), -1)
    bright = np.maximum(records[:, LIGHT : LIGHT + 3] @ LUMINANCE, 1e-9).astype(float)
    normals = records[:, NORMAL : NORMAL + 3].astype(float)
    alike = np.einsum("kc,kjc->kj", normals, normals[near]) > ALIKE
    alike[near == np.arange(len(records))[:, None]] = False
    alone = ~alike.any(axis=1)
    alike[alone, 0] = True
    number = alike.sum(axis=1)
    steepness = np.sqrt(np.maximum((records[:, STEEPNESS].astype(float)[near] * alike).sum(axis=1) / number, 1e-24))
    about = (bright[near] * alike).sum(axis=1) / number / steepness
    radii = np.clip(np.minimum(records[:, MEAN], about), records[:, LEAST], records[:, MOST]).astype(float)
    for _ in range(3):
        radii = np.minimum(radii, (radii[near] + distances).min(axis=1))
    records[:, RADIUS] = np.maximum(records[:, LEAST], radii)
    return records
