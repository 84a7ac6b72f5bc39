"""Looking up an irradiance cache: the layout of records, and interpolation between them.

Ward, Rubinstein & Clear 1988, "A Ray Tracing Solution for Diffuse Interreflection"; Ward & Heckbert 1992, "Irradiance Gradients".
"""

import math
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..numba_byref import by_reference
from ..trace.traverse import any_hit, make_stack
from ..vector import LUMINANCE, add, cross, dot, scale, subtract
from .tree import DEEPEST, bounds_of_ranges, sort_into_tree

if TYPE_CHECKING:
    from .irradiance_cache import IrradianceCacheSettings

# Columns of a record: position, the normal of its hemisphere and that of its surface; irradiance; its gradients as the point moves
# and as it turns (red, green, blue vectors); the radius of use, at least and at most so far; the distance of the nearest surface; relative error; the
# harmonic mean distance of its rays; the squared gradient of its luminance, unbiased by noise and so sometimes negative.
POSITION, NORMAL, SURFACE, LIGHT, MOVING, TURNING, RADIUS, LEAST, NEAREST, ERROR, MOST, MEAN, STEEPNESS, COLUMNS = (
    0, 3, 6, 9, 12, 21, 30, 31, 32, 33, 34, 35, 36, 37,
)  # fmt: skip


FARTHER = 3.0
"""How much farther records reach where none serves, as in gaps between small things: a few such paths made most of a cached picture's grain."""


class Records(NamedTuple):
    """records float32 [n, COLUMNS] as a tree; boxes and wide float32 [n, 6]: bounds of what each range serves, within `error`, the allowed change
    of light, and FARTHER times that."""

    records: np.ndarray
    axes: np.ndarray
    boxes: np.ndarray
    wide: np.ndarray
    error: float
    corner_distance: float
    visible: bool
    moving: bool


def as_records(records: np.ndarray, wanted: "IrradianceCacheSettings", smoothing: float) -> Records:
    """The arrays that the kernels read, from records float32 [n, COLUMNS]."""
    order, axes = sort_into_tree(records)
    records = np.ascontiguousarray(records[order])
    # A gradient too steep for the least spacing would overshoot within it.
    moving = records[:, MOVING : MOVING + 9].reshape(-1, 3, 3)
    steepness = np.linalg.norm(np.einsum("kcd,c->kd", moving, LUMINANCE), axis=1) * records[:, RADIUS]
    bright = records[:, LIGHT : LIGHT + 3] @ LUMINANCE
    records[:, MOVING : MOVING + 9] *= np.minimum(1.0, bright / np.maximum(steepness, 1e-12))[:, None]
    error = wanted.error * (1.0 + smoothing)
    boxes, wide = (bounds_of_ranges(records, (records[:, RADIUS] * reach).astype(np.float32)) for reach in (error, error * FARTHER))
    return Records(records, axes, boxes, wide, error, wanted.corner_distance, wanted.visible == "yes", wanted.gradients == "yes")


@called_kernel
def light_of_records(cache, boxes, error, scene, memory, p, surface, normal):
    """(irradiance, share of weight nearer than the corner distance, number of records used) at `p` on a surface with the normals
    `surface` and, with all detail, `normal`; by records within the allowed change `error`, to which the `boxes` belong.

    A record's weight is the inverse of the possible change of light (Ward et al. 1988, equation 4), minus that at its edge, so that it
    fades out. Light is extrapolated from each record with the mean of the gradients at both ends, where that at the point is the
    mean of all records in use: exact for quadratic light. With its own gradient alone (Ward & Heckbert 1992) every record would follow its
    tangent, and curved light, as between walls, would be too bright throughout.
    """
    records, near = cache.records, memory.near
    light, gone, whole = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
    red, green, blue = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
    weights, close, serving, waiting = 0.0, 0.0, 0, 0
    if len(records) > 0:
        near[0, 0], near[0, 1] = 0.0, len(records)
        waiting = 1
    while waiting > 0:
        waiting -= 1
        low, high = int(near[waiting, 0]), int(near[waiting, 1])
        if low >= high:
            continue
        k = (low + high) // 2
        box = boxes[k]
        if p[0] < box[0] or p[1] < box[1] or p[2] < box[2] or p[0] > box[3] or p[1] > box[4] or p[2] > box[5]:
            continue
        near[waiting, 0], near[waiting, 1] = low, k
        near[waiting + 1, 0], near[waiting + 1, 1] = k + 1, high
        waiting += 2
        at = records[k]
        away = (p[0] - at[POSITION], p[1] - at[POSITION + 1], p[2] - at[POSITION + 2])
        distance = math.sqrt(dot(away, away))
        its = (float(at[SURFACE]), float(at[SURFACE + 1]), float(at[SURFACE + 2]))
        cos = dot(surface, its)
        change = distance / at[RADIUS] + math.sqrt(max(0.0, 1.0 - cos))
        if change >= error:
            continue
        # Points in front of a record see other surfaces than it does (Ward et al. 1988, equation 6).
        if dot(away, add(surface, its)) < -2.0 * scene.offset - 0.02 * distance:
            continue
        if cache.visible and not _sees(scene, memory.stack, p, surface, at, its, distance, cos):
            continue
        weight = 1.0 / max(change, 1e-4) - 1.0 / error
        weights += weight
        serving += 1
        if at[NEAREST] < cache.corner_distance:
            close += weight
        here = _vector(at, LIGHT)
        if cache.moving:
            turn = cross(_vector(at, NORMAL), normal)
            along = _vector(at, MOVING), _vector(at, MOVING + 3), _vector(at, MOVING + 6)
            here = add(here, (dot(turn, _vector(at, TURNING)), dot(turn, _vector(at, TURNING + 3)), dot(turn, _vector(at, TURNING + 6))))
            gone = add(gone, scale((dot(away, along[0]), dot(away, along[1]), dot(away, along[2])), weight))
            red, green, blue = add(red, scale(along[0], weight)), add(green, scale(along[1], weight)), add(blue, scale(along[2], weight))
            whole = add(whole, scale(away, weight))
        light = add(light, scale(here, weight))
    if weights <= 0.0:
        return (0.0, 0.0, 0.0), 0.0, 0
    mean = scale(whole, 1.0 / weights)
    light = scale(add(light, scale(add(gone, (dot(mean, red), dot(mean, green), dot(mean, blue))), 0.5)), 1.0 / weights)
    return (max(0.0, light[0]), max(0.0, light[1]), max(0.0, light[2])), close / weights, serving


@kernel
def _vector(at, k):
    return (float(at[k]), float(at[k + 1]), float(at[k + 2]))


@kernel
def _sees(scene, stack, p, surface, at, its, distance, cos):
    """Whether a point and a record see each other. Both ends are lifted, by more on a curved surface: the height
    of the arc over the chord, half of it times the tangent of a quarter of the angle."""
    lift = 2.0 * scene.offset + 0.5 * distance * math.sqrt(max(0.0, 2.0 - 2.0 * cos))
    start = add(p, scale(surface, lift))
    end = (at[POSITION] + lift * its[0], at[POSITION + 1] + lift * its[1], at[POSITION + 2] + lift * its[2])
    d = subtract(end, start)
    length = math.sqrt(dot(d, d))
    if length < 1e-12:
        return True
    d = scale(d, 1.0 / length)
    return not any_hit(scene.bvh, stack, start[0], start[1], start[2], d[0], d[1], d[2], 0.0, length)


class Finder(NamedTuple):
    """The working memory of `count_serving`."""

    stack: Any
    near: np.ndarray


def make_finder() -> Finder:
    return Finder(make_stack(), np.zeros((2 * DEEPEST, 4)))


def count_serving(scene: Any, cache: Records, points: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """int64 [n]: how many records serve each of some points float64 [n, 3] on surfaces with these normals."""
    counts = np.zeros(len(points), np.int64)
    _count_serving(scene, cache, make_finder(), points, normals, counts)
    return counts


@called_kernel
def _count_serving(scene_arrays, cache, memory, points, normals, counts):
    scene = by_reference(scene_arrays)
    for k in range(len(points)):
        p = (points[k, 0], points[k, 1], points[k, 2])
        n = (normals[k, 0], normals[k, 1], normals[k, 2])
        _, _, counts[k] = light_of_records(cache, cache.boxes, cache.error, scene, memory, p, n, n)
