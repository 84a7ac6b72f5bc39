"""Progressive radiosity: the light of elements is shot round by round, until little is left unshot.

Cohen et al. 1988, "A Progressive Refinement Approach to Fast Radiosity Image Generation": light that was received and not yet shot is
shot, brightest elements first. Here a round shoots all of it by rays, their number by the flux of each element (Shirley 1991, "Radiosity
via Ray Tracing"; Neumann et al. 1995, "The Stochastic Ray Method for Radiosity"), without a table of form factors. Where elements
are split for their light, coarse ones continue to send and fine ones receive (Cohen et al. 1986, "An Efficient Radiosity Approach for
Realistic Image Synthesis"): one more round, not one more solution.
"""

import math
from typing import Any, NamedTuple

import numpy as np

from ..kernel import called_kernel
from ..numba_byref import by_reference
from ..scene.arrays import BY_BOUNCED, TINT
from ..scene.triangles import object_at, surface_row_at
from ..surfaces.hit_scattering import scatter, shading_met
from ..surfaces.next_surface import TINTED, next_surface
from ..surfaces.surface_at import WIDE, offset_point, surface_at
from ..trace.sampler import pixel_key, sample_1d, sample_2d
from ..trace.traverse import NO_HIT, make_stack
from ..vector import LUMINANCE, add, cross, frame, luminance, multiply, normalize, row3, scale, subtract, to_world
from .elements import ElementMesh, cluster, element_at
from .importance import Importance, importances
from .photons import BY_GLOSS, CAUSTIC, FLUX, KIND_OF_PHOTON, NORMAL, shoot_photons

SPOT, DIRECTION, LOBE, SCATTER, ROULETTE, CUTOUT, PER_POINT = 0, 1, 0, 1, 2, 16, 128
MOST_LANDINGS = 4
"""Most bounces of a ray off gloss and glass."""
ROUND_RAYS = 1 << 16
MOST_ROUNDS = 64
MOST_FALL = 0.95
GLOSS_PHOTONS = 50_000
LEAST_SAMPLES = 4
"""Least number of shadow rays from each part of a split element; otherwise a quarter as many as from the whole."""
FINER_SHOTS = 2
"""Factor on the rays of the round that lights finer elements, since no later round reduces its noise."""
LEAST_MATTERING = 0.05
"""Rays of unimportant places, relative to the most important ones."""


class Solution(NamedTuple):
    """For both sides of each patch in turn, [2 n, 3]: irradiance of bounced light and of direct light, and
    the albedo; landings [2 n]: number of rays that landed; areas [2 n] in square metres. patches int32 [elements]: the
    patch of each element; coming: share of their light that most places still lack; rounds, rays."""

    bounced: np.ndarray
    direct: np.ndarray
    reflected: np.ndarray
    landings: np.ndarray
    areas: np.ndarray
    patches: np.ndarray
    coming: float
    rounds: int
    rays: int


@called_kernel
def _shoot(scene_arrays, stack, split, child, element, patches, corners, sources, first, total, tints, key, offset, landed, fluxes):
    """Shoot a ray from each of `sources` int64 [n] (twice the element, plus one for its back), each with `total` times the tint of its
    patch; where it lands is stored in `landed` int64 (twice the patch, plus one for its back), its flux in `fluxes`. Returns the number of
    landings."""
    scene = by_reference(scene_arrays)
    count = 0
    for k in range(len(sources)):
        number = first + k
        e, back = sources[k] >> 1, sources[k] & 1
        a, b, c = row3(corners, e, 0), row3(corners, e, 3), row3(corners, e, 6)
        u, v = sample_2d(key, number, SPOT)
        root = math.sqrt(u)
        p = add(scale(a, 1.0 - root), add(scale(b, root * (1.0 - v)), scale(c, root * v)))
        n = normalize(cross(subtract(b, a), subtract(c, a)))
        if back != 0:
            n = scale(n, -1.0)
        x, y = frame(n)
        u, v = sample_2d(key, number, DIRECTION)
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        d = to_world(x, y, n, (r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - u))))
        origin = add(p, scale(n, offset))
        flux = scale(row3(tints, 2 * np.int64(patches[e]) + back, 0), total)
        start, layer, landings = 0.0, 0, 0
        for step in range(32):
            dimension = 16 + step * PER_POINT
            hit, distance, b1, b2, kind, layer = next_surface(scene, stack, BY_BOUNCED, key, number, dimension + CUTOUT, layer, origin, d, start)
            if hit == NO_HIT:
                break
            if kind == TINTED:
                flux = multiply(flux, row3(scene.surfaces, surface_row_at(scene, hit), TINT))
                start = distance + scene.offset
                continue
            point = surface_at(scene, hit, b1, b2, d, WIDE * distance)
            glass, shading = shading_met(scene, object_at(scene, hit), kind, point, d, 0.0, 0.0, False)
            if not glass and luminance(shading.scattering.diffuse) > 0.0:
                place, _, _ = element_at(split, child, element, hit, b1, b2)
                landed[count] = 2 * np.int64(patches[place]) + (0 if point.front else 1)
                for c2 in range(3):
                    fluxes[count, c2] = flux[c2]
                count += 1
                landings += 1
                if landings >= MOST_LANDINGS:
                    break
            # Diffuse light is shot in a later round; light off gloss and glass continues.
            u, v = sample_2d(key, number, dimension + SCATTER)
            sent = scatter(scene, shading, glass, sample_1d(key, number, dimension + LOBE), 1.0, u, v)
            if not sent.leaves:
                break
            before = luminance(flux)
            flux = multiply(flux, scale(sent.gloss, 1.0 / sent.density))
            survival = min(1.0, luminance(flux) / max(before, 1e-30))
            if sample_1d(key, number, dimension + ROULETTE) >= survival:
                break
            flux = scale(flux, 1.0 / survival)
            d = sent.direction
            origin, start, layer = offset_point(point, d, offset), 0.0, 0
    return count


class _Patches:
    """The patches of a mesh: their elements, areas, and points on them."""

    def __init__(self, mesh: ElementMesh, patches: np.ndarray, count: int, importance: Importance) -> None:
        self.mesh, self.of_element, self.count = mesh, patches, count
        self.element_areas, self.normals = mesh.areas(), mesh.normals()
        self.areas = np.repeat(np.bincount(patches, self.element_areas, count), 2)
        matters = importances(importance, mesh.corners.mean(axis=1))
        share = np.bincount(patches, matters * self.element_areas, count) / np.maximum(self.areas[::2], 1e-30)
        self.mattering = np.repeat(LEAST_MATTERING + np.sqrt(share), 2)
        self.order = np.argsort(patches, kind="stable")
        self.until = np.cumsum(self.element_areas[self.order])
        ends = np.searchsorted(patches[self.order], np.arange(count), side="right")
        self.ends = self.until[ends - 1]
        self.starts = np.concatenate([[0.0], self.ends[:-1]])

    def points(self, random: np.random.Generator, of: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """A point on each of some patches `of` [n], and the normal of its front there, float64 [n, 3]."""
        at = self.starts[of] + (self.ends - self.starts)[of] * random.random(len(of))
        e = self.order[np.minimum(np.searchsorted(self.until, at), len(self.order) - 1)]
        root, v = np.sqrt(random.random(len(of))), random.random(len(of))
        weights = np.stack([1.0 - root, root * (1.0 - v), root * v], axis=1)
        return np.einsum("ek,ekc->ec", weights, self.mesh.corners[e]), self.normals[e]


def solve(job: Any, mesh: ElementMesh, size: float, coarse_nodes: int, gloss: np.ndarray, wanted: Any, tell: Any) -> Solution:
    """Solve for the light on a mesh, until the share `wanted.converged` has been distributed; elements that are small for
    `size` metres are merged into patches (see cluster); gloss: see gloss_photons;
    `tell(share)` receives progress."""
    patches = _Patches(mesh, *cluster(job.arrays, mesh, size, coarse_nodes), job.importance())
    areas = patches.areas
    direct, reflected = _direct_light(job, patches, wanted.samples, np.arange(patches.count))
    landings, bounced = np.zeros(len(areas)), np.zeros((len(areas), 3))
    _add_photons(gloss, patches, bounced)
    # Unshot flux of each side: received flux times albedo.
    unshot = (direct + bounced) * reflected * areas[:, None]
    rounds, number, left, last, far = 0, 0, 1.0 if unshot.any() else 0.0, 1.0, 0.0
    while left > 1.0 - wanted.converged and rounds < MOST_ROUNDS:
        count = max(ROUND_RAYS, int(wanted.shots * math.sqrt(left)))
        received, landed = _round(job, patches, unshot, count, number)
        arrived = received / np.maximum(areas, 1e-12)[:, None]
        bounced += arrived
        landings += landed
        unshot = received * reflected
        share = share_arrived(arrived @ LUMINANCE, (bounced + direct) @ LUMINANCE, areas)
        # Later rounds are expected to fall like the last two.
        fall = min(MOST_FALL, share / last) if rounds else MOST_FALL
        left, last = share * fall / (1.0 - fall), share
        rounds, number = rounds + 1, number + count
        far = max(far, _share_done(left, wanted.converged))
        tell(far)
    return Solution(bounced, direct, reflected, landings, areas, patches.of_element, left, rounds, number)


def _share_done(left: float, converged: float) -> float:
    """Progress of a solution, from 0 to 1, while the share `left` of the light is missing: that falls by about the same factor each round.
    The missing light may exceed the present light at first."""
    return min(1.0, max(0.0, math.log(max(left, 1e-9)) / math.log(max(1.0 - converged, 1e-9))))


def solve_finer(
    job: Any, mesh: ElementMesh, size: float, coarse_nodes: int, parents: np.ndarray, before: Solution, gloss: np.ndarray, wanted: Any,
    times: int = FINER_SHOTS,
) -> Solution:  # fmt: skip
    """The light on a mesh whose elements are those of a solution or parts of them (`parents` int64 [elements]): the solved light
    is shot once more by `times` as many rays as in a round, and lands on the finer elements. New parts get direct light
    of their own."""
    patches = _Patches(mesh, *cluster(job.arrays, mesh, size, coarse_nodes), job.importance())
    whole = np.bincount(before.patches[parents], minlength=len(before.areas) // 2)
    split = np.bincount(patches.of_element)[patches.of_element] < whole[before.patches[parents]]
    # Any element represents its patch: whole elements had one light, and parts inherit it.
    element = np.zeros(patches.count, np.int64)
    element[patches.of_element] = np.arange(len(mesh.triangle))
    rows = 2 * np.repeat(before.patches[parents[element]].astype(np.int64), 2) + np.tile([0, 1], patches.count)
    direct, reflected, areas = before.direct[rows], before.reflected[rows], patches.areas
    new = np.flatnonzero(split[element])
    sides = np.stack([2 * new, 2 * new + 1], axis=1).reshape(-1)
    direct[sides], reflected[sides] = _direct_light(job, patches, max(LEAST_SAMPLES, wanted.samples // 4), new)
    unshot = (direct + before.bounced[rows]) * reflected * areas[:, None]
    bounced = np.zeros_like(direct)
    _add_photons(gloss, patches, bounced)
    count = times * max(ROUND_RAYS, wanted.shots)
    received, landings = _round(job, patches, unshot, count, before.rays)
    bounced += received / np.maximum(areas, 1e-12)[:, None]
    return Solution(bounced, direct, reflected, landings, areas, patches.of_element, before.coming, before.rounds + 1, before.rays + count)


def chance_of(solution: Solution) -> float:
    """Relative noise of an element's bounced light: the root mean square over all lit area, from the number of
    rays that landed on each."""
    known = solution.landings > 0.0
    if not known.any():
        return 1.0
    return float(np.sqrt((solution.areas[known] / solution.landings[known]).sum() / solution.areas[known].sum()))


def share_arrived(arrived: np.ndarray, whole: np.ndarray, areas: np.ndarray) -> float:
    """Share of their light that the last round brought to places [n]: the largest share in nine tenths of the lit area.
    (The unshot power that Cohen et al. use says nothing about a dim room beside a sunlit yard.)"""
    lit = whole > 0.0
    if not lit.any():
        return 0.0
    share = arrived[lit] / whole[lit]
    order = np.argsort(share)
    until = np.cumsum(areas[lit][order])
    return float(share[order][np.searchsorted(until, 0.9 * until[-1])])


def _direct_light(job: Any, patches: _Patches, samples: int, of: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Direct irradiance [2 n, 3] on both sides of some patches `of` [n], averaged over some points, and the
    albedo."""
    random = np.random.default_rng([job.frame.seed, 7])
    light, reflected = np.zeros((2 * len(of), 3)), np.zeros((2 * len(of), 3))
    for _ in range(samples):
        p, n = patches.points(random, of)
        sent, share = job.look_at(np.repeat(p, 2, axis=0), np.stack([n, -n], axis=1).reshape(-1, 3), "off")
        light += sent * math.pi
        reflected += share
    light, reflected = light / samples, reflected / samples
    return np.where(reflected > 1e-3, light / np.maximum(reflected, 1e-3), 0.0), reflected


def gloss_photons(job: Any, wanted: Any) -> np.ndarray:
    """Photons off glass, mirrors and gloss straight from the lights; without caustics if these have photons of their own."""
    photons, _ = shoot_photons(
        job.arrays, min(GLOSS_PHOTONS, wanted.shots), 16, job.offset, threads=job.threads, task=job.task,
        report=lambda _: job.report(job.at), mode=BY_GLOSS,
        importance=job.importance(),
    )  # fmt: skip
    return photons[photons[:, KIND_OF_PHOTON] != CAUSTIC] if job.recipe.of("caustics").on == "yes" else photons


def _add_photons(photons: np.ndarray, patches: _Patches, bounced: np.ndarray) -> None:
    """Add the light of photons to the patches where they landed."""
    from scipy.spatial import cKDTree  # 0.2 s, and only preparing needs it

    if not len(photons):
        return
    near = min(8, len(patches.of_element))
    _, close = cKDTree(patches.mesh.corners.mean(axis=1)).query(photons[:, :3], k=near)
    close = close.reshape(len(photons), near)
    facing = np.einsum("pkc,pc->pk", patches.normals[close], photons[:, NORMAL : NORMAL + 3])
    best, at = np.abs(facing).argmax(axis=1), np.arange(len(photons))
    place = 2 * patches.of_element[close[at, best]].astype(np.int64) + (facing[at, best] < 0.0)
    for c in range(3):
        bounced[:, c] += np.bincount(place, photons[:, FLUX + c], len(bounced)) / np.maximum(patches.areas, 1e-12)


def _round(job: Any, patches: _Patches, unshot: np.ndarray, count: int, first: int) -> tuple[np.ndarray, np.ndarray]:
    """Shoot all unshot flux by `count` rays: flux received [2 n, 3], and number of rays that landed [2 n]."""
    mesh, weights = patches.mesh, unshot @ LUMINANCE
    density = weights / np.maximum(patches.areas, 1e-30)
    rows = np.stack([2 * patches.of_element.astype(np.int64), 2 * patches.of_element.astype(np.int64) + 1], axis=1)
    # Rays by the root of the flux and by importance: a dim room beside a sunlit yard gets its share.
    chance = np.sqrt(density) * patches.mattering
    until = np.cumsum(chance[rows] * patches.element_areas[:, None])
    sources = np.minimum(np.searchsorted(until, (np.arange(count) + 0.5) / count * until[-1]), len(until) - 1).astype(np.int64)
    tints = np.ascontiguousarray(unshot / np.maximum(patches.areas * chance, 1e-30)[:, None])
    total, key = until[-1] / count, pixel_key(job.frame.seed, 0x7FFFFF10)
    corners = np.ascontiguousarray(mesh.corners.reshape(-1, 9))
    received, landed_on = np.zeros_like(unshot), np.zeros(len(unshot))

    def shoot(start: int) -> tuple[np.ndarray, np.ndarray]:
        part = sources[start : start + ROUND_RAYS]
        landed, fluxes = np.empty(len(part) * MOST_LANDINGS, np.int64), np.empty((len(part) * MOST_LANDINGS, 3))
        k = _shoot(
            job.arrays, make_stack(), mesh.split, mesh.child, mesh.element, patches.of_element, corners, part, first + start,
            total, tints, key, job.offset, landed, fluxes,
        )  # fmt: skip
        return landed[:k].copy(), fluxes[:k].copy()

    for landed, fluxes in job.in_order(shoot, range(0, count, ROUND_RAYS)):
        landed_on += np.bincount(landed, minlength=len(unshot))
        for c in range(3):
            received[:, c] += np.bincount(landed, fluxes[:, c], len(unshot))
    return received, landed_on
