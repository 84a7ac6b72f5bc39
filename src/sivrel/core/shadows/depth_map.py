"""Depth map shadows: the scene's depth as the light sees it, compared with the depth of the shaded point.

Williams 1978, "Casting Curved Shadows on Curved Surfaces" (the map and its bias); Reeves, Salesin & Cook 1987,
"Rendering Antialiased Shadows with Depth Maps" (comparing first and filtering after). The filter is a box, weighted
exactly over the texels it covers, so it needs no random numbers.

A sun's map uses parallel rays, a light with a narrow cone one face, any other light six.
"""

import math
from collections.abc import Callable

import numpy as np

from .. import machine
from ..kernel import called_kernel, kernel
from ..numba_byref import by_reference
from ..scene.arrays import (
    AXIS_X,
    BIAS_TEXELS,
    CONE,
    FILTER,
    KIND,
    MAP,
    MAP_COLUMNS,
    MAP_HALF,
    MAP_KIND,
    MAP_POSITION,
    MAP_RESOLUTION,
    MAP_START,
    MAP_X,
    MAP_Y,
    MAP_Z,
    POSITION,
    SHADOWING,
    SHAPED,
    SUN,
    SceneArrays,
)
from ..surfaces.next_surface import MOST_LAYERS
from ..surfaces.surface_at import passing_at
from ..trace.traverse import NO_HIT, closest_hit, make_stack
from ..vector import add, dot, scale, subtract
from ..work_time import Pool
from .suspect_maps import suspects_of_map
from .traced import stops, traced_share
from .way import ShadowWay

DEPTH_MAP = 2
PARALLEL, ONE, SIX = 0, 1, 2
WIDEST = math.radians(70.0)
"""Cones up to this half angle use one face; a wider one would waste most of it."""
HALF_OPAQUE = 0.5
"""A cut-out surface is in the map where it is at least this opaque, since a map has no partial shadow."""
ROWS_AT_ONCE = 16
KIND_OF_MAP = "depth map"
"""Of its caches."""
FITTED = (10.0, 90.0)
"""Percentiles of the visible points, along each axis, that a map fitted to the view must cover."""


def map_row(lights: np.ndarray, i: int, resolution: int, low: np.ndarray, high: np.ndarray, seen: np.ndarray | None = None) -> np.ndarray:
    """Row of the map of light `i` over the scene box `low`..`high`; with `seen` [n, 3], a sun's map is fitted to where most
    of those points lie instead, so that a far shore does not take the texels from what fills the picture."""
    row = np.zeros(MAP_COLUMNS)
    frame = lights[i, AXIS_X : AXIS_X + 9].reshape(3, 3)
    row[MAP_X : MAP_X + 9], row[MAP_RESOLUTION] = frame.reshape(-1), resolution
    if lights[i, KIND] == SUN:
        box = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])], float)
        fitted = box if seen is None or len(seen) == 0 else np.asarray(seen, float)
        across, back = fitted @ frame[:2].T, box @ frame[2]
        least, most = across.min(axis=0), across.max(axis=0)
        if fitted is not box:
            inner = np.percentile(across, FITTED, axis=0)
            spare = 0.1 * (inner[1] - inner[0])
            least, most = np.maximum(least, inner[0] - spare), np.minimum(most, inner[1] + spare)
        middle = (least + most) / 2.0
        row[MAP_HALF] = max(float((most - least).max()) / 2.0 * 1.02, 1e-6)
        row[MAP_POSITION : MAP_POSITION + 3] = middle @ frame[:2] + frame[2] * (back.max() + 0.01 * max(float(np.ptp(back)), 1e-3))
        row[MAP_KIND] = PARALLEL
        return row
    row[MAP_POSITION : MAP_POSITION + 3] = lights[i, POSITION : POSITION + 3]
    narrow = lights[i, SHAPED] > 0.0 and lights[i, CONE] <= WIDEST
    row[MAP_KIND] = ONE if narrow else SIX
    row[MAP_HALF] = math.tan(lights[i, CONE]) * 1.01 if narrow else 1.0
    return row


def map_shape(row: np.ndarray) -> tuple[int, int, int]:
    """Faces, rows and columns of the map of a row."""
    resolution = int(row[MAP_RESOLUTION])
    return 6 if row[MAP_KIND] == SIX else 1, resolution, resolution


def render_map(scene: SceneArrays, i: int, row: np.ndarray, report: Callable[[float], None] | None = None) -> np.ndarray:
    """Depths float32 [faces, resolution, resolution] of light `i`, infinite where there is no surface, on all cores.
    `report(share)` receives progress, and may raise."""
    faces, resolution, _ = map_shape(row)
    depths = np.full((faces, resolution, resolution), np.inf, np.float32)
    strips = [(face, y) for face in range(faces) for y in range(0, resolution, ROWS_AT_ONCE)]
    link, going = int(scene.lights[i, SHADOWING]), [True]

    def work(strip: tuple[int, int]) -> None:
        face, y = strip
        if going[0]:
            _render_rows(scene, make_stack(), row, link, face, y, min(y + ROWS_AT_ONCE, resolution), depths)

    with Pool(machine.threads()) as pool:
        for done, _ in enumerate(pool.map(work, strips), start=1):
            if report is not None:
                try:
                    report(done / len(strips))
                except BaseException:
                    going[0] = False  # cancel what waits in the pool
                    raise
    return depths


@kernel
def _face_axes(row, face):
    """(right, up, forward) of a face: the map looks along -z; six faces look along -z, +z, -x, +x, -y, +y."""
    x, y, z = (row[MAP_X], row[MAP_X + 1], row[MAP_X + 2]), (row[MAP_Y], row[MAP_Y + 1], row[MAP_Y + 2]), (row[MAP_Z], row[MAP_Z + 1], row[MAP_Z + 2])
    if face == 0:
        return x, y, scale(z, -1.0)
    if face == 1:
        return x, y, z
    if face == 2:
        return z, y, scale(x, -1.0)
    if face == 3:
        return z, y, x
    if face == 4:
        return x, z, scale(y, -1.0)
    return x, z, y


@called_kernel
def _render_rows(scene_arrays, stack, row, link, face, y0, y1, depths):
    scene = by_reference(scene_arrays)
    resolution = int(row[MAP_RESOLUTION])
    right, up, forward = _face_axes(row, face)
    origin, half = (row[MAP_POSITION], row[MAP_POSITION + 1], row[MAP_POSITION + 2]), row[MAP_HALF]
    for y in range(y0, y1):
        for x in range(resolution):
            a = ((x + 0.5) / resolution * 2.0 - 1.0) * half
            b = ((y + 0.5) / resolution * 2.0 - 1.0) * half
            across = add(scale(right, a), scale(up, b))
            if row[MAP_KIND] == PARALLEL:
                start, d, stretch = add(origin, across), forward, 1.0
            else:
                start, d = origin, add(forward, across)
                stretch = math.sqrt(dot(d, d))
                d = scale(d, 1.0 / stretch)
            passed = 0.0
            for _ in range(MOST_LAYERS):
                q = add(start, scale(d, passed))
                hit, t, b1, b2 = closest_hit(scene.bvh, stack, q[0], q[1], q[2], d[0], d[1], d[2], 0.0, 1e30)
                if hit == NO_HIT:
                    break
                if stops(scene, hit, link) and (not scene.see_through or passing_at(scene, hit, b1, b2, d)[0] <= HALF_OPAQUE):
                    depths[face, y, x] = (passed + t) / stretch
                    break
                passed += t + scene.offset


@kernel
def _on_map(row, p):
    """The position of `p` on a map: (face or -1 outside, x and y in texels, depth, size of a texel there in metres)."""
    v = subtract(p, (row[MAP_POSITION], row[MAP_POSITION + 1], row[MAP_POSITION + 2]))
    x, y, z = (
        v[0] * row[MAP_X] + v[1] * row[MAP_X + 1] + v[2] * row[MAP_X + 2],
        v[0] * row[MAP_Y] + v[1] * row[MAP_Y + 1] + v[2] * row[MAP_Y + 2],
        v[0] * row[MAP_Z] + v[1] * row[MAP_Z + 1] + v[2] * row[MAP_Z + 2],
    )
    face, a, b, depth = 0, x, y, -z
    if row[MAP_KIND] == SIX:
        ax, ay, az = abs(x), abs(y), abs(z)
        if az >= ax and az >= ay:
            face, depth = (0, -z) if z < 0.0 else (1, z)
        elif ax >= ay:
            face, a, depth = (2, z, -x) if x < 0.0 else (3, z, x)
        else:
            face, b, depth = (4, z, -y) if y < 0.0 else (5, z, y)
    resolution, half = row[MAP_RESOLUTION], row[MAP_HALF]
    texel = 2.0 * half / resolution
    if row[MAP_KIND] != PARALLEL:
        if depth <= 1e-9:
            return -1, 0.0, 0.0, 0.0, 1.0
        a, b, texel = a / depth, b / depth, texel * depth
    u, w = (a / half + 1.0) * 0.5 * resolution, (b / half + 1.0) * 0.5 * resolution
    if not (0.0 <= u <= resolution and 0.0 <= w <= resolution):
        return -1, 0.0, 0.0, 0.0, texel
    return face, u, w, depth, texel


@called_kernel
def map_share(scene, i, p):
    """Share of the texels under the filter that are not nearer to light `i` than `p` is; -1 outside the map."""
    row = scene.maps[int(scene.lights[i, MAP])]
    face, u, w, depth, texel = _on_map(row, p)
    if face < 0:
        return -1.0
    resolution = int(row[MAP_RESOLUTION])
    half = 0.5 * max(scene.lights[i, FILTER], 1e-3)
    limit = depth - scene.lights[i, BIAS_TEXELS] * texel
    first = int(row[MAP_START]) + face * resolution * resolution
    lit = total = 0.0
    for y in range(int(math.floor(w - half)), int(math.floor(w + half)) + 1):
        wy = min(w + half, y + 1.0) - max(w - half, float(y))
        yy = min(max(y, 0), resolution - 1)
        for x in range(int(math.floor(u - half)), int(math.floor(u + half)) + 1):
            weight = wy * (min(u + half, x + 1.0) - max(u - half, float(x)))
            xx = min(max(x, 0), resolution - 1)
            total += weight
            if scene.depths[first + yy * resolution + xx] >= limit:
                lit += weight
    return lit / total if total > 0.0 else 1.0


@kernel
def texels_per_pixel(scene, p, pixel):
    """Texels of the coarsest depth map at `p` across a pixel `pixel` metres wide there; infinite outside all maps."""
    least = np.inf
    for k in range(len(scene.maps)):
        face, _, _, _, texel = _on_map(scene.maps[k], p)
        if face >= 0:
            least = min(least, pixel / texel)
    return least


def map_picture(depths: np.ndarray) -> np.ndarray:
    """A map as a picture: uint8 [rows, columns], near is light, empty is black; six faces in two rows."""
    finite = np.isfinite(depths)
    low, high = (float(depths[finite].min()), float(depths[finite].max())) if finite.any() else (0.0, 1.0)
    tone = np.where(finite, 255.0 - 215.0 * (np.where(finite, depths, low) - low) / max(high - low, 1e-9), 0.0).astype(np.uint8)[:, ::-1]
    return tone[0] if len(tone) == 1 else np.concatenate([np.concatenate(list(tone[:3]), axis=1), np.concatenate(list(tone[3:]), axis=1)])


@kernel
def _share(scene, stack, i, p, d, distance, target):
    if scene.lights[i, MAP] >= 0.0:
        share = map_share(scene, i, p)
        if share >= 0.0:
            return share, share, share
    return traced_share(scene, stack, i, p, d, distance, target)


WAY = ShadowWay(
    "depth_map",
    DEPTH_MAP,
    "a depth map",
    "Compares with a depth map rendered from the light: made once, then cheap at every point.",
    "Steps where a texel is larger than a pixel, blurred contact with a wide filter, stripes with too little bias, detached shadows with too much.",
    share=_share,
    approximates=True,
    suspects=suspects_of_map,
    not_for=("dome", "mesh"),  # a sky is all around: no single map holds its shadows
)
