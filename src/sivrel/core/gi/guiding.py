"""The light guide: paths learn where light comes from, before pixels, and then go there. It removes no light and adds none: only noise changes.

Müller, Gross & Novák 2017, "Practical Path Guiding for Efficient Light-Transport Simulation": a tree of regions, each with a distribution of
directions, learned in rounds of which each is guided by those before. Here the samples are short walks whose light is found by radiosity between the
regions, which is far less noisy than that of whole paths; and the guide is learned before the first pixel, so that all pixels share it and the same
bytes follow on any number of threads. Müller 2019, "Practical Path Guiding in Production": a part of the directions is always left to the surface's
own sampling.
"""

import math
from typing import Any, Literal

import numpy as np

from ..guide.directions import LOBE_COLUMNS, MOST_LOBES, MOST_SHARE, RANGE_COLUMNS, SQUARED_RADIUS, find_lobes, guided_density, guided_direction
from ..guide.regions import (
    ALL,
    BOUNCED,
    CHILD,
    COORDINATE,
    FACING,
    LOBES,
    MIDDLE,
    NO_GUIDE,
    NODE_COLUMNS,
    REGION_COLUMNS,
    SHARE,
    SPLIT,
    WIDTH,
    Guide,
    divide,
    region_at,
)
from ..kernel import called_kernel, kernel
from ..lights.choice import LEARNED_COLUMNS, MEAN, SQUARED, UNSHADOWED, chances_of, choices_of, irradiance_by, learn_lights
from ..lights.emitters import BLACK, meet_light
from ..scene.arrays import BY_BOUNCED, BY_CAMERA, FAR, TINT
from ..scene.triangles import mesh_light_at, object_at, surface_row_at
from ..settings import Group, setting
from ..surfaces.hit_scattering import scatter, shading_met
from ..surfaces.next_surface import TINTED, next_surface
from ..surfaces.preview import Look
from ..surfaces.surface_at import WIDE, SurfacePoint, offset_point, surface_at
from ..trace.sampler import pixel_key, sample_1d, sample_2d
from ..trace.traverse import NO_HIT, make_stack
from ..vector import dot, frame, luminance, row3, to_world
from .way import Preview, Table, Way

ON = {"guiding.on": ["yes"]}
ROUNDS = ((0.1, 2048), (0.15, 1024), (0.25, 512), (0.5, 256))
"""For each round, its share of the steps, and the most samples in a region: large regions find small bright places first."""
STEPS, MOST_LEGS = 3, 24
"""Diffuse surfaces from which a walk goes on; most surfaces of any kind on its way."""
GUIDED = 0.5
"""Share of the steps that are guided by the rounds before."""
ROUGH = 0.35
"""Roughness from which a surface without a diffuse base counts as one."""
BOUNCES = 12
"""Rounds of radiosity between the regions."""
LIGHTS_SEEN_FROM = 24
"""Points of each region from which every light is tried."""
LEAST, MOST = 1 << 15, 1 << 22
OF_SAMPLES = 0.125
"""Steps that learn, as a share of the picture's samples, where the recipe leaves them open."""
FAR_AWAY = 1000.0
"""Distance of a sky, in extents of what the paths reach."""
NO_POINT = SurfacePoint(BLACK, BLACK, BLACK, True, 0, Look(BLACK, 0.0, 0.0, 1.0, False, BLACK, 0.0, 0.0), BLACK)
"""Placeholder where a ray meets nothing."""


class GuidingSettings(Group):
    on: Literal["no", "yes"] = setting(
        "no",
        "light guide",
        "Paths learn first where light comes from, and go there: {}.",
        "Less grain in the same time where light comes through windows or from small bright places, and where many lights are out of sight. "
        "No light is lost or added.",
    )
    rays: int = setting(
        0,
        "guide rays",
        "It learns from {} rays; 0 takes an eighth of the picture's samples.",
        "More rays make a finer guide; time grows in proportion.",
        needs=ON,
        ge=0,
        le=1 << 26,
    )


def rays_of(wanted: GuidingSettings, recipe: Any, pixels: int) -> int:
    """Number of rays that learn: as set, or a power of two by the samples of the picture."""
    if wanted.rays:
        return wanted.rays
    samples = pixels * recipe.sampling.max
    return int(min(MOST, max(LEAST, 2 ** round(math.log2(max(1.0, samples * OF_SAMPLES))))))


@kernel
def draw(guide, p, n, u, v, pick, share):
    """A direction from `p` with normal `n`: (unit direction, density per steradian). `share` of them are guided, the others spread by the cosine."""
    region = region_at(guide, p, n)
    guided = share if region >= 0 and guide.regions[region, LOBES] > 0.0 else 0.0
    if pick < guided:
        d = guided_direction(guide, region, p, u, v)
    else:
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        x, y = frame(n)
        d = to_world(x, y, n, (r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - u))))
    density = (1.0 - guided) * max(0.0, dot(d, n)) / math.pi
    if guided > 0.0:
        density += guided * guided_density(guide, region, p, d)
    return d, density


@called_kernel
def _locate(guide, points, normals, regions):
    for k in range(len(points)):
        regions[k] = region_at(guide, (points[k, 0], points[k, 1], points[k, 2]), (normals[k, 0], normals[k, 1], normals[k, 2]))


# Columns of a sample, which is a step of a walk from one diffuse surface to the next: position, normal, direction, and the density with which that
# was drawn; where it led, and the normal there; the share of that surface's irradiance that comes back along the step (luminance, over pi; 0 where
# the step met nothing), and its irradiance straight from the lights; the radiance of lights that it met through glass or by a mirror; that of lights
# that it met straight, and the choice that leads to the brightest of them (-1: it only glows).
POINT, NORMAL, TOWARDS, DENSITY, LED_TO, LED_FACING, RETURNS, LIT, MET, STRAIGHT, BY_CHOICE = 0, 3, 6, 9, 10, 13, 16, 17, 18, 19, 20
SAMPLE_COLUMNS = 21
# Dimensions of the random numbers of a walk: a block for each leg.
CUTOUT, LOBE, SCATTER, DRAW, PICK, WHICH, LIGHTS, PER_STEP = 0, 512, 513, 514, 515, 516, 520, 1024
MOST_LIGHTS_MET, MOST_TRIED = 64, 12
"""Most lights that a walk looks for on its way, and most choices of lights that it tries at each point."""
MOST_UNEVEN = 3.0
"""A light is aimed at as if its root mean square were at most this many times its mean: what is more uneven, scattered rays find."""


@kernel
def _emission(scene, p, n, d, distance, hit, point):
    """(luminance of all lights that a ray from `p` meets before `distance`, and of the surface there; the light that is the brightest of them, -1 for
    a surface that is none)."""
    found = luminance(point.emission)
    brightest, light = found, np.int64(-1)
    if hit != NO_HIT:
        light = mesh_light_at(scene, hit)
    for i in range(min(len(scene.lights), MOST_LIGHTS_MET)):
        at, radiance, _ = meet_light(scene, i, p, n, d, distance)
        if at > 0.0:
            bright = luminance(radiance)
            found += bright
            if bright > brightest:
                brightest, light = bright, i
    return found, light


@kernel
def _keep_emission(scene, guide, sample, passed, p, n, d, distance, hit, point):
    """Add to a sample the lights on its way: those met straight, or through glass and by mirrors."""
    found, light = _emission(scene, p, n, d, distance, hit, point)
    if passed != 1.0:
        sample[MET] += passed * found
    elif found > 0.0:
        sample[STRAIGHT], sample[BY_CHOICE] = found, guide.choice_of[light] if light >= 0 else -1


@kernel
def _lit(scene, stack, guide, p, n, offset, key, leg):
    """Irradiance (luminance) at `p` straight from the lights: every choice of lights is tried once, or some of many."""
    count, lit = len(guide.choices), 0.0
    tried = min(count, MOST_TRIED)
    for k in range(tried):
        choice = (k * count + int(sample_1d(key, 0, PER_STEP * leg + WHICH) * count)) // tried % count
        _, here = irradiance_by(scene, stack, guide.choices[choice], p, n, offset, key, 0, PER_STEP * leg + LIGHTS + 2 * k)
        lit += here * count / tried
    return lit


@called_kernel
def walk(scene, stack, guide, rays, seed, first, share, offset, samples):
    """Walks along camera rays float64 [n, 6] from diffuse surface to diffuse surface: up to STEPS samples each, into float64
    [n * STEPS, SAMPLE_COLUMNS] (those with a density of 0 are none). Random numbers are those of walk `first` and on; `share` of the directions
    are guided."""
    for k in range(len(rays)):
        key, step, begun, passed = pixel_key(seed, first + k), 0, False, 1.0
        origin, d = (rays[k, 0], rays[k, 1], rays[k, 2]), (rays[k, 3], rays[k, 4], rays[k, 5])
        normal, start, layer = d, 0.0, 0
        for leg in range(MOST_LEGS):
            row, dimension = k * STEPS + step - 1, PER_STEP * leg
            by = BY_BOUNCED if begun else BY_CAMERA
            hit, distance, b1, b2, kind, layer = next_surface(scene, stack, by, key, 0, dimension + CUTOUT, layer, origin, d, start)
            if hit == NO_HIT:
                if begun:
                    _keep_emission(scene, guide, samples[row], passed, origin, normal, d, FAR, NO_HIT, NO_POINT)
                break
            if kind == TINTED:
                passed *= luminance(row3(scene.surfaces, surface_row_at(scene, hit), TINT))
                start = distance + scene.offset
                continue
            point = surface_at(scene, hit, b1, b2, d, WIDE * distance)
            if begun:
                _keep_emission(scene, guide, samples[row], passed, origin, normal, d, distance, hit, point)
            glass, shading = shading_met(scene, object_at(scene, hit), kind, point, d, 0.0, 0.0, False)
            scattering = shading.scattering
            reflected = luminance(scattering.diffuse) * scattering.left_o * scattering.coat_left_o
            u, v = sample_2d(key, 0, dimension + DRAW)
            if not glass and (reflected > 0.0 or scattering.roughness > ROUGH):
                if begun:
                    for c in range(3):
                        samples[row, LED_TO + c], samples[row, LED_FACING + c] = point.position[c], point.geometric_normal[c]
                    rest = luminance(scattering.f0) + luminance(scattering.multiscatter) * scattering.escape_o
                    samples[row, RETURNS] = passed * min(0.95, reflected + rest) / math.pi
                    samples[row, LIT] = _lit(scene, stack, guide, point.position, point.geometric_normal, offset, key, leg)
                if step == STEPS:
                    break
                p, n = point.position, point.geometric_normal
                d, density = draw(guide, p, n, u, v, sample_1d(key, 0, dimension + PICK), share)
                if density <= 0.0:
                    break
                row = k * STEPS + step
                for c in range(3):
                    samples[row, POINT + c], samples[row, NORMAL + c], samples[row, TOWARDS + c] = p[c], n[c], d[c]
                samples[row, DENSITY] = density
                if dot(d, n) <= 0.0:
                    break  # a sample, too: one that brings nothing
                step, begun, passed, normal = step + 1, True, 1.0, n
            else:
                sent = scatter(scene, shading, glass, sample_1d(key, 0, dimension + LOBE), 1.0, u, v)
                if not sent.leaves:
                    break
                d, normal, passed = sent.direction, point.normal, passed * luminance(sent.value) / sent.density * 0.999999
            origin, start, layer = offset_point(point, d, offset), 0.0, 0


def _samples(job: Any, guide: Guide, count: int, first: int, random: np.random.Generator) -> np.ndarray:
    """float64 [n, SAMPLE_COLUMNS]: about `count` steps of walks from the camera."""
    walks = max(1, count // STEPS)
    rays = np.concatenate(job.rays_through(random.random(walks) * job.frame.width, random.random(walks) * job.frame.height), axis=1)
    samples = np.zeros((walks * STEPS, SAMPLE_COLUMNS))

    def take(rows: np.ndarray) -> None:
        if len(rows):
            part = samples[rows[0] * STEPS : (rows[-1] + 1) * STEPS]
            walk(job.arrays, make_stack(), guide, rays[rows], job.frame.seed, first + rows[0], GUIDED, job.arrays.offset, part)

    job.shared_out(take, np.arange(walks))
    return samples[(samples[:, DENSITY] > 0.0) & np.isfinite(samples).all(axis=1)]


def _no_guide(job: Any) -> Guide:
    """A guide that knows only the choices of lights."""
    choices, choice_of = choices_of(job.arrays.tree, job.arrays.leaf_of, job.arrays.distant)
    return NO_GUIDE._replace(choices=choices, choice_of=choice_of)


def _learn(job: Any, empty: Guide, samples: np.ndarray, per_region: int) -> Guide:
    """The guide from samples; `empty` knows only the choices of lights."""
    nodes, order, starts = divide(samples[:, POINT : POINT + 3], samples[:, NORMAL : NORMAL + 3], per_region)
    ordered, count = samples[order], len(starts) - 1
    of, sizes = np.repeat(np.arange(count), np.diff(starts)), np.maximum(np.diff(starts), 1)
    regions = np.zeros((count, REGION_COLUMNS))

    def mean(columns: np.ndarray) -> np.ndarray:
        return np.stack([np.bincount(of, column, count) for column in columns.T], axis=1) / sizes[:, None]

    p, n, towards = (np.ascontiguousarray(ordered[:, at : at + 3]) for at in (POINT, NORMAL, TOWARDS))
    regions[:, MIDDLE : MIDDLE + 3], regions[:, FACING : FACING + 3] = mean(p), mean(n)
    regions[:, WIDTH] = np.sqrt(mean(((p - regions[of, MIDDLE : MIDDLE + 3]) ** 2).sum(axis=1, keepdims=True))[:, 0])
    guide = empty._replace(nodes=nodes, regions=regions)
    weights, by_choice = np.maximum(0.0, np.einsum("kc,kc->k", towards, n)) / ordered[:, DENSITY], ordered[:, BY_CHOICE].astype(np.int64)
    straight, choices = np.zeros((count, len(guide.choices))), by_choice >= 0
    np.add.at(straight, (of[choices], by_choice[choices]), (weights * ordered[:, STRAIGHT])[choices])
    chances, direct, missed = _learn_lights(job, guide, p, n, starts, straight / sizes[:, None])
    # The light of every region by radiosity between them: what each sample's surface reflects is the irradiance of the region that it led to.
    led_to = np.empty(len(ordered), np.int64)
    _locate(guide, *(np.ascontiguousarray(ordered[:, at : at + 3]) for at in (LED_TO, LED_FACING)), led_to)
    bounced = np.zeros(count)
    for _ in range(BOUNCES):
        arriving = ordered[:, RETURNS] * (ordered[:, LIT] + bounced[led_to]) + ordered[:, MET]
        bounced = np.bincount(of, weights * arriving, count) / sizes
    # Light straight from lights counts as far as aiming at them misses them, as it does a sky behind a window.
    counted = np.ones(len(ordered))
    counted[choices] = missed[of[choices], by_choice[choices]]
    arriving = arriving + ordered[:, STRAIGHT] * counted
    light, far = weights * arriving, FAR_AWAY * float(np.ptp(p, axis=0).max() + 1e-3)
    led = np.where((ordered[:, RETURNS] > 0.0)[:, None], ordered[:, LED_TO : LED_TO + 3], p + far * towards)
    lobes, counts, order = np.zeros((count, MOST_LOBES, LOBE_COLUMNS)), np.zeros(count, np.int64), np.zeros(len(p), np.int64)

    def find(rows: np.ndarray) -> None:
        if len(rows):
            ranges = np.zeros((MOST_LOBES, RANGE_COLUMNS))
            find_lobes(starts, led, light, measure, middles, rows[0], rows[-1] + 1, order, ranges, lobes, counts, shares)

    measure, shares, middles = weights / math.pi, np.zeros(count), regions[:, MIDDLE : MIDDLE + 3].copy()
    regions[:, BOUNCED], regions[:, ALL] = bounced, direct + bounced
    job.shared_out(find, np.arange(count))
    regions[:, LOBES], regions[:, SHARE] = counts, shares
    return guide._replace(lobes=lobes, chances=chances)


def _learn_lights(
    job: Any, guide: Guide, p: np.ndarray, n: np.ndarray, starts: np.ndarray, straight: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """(cumulated probabilities float32 [regions, choices]; irradiance [regions] straight from the lights; how much aiming at a choice misses it, 0
    to 1 [regions, choices])."""
    count = len(guide.regions)
    learned = np.zeros((count, len(guide.choices), LEARNED_COLUMNS))

    def learn(rows: np.ndarray) -> None:
        if len(rows):
            where = job.arrays, make_stack(), p, n, starts
            learn_lights(*where, guide.choices, job.arrays.offset, LIGHTS_SEEN_FROM, job.frame.seed, rows[0], rows[-1] + 1, learned)

    job.shared_out(learn, np.arange(count))
    # Rays that met a light straight know of it, too: those that aim would seldom find the little that is seen of a sky.
    aimed = np.maximum(learned[..., SQUARED], straight * np.sqrt(learned[..., UNSHADOWED]))
    learned[..., MEAN] = np.where(learned[..., MEAN] > 0.0, learned[..., MEAN], straight)
    missed = np.maximum(0.0, 1.0 - 4.0 * learned[..., MEAN] ** 2 / np.maximum(aimed, 1e-30))
    learned[..., SQUARED] = np.minimum(aimed, (MOST_UNEVEN * np.maximum(learned[..., MEAN], straight)) ** 2)
    return chances_of(learned, np.minimum(np.diff(starts), LIGHTS_SEEN_FROM)), learned[..., MEAN].sum(axis=1), missed


def _make(job: Any, wanted: GuidingSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    random = np.random.default_rng([job.frame.seed, 22])
    count = rays_of(wanted, job.recipe, job.frame.width * job.frame.height)
    empty = guide = _no_guide(job)
    samples, first = np.zeros((0, SAMPLE_COLUMNS)), 0
    for k, (share, per_region) in enumerate(ROUNDS):
        samples = np.concatenate([samples, _samples(job, guide, round(count * share), first, random)])
        first += round(count * share)
        if not len(samples):
            break
        guide = _learn(job, empty, samples, per_region)
        job.report(sum(share for share, _ in ROUNDS[: k + 1]))
    arrays = {"nodes": guide.nodes, "regions": guide.regions, "lobes": guide.lobes.reshape(-1, LOBE_COLUMNS), "chances": guide.chances.reshape(-1)}
    return arrays, {"learned_from": len(samples)}


def _serve(job: Any, wanted: GuidingSettings, arrays: dict[str, np.ndarray], notes: dict[str, Any]) -> Guide:
    guide, count = _no_guide(job), len(arrays["regions"])
    notes["regions"], notes["places"] = count, int(arrays["regions"][:, LOBES].sum())
    if len(arrays["chances"]) != count * len(guide.choices):
        guide = NO_GUIDE  # locked, and made for other lights: these are chosen by importance
    chances = arrays["chances"].reshape(count, len(guide.choices)) if len(guide.choices) else guide.chances
    lobes = arrays["lobes"].reshape(count, MOST_LOBES, LOBE_COLUMNS)
    return guide._replace(nodes=arrays["nodes"], regions=arrays["regions"], lobes=lobes, chances=chances)


def _is_sound(arrays: dict[str, np.ndarray]) -> bool:
    """Whether the tree leads to regions, without circles, and all numbers of lobes, shares and probabilities are possible."""
    nodes, regions = arrays["nodes"], arrays["regions"]
    coordinate, child, number = nodes[:, COORDINATE], nodes[:, CHILD], np.arange(len(nodes))
    ends, split = coordinate == -1.0, nodes[:, SPLIT]
    leads = (coordinate >= 0.0) & (coordinate < 6.0) & (child > number) & (child + 1.0 < len(nodes)) & (child == np.floor(child))
    found = (split >= 0.0) & (split < len(regions)) & (split == np.floor(split))
    return bool(
        np.where(ends, found, leads).all()
        and ((regions[:, LOBES] >= 0.0) & (regions[:, LOBES] <= MOST_LOBES)).all()
        and ((regions[:, SHARE] >= 0.0) & (regions[:, SHARE] <= MOST_SHARE)).all()
        and (arrays["lobes"][:, SQUARED_RADIUS:] >= 0.0).all()
        and ((arrays["chances"] >= 0.0) & (arrays["chances"] <= 1.0)).all()
    )


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    regions = arrays["regions"]
    light = np.repeat(regions[:, ALL : ALL + 1], 3, axis=1) / math.pi
    return Preview(regions[:, MIDDLE : MIDDLE + 3], regions[:, WIDTH], light, "discs", regions[:, FACING : FACING + 3])


WAY = Way(
    key="guiding",
    code=-2,
    title="a light guide",
    seen=False,
    beyond=False,
    does="Learns for each part of the scene where light comes from and which lights reach it, and sends paths and shadow rays there.",
    costs="Some time before the first pixel; no bias.",
    question="Where paths go",
    settings=GuidingSettings,
    kind="light guide",
    nothing=NO_GUIDE,
    makes=lambda wanted, recipe: (wanted.rays, recipe.sampling.max if not wanted.rays else 0),
    depends=("geometry", "surfaces", "lights", "camera"),
    make=_make,
    serve=_serve,
    preview=_preview,
    says=lambda notes: f"{notes['regions']:,} regions with {notes['places']:,} bright places.",
    points=lambda arrays: (len(arrays["regions"]), "regions"),
    holds={
        "nodes": Table(NODE_COLUMNS),
        "regions": Table(REGION_COLUMNS),
        "lobes": Table(LOBE_COLUMNS, places=3, rows=lambda arrays: MOST_LOBES * len(arrays["regions"])),
        "chances": Table(0),
    },
    sound=_is_sound,
    of_paths=True,
    steers=True,
    small={"rays": 256, "on": "yes"},
)
