"""The photon map: bounced light from photons shot from the lights, stored where they landed.

Jensen 1996, "Global Illumination using Photon Maps": a balanced tree of photons (section 3.1) and radiance from the nearest of
them (equation 8). At visible points direct light is found by aiming, so only photons that have scattered count there.
Beyond, all of them do: the irradiance is precomputed at every few photons, and a path takes that of the nearest (Christensen
1999, "Faster Photon Map Global Illumination"), so no light is aimed at from there.
"""

import math
from typing import Any, Literal, NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..numba_byref import by_reference
from ..settings import Group, setting
from ..trace.traverse import make_stack
from ..vector import LUMINANCE, scale
from .photons import CAUSTIC, COLUMNS, DIRECT, FLUX, KIND_OF_PHOTON, NORMAL, automatic_radius, shoot_photons
from .shielding import SERVED_COLUMNS, SHIELDED, is_hidden, with_shielding
from .suspect_photons import suspects
from .tree import DEEPEST, push_halves, sort_into_tree
from .way import INDIRECT, NOT_SERVED, WHOLE, WORST, Preview, Table, Way

PHOTON_MAP = 3
MOST_GATHERED = 512
SITE_EVERY, MOST_SITES = 4, 200_000
"""One photon in this many gets a precomputed irradiance, for lookups beyond what is seen."""
PHOTONS = {"gi.seen|gi.beyond": ["photon_map"], "gi.seen": ["photon_map", "brute_force", "irradiance_cache"]}
SEEN_BY_PHOTONS = {"gi.seen": ["photon_map"]}


class PhotonMapSettings(Group):
    count: int = setting(
        200_000,
        "photons",
        "At least {} photons land in the scene",
        "More allow a smaller radius: finer shadows of bounced light for the same grain. Time and memory grow in proportion.",
        needs=PHOTONS,
        ge=100,
        le=20_000_000,
    )
    bounces: int = setting(
        8,
        "photon bounces",
        "after up to {} bounces;",
        "Deep bounces cost photons next to nothing.",
        needs=PHOTONS,
        ge=1,
        le=64,
    )
    gather: int = setting(
        80,
        "photons gathered",
        "{} of them are gathered at a point,",
        "More give smoother light with blurred shadows; fewer give blotches.",
        needs=PHOTONS,
        ge=2,
        le=MOST_GATHERED,
    )
    radius: float = setting(
        0.0,
        "gather radius",
        "within {} m; 0 follows their density.",
        "Too small leaves blotches and black spots, too large darkens corners and leaks through thin walls.",
        unit="m",
        needs=PHOTONS,
        ge=0.0,
        le=1e4,
    )
    normal_tolerance: float = setting(
        60.0,
        "normal tolerance",
        "Photons on surfaces turned by more than {}° do not count.",
        "Keeps light from crossing an edge.",
        unit="°",
        needs=PHOTONS,
        ge=1.0,
        le=180.0,
    )
    final_gather_rays: int = setting(
        8,
        "gather rays",
        "{} final gather rays; 0 looks photons up directly.",
        "Rays from each visible point look up photons where they land: blotches average out, at the price of these rays.",
        needs=SEEN_BY_PHOTONS,
        ge=0,
        le=1024,
    )
    corner_distance: float = setting(
        0.1,
        "corner distance",
        "Closer than {} m paths are traced on.",
        "Near corners the radius reaches round the edge: there the path goes on by brute force.",
        unit="m",
        needs=PHOTONS,
        ge=0.0,
        le=1e4,
    )
    visible: Literal["yes", "no"] = setting(
        "yes",
        "visibility",
        "A photon counts only where it is visible: {}.",
        "Without, light leaks through thin walls, and lookups beside walls are cheaper.",
        needs=PHOTONS,
    )
    roughness_limit: float = setting(
        0.0,
        "roughness limit",
        "Surfaces smoother than {} are traced, not looked up.",
        "Photons hold no gloss: raise it where shiny surfaces show blotches, at the price of grain there.",
        needs=PHOTONS,
        ge=0.0,
        le=1.0,
    )
    stop_error: float = setting(
        0.0,
        "stop error",
        "Shooting stops sooner when {} % of error is left; 0 shoots all of them.",
        "The median error of the photons within the gather radius. It needs a fixed radius: an automatic one shrinks as photons arrive.",
        unit="%",
        needs={**PHOTONS, "photon_map.radius": ["!0"]},
        ge=0.0,
        le=100.0,
    )


class Photons(NamedTuple):
    """points float32 [n, SERVED_COLUMNS], photons that have scattered, as a tree; axes uint8 [n]. sites float32 [m, SERVED_COLUMNS]:
    irradiance by all photons, in place of the flux, at some of them, as a tree; site_axes uint8 [m]. radius, corner_distance in metres."""

    points: np.ndarray
    axes: np.ndarray
    sites: np.ndarray
    site_axes: np.ndarray
    radius: float
    gathered: int
    cos_tolerance: float
    corner_distance: float
    roughness_limit: float


NO_PHOTONS = np.zeros((0, SERVED_COLUMNS), np.float32)


def as_tree(photons: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Photons in the order of a tree, and its axes."""
    order, axes = sort_into_tree(photons)
    return np.ascontiguousarray(photons[order]), axes


def _make(job: Any, wanted: PhotonMapSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    enough = None
    if wanted.stop_error > 0.0 and wanted.radius > 0.0:

        def enough(photons: np.ndarray) -> bool:
            return error_within(photons, wanted.radius) <= wanted.stop_error / 100.0

    photons, shot = shoot_photons(
        job.arrays, wanted.count, wanted.bounces, job.offset, threads=job.threads, task=job.task, report=job.report, enough=enough,
        importance=job.importance(),
    )  # fmt: skip
    return {"photons": photons}, {"shot": shot}


def error_within(photons: np.ndarray, radius: float, probes: int = 256) -> float:
    """Median over points of the relative standard error of the light of photons within `radius` metres: the root of the sum of their
    squared fluxes over their sum (photons land as a Poisson process)."""
    from scipy.spatial import cKDTree  # 0.2 s, and only preparing needs it

    scattered = photons[photons[:, KIND_OF_PHOTON] != DIRECT]
    if len(scattered) < 2:
        return 1.0
    at = scattered[:: max(1, len(scattered) // probes), :3].astype(float)
    flux = scattered[:, FLUX : FLUX + 3].astype(float) @ LUMINANCE
    near = cKDTree(scattered[:, :3].astype(float)).query_ball_point(at, radius)
    return float(np.median([math.sqrt((flux[k] ** 2).sum()) / max(flux[k].sum(), 1e-30) for k in near]))


def _says(notes: dict[str, Any]) -> str:
    sentence = f"Gathered within {notes['radius']:.3g} m."
    if notes.get("gathered"):
        chance = notes["gathered"] ** -0.5 * 100.0
        sentence += f" The noise of the gathered light is about {chance:.0f} %, which is not part of the picture's noise."
    return sentence


def _serve(job: Any, wanted: PhotonMapSettings, arrays: dict[str, np.ndarray], notes: dict[str, Any]) -> Photons:
    photons = arrays["photons"]
    if job.recipe.of("caustics").on == "yes":
        photons = photons[photons[:, KIND_OF_PHOTON] != CAUSTIC]
    scattered = photons[photons[:, KIND_OF_PHOTON] != DIRECT]
    radius = wanted.radius or automatic_radius(scattered, wanted.gather)
    cos = math.cos(math.radians(wanted.normal_tolerance))
    notes["radius"], notes["gathered"] = radius, wanted.gather
    served = with_shielding(job, photons, radius, wanted.visible == "yes")
    points, axes = as_tree(served[photons[:, KIND_OF_PHOTON] != DIRECT])
    sites, site_axes = (NO_PHOTONS, axes[:0])
    if job.looked_up_beyond("photon_map"):
        every, every_axes = as_tree(served)
        sites = served[:: max(SITE_EVERY, len(photons) // MOST_SITES)].copy()
        job.shared_out(
            lambda part: _gather_at(
                job.arrays, make_stack(), np.empty((MOST_GATHERED + 2 * DEEPEST, 4)), part, every, every_axes, wanted.gather, radius, cos
            ),
            sites,
        )  # fmt: skip
        sites, site_axes = as_tree(sites)
    return Photons(points, axes, sites, site_axes, radius, wanted.gather, cos, wanted.corner_distance, wanted.roughness_limit)


def _join(frames: list[dict[str, np.ndarray]]) -> dict[str, np.ndarray]:
    parts = [arrays["photons"].copy() for arrays in frames]
    for photons in parts:
        photons[:, FLUX : FLUX + 3] /= len(parts)
    return {"photons": np.concatenate(parts)}


@called_kernel
def _gather_at(scene_arrays, stack, near, sites, points, axes, gathered, radius, cos_tolerance):
    """Replace the flux of each site by its irradiance."""
    scene = by_reference(scene_arrays)
    for k in range(len(sites)):
        p = (float(sites[k, 0]), float(sites[k, 1]), float(sites[k, 2]))
        n = (float(sites[k, 3]), float(sites[k, 4]), float(sites[k, 5]))
        light = irradiance_at(scene, stack, points, axes, near, p, n, gathered, radius, cos_tolerance)
        for c in range(3):
            sites[k, FLUX + c] = light[c]


@kernel
def _lookup(prepared, scene, memory, spot):
    found, light = NOT_SERVED, (0.0, 0.0, 0.0)
    if spot.distance >= prepared.corner_distance and spot.look.roughness >= prepared.roughness_limit:
        p, n = spot.position, spot.geometric_normal
        site = -1
        if not spot.seen and len(prepared.sites) > 0:
            site = nearest_photon(scene, memory.stack, prepared.sites, prepared.site_axes, memory.near, p, n, prepared.radius, prepared.cos_tolerance)
        if site >= 0:
            at = prepared.sites[site]
            light, found = (float(at[FLUX]), float(at[FLUX + 1]), float(at[FLUX + 2])), WHOLE
        elif spot.seen or len(prepared.sites) == 0:
            light = irradiance_at(
                scene, memory.stack, prepared.points, prepared.axes, memory.near, p, n, prepared.gathered, prepared.radius,
                prepared.cos_tolerance,
            )  # fmt: skip
            found = INDIRECT
    return light, found


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    photons = arrays["photons"]
    photons = photons[photons[:, KIND_OF_PHOTON] != DIRECT]
    shown = photons[:: max(1, len(photons) // 20_000)]
    radius = automatic_radius(photons, 80)
    return Preview(shown[:, :3], np.full(len(shown), radius / 8.0), shown[:, FLUX : FLUX + 3], "dots", shown[:, NORMAL : NORMAL + 3])


WAY = Way(
    key="photon_map",
    code=PHOTON_MAP,
    title="a photon map",
    seen=True,
    beyond=True,
    does="Gathers photons that were shot from the lights once for all pixels: late bounces and caustics at no extra cost.",
    costs="Blotches where photons are few, dark corners and leaks where the radius is large; glass and gloss are still traced.",
    question="How photons serve",
    settings=PhotonMapSettings,
    kind="photon map",
    nothing=Photons(NO_PHOTONS, np.zeros(0, np.uint8), NO_PHOTONS, np.zeros(0, np.uint8), 1.0, 1, 0.0, 0.0, 0.0),
    makes=lambda wanted, recipe: (wanted.count, wanted.bounces, (wanted.stop_error, wanted.radius) if wanted.stop_error else 0),
    depends=("geometry", "surfaces", "lights"),
    make=_make,
    join=_join,
    serve=_serve,
    lookup=_lookup,
    preview=_preview,
    says=_says,
    points=lambda arrays: (len(arrays["photons"]), "photons"),
    holds={"photons": Table(COLUMNS, places=6)},
    interpolates=True,
    suspects=suspects,
    distances=lambda arrays, notes: {"photon_map.radius": float(notes["radius"])} if notes.get("radius") else {},
    width=lambda notes: ("photons are gathered {} pixels wide", 2.0 * float(notes["radius"])) if notes.get("radius") else None,
    chance=lambda own, recipe: WORST / own.gather**0.5,
    chance_beyond=0.08,
    pilots={"photon_map": 8.0},
    small={"count": 100},
)


@called_kernel
def irradiance_at(scene, stack, points, axes, near, p, n, gathered, radius, cos_tolerance):
    """Irradiance from the `gathered` nearest photons within `radius` metres of `p`, visible from there, on surfaces that face like `n`.

    `near` is working memory float64 [MOST_GATHERED + 2 * DEEPEST, 4]. Of a full gather the farthest photon only sets the radius, which makes the
    estimate unbiased for constant density (Jensen 1996 counts it too).
    """
    count, found, reach2 = len(points), 0, radius * radius
    waiting = 0
    if count > 0:
        near[MOST_GATHERED, 0], near[MOST_GATHERED, 1], near[MOST_GATHERED, 2] = 0.0, count, 0.0
        waiting = 1
    while waiting > 0:
        waiting -= 1
        low, high = int(near[MOST_GATHERED + waiting, 0]), int(near[MOST_GATHERED + waiting, 1])
        if near[MOST_GATHERED + waiting, 2] > reach2 or low >= high:
            continue
        middle = (low + high) // 2
        axis = axes[middle]
        dx, dy, dz = p[0] - points[middle, 0], p[1] - points[middle, 1], p[2] - points[middle, 2]
        d2 = dx * dx + dy * dy + dz * dz
        facing = n[0] * points[middle, 3] + n[1] * points[middle, 4] + n[2] * points[middle, 5]
        if d2 < reach2 and facing > cos_tolerance and not (points[middle, SHIELDED] > 0.0 and is_hidden(scene, stack, p, n, points[middle])):
            # A heap with the farthest on top: near[k] holds squared distance and number.
            k = found
            if found < gathered:
                found += 1
            else:
                k = _sift_hole_down(near, found)
            while k > 0 and near[(k - 1) // 2, 0] < d2:
                near[k, 0], near[k, 1] = near[(k - 1) // 2, 0], near[(k - 1) // 2, 1]
                k = (k - 1) // 2
            near[k, 0], near[k, 1] = d2, middle
            if found == gathered:
                reach2 = near[0, 0]
        along = dx if axis == 0 else dy if axis == 1 else dz
        push_halves(near, MOST_GATHERED + waiting, low, middle, high, along)
        waiting += 2
    full = found == gathered
    r = g = b = 0.0
    for k in range(1 if full else 0, found):
        m = int(near[k, 1])
        r += np.float64(points[m, 6])
        g += np.float64(points[m, 7])
        b += np.float64(points[m, 8])
    return scale((r, g, b), 1.0 / (math.pi * reach2))


@called_kernel
def _sift_hole_down(near, found):
    """Remove the top of the heap, move the gap down to a leaf, and return its index."""
    k = 0
    while True:
        child = 2 * k + 1
        if child >= found:
            return k
        if child + 1 < found and near[child + 1, 0] > near[child, 0]:
            child += 1
        near[k, 0], near[k, 1] = near[child, 0], near[child, 1]
        k = child


@called_kernel
def nearest_photon(scene, stack, points, axes, near, p, n, radius, cos_tolerance):
    """The nearest photon within `radius` metres of `p`, visible from there, on a surface that faces like `n`; -1 for none."""
    best, reach2 = -1, radius * radius
    waiting = 0
    if len(points) > 0:
        near[0, 0], near[0, 1], near[0, 2] = 0.0, len(points), 0.0
        waiting = 1
    while waiting > 0:
        waiting -= 1
        low, high = int(near[waiting, 0]), int(near[waiting, 1])
        if near[waiting, 2] > reach2 or low >= high:
            continue
        middle = (low + high) // 2
        axis = axes[middle]
        dx, dy, dz = p[0] - points[middle, 0], p[1] - points[middle, 1], p[2] - points[middle, 2]
        d2 = dx * dx + dy * dy + dz * dz
        facing = n[0] * points[middle, 3] + n[1] * points[middle, 4] + n[2] * points[middle, 5]
        if d2 < reach2 and facing > cos_tolerance and not (points[middle, SHIELDED] > 0.0 and is_hidden(scene, stack, p, n, points[middle])):
            best, reach2 = middle, d2
        along = dx if axis == 0 else dy if axis == 1 else dz
        push_halves(near, waiting, low, middle, high, along)
        waiting += 2
    return best
