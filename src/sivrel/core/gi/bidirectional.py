"""Bidirectional paths: a path from the camera is connected, at each diffuse point, to a point where light from the lights has landed.

Light paths are traced first and shared by all pixels (Davidovič, Křivánek, Hašan & Slusallek 2014, "Progressive Light Transport Simulation on the
GPU", section 4: a light vertex cache). Each sample of a pixel uses the next of several sets of their points. Of a few points of the set, drawn
evenly, one is chosen by the light that it would bring if it were visible (Talbot, Cline & Egbert 2005, "Importance Resampling for Global
Illumination"), and a ray asks whether it is.

Two points that are close to each other would exchange unbounded light. So the geometric term of a connection is bounded, and what the bound takes
away the path finds by scattering on (Kollig & Keller 2004, "Illumination in the Presence of Weak Singularities"): nothing is lost or counted twice.
"""

import math
from typing import Any, Literal, NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..lights.emitters import BLACK
from ..scene.arrays import BY_BOUNCED, TINT
from ..settings import Group, setting
from ..surfaces.albedo import directional_albedo
from ..surfaces.next_surface import TINTED, next_surface
from ..surfaces.preview import COAT_F0, scattering_at
from ..trace.sampler import sample_1d
from ..trace.traverse import any_hit
from ..vector import add, dot, luminance, multiply, row3, scale, subtract
from .photons import (
    BASE_F0,
    BASE_MULTISCATTER,
    BOUNCES,
    COAT,
    COAT_ROUGHNESS,
    FLUX,
    LAYER,
    NORMAL,
    POSITION,
    SHADING_NORMAL,
    VERTEX_COLUMNS,
    VERTICES,
    automatic_radius,
    shoot_photons,
)
from .way import Preview, Table, Way

ON = {"bidirectional.on": ["yes"]}
MOST_SETS = 64
NEAR = 16
"""Points within the distance from which a connection is bounded."""
TRIES = 16
CHOICE, CUTOUT = 1, 2


class BidirectionalSettings(Group):
    on: Literal["no", "yes"] = setting(
        "no",
        "bidirectional",
        "Brute force connects paths from the camera with paths from the lights: {}.",
        "Less grain where most light has bounced. No light is lost or added.",
    )
    points: int = setting(
        8192,
        "light path points",
        "Each sample uses {} points of light paths.",
        "More make samples less alike; the time before the first pixel grows in proportion.",
        needs=ON,
        ge=64,
        le=1 << 20,
    )


class LightPaths(NamedTuple):
    """points float32 [sets * each, VERTEX_COLUMNS]: set after set, near ones close to each other; each: points of a set; bound: the largest
    geometric term of a connection, per square metre, 0 while there are none."""

    points: np.ndarray
    each: int
    bound: float


def _make(job: Any, wanted: BidirectionalSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    limits, sets = job.recipe.limits, min(MOST_SETS, job.recipe.sampling.max)
    points, shot = shoot_photons(
        job.arrays, wanted.points * sets, max(0, limits.diffuse_bounces - 1) + limits.reflections, job.offset, seed=job.frame.seed + 1,
        threads=job.threads, report=job.report, mode=VERTICES, importance=job.importance(), refractions=limits.refractions,
    )  # fmt: skip
    points = points[points[:, FLUX : FLUX + 3].max(axis=1) > 0.0]
    each = len(points) // sets
    random = np.random.default_rng([job.frame.seed, 23])
    kept = points[random.permutation(len(points))[: each * sets]].reshape(sets, each, VERTEX_COLUMNS)
    kept[..., FLUX : FLUX + 3] *= len(points) / max(1, each)
    for one in kept:
        one[:] = one[_along_curve(one[:, POSITION : POSITION + 3])]
    return {"points": kept.reshape(-1, VERTEX_COLUMNS)}, {"shot": shot, "sets": sets}


def _along_curve(points: np.ndarray) -> np.ndarray:
    """Order of points along a curve through a grid (Morton 1966)."""
    if not len(points):
        return np.zeros(0, np.int64)
    low, high = points.min(axis=0), points.max(axis=0)
    cells = ((points - low) / max(1e-9, float((high - low).max())) * 1023.0).astype(np.int64)
    code = np.zeros(len(points), np.int64)
    for bit in range(10):
        for axis in range(3):
            code |= ((cells[:, axis] >> bit) & 1) << (3 * bit + axis)
    return np.argsort(code, kind="stable")


def _serve(job: Any, wanted: BidirectionalSettings, arrays: dict[str, np.ndarray], notes: dict[str, Any]) -> LightPaths:
    points, sets = arrays["points"], int(notes["sets"])
    each = len(points) // max(1, sets)
    radius = automatic_radius(points[:each], NEAR)
    notes["radius"] = radius
    return LightPaths(points, each, 1.0 / radius**2 if each else 0.0)


@kernel
def _let_in(row, cos):
    """Share of light at cosine `cos` that the layers over a stored point's base let through."""
    left = 1.0
    if row[LAYER] >= 0.0:
        a, b = directional_albedo(cos, float(row[LAYER]))
        left = 1.0 - (row[BASE_F0] * a + b + row[BASE_MULTISCATTER] * (1.0 - a - b))
    if row[COAT] > 0.0:
        a, b = directional_albedo(cos, float(row[COAT_ROUGHNESS]))
        left *= 1.0 - row[COAT] * (COAT_F0 * a + b)
    return left


@kernel
def _let_in_at(look, cos):
    """The same of a surface, over its average."""
    s = scattering_at(look, 0.0, 0.0, 0.0, 1.0)
    left = 1.0
    if s.glossy:
        a, b = directional_albedo(cos, s.roughness)
        left = (1.0 - (s.base_f0 * a + b + s.base_multiscatter * (1.0 - a - b))) / s.left_average
    if s.coat > 0.0:
        a, b = directional_albedo(cos, s.coat_roughness)
        left *= (1.0 - s.coat * (COAT_F0 * a + b)) / s.coat_left_average
    return left


@kernel
def _open(scene, stack, key, sample, dimension, origin, d, distance):
    """What the panes on a straight way leave of light; black where anything blocks it."""
    if not scene.see_through and not scene.filtered:
        blocked = any_hit(scene.bvh, stack, origin[0], origin[1], origin[2], d[0], d[1], d[2], 0.0, distance)
        return BLACK if blocked else (1.0, 1.0, 1.0)
    left, start, layer = (1.0, 1.0, 1.0), 0.0, 0
    while True:
        hit, at, _, _, kind, layer = next_surface(scene, stack, BY_BOUNCED, key, sample, dimension, layer, origin, d, start)
        if at >= distance:
            return left
        if kind != TINTED:
            return BLACK
        left, start = multiply(left, row3(scene.surfaces, np.int64(scene.surface_of[hit]), TINT)), at + scene.offset


@called_kernel
def connected(scene, stack, paths, sample, spot, bounces):
    """Irradiance at a spot, beneath the layers over its base, from light that landed elsewhere after at most `bounces` diffuse bounces and goes on
    diffusely from there: an estimate by one connection."""
    each = paths.each
    if each == 0:
        return BLACK
    first, total, chosen, target = (sample % (len(paths.points) // each)) * each, 0.0, -1, 0.0
    shift, pick = sample_1d(spot.key, spot.number, spot.dimension), sample_1d(spot.key, spot.number, spot.dimension + CHOICE)
    p, n = spot.position, spot.normal
    tries = min(TRIES, each)
    for k in range(tries):
        at = first + min(each - 1, int((k + shift) * each / tries))
        row = paths.points[at]
        if row[BOUNCES] > bounces:
            continue
        away = (row[POSITION] - p[0], row[POSITION + 1] - p[1], row[POSITION + 2] - p[2])
        squared = dot(away, away)
        cosines = dot(n, away) * -(row[NORMAL] * away[0] + row[NORMAL + 1] * away[1] + row[NORMAL + 2] * away[2])
        if dot(n, away) <= 0.0 or cosines <= 0.0 or dot(spot.geometric_normal, away) <= 0.0:
            continue
        worth = min(cosines / (squared * squared), paths.bound) * (0.2126 * row[FLUX] + 0.7152 * row[FLUX + 1] + 0.0722 * row[FLUX + 2])
        if worth <= 0.0:
            continue
        total += worth
        share = worth / total
        if pick < share:
            chosen, target, pick = at, worth, pick / share
        else:
            pick = (pick - share) / (1.0 - share)
    if chosen < 0:
        return BLACK
    row = paths.points[chosen]
    its = (float(row[NORMAL]), float(row[NORMAL + 1]), float(row[NORMAL + 2]))
    there = add((float(row[POSITION]), float(row[POSITION + 1]), float(row[POSITION + 2])), scale(its, scene.offset))
    here = add(p, scale(spot.geometric_normal, scene.offset))
    away = subtract(there, here)
    distance = math.sqrt(dot(away, away))
    d = scale(away, 1.0 / max(distance, 1e-30))
    back = -(row[SHADING_NORMAL] * d[0] + row[SHADING_NORMAL + 1] * d[1] + row[SHADING_NORMAL + 2] * d[2])
    if back <= 0.0 or distance <= 0.0:
        return BLACK
    left = _open(scene, stack, spot.key, spot.number, spot.dimension + CUTOUT, here, d, distance)
    if left[0] + left[1] + left[2] <= 0.0:
        return BLACK
    flux = (float(row[FLUX]), float(row[FLUX + 1]), float(row[FLUX + 2]))
    bounded = target / luminance(flux) * (total / target) * each / tries
    return multiply(left, scale(flux, bounded * _let_in(row, back) * _let_in_at(spot.look, max(0.0, dot(d, n)))))


@kernel
def left_out(bound, p, n, point):
    """Share of the light that a diffuse surface at `point` sends to `p` with normal `n` that connections leave out."""
    away = subtract(point.position, p)
    squared = dot(away, away)
    cosines = dot(n, away) * abs(dot(point.geometric_normal, away))
    return max(0.0, 1.0 - bound * squared * squared / max(cosines, 1e-30)) if cosines > 0.0 else 1.0


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    points = arrays["points"]
    shown = points[:: max(1, len(points) // 20_000)]
    sizes = np.full(len(shown), automatic_radius(points, NEAR) / 8.0)
    return Preview(shown[:, :3], sizes, shown[:, FLUX : FLUX + 3], "dots", shown[:, NORMAL : NORMAL + 3])


WAY = Way(
    key="bidirectional",
    code=-3,
    title="bidirectional paths",
    seen=False,
    beyond=False,
    does="Traces paths from the lights, and connects those from the camera to the points where they land.",
    costs="Some time before the first pixel; no bias.",
    question="Where paths meet",
    settings=BidirectionalSettings,
    kind="light paths",
    nothing=LightPaths(np.zeros((0, VERTEX_COLUMNS), np.float32), 0, 0.0),
    makes=lambda wanted, recipe: (wanted.points, min(MOST_SETS, recipe.sampling.max)),
    depends=("geometry", "surfaces", "lights", "limits"),
    make=_make,
    serve=_serve,
    preview=_preview,
    says=lambda notes: f"From {notes['shot']:,} light paths, in {notes['sets']} sets; bounded within {notes['radius']:.2g} m.",
    points=lambda arrays: (len(arrays["points"]), "points"),
    holds={"points": Table(VERTEX_COLUMNS, places=3)},
    tells=("shot", "sets"),
    of_paths=True,
    small={"points": 64, "on": "yes"},
)
