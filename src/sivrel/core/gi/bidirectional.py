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
from ..scene.triangles import surface_row_at
from ..settings import Group, setting
from ..surfaces.albedo import directional_albedo
from ..surfaces.next_surface import TINTED, next_surface
from ..surfaces.preview import COAT_F0, evaluate_parts, is_rough, scattering_at
from ..trace.sampler import sample_1d
from ..trace.traverse import any_hit
from ..vector import add, dot, frame, luminance, multiply, row3, scale, subtract, to_local
from .importance import importances
from .photons import (
    BOUNCES,
    BY_DIFFUSE,
    BY_SPECULAR,
    FLUX,
    FROM,
    NORMAL,
    POSITION,
    REFLECTED,
    SHADING_NORMAL,
    VERTEX_COLUMNS,
    VERTICES,
    automatic_radius,
    look_of,
    shoot_photons,
)
from .way import Preview, Table, Way

ON = {"bidirectional.on": ["yes"]}
MOST_POINTS = 1 << 19
"""Most points of all sets together: with more samples than sets, these take turns."""
TRIES = 24
"""Points of which connections are chosen."""
AUTOMATIC, FEWEST, MOST = 8, 256, 8192
"""Pixels for each point of a set where the recipe leaves the number open; least and largest number then."""
NEAR = 64
"""Points of a set, in most places, within the distance from which connections are bounded."""
LEAST_WORTH = 0.02
OF_FLUX = [FLUX, FLUX + 1, FLUX + 2, REFLECTED]
# Columns of what decides over a connection: position, normal, luminance, and the diffuse bounces before.
NEARBY_LIGHT, NEARBY_BOUNCES, NEARBY_COLUMNS = 6, 7, 8
# Random numbers of a connection.
PICK, CUTOUT = 1, 2


class BidirectionalSettings(Group):
    on: Literal["no", "yes"] = setting(
        "no",
        "bidirectional",
        "Brute force also starts from the lights, and connects both ends: {}.",
        "Much less grain where most light has bounced, indoors above all. No light is lost or added.",
    )
    points: int = setting(
        0,
        "light path points",
        "Each sample connects to {} points of light paths (0: one for eight pixels, at most 8192),",
        "More make the samples less alike, which a noise filter can't mend; the time before the first pixel grows in proportion.",
        needs=ON,
        ge=0,
        le=1 << 18,
    )
    connections: int = setting(
        2,
        "connections",
        "by {} rays from each point that the camera sees.",
        "More leave less grain of diffuse light, and cost one ray each.",
        needs=ON,
        ge=1,
        le=TRIES,
    )


class LightPaths(NamedTuple):
    """nearby float32 [sets * each, NEARBY_COLUMNS] and points float32 [sets * each, VERTEX_COLUMNS]: what decides over a connection, and all of
    a point; set after set, near ones close to each other. each: points of a set; bound: the largest geometric term of a connection, per square
    metre, 0 while there are none; connections: from points that the camera sees."""

    nearby: np.ndarray
    points: np.ndarray
    each: int
    bound: float
    connections: int


def points_of(wanted: BidirectionalSettings, pixels: int) -> int:
    """Number of points of a set."""
    return wanted.points or min(MOST, max(FEWEST, pixels // AUTOMATIC))


def _make(job: Any, wanted: BidirectionalSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    limits, random = job.recipe.limits, np.random.default_rng([job.frame.seed, 23])
    each = points_of(wanted, job.frame.width * job.frame.height)
    sets = min(MOST_POINTS // each, job.recipe.sampling.max)
    found, shot = shoot_photons(
        job.arrays, each * sets, max(0, limits.diffuse_bounces - 1) + limits.reflections, job.offset, seed=job.frame.seed + 1,
        threads=job.threads, task=job.task, report=job.report, mode=VERTICES, importance=job.importance(), refractions=limits.refractions,
    )  # fmt: skip
    points = _chosen(job, found[(found[:, REFLECTED] > 0.0) & (found[:, BOUNCES] < limits.diffuse_bounces)], each * sets, random)
    points = points[random.permutation(len(points))].reshape(sets, -1, VERTEX_COLUMNS)
    points[..., OF_FLUX] *= sets
    for one in points:
        one[:] = one[_along_curve(one[:, POSITION : POSITION + 3])]
    return {"points": points.reshape(-1, VERTEX_COLUMNS)}, {"shot": shot, "sets": sets}


def _chosen(job: Any, points: np.ndarray, count: int, random: np.random.Generator) -> np.ndarray:
    """`count` of the points, some more than once, with their light weighted so that the sum stays: half evenly, half by their light and where it
    matters, so that none is much brighter than the others where that matters."""
    if not len(points):
        return np.zeros((0, VERTEX_COLUMNS), np.float32)
    worth = importances(job.importance(), points[:, POSITION : POSITION + 3].astype(float))
    worth = points[:, REFLECTED] * np.maximum(worth, max(1e-30, LEAST_WORTH * worth.max()))
    chance = 0.5 * worth / worth.sum() + 0.5 / len(points)
    at = np.minimum(np.searchsorted(np.cumsum(chance), (np.arange(count) + random.random()) / count), len(points) - 1)
    chosen = points[at].copy()
    chosen[:, OF_FLUX] /= (count * chance[at])[:, None]
    return chosen


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
    points = arrays["points"]
    each = len(points) // max(1, int(notes["sets"]))
    nearby = np.zeros((len(points), NEARBY_COLUMNS), np.float32)
    nearby[:, :6], nearby[:, NEARBY_LIGHT], nearby[:, NEARBY_BOUNCES] = points[:, : NORMAL + 3], points[:, REFLECTED], points[:, BOUNCES]
    notes["radius"] = automatic_radius(points[:each], min(NEAR, max(1, each // 16)))
    return LightPaths(nearby, points, each, 1.0 / notes["radius"] ** 2 if each else 0.0, wanted.connections)


@kernel
def _sent(row, d):
    """What a stored point sends along unit `d`, per steradian of its flux: by its base, and by its gloss where that is wide."""
    normal = (float(row[SHADING_NORMAL]), float(row[SHADING_NORMAL + 1]), float(row[SHADING_NORMAL + 2]))
    x, y = frame(normal)
    wo, wi = to_local(x, y, normal, (float(row[FROM]), float(row[FROM + 1]), float(row[FROM + 2]))), to_local(x, y, normal, d)
    if wo[2] <= 0.0 or wi[2] <= 0.0:
        return BLACK
    look = look_of(row)
    base, gloss, _ = evaluate_parts(scattering_at(look, 0.0, 0.0, 0.0, wo[2]), wo, wi, 0.0)
    return scale(add(scale(base, row[BY_DIFFUSE]), scale(gloss, row[BY_SPECULAR] if is_rough(look) else 0.0)), 1.0 / wi[2])


@kernel
def _let_in(s, cos):
    """Share of light at cosine `cos` that the layers over a base let through, by its `Scattering`, over its average."""
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
        left, start = multiply(left, row3(scene.surfaces, surface_row_at(scene, hit), TINT)), at + scene.offset


@kernel
def _weigh(paths, first, spot, shift, sums):
    """Weigh points of the set that begins at `first` by the light that they would bring to a spot if they saw it: the sums so far go into `sums`
    [tries, 1], the last of which is returned."""
    each, nearby, total = paths.each, paths.nearby, 0.0
    p, n, surface, tries = spot.position, spot.normal, spot.geometric_normal, min(TRIES, paths.each)
    for k in range(tries):
        at = first + min(each - 1, int((k + shift) * each / tries))
        away = (nearby[at, 0] - p[0], nearby[at, 1] - p[1], nearby[at, 2] - p[2])
        here, there = dot(n, away), -(nearby[at, 3] * away[0] + nearby[at, 4] * away[1] + nearby[at, 5] * away[2])
        if here > 0.0 and there > 0.0 and dot(surface, away) > 0.0 and nearby[at, NEARBY_BOUNCES] <= spot.bounces:
            total += min(here * there / dot(away, away) ** 2, paths.bound) * nearby[at, NEARBY_LIGHT]
        sums[k, 0] = total
    return total


@called_kernel
def connected(scene, stack, paths, sums, sample, spot):
    """Irradiance at a spot, beneath the layers over its base, from light that landed elsewhere and goes on from there: an estimate by some
    connections where the camera sees the spot, by one elsewhere. `sums` [TRIES or more, 1 or more] is scratch memory."""
    p, n, each, found = spot.position, spot.normal, paths.each, BLACK
    if each == 0 or spot.bounces < 0:
        return BLACK
    first, tries, picks = (sample % (len(paths.points) // each)) * each, min(TRIES, each), paths.connections if spot.seen else 1
    shift, pick = sample_1d(spot.key, spot.number, spot.dimension), sample_1d(spot.key, spot.number, spot.dimension + PICK)
    total = _weigh(paths, first, spot, shift, sums)
    if total <= 0.0:
        return BLACK
    scattering, chosen = scattering_at(spot.look, 0.0, 0.0, 0.0, 1.0), 0
    for k in range(picks):
        while chosen < tries - 1 and sums[chosen, 0] <= (k + pick) / picks * total:
            chosen += 1
        share = (sums[chosen, 0] - (sums[chosen - 1, 0] if chosen > 0 else 0.0)) / total
        row = paths.points[first + min(each - 1, int((chosen + shift) * each / tries))]
        its = (float(row[NORMAL]), float(row[NORMAL + 1]), float(row[NORMAL + 2]))
        away = (row[POSITION] - p[0], row[POSITION + 1] - p[1], row[POSITION + 2] - p[2])
        term = dot(n, away) * -dot(its, away) / dot(away, away) ** 2
        origin = add(p, scale(spot.geometric_normal, scene.offset))
        straight = add(subtract(add(p, away), origin), scale(its, scene.offset))
        distance = math.sqrt(dot(straight, straight))
        d = scale(straight, 1.0 / max(distance, 1e-30))
        sent, left = _sent(row, scale(d, -1.0)), BLACK
        if luminance(sent) > 0.0 and share > 0.0:
            left = _open(scene, stack, spot.key, spot.number, spot.dimension + CUTOUT, origin, d, distance)
        if left[0] + left[1] + left[2] > 0.0:
            flux = (float(row[FLUX]), float(row[FLUX + 1]), float(row[FLUX + 2]))
            weight = min(term, paths.bound) / share * _let_in(scattering, max(0.0, dot(d, n)))
            found = add(found, multiply(multiply(left, sent), scale(flux, weight)))
    return scale(found, each / (tries * picks))


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
    sizes = np.full(len(shown), automatic_radius(points, NEAR) / 32.0)
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
    nothing=LightPaths(np.zeros((0, NEARBY_COLUMNS), np.float32), np.zeros((0, VERTEX_COLUMNS), np.float32), 0, 0.0, 1),
    makes=lambda wanted, recipe: (wanted.points, min(recipe.sampling.max, MOST_POINTS // (wanted.points or FEWEST))),
    depends=("geometry", "surfaces", "lights", "limits", "camera"),
    make=_make,
    serve=_serve,
    preview=_preview,
    says=lambda notes: f"From {notes['shot']:,} light paths, in {notes['sets']} sets; bounded within {notes['radius']:.2g} m.",
    points=lambda arrays: (len(arrays["points"]), "points"),
    holds={"points": Table(VERTEX_COLUMNS, places=3)},
    tells=("shot", "sets"),
    of_paths=True,
    pilots={"brute_force+bidirectional": 10.0},
    small={"points": 64, "on": "yes"},
)
