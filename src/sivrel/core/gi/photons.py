"""Shoot photons: from every light by its power, through the scene, stored where they land.

Jensen 1996, section 3; after a pilot, more of them go where light matters (see importance.py). Photons are
numbered, and each depends on (seed, light, number) alone, so the map is the same
on any number of threads. Rounds of a fixed number are shot until enough have landed.
"""

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ..kernel import called_kernel, kernel
from ..lights.direct import factors
from ..lights.emission import emit, emit_from_triangle
from ..lights.emitters import BLACK
from ..lights.mesh_emitter import areas_of, glow_of
from ..lights.targets import NO_TARGETS, targets_of
from ..numba_byref import by_reference
from ..scene.arrays import (
    ABSORPTION,
    BASE_MAP,
    BY_BOUNCED,
    DIFFUSE,
    FLAGS,
    GLOWS,
    IOR,
    KIND,
    LIT,
    MESH,
    METALLIC,
    METALLIC_MAP,
    OPACITY,
    OPACITY_MAP,
    PART_LIGHT,
    SEE_THROUGH,
    SHADOWING,
    SPECULAR,
    TINT,
    SceneArrays,
    is_linked,
)
from ..scene.arrays import BASE as BASE_COLOUR
from ..scene.triangles import around, bounds, object_at, of_parts, standing_objects, stored_surfaces, surface_row_at
from ..shadows.traced import stops
from ..spread import spread
from ..surfaces.hit_scattering import scatter, shading_met
from ..surfaces.next_surface import OPAQUE, TINTED, next_surface
from ..surfaces.preview import BASE, Look, is_rough, is_wide
from ..surfaces.surface_at import FROM_LIGHT, WIDE, offset_point, surface_at
from ..task import Task
from ..trace.sampler import hash32, pixel_key, sample_1d, sample_2d
from ..trace.traverse import NO_HIT, make_stack
from ..vector import add, dot, luminance, multiply, row3, scale, to_world
from .importance import ANYWHERE, Importance, importance_at

# Columns of a photon: where it landed, the normal of the surface there, its flux, and its history.
POSITION, NORMAL, FLUX, KIND_OF_PHOTON, COLUMNS = 0, 3, 6, 9, 10
# Of a caustic photon, also the direction that it comes from.
CAME, CAUSTIC_COLUMNS = 10, 13
# Columns of one that is kept to be connected to: also how often a base has scattered it before; the normal by which it is shaded; the direction that
# it comes from; the part of its flux that goes on (luminance); the `Look` there; and its light's factors for base and gloss.
BOUNCES, SHADING_NORMAL, FROM, REFLECTED, LOOK, BY_DIFFUSE, BY_SPECULAR, VERTEX_COLUMNS = 9, 10, 13, 16, 17, 29, 30, 31
EVERYTHING, CAUSTICS, BY_GLOSS, VERTICES = 0, 1, 2, 3
DIRECT, CAUSTIC, BOUNCED = 0, 1, 2
"""The history of a photon: straight from its light; only refracted or mirrored, by surfaces without a diffuse part; scattered."""
ROUND, LEAST_ROUNDS, MOST_ROUNDS = 16384, 1, 1024
PLACES, TURNS = 16, 3
STRATA = PLACES**2 * TURNS**2
"""Strata of a light's four random numbers: this many per side, for position and for direction."""
PILOTS, BY_POWER, LEAST_EACH = 1 << 18, 0.3, 0.03
WHOLLY_METAL = 0.99
MOST_A_LANDING = 64
"""Most photons shot for each that is wanted: where hardly any land, more would not help."""
PLACE, DIRECTION, CHOICE, LOBE, SCATTER, ROULETTE, CUTOUT, PER_POINT = 0, 1, 2, 0, 1, 2, 16, 128
MOST_POINTS = 64
"""Most surfaces that a photon meets."""
GLOWING = -1
"""Number of the light that represents all glowing triangles, aimed at or not."""
RADIUS_FACTOR, PROBES = 1.5, 512


@kernel
def _keep_vertex(row, shading, flux, by_base, by_diffuse, by_specular):
    """Store a photon that lands, to be connected to; the last two are factors of its light for base and gloss."""
    point, scattering, look = shading.point, shading.scattering, shading.point.look
    came = to_world(shading.x, shading.y, point.normal, shading.wo)
    flux = scale(flux, _turned(shading))
    for c in range(3):
        row[POSITION + c], row[NORMAL + c], row[SHADING_NORMAL + c] = point.position[c], point.geometric_normal[c], point.normal[c]
        row[FLUX + c], row[FROM + c] = flux[c], came[c]
        row[LOOK + c], row[LOOK + 7 + c] = look.base[c], look.specular[c]
    reflects = scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o * by_diffuse)
    if is_rough(look):
        reflects = add(reflects, scale(add(scattering.f0, scale(scattering.multiscatter, scattering.escape_o)), by_specular))
    row[BOUNCES], row[REFLECTED] = by_base, luminance(multiply(flux, reflects))
    row[LOOK + 3], row[LOOK + 4], row[LOOK + 5], row[LOOK + 6] = look.roughness, look.metallic, look.ior, 1.0 if look.by_specular else 0.0
    row[LOOK + 10], row[LOOK + 11] = look.coat, look.coat_roughness
    row[BY_DIFFUSE], row[BY_SPECULAR] = by_diffuse, by_specular


@kernel
def look_of(row):
    """The `Look` of a stored photon's surface."""
    at = LOOK
    return Look(
        (float(row[at]), float(row[at + 1]), float(row[at + 2])), float(row[at + 3]), float(row[at + 4]), float(row[at + 5]), row[at + 6] > 0.0,
        (float(row[at + 7]), float(row[at + 8]), float(row[at + 9])), float(row[at + 10]), float(row[at + 11]),
    )  # fmt: skip


@kernel
def _turned(shading):
    """Cosine of the light's direction with the shading normal over that with the geometric one: photons count by the area of triangles, while
    surfaces are shaded by interpolated normals (Veach 1997, section 5.3)."""
    n, wo = shading.point.geometric_normal, shading.wo
    crossing = wo[0] * dot(shading.x, n) + wo[1] * dot(shading.y, n) + wo[2] * dot(shading.point.normal, n)
    return max(0.0, wo[2]) / max(1e-3, crossing)


@called_kernel
def _shoot(scene_arrays, stack, light, targets, first, strata, weights, key, centre, radius, offset, bounces, refractions, mode, triangles, densities,
           until, importance, wide, kept, fluxes, mattering):  # fmt: skip
    """Shoot photons of a light, numbered from `first` on: each from its stratum of the light's four random numbers, int64 [count], with the given
    share of its flux, float64 [count].

    `mode` is EVERYTHING; or VERTICES, the same with VERTEX_COLUMNS; or CAUSTICS, with CAUSTIC_COLUMNS, where none is followed past the first
    diffuse surface, and those that land on gloss of at least the roughness `wide` are stored, too; or BY_GLOSS, where only glossy scattering
    continues there. In the last two, photons straight from the light are not stored.
    kept float32 [n, COLUMNS] receives those that land, as many as fit; fluxes float64 [count] the initial flux of each, and
    mattering float64 [count] its importance-weighted flux. Returns how many landed. Triangles that glow are chosen by `until`.
    """
    scene = by_reference(scene_arrays)
    landed = 0
    for k in range(len(strata)):
        number, share = first + k, weights[k]
        u1, v1 = sample_2d(key, number, PLACE)
        u2, v2 = sample_2d(key, number, DIRECTION)
        place, turn = strata[k] // TURNS**2, strata[k] % TURNS**2
        u1, v1 = (place // PLACES + u1) / PLACES, (place % PLACES + v1) / PLACES
        u2, v2 = (turn // TURNS + u2) / TURNS, (turn % TURNS + v2) / TURNS
        if light == GLOWING:
            at = min(np.searchsorted(until, sample_1d(key, number, CHOICE)), len(triangles) - 1)
            origin, d, flux = emit_from_triangle(scene, triangles[at], densities[at], targets, u1, v1, u2, v2)
        else:
            origin, d, flux = emit(scene, light, targets, centre, radius, u1, v1, u2, v2)
        fluxes[k] = luminance(flux)
        if fluxes[k] <= 0.0:
            continue
        flux = scale(flux, share)
        origin = add(origin, scale(d, offset))
        start, layer, scattered, point_number, kind_here, by_base, in_glass = 0.0, 0, 0, 0, DIRECT, 0, 0
        absorption = BLACK
        link = int(scene.lights[light, SHADOWING]) if light != GLOWING else -1
        while scattered <= bounces and point_number < MOST_POINTS:
            dimension = 16 + point_number * PER_POINT
            point_number += 1
            hit, distance, b1, b2, kind, layer = next_surface(scene, stack, BY_BOUNCED, key, number, dimension + CUTOUT, layer, origin, d, start)
            if hit == NO_HIT:
                break
            if absorption[0] + absorption[1] + absorption[2] > 0.0:
                far = distance - start
                flux = multiply(flux, (math.exp(-absorption[0] * far), math.exp(-absorption[1] * far), math.exp(-absorption[2] * far)))
            row = object_at(scene, hit)
            if scattered == 0 and not stops(scene, hit, link):
                start = distance + scene.offset
                continue
            if kind == TINTED:
                flux = multiply(flux, row3(scene.surfaces, surface_row_at(scene, hit), TINT))
                start = distance + scene.offset
                continue
            if scattered == 0 and light != GLOWING:
                lit = int(scene.lights[light, LIT])
                if not is_linked(scene, row, lit):
                    break  # a light that is not linked to this object makes no bounce from it
            point = surface_at(scene, hit, b1, b2, d, (WIDE if scattered > 0 else FROM_LIGHT) * distance)
            glass, shading = shading_met(scene, row, kind, point, d, 0.0, 0.0, False)
            diffuse = not glass and luminance(shading.scattering.diffuse) > 0.0
            catches = mode == CAUSTICS and kind == OPAQUE and is_wide(point.look, wide)
            if (diffuse and mode in (EVERYTHING, VERTICES)) or ((diffuse or catches) and kind_here != DIRECT):
                if kind_here != DIRECT:
                    mattering[k] += luminance(flux) * importance_at(importance, point.position)
                if landed >= len(kept):
                    return landed
                if mode == VERTICES:
                    straight = scattered == 0 and light != GLOWING
                    by_diffuse, by_specular = (scene.lights[light, DIFFUSE], scene.lights[light, SPECULAR]) if straight else (1.0, 1.0)
                    _keep_vertex(kept[landed], shading, flux, by_base, by_diffuse, by_specular)
                else:
                    for c in range(3):
                        kept[landed, POSITION + c] = point.position[c]
                        kept[landed, NORMAL + c] = point.geometric_normal[c]
                        kept[landed, FLUX + c] = flux[c]
                        if mode == CAUSTICS:
                            kept[landed, CAME + c] = -d[c]
                    kept[landed, KIND_OF_PHOTON] = kind_here
                landed += 1
            if diffuse:
                if mode == CAUSTICS:
                    break
                kind_here = BOUNCED
            elif kind_here == DIRECT:
                kind_here = CAUSTIC
            u, v = sample_2d(key, number, dimension + SCATTER)
            sent = scatter(scene, shading, glass, sample_1d(key, number, dimension + LOBE), 1.0, u, v)
            if not sent.leaves:
                break
            before = luminance(flux)
            if mode == VERTICES and scattered == 0 and light != GLOWING:
                flux = multiply(flux, factors(scene, light, sent.gloss_share))
            flux = multiply(flux, scale(sent.gloss if mode == BY_GLOSS and not glass else sent.value, 1.0 / sent.density))
            if not glass:
                flux = scale(flux, _turned(shading) * abs(sent.side) / max(1e-3, dot(sent.direction, point.normal)))
            if sent.through:
                absorption = row3(scene.surfaces, point.surface, ABSORPTION) if point.front else BLACK
            survival = min(1.0, luminance(flux) / max(before, 1e-30))
            if sample_1d(key, number, dimension + ROULETTE) >= survival:
                break
            flux = scale(flux, 1.0 / survival)
            by_base += 1 if sent.lobe == BASE else 0
            in_glass += 1 if glass and (sent.through or not point.front) else 0
            if in_glass > refractions:
                break
            if sent.lobe == BASE or not glass:
                scattered += 1
            else:
                scattered = max(scattered, 1)  # refracted light is a caustic: it is stored where it lands
            d = sent.direction
            origin, start, layer = offset_point(point, d, offset), 0.0, 0
    return landed


class Glow(NamedTuple):
    """All glowing triangles, aimed at or not, as one emitter: rows int64 [n], densities of points on them, and the cumulated shares of their power,
    float64 [n]."""

    triangles: np.ndarray
    densities: np.ndarray
    until: np.ndarray


def glow_of_scene(scene: SceneArrays) -> Glow:
    """The glow of a scene; lights that are off, or not soloed, emit nothing."""
    lights = of_parts(scene, PART_LIGHT)
    numbers = np.flatnonzero((scene.objects[standing_objects(scene), FLAGS] & GLOWS != 0) | (lights >= 0))
    glow = np.zeros(len(numbers))
    for light in np.unique(lights[numbers]):
        own = lights[numbers] == light
        glow[own] = glow_of(scene, numbers[own], None if light < 0 else scene.lights[light])
    power = areas_of(scene, numbers) * glow
    numbers, glow, power = numbers[power > 0.0], glow[power > 0.0], power[power > 0.0]
    whole = max(float(power.sum()), 1e-30)
    return Glow(numbers.astype(np.int64), glow / whole, np.cumsum(power) / whole)


class Round(NamedTuple):
    """Photons of one source, as given for a part of a `PhotonWork`: the source's place among the sources, the number of the first photon, and the
    strata int64 [n] and shares of the flux float64 [n] of each."""

    source: int
    first: int
    strata: np.ndarray
    shares: np.ndarray


class Landed(NamedTuple):
    """Photons that landed, float32 [n, columns]; and of each that was shot its initial flux, and its flux by importance, float64 [n]."""

    photons: np.ndarray
    fluxes: np.ndarray
    mattering: np.ndarray


class PhotonWork(NamedTuple):
    """Rounds of photons, as `Work`; for `mode` see _shoot."""

    scene: SceneArrays
    sources: tuple[int, ...]
    targets: np.ndarray
    glow: Glow
    keys: tuple[np.uint32, ...]
    centre: tuple[float, float, float]
    radius: float
    offset: float
    bounces: int
    refractions: int
    mode: int
    importance: Importance
    wide: float

    @property
    def columns(self) -> int:
        return {VERTICES: VERTEX_COLUMNS, CAUSTICS: CAUSTIC_COLUMNS}.get(self.mode, COLUMNS)

    def worker(self) -> "PhotonWork":
        return self

    def do(self, part: int, given: Round, cancel: np.ndarray) -> Landed:
        """Shoot a round. It is too short to be cancelled within."""
        count = len(given.strata)
        kept, fluxes, mattering = np.empty((count * (self.bounces + 2), self.columns), np.float32), np.zeros(count), np.zeros(count)
        landed = _shoot(
            self.scene, make_stack(), self.sources[given.source], self.targets, given.first, given.strata, given.shares, self.keys[given.source],
            self.centre, self.radius, self.offset, self.bounces, self.refractions, self.mode, *self.glow, self.importance, self.wide,
            kept, fluxes, mattering,
        )  # fmt: skip
        return Landed(kept[:landed].copy(), fluxes, mattering)

    def counted(self, photons: np.ndarray) -> int:
        """How many of these photons are wanted."""
        return len(photons) if self.mode == VERTICES else int((photons[:, KIND_OF_PHOTON] != DIRECT).sum())


def shoot_photons(
    scene: SceneArrays, wanted: int, bounces: int, offset: float, seed: int = 0, threads: int = 1,
    report: Callable[[float], None] | None = None, mode: int = EVERYTHING, enough: Callable[[np.ndarray], bool] | None = None,
    importance: Importance = ANYWHERE, refractions: int = MOST_POINTS, task: Task | None = None, wide: float = 1.0,
) -> tuple[np.ndarray, int]:  # fmt: skip
    """Photons float32 [n, columns by mode], and the number shot: until `wanted` have landed after scattering (of VERTICES: at all), if the
    lights allow, or `enough(photons so far)`. Positions in metres; fluxes add up to the power of the lights. `report(share)` receives progress, and
    may raise; `task` is checked. For `mode` see _shoot. More are shot, each with less flux,
    where light matters."""
    work = _work_of(scene, bounces, offset, seed, mode, importance, refractions, wide)
    if not work.sources:
        return np.zeros((0, work.columns), np.float32), 0

    def shoot(rounds: list[Round]) -> list[Landed]:
        found = dict[int, Landed]()
        spread(work, dict(enumerate(rounds)), found.__setitem__, threads=threads, task=task)
        return [found[k] for k in range(len(rounds))]

    chance = _chances(work, wanted, shoot)
    if chance is None:
        return np.zeros((0, work.columns), np.float32), 0
    until = np.cumsum(chance) / chance.sum()
    chance /= chance.sum()
    batches: list[np.ndarray] = []
    most = min(MOST_ROUNDS, max(LEAST_ROUNDS, -(-MOST_A_LANDING * wanted // ROUND)))
    landed = rounds = 0
    while landed < wanted and rounds < most:
        # As many rounds at once as seem to be missing, up to the next at which enough may have landed; those too many are dropped.
        missing = math.ceil((wanted - landed) * rounds / landed) if landed else most
        ahead = range(rounds, rounds + min(missing, (1 << rounds.bit_length()) - rounds, most - rounds))
        parts = [_rounds(work, number, until, chance) for number in ahead]
        found = iter(shoot([part for parts_of_round in parts for part in parts_of_round]))
        for parts_of_round in parts:
            if landed >= wanted:
                break
            for _ in parts_of_round:
                batches.append(next(found).photons)
                landed += work.counted(batches[-1])
            rounds += 1
            if report is not None:
                report(min(1.0, max(landed / wanted, rounds / most)))
        if enough is not None and rounds & (rounds - 1) == 0 and enough(np.concatenate(batches)):
            break
    photons = np.concatenate(batches)
    photons[:, FLUX : FLUX + 3] /= max(1, rounds)
    return photons, rounds * ROUND


def _work_of(
    scene: SceneArrays, bounces: int, offset: float, seed: int, mode: int, importance: Importance, refractions: int, wide: float
) -> PhotonWork:  # fmt: skip
    targets = targets_of(around(scene, turns_light(scene))) if mode == CAUSTICS else NO_TARGETS
    low, high = bounds(scene)
    centre, radius = tuple(((low + high) / 2.0).tolist()), float(np.linalg.norm(high - low)) / 2.0 * 1.001
    glow = glow_of_scene(scene)
    sources = [i for i in range(len(scene.lights)) if scene.lights[i, KIND] != MESH] + ([GLOWING] if len(glow.triangles) else [])
    keys = tuple(hash32(np.uint32(pixel_key(seed, 0x7FFFFFF0)) ^ np.uint32(source + 2)) for source in sources)
    return PhotonWork(scene, tuple(sources), targets, glow, keys, centre, radius, offset, bounces, refractions, mode, importance, wide)


def _chances(work: PhotonWork, wanted: int, shoot: Callable[[list[Round]], list[Landed]]) -> np.ndarray | None:
    """The share of photons for each stratum of each source, by a pilot: the flux of each, and its importance. None if there is no light."""
    count = len(work.sources)
    each = max(1, min(8, PILOTS // (STRATA * count), wanted // STRATA))
    strata = np.tile(np.arange(STRATA), each)
    pilots = shoot([Round(k, 1 << 30, strata, np.ones(len(strata))) for k in range(count)])
    power = np.array([one.fluxes.reshape(each, STRATA).mean(axis=0) for one in pilots]).reshape(-1)
    mattering = np.array([one.mattering.reshape(each, STRATA).mean(axis=0) for one in pilots]).reshape(-1)
    if power.sum() <= 0.0:
        return None
    # The pilot may have missed a stratum: half by the means of its position and its direction, a part by power, a little uniformly.
    # A photon with a small probability has a large weight, and a few of them would stand out.
    mattering = (mattering + _by_margins(mattering.reshape(count, PLACES**2, TURNS**2)).reshape(-1)) / 2.0
    chance: np.ndarray = BY_POWER * power / power.sum() + LEAST_EACH / len(power)
    chance += (1.0 - BY_POWER - LEAST_EACH) * (mattering / mattering.sum() if mattering.any() else power / power.sum())
    return chance


def _rounds(work: PhotonWork, number: int, until: np.ndarray, chance: np.ndarray) -> list[Round]:
    """A round of photons, source by source."""
    shift = sample_1d(work.keys[0], (1 << 29) + number, CHOICE)
    chosen = np.minimum(np.searchsorted(until, (np.arange(ROUND) + shift) / ROUND, side="right"), len(chance) - 1)
    of, parts = chosen // STRATA, []
    for k in np.unique(of):
        own = chosen[of == k]
        parts.append(Round(int(k), number * ROUND, own % STRATA, 1.0 / (STRATA * chance[own] * ROUND)))
    return parts


def turns_light(scene: SceneArrays) -> np.ndarray:
    """bool by row of the arrays: which triangles may reflect or refract without scattering: glass, panes, metals, and surfaces that are black beneath
    their gloss."""
    surfaces = scene.surfaces
    clear = (surfaces[:, SEE_THROUGH] != 0) & ((surfaces[:, OPACITY] < 1.0) | (surfaces[:, OPACITY_MAP] >= 0))
    black = (surfaces[:, BASE_COLOUR : BASE_COLOUR + 3].max(axis=1) <= 0.0) & (surfaces[:, BASE_MAP] < 0) & (surfaces[:, IOR] != 1.0)
    turns: np.ndarray = (clear | (surfaces[:, METALLIC] > WHOLLY_METAL) | (surfaces[:, METALLIC_MAP] >= 0) | black)[stored_surfaces(scene)]
    return turns


def _by_margins(values: np.ndarray) -> np.ndarray:
    """Values [lights, places, turns] as the product of their means over turns and over places, light by light."""
    whole = values.sum(axis=(1, 2), keepdims=True)
    return values.sum(axis=2, keepdims=True) * values.sum(axis=1, keepdims=True) / np.where(whole > 0.0, whole, 1.0)


def automatic_radius(photons: np.ndarray, gathered: int) -> float:
    """A radius in metres that contains `gathered` photons in most places: 1.5 times the median distance of the last of them."""
    from scipy.spatial import cKDTree  # 0.2 s, and only preparing needs it

    if len(photons) < 2:
        return 1.0
    at = photons[:: max(1, len(photons) // PROBES), :3].astype(float)
    distances, _ = cKDTree(photons[:, :3].astype(float)).query(at, k=min(gathered + 1, len(photons)))
    return max(1e-6, RADIUS_FACTOR * float(np.median(distances[:, -1])))
