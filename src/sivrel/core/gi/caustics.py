"""Caustic photons: light from glass, mirrors and panes, where it falls on diffuse surfaces.

A separate, finer photon map (Jensen 1996, section 3), or several of them: each sample of a pixel uses the
next map, with a smaller radius than the last, so that blur and noise fall together (Knaus & Zwicker 2011, "Progressive
Photon Mapping: A Probabilistic Approach", equation 15). Paths then leave that light out.
"""

import math
from typing import Any, Literal, NamedTuple

import numpy as np

from ..errors import InputError
from ..kernel import called_kernel
from ..lights.emitters import BLACK
from ..settings import Group, setting
from ..surfaces.preview import evaluate_parts, is_wide, scattering_at
from ..vector import add, frame, multiply, scale, to_local
from .photon_map import as_tree
from .photons import CAME, CAUSTIC_COLUMNS, CAUSTICS, COLUMNS, FLUX, NORMAL, automatic_radius, shoot_photons
from .shielding import SERVED_COLUMNS, SHIELDED, is_hidden, with_shielding
from .tree import push_halves
from .way import Preview, Table, Way

ON = {"caustics.on": ["yes"]}
GATHERED, SMOOTHED = 20, 4
"""The automatic radius holds so many photons of a map, by the density of this many times as many."""
WIDEST = 5.0
"""The largest automatic radius, in those of most places."""
LEAST = 1e-6
"""The least radius of all, in metres."""
SITES = 20_000
"""Most photons at which the automatic radius is measured; the others take that of the nearest of these."""
FACING = 0.5
"""Least cosine between a photon's surface and the gathering one."""
LEAST_COSINE = 0.05
"""Light that falls flatter than this on the shading normal counts as if it did not."""
SERVED_CAME, REACH = SERVED_COLUMNS, SERVED_COLUMNS + CAUSTIC_COLUMNS - COLUMNS
SERVED_CAUSTICS = REACH + 1
"""Columns of a loaded photon: the direction that it comes from, after those of a `photon_map`; the radius there, in metres; and their number."""
MOST_BOUNCES = 16
FEW = 0.1
"""Share of the wanted photons below which a note says that few have landed."""


class CausticSettings(Group):
    on: Literal["no", "yes"] = setting(
        "no",
        "caustic photons",
        "Light through glass and off mirrors is found by photons of its own: {}.",
        "Paths find such light only by chance, as fireflies, and that of small lamps almost never. Photons find it, a little blurred.",
    )
    count: int = setting(
        100_000,
        "caustic photons",
        "{} of them land in each map,",
        "More give sharper caustics for the same grain; time grows in proportion.",
        needs=ON,
        ge=100,
        le=10_000_000,
    )
    passes: int = setting(
        8,
        "caustic maps",
        "in up to {} maps, one for each sample of a pixel in turn,",
        "At most one map per sample. Each has a smaller radius, so blur and grain fall together.",
        needs=ON,
        ge=1,
        le=256,
    )
    radius: float = setting(
        0.0,
        "caustic radius",
        "gathered within {} m in the first; 0 follows their density,",
        "A large radius blurs caustics, a small one leaves grain.",
        unit="m",
        needs=ON,
        ge=0.0,
        le=1e3,
    )
    visible: Literal["yes", "no"] = setting(
        "yes",
        "caustic visibility",
        "A caustic photon counts only where it is visible: {},",
        "Without, light leaks through thin walls, and lookups beside walls are cheaper.",
        needs=ON,
    )
    shrink: float = setting(
        0.667,
        "shrink",
        "shrinking by {} from map to map,",
        "At 1 the radius and the blur stay; near 0 the radius falls fastest, and grain hardly falls. Two thirds is the best rate for both.",
        needs=ON,
        ge=0.0,
        le=1.0,
    )
    min_radius: float = setting(
        0.001,
        "least radius",
        "down to {} m.",
        "A floor: sharper caustics would not be visible, less grain is.",
        unit="m",
        needs=ON,
        ge=0.0,
        le=1e3,
    )
    gloss: float = setting(
        0.15,
        "caustic gloss",
        "Gloss of a roughness of {} and more takes light from them, too.",
        "Paths find light that glass or mirrors throw on gloss only by chance. Narrower gloss would show single photons. At 1 only diffuse "
        "surfaces do.",
        needs=ON,
        ge=0.05,
        le=1.0,
    )


class Maps(NamedTuple):
    """points float32 [n, SERVED_CAUSTICS] and axes uint8 [n]: the maps in sequence, each a tree; starts int64 [maps + 1]; shrinks float64
    [maps]: the radius in each by that in the first; least, widest: limits of the radius, in metres; wide: roughness from which on gloss takes light
    from them."""

    points: np.ndarray
    axes: np.ndarray
    starts: np.ndarray
    shrinks: np.ndarray
    least: float
    widest: float
    wide: float


def shrinks_of(shrink: float, count: int) -> np.ndarray:
    """float64 [count]: the radius of each map by that of the first, so that the area falls by (i + shrink) / (i + 1) from the i-th to the next
    (Knaus & Zwicker 2011, equation 15)."""
    shrinks = [1.0]
    for i in range(1, count):
        shrinks.append(shrinks[-1] * math.sqrt((i + shrink) / (i + 1.0)))
    return np.array(shrinks)


def local_radii(points: np.ndarray, maps: int) -> np.ndarray:
    """float32 [n]: the radius in metres at each photon of some maps of equal size, by the density about it.

    It is measured on as many photons as one map has, drawn evenly from all maps, and on more of them than are gathered: light is overestimated by
    about 2 / k where the k photons that tell the radius are those that are gathered, as in gathering the nearest ones (Loftsgaarden & Quesenberry
    1965). That leaves 2.5 % for a single map, 0.3 % for eight."""
    from scipy.spatial import cKDTree  # 0.2 s, and only preparing needs it

    at = points[:, :3].astype(float)
    few, sites = at[::maps], at[:: max(1, len(at) // SITES)]
    distances, _ = cKDTree(few).query(sites, k=min(SMOOTHED * GATHERED + 1, len(few)))
    widest = WIDEST * automatic_radius(few, GATHERED)
    there = np.minimum(distances.reshape(len(sites), -1)[:, -1] / math.sqrt(SMOOTHED), widest).astype(np.float32)
    return there[cKDTree(sites).query(at)[1]]


def _maps(wanted: CausticSettings, recipe: Any) -> int:
    return min(wanted.passes, recipe.sampling.max)


def _make(job: Any, wanted: CausticSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    points, axes, starts, shot, count = [], [], [0], 0, _maps(wanted, job.recipe)
    for number in range(count if job.has_mirrors() else 0):

        def report(share: float, number: int = number) -> None:
            job.report((number + share) / count)

        photons, more = shoot_photons(
            job.arrays,
            wanted.count,
            MOST_BOUNCES,
            job.offset,
            seed=number + 1,
            threads=job.threads,
            task=job.task,
            mode=CAUSTICS,
            report=report,
            importance=job.importance(),
            wide=wanted.gloss,
        )
        tree, split = as_tree(photons)
        points.append(tree)
        axes.append(split)
        starts.append(starts[-1] + len(tree))
        shot += more
    if not points:
        return {"points": np.zeros((0, CAUSTIC_COLUMNS), np.float32), "axes": np.zeros(0, np.uint8), "starts": np.zeros(2, np.int64)}, {"shot": 0}
    notes = {"shot": shot, "fewest": int(np.diff(starts).min()), "wanted": wanted.count}
    return {"points": np.concatenate(points), "axes": np.concatenate(axes), "starts": np.array(starts)}, notes


def _join(frames: list[dict[str, np.ndarray]]) -> dict[str, np.ndarray]:
    """The maps of all frames one after the other: samples take turns with them."""
    before = np.cumsum([0, *(len(arrays["points"]) for arrays in frames)])
    starts = [arrays["starts"][:-1].astype(np.int64) + first for arrays, first in zip(frames, before, strict=False)]
    points, axes = (np.concatenate([arrays[name] for arrays in frames]) for name in ("points", "axes"))
    return {"points": points, "axes": axes, "starts": np.concatenate([*starts, before[-1:]])}


def _serve(job: Any, wanted: CausticSettings, arrays: dict[str, np.ndarray], notes: dict[str, Any]) -> Maps:
    if arrays["points"].shape[1] != CAUSTIC_COLUMNS:
        raise InputError("The locked caustic photons are of an older version of Sivrel; unlock or delete that cache, and they are made again.")
    photons, starts = arrays["points"], arrays["starts"].astype(np.int64)
    shrinks = shrinks_of(wanted.shrink, len(starts) - 1)
    by_density = not wanted.radius and len(photons) > len(shrinks)
    reach = local_radii(photons, len(shrinks)) if by_density else np.full(len(photons), wanted.radius or 1.0, np.float32)
    least = max(LEAST, min(wanted.min_radius, wanted.radius or math.inf))
    reach = np.maximum(reach, least)
    notes["radius"], notes["widest_radius"] = (float(np.quantile(reach, share)) if len(reach) else 1.0 for share in (0.1, 0.9))
    notes["last_radius"] = notes["radius"] * float(shrinks[-1])
    shielded = with_shielding(job, photons[:, :COLUMNS], reach, wanted.visible == "yes")
    points = np.concatenate([shielded, photons[:, CAME:], reach[:, None]], axis=1)
    return Maps(points, arrays["axes"], starts, shrinks, least, float(reach.max(initial=0.0)), wanted.gloss)


@called_kernel
def _reach_at(maps, near, low, high, p, n):
    """The radius in the first map, in metres, of the nearest photon of [low, high) that faces like a spot; 0 if none is within the widest."""
    reach, nearest2 = 0.0, maps.widest * maps.widest
    points, waiting = maps.points, 1
    near[0, 0], near[0, 1], near[0, 2] = low, high, 0.0
    while waiting > 0:
        waiting -= 1
        low, high = int(near[waiting, 0]), int(near[waiting, 1])
        if near[waiting, 2] > nearest2 or low >= high:
            continue
        middle = (low + high) // 2
        axis = maps.axes[middle]
        dx, dy, dz = p[0] - points[middle, 0], p[1] - points[middle, 1], p[2] - points[middle, 2]
        d2 = dx * dx + dy * dy + dz * dz
        if d2 < nearest2 and n[0] * points[middle, 3] + n[1] * points[middle, 4] + n[2] * points[middle, 5] > FACING:
            reach, nearest2 = float(points[middle, REACH]), d2
        push_halves(near, waiting, low, middle, high, dx if axis == 0 else dy if axis == 1 else dz)
        waiting += 2
    return reach


@called_kernel
def caustics_at(scene, stack, maps, near, sample, spot):
    """Light from the photons of one map that are visible from a spot, on surfaces that face like it: the irradiance, and the radiance that the
    spot's gloss sends towards the eye, black where that is not wide enough."""
    p, n = spot.position, spot.geometric_normal
    which = sample % max(1, len(maps.shrinks))
    irradiance, shine, glossy = BLACK, BLACK, is_wide(spot.look, maps.wide)
    x, y = frame(spot.normal)
    wo = to_local(x, y, spot.normal, spot.towards)
    scattering = scattering_at(spot.look, 0.0, 0.0, 0.0, wo[2])
    waiting, radius2 = 0, 0.0
    if len(maps.points) > 0:
        reach = _reach_at(maps, near, maps.starts[which], maps.starts[which + 1], p, n)
        radius2 = max(reach * maps.shrinks[which], maps.least) ** 2
        near[0, 0], near[0, 1] = maps.starts[which], maps.starts[which + 1]
        waiting = 1 if reach > 0.0 else 0
    points = maps.points
    while waiting > 0:
        waiting -= 1
        low, high = int(near[waiting, 0]), int(near[waiting, 1])
        if low >= high:
            continue
        middle = (low + high) // 2
        axis = maps.axes[middle]
        dx, dy, dz = p[0] - points[middle, 0], p[1] - points[middle, 1], p[2] - points[middle, 2]
        if dx * dx + dy * dy + dz * dz < radius2:
            facing = n[0] * points[middle, 3] + n[1] * points[middle, 4] + n[2] * points[middle, 5]
            if facing > FACING and not (points[middle, SHIELDED] > 0.0 and is_hidden(scene, stack, p, n, points[middle])):
                flux = (float(points[middle, FLUX]), float(points[middle, FLUX + 1]), float(points[middle, FLUX + 2]))
                irradiance = add(irradiance, flux)
                if glossy:
                    came = (float(points[middle, SERVED_CAME]), float(points[middle, SERVED_CAME + 1]), float(points[middle, SERVED_CAME + 2]))
                    wi = to_local(x, y, spot.normal, came)
                    _, gloss, _ = evaluate_parts(scattering, wo, wi, 0.0)
                    shine = add(shine, multiply(gloss, scale(flux, 1.0 / max(wi[2], LEAST_COSINE))))
        along = dx if axis == 0 else dy if axis == 1 else dz
        if along < 0.0 or along * along < radius2:
            near[waiting, 0], near[waiting, 1] = low, middle
            waiting += 1
        if along > 0.0 or along * along < radius2:
            near[waiting, 0], near[waiting, 1] = middle + 1, high
            waiting += 1
    per_area = 1.0 / (math.pi * max(radius2, 1e-30))
    return scale(irradiance, per_area), scale(shine, per_area)


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    photons = arrays["points"]
    shown = photons[:: max(1, len(photons) // 20_000)]
    radius = automatic_radius(photons, GATHERED)
    return Preview(shown[:, :3], np.full(len(shown), radius / 8.0), shown[:, FLUX : FLUX + 3], "dots", shown[:, NORMAL : NORMAL + 3])


def _says(notes: dict[str, Any]) -> str:
    narrow, wide = f"{notes['radius']:.2g}", f"{notes.get('widest_radius', notes['radius']):.2g}"  # stored notes may lack the latter
    to = "" if narrow == wide else f" to {wide}"
    radii = f"Gathered within {narrow}{to} m in the first map, {notes['last_radius'] / notes['radius']:.0%} of that in the last."
    landed, wanted = notes.get("fewest", 0), notes.get("wanted", 0)
    if landed >= FEW * wanted:
        return radii
    return (
        f"{radii} Of {wanted:,} photons only {landed:,} landed: little light reaches glass and mirrors. Remove those that are not visible or cast "
        "no caustics from the shot, or make them diffuse."
    )


WAY = Way(
    key="caustics",
    code=-1,
    title="caustic photons",
    seen=False,
    beyond=False,
    does="Finds light focused by glass and mirrors, in maps of its own that sharpen from sample to sample.",
    costs="Blurred at a large radius, grainy at a small one.",
    question="How caustics are found",
    settings=CausticSettings,
    kind="caustic photons",
    nothing=Maps(np.zeros((0, SERVED_CAUSTICS), np.float32), np.zeros(0, np.uint8), np.zeros(1, np.int64), np.zeros(0), 0.0, 0.0, 1.0),
    makes=lambda wanted, recipe: (wanted.count, _maps(wanted, recipe), wanted.gloss),
    depends=("geometry", "surfaces", "lights"),
    make=_make,
    join=_join,
    serve=_serve,
    preview=_preview,
    says=_says,
    points=lambda arrays: (len(arrays["points"]), "photons"),
    holds={
        "points": Table(CAUSTIC_COLUMNS, places=6),
        "axes": Table(0, whole=True, rows=lambda arrays: len(arrays["points"]), low=0, high=lambda arrays: 2),
        "starts": Table(0, whole=True, rows=lambda arrays: max(2, len(arrays["starts"])), low=0, high=lambda arrays: len(arrays["points"])),
    },
    pilots={"brute_force+caustics": 60.0},
    small={"count": 100, "on": "yes", "passes": 1},
)
