"""A light path: its state from surface to surface, and each step on the way.

`integrator.trace_paths` calls every step in turn. Each step is compiled into it, at its one call site.
"""

import math
from typing import NamedTuple

import numpy as np

from ..gi.ambient import AMBIENT, ambient_at
from ..gi.bidirectional import left_out
from ..gi.brute_force import BRUTE_FORCE
from ..gi.off import OFF
from ..gi.way import INDIRECT, NOT_SERVED, WHOLE, WITH_GLOSS, Spot
from ..gi.ways import look_up_at
from ..guide.regions import BOUNCED
from ..guide.regions import NOWHERE as NO_REGION
from ..kernel import kernel
from ..lights.direct import CAMERA_ORIGIN, THROUGH, Arrival, glow_met, keep_parts, lights_aimed_at, lights_met
from ..lights.emitters import BLACK
from ..numba_byref import by_passing_reference
from ..scene.arrays import ABSORPTION, CONNECTIONS, GUIDE, TINT
from ..surfaces.hit_scattering import Shading, scatter, shading_met
from ..surfaces.next_surface import CLEAR, OPAQUE, TINTED, next_surface
from ..surfaces.preview import BASE, GLASS, GLOSS, Look, is_rough, with_base
from ..surfaces.surface_at import SurfacePoint, offset_point, surface_at
from ..trace.sampler import hash32, pixel_key, sample_1d, sample_2d
from ..trace.traverse import NO_HIT
from ..vector import add, luminance, multiply, row3, scale
from .memory import (
    BEYOND,
    BRIGHTEST,
    BRIGHTEST_KIND,
    BY_BASE,
    BY_GLASS,
    BY_GLOSS,
    CLAMPED,
    DIRECT,
    ENDED_IN_GLASS,
    FOUND,
    GLOSS_LOOKED_UP,
    GUIDE_ALBEDO,
    GUIDE_NORMAL,
    GUIDE_SHARE,
    LEFT,
    MET,
    add_to,
    colour_in,
    put_colour,
)
from .rays import camera_ray, occlusion_at, tent

MIRROR_ROUGHNESS = 0.1
"""Points reached by a surface smoother than this count as seen by the camera."""

# Dimensions of the random numbers: a block for each point of the path.
PIXEL, PAIRED, POINTS, PER_POINT = 0, 2, 16, 4096
CUTOUT, REST, OCCLUSION, FURTHER, LOBE, DIRECTION, ROULETTE, CHOICE, BASE_DIRECTION, PICK, LIGHTS = (
    0, 998, 999, 1000, 1024, 1025, 1026, 1027, 1028, 1029, 1032,
)  # fmt: skip
LOOKUP = 900  # and the next: of connections, up to 66
# What ends a path: nothing yet; the limit of diffuse bounces, of reflections, of glass, or of the total; or wide gloss that was looked up.
NOTHING, BY_DIFFUSE, BY_REFLECTIONS, BY_REFRACTIONS, BY_TOTAL, BY_GLOSS_LOOKUP = 0, 1, 2, 3, 4, 5
LOOK_FURTHER = 0.03125
"""Share of the paths ended by a limit, or by looking gloss up, that are continued anyway, to measure what that leaves out."""
MOST_SHINE = 0.35
"""Glossy share above which a point is traced on although all of its light could be looked up."""
LEAST_GLOSS = 1e-4
"""Glossy share below which no ray is followed from a point whose diffuse light was looked up."""
# The kind of a path as one number: its scatterings as digits 1 to 3 in base 4, first one first, at most six; times
# three, plus how its light was found.
AIMED, BY_CHANCE, GLOW = 0, 1, 2
LEAST_SURVIVAL = 0.1
"""Least chance to go on of a path that is expected to bring little."""
MOST_DIGITS, MOST_BOUNCES = 1024, 1 << 20
WHITE = (1.0, 1.0, 1.0)
UP = (0.0, 0.0, 1.0)


class Sample(NamedTuple):
    """One sample of a pixel. key, number: of its random numbers; origin, direction: of its ray; paired: whether it is traced twice;
    gathering: whether the ray was given, as if scattered by a diffuse surface, instead of coming from the camera."""

    key: int
    number: int
    origin: tuple
    direction: tuple
    paired: bool
    gathering: bool


class Numbers(NamedTuple):
    """The random numbers for one point of a path: the key, the number of the sample, the first dimension."""

    key: int
    sample: int
    dimension: int


class Ray(NamedTuple):
    """The current ray of a path. start: least distance of a hit, in metres; layer: cut-outs and panes passed so far; absorption: of
    the medium, per metre; lifted: distance in metres by which the ray started off its surface."""

    origin: tuple
    direction: tuple
    start: float
    layer: int
    absorption: tuple
    lifted: float


class Hit(NamedTuple):
    """A hit: the triangle, or NO_HIT; the distance in metres; barycentric weights of its second and third corner; its kind (OPAQUE, CLEAR,
    TINTED); the surface there, unless tinted."""

    triangle: np.uint32
    distance: float
    b1: np.float32
    b2: np.float32
    kind: int
    point: SurfacePoint


class Carried(NamedTuple):
    """Weights of light found on a path. throughput: share that reaches the pixel; pending: a factor that applies from the next surface on; plain:
    share of the path that is not a caustic if the next hit is a light; mirrored: whether the last surface has no diffuse part."""

    throughput: tuple
    pending: tuple
    plain: tuple
    mirrored: bool


class State(NamedTuple):
    """The limits of a path. seen: whether this point is visible to the camera, also in mirrors; last: whether it ends at the next surface, and by
    which limit; further: whether it continues beyond that limit; the counts of its scatterings by kind."""

    seen: bool
    last: bool
    ended_by: int
    further: bool
    diffuse_bounces: int
    reflections: int
    refractions: int


class Sent(NamedTuple):
    """How the first surface scattered a path: the lobe, the glossy share of the colour, the number of rays of that lobe; and the code of the
    path's kind."""

    lobe: int
    gloss: tuple
    rays: float
    code: int


class First(NamedTuple):
    """The first surface of a sample, where all its turns start. albedo and occlusion: for the passes; let_through: share of the direct light
    that occlusion leaves; branches: turns per replicate, of which the first `gloss_branches` scatter by gloss."""

    hit: Hit
    throughput: tuple
    albedo: tuple
    occlusion: float
    let_through: float
    branches: int
    gloss_branches: int


class Surface(NamedTuple):
    """The scattering at the current point. glass: whether it is solid glass; diffuse: whether it has a diffuse base; split: whether several
    rays leave it."""

    shading: Shading
    glass: bool
    diffuse: bool
    split: bool


NOWHERE = Hit(
    NO_HIT, 0.0, np.float32(0.0), np.float32(0.0), OPAQUE,
    SurfacePoint(BLACK, BLACK, BLACK, False, 0, Look(BLACK, 0.0, 0.0, 1.0, False, BLACK, 0.0, 0.0), BLACK),
)  # fmt: skip
NO_SURFACE = First(NOWHERE, WHITE, BLACK, 0.0, 1.0, 1, 0)
"""Placeholder until the first surface is hit."""


@kernel
def begin_sample(settings, camera, given_rays, row, x, y, width, height, seed, number):
    """Sample `number` of pixel (x, y): along a camera ray, or along row `row` of the given rays, if any."""
    key = pixel_key(seed, y * width + x)
    paired = sample_1d(key, number, PAIRED) < settings.pairs
    if len(given_rays) > 0:
        ray = given_rays[row]
        return Sample(key, number, (ray[0], ray[1], ray[2]), (ray[3], ray[4], ray[5]), paired, True)
    u, v = sample_2d(key, number, PIXEL)
    film_x = (x + 0.5 + tent(u)) / width * 2.0 - 1.0
    film_y = 1.0 - (y + 0.5 + tent(v)) / height * 2.0
    origin, direction = camera_ray(camera, film_x, film_y, key, number)
    return Sample(key, number, origin, direction, paired, False)


@kernel
def begin_turn(settings, sample, row):
    """A path at the sample's origin."""
    put_colour(row, FOUND, BLACK)
    row[BEYOND] = 0.0
    return (
        Ray(sample.origin, sample.direction, 0.0, 0, BLACK, 0.0),
        Carried(WHITE, WHITE, BLACK if sample.gathering and settings.caustics else WHITE, False),
        State(not sample.gathering, False, NOTHING, False, 1 if sample.gathering else 0, 0, 0),
        Sent(BASE, BLACK, 1.0, 0),
        Arrival(sample.origin, UP, CAMERA_ORIGIN, 0.0, BLACK, True, NO_REGION, 0.0),
    )


@kernel
def begun_at(first, carried):
    """The state of another turn from the first surface."""
    return Carried(first.throughput, carried.pending, carried.plain, carried.mirrored)


@kernel
def key_of(sample, replicate):
    """Key of the random numbers from the first surface on."""
    return hash32(sample.key ^ np.uint32(0x5BD1E995)) if replicate > 0 else sample.key


@kernel
def advance(scene, stack, numbers, by, ray):
    """The next surface along a ray; and the ray, with the layers it has passed."""
    triangle, distance, b1, b2, kind, layer = next_surface(
        scene, stack, by, numbers.key, numbers.sample, numbers.dimension + CUTOUT, ray.layer, ray.origin, ray.direction, ray.start
    )
    point = NOWHERE.point
    if triangle != NO_HIT and kind != TINTED:
        point = surface_at(scene, triangle, b1, b2, ray.direction)
    return Hit(triangle, distance, b1, b2, kind, point), Ray(ray.origin, ray.direction, ray.start, layer, ray.absorption, ray.lifted)


@kernel
def absorb(carried, ray, distance):
    """The state after a distance through an absorbing medium (Beer's law)."""
    absorption = ray.absorption
    if absorption[0] + absorption[1] + absorption[2] <= 0.0:
        return carried
    stretch = distance - ray.start + ray.lifted
    left = (math.exp(-absorption[0] * stretch), math.exp(-absorption[1] * stretch), math.exp(-absorption[2] * stretch))
    return Carried(multiply(carried.throughput, left), carried.pending, carried.plain, carried.mirrored)


@kernel
def keep_light(row, further, place, light):
    """Add light to the results at `place`; on a path beyond a limit, only to the light beyond."""
    if further:
        row[BEYOND] += luminance(light)
    else:
        add_to(row, place, light)


@kernel
def keep_brightest(row, code, how, light):
    bright = luminance(light)
    if bright > row[BRIGHTEST]:
        row[BRIGHTEST], row[BRIGHTEST_KIND] = bright, code * 3 + how


@kernel
def add_lights_met(scene, settings, memory, replicate, sample, vertex, hit, ray, carried, state, sent, arrival, first):
    """Add light that the ray hit by chance: lights on its way, and the surface's own emission."""
    row = memory.found[replicate]
    # A light hit right after the first scattering is direct light: occlusion applies to it, too.
    lit = scale(carried.throughput, first.let_through) if vertex == 1 else carried.throughput
    near = vertex <= 1 and not sample.gathering
    met = lights_met(scene, settings, memory, replicate, arrival, ray.origin, ray.direction, ray.start, hit.distance, lit, near)
    glow = BLACK
    if hit.triangle != NO_HIT and hit.kind != TINTED:
        glow = glow_met(scene, settings, memory, replicate, arrival, hit.triangle, hit.point, ray.direction, hit.distance, lit, near)
    if vertex > 0 and not state.further:
        keep_brightest(row, sent.code, BY_CHANCE, met)
        keep_brightest(row, sent.code, GLOW, glow)
    met = add(met, glow)
    if carried.mirrored:
        met = multiply(met, carried.plain)
    if vertex > 1 or state.further:
        keep_light(row, state.further, FOUND, met)
    elif vertex == 1:
        add_to(row, DIRECT, met)
        keep_parts(memory.parts[replicate], sent.lobe == GLASS, sent.gloss, met)
    elif not sample.gathering:
        add_to(row, MET, met)


@kernel
def settle(carried):
    """The state once the pending factor applies."""
    return Carried(multiply(carried.throughput, carried.pending), WHITE, carried.plain, carried.mirrored)


@kernel
def pass_pane(scene, carried, ray, hit):
    """Go on through a tinted pane."""
    tint = row3(scene.surfaces, np.int64(scene.surface_of[hit.triangle]), TINT)
    through = Ray(ray.origin, ray.direction, hit.distance + scene.offset, ray.layer, ray.absorption, 0.0)
    return Carried(multiply(carried.throughput, tint), carried.pending, carried.plain, carried.mirrored), through


@kernel
def follow_further(numbers, carried, state):
    """Whether a path ended by a limit continues, as a few do to measure the light beyond, weighted by the inverse of that share."""
    if state.ended_by == NOTHING or sample_1d(numbers.key, numbers.sample, numbers.dimension + FURTHER) >= LOOK_FURTHER:
        return False, carried, state
    raised = Carried(scale(carried.throughput, 1.0 / LOOK_FURTHER), carried.pending, carried.plain, carried.mirrored)
    return True, raised, State(state.seen, state.last, state.ended_by, True, state.diffuse_bounces, state.reflections, state.refractions)


@kernel
def surface_met(scene, settings, sample, vertex, hit, ray):
    """How the current point scatters."""
    split = vertex == 0 and not sample.gathering and (settings.gi_rays > 1 or settings.glossy_rays > 1)
    base_rays, gloss_rays = float(settings.gi_rays) if split else 0.0, float(settings.glossy_rays) if split else 0.0
    glass, shading = shading_met(scene, np.int64(scene.object_of[hit.triangle]), hit.kind, hit.point, ray.direction, base_rays, gloss_rays, True)
    return Surface(shading, glass, not glass and luminance(shading.scattering.diffuse) > 0.0, split)


@kernel
def first_surface(scene, settings, memory, sample, numbers, hit, carried, surface):
    """The first surface, for the passes and for the turns that start there."""
    shading, scattering = surface.shading, surface.shading.scattering
    albedo = WHITE if hit.kind == CLEAR else hit.point.look.base
    if sample.gathering:
        albedo = scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o)
    occlusion = occlusion_at(scene, settings, memory.stack, sample.key, sample.number, numbers.dimension + OCCLUSION, hit.point, shading.x, shading.y)
    branches, gloss_branches = 1, 0
    if surface.split:
        shiny = scattering.gloss_chance + scattering.coat_chance > 0.0
        gloss_branches = settings.glossy_rays if surface.glass or shiny else 0
        branches = gloss_branches + (0 if surface.glass else settings.gi_rays)
    return First(hit, carried.throughput, albedo, occlusion, 1.0 - settings.occlude_direct * (1.0 - occlusion), branches, gloss_branches)


@kernel
def note_guides(row, hit, surface, branches):
    """Add albedo and normal for the noise filter, unless the surface is glass or a mirror: then what is seen in it will do. Whether it did."""
    if surface.glass or (not surface.diffuse and hit.point.look.roughness < MIRROR_ROUGHNESS):
        return False
    add_to(row, GUIDE_ALBEDO, scale(hit.point.look.base, 1.0 / branches))
    add_to(row, GUIDE_NORMAL, scale(hit.point.normal, 1.0 / branches))
    row[GUIDE_SHARE] += 1.0 / branches
    return True


@kernel
def look_up(scene, settings, memory, sample, numbers, vertex, hit, ray, state, surface):
    """Irradiance of bounced light from the way in use, that of caustics, which of the two were found, and whether the first is by a connection, which
    leaves out what is near."""
    point, scattering = hit.point, surface.shading.scattering
    by_rays, by_photons, served = BLACK, BLACK, NOT_SERVED
    address = settings.seen_lookup if state.seen else settings.beyond_lookup
    # A connection knows nothing of absorption: none is made inside a medium that absorbs.
    absorbs = ray.absorption[0] + ray.absorption[1] + ray.absorption[2] > 0.0
    connects = settings.connect != 0 and (settings.seen if state.seen else settings.beyond) == BRUTE_FORCE and not absorbs
    if address != 0 or settings.caustics or connects:
        spot = by_passing_reference(
            Spot(
                point.position, point.geometric_normal, point.normal, point.look, hit.triangle, hit.b1, hit.b2,
                hit.distance if vertex > 0 or sample.gathering else math.inf, state.seen,
                MOST_BOUNCES if state.further else settings.diffuse_bounces - state.diffuse_bounces - 1,
                numbers.key, numbers.sample, numbers.dimension + LOOKUP,
            )
        )  # fmt: skip
        if address != 0:
            by_rays, served = look_up_at(address, (scene, memory, spot, sample.number))
        if served == WHOLE and scattering.gloss_chance + scattering.coat_chance > MOST_SHINE:
            by_rays, served = BLACK, NOT_SERVED
        if served == INDIRECT and settings.gloss_lookup and is_rough(point.look):
            served = WITH_GLOSS
        if settings.caustics:
            by_photons, _ = look_up_at(settings.caustics_lookup, (scene, memory, spot, sample.number))
        if connects:
            by_rays, _ = look_up_at(settings.connect, (scene, memory, spot, sample.number))
    return by_rays, by_photons, served, connects


@kernel
def add_lights_aimed_at(scene, settings, memory, replicate, sample, numbers, vertex, carried, state, sent, surface, first):
    """Add light straight from the lights, found by aiming at them."""
    row = memory.found[replicate]
    shading = by_passing_reference(surface.shading)
    aimed = lights_aimed_at(
        scene, settings, memory, replicate, numbers.key, numbers.sample, numbers.dimension + CHOICE, numbers.dimension + LIGHTS, shading,
        scale(carried.throughput, first.let_through) if vertex == 0 else carried.throughput, state.seen, vertex == 0,
    )  # fmt: skip
    if (vertex > 0 or sample.gathering) and not surface.diffuse:
        aimed = multiply(aimed, carried.plain)
    if not state.further:
        keep_brightest(row, sent.code, AIMED, aimed)
    keep_light(row, state.further, DIRECT if vertex == 0 else FOUND, aimed)


@kernel
def add_light_looked_up(scene, settings, memory, replicate, numbers, vertex, carried, state, surface, first, irradiance, served):
    """Add the reflected part of looked-up light and of flat ambient light."""
    shading, scattering, row = surface.shading, surface.shading.scattering, memory.found[replicate]
    reflected, shine = scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o), BLACK
    if served in (WHOLE, WITH_GLOSS):
        # Gloss isn't traced from here, so it reflects the looked-up light as if it were diffuse.
        plain = luminance(reflected) + scattering.coat_left_o * scattering.escape_o * luminance(scattering.multiscatter)
        gloss = plain / (1.0 - scattering.gloss_chance - scattering.coat_chance) - plain
        shine = add(scale(scattering.multiscatter, scattering.escape_o * scattering.coat_left_o), (gloss, gloss, gloss))
    arriving = multiply(carried.throughput, scale(irradiance, 1.0 / math.pi))
    base, shine = multiply(reflected, arriving), multiply(shine, arriving)
    if served == WITH_GLOSS and not state.further:
        row[GLOSS_LOOKED_UP] += luminance(shine)
    if settings.seen == AMBIENT and state.seen and not surface.glass:
        near = first.occlusion
        if vertex > 0:
            near = occlusion_at(
                scene, settings, memory.stack, numbers.key, numbers.sample, numbers.dimension + OCCLUSION, shading.point, shading.x, shading.y
            )
        base = add(base, multiply(carried.throughput, ambient_at(settings, scattering, near)))
    keep_light(row, state.further, BY_BASE if vertex == 0 else FOUND, base)
    keep_light(row, state.further, BY_GLOSS if vertex == 0 else FOUND, shine)


@kernel
def scatter_on(scene, settings, sample, numbers, branch, surface, first):
    """The next direction, its lobe and roughness, and the random numbers of its branch. Where several rays
    leave, the last branches scatter by the base and the others by gloss."""
    by_base = surface.split and branch >= first.gloss_branches
    index, scattering = numbers.sample, surface.shading.scattering
    if surface.split:
        index = sample.number * settings.gi_rays + branch - first.gloss_branches if by_base else sample.number * settings.glossy_rays + branch
    choice = sample_1d(numbers.key, index, numbers.dimension + LOBE)
    u, v = sample_2d(numbers.key, index, numbers.dimension + (BASE_DIRECTION if by_base else DIRECTION))
    if surface.split and not surface.glass:
        choice = 1.0 if by_base else choice * (scattering.gloss_chance + scattering.coat_chance)
    pick = sample_1d(numbers.key, index, numbers.dimension + PICK) if scattering.guided > 0.0 else 1.0
    way_on = scatter(scene, surface.shading, surface.glass, choice, pick, u, v)
    look = surface.shading.point.look
    roughness = look.coat_roughness if way_on.lobe == GLOSS and choice < scattering.coat_chance else look.roughness
    return way_on, roughness, Numbers(numbers.key, index, numbers.dimension)


@kernel
def apply_limits(settings, state, surface, way_on, roughness, served):
    """The state after a bounce. The scattered ray is traced even at the last bounce: it may hit a light (direct light found by chance)."""
    specular = state.seen and way_on.lobe != BASE and roughness < MIRROR_ROUGHNESS
    diffuse_bounces, reflections, refractions = state.diffuse_bounces, state.reflections, state.refractions
    if way_on.lobe == BASE:
        diffuse_bounces += 1
    elif surface.glass and (way_on.through or not surface.shading.point.front):
        refractions += 1
    else:
        reflections += 1
    way, last, ended_by = settings.seen if state.seen else settings.beyond, state.last, state.ended_by
    if not last:
        if way in (OFF, AMBIENT) and not specular:
            last = True
        elif diffuse_bounces > settings.diffuse_bounces:
            last, ended_by = True, BY_DIFFUSE
        elif reflections > settings.reflections:
            last, ended_by = True, BY_REFLECTIONS
        elif refractions > settings.refractions:
            last, ended_by = True, BY_REFRACTIONS
        elif diffuse_bounces + reflections + refractions > settings.total:
            last, ended_by = True, BY_TOTAL
    if served != NOT_SERVED:
        share = way_on.gloss_share
        last = last or max(share[0], share[1], share[2]) < LEAST_GLOSS
    if served == WITH_GLOSS and not last:
        last, ended_by = True, BY_GLOSS_LOOKUP
    return State(specular, last, ended_by, state.further, diffuse_bounces, reflections, refractions)


@kernel
def carry_on(settings, carried, last, surface, way_on, served):
    """The state after a bounce. If the diffuse light has been looked up, it is left out from the next surface on; a light that
    the ray itself hits still counts in full."""
    throughput = multiply(carried.throughput, scale(way_on.value, 1.0 / way_on.density))
    pending, plain = carried.pending, carried.plain
    if served != NOT_SERVED:
        pending = way_on.gloss_share
    if settings.caustics and surface.diffuse:
        plain = WHITE if served != NOT_SERVED or last else way_on.gloss_share
    return Carried(throughput, pending, plain, not surface.diffuse)


@kernel
def arrival_from(scene, surface, way_on, seen, connected):
    """The scattered ray's densities, to weigh a light it hits against aiming at that light; and the bound of the point's connection."""
    point = surface.shading.point
    alone = surface.glass and (way_on.through or not point.front)
    return Arrival(
        point.position, point.normal, surface.shading.row, THROUGH if alone else way_on.density, way_on.gloss_share, seen, surface.shading.region,
        scene.prepared[CONNECTIONS].bound if connected else 0.0,
    )  # fmt: skip


@kernel
def left_by_connections(numbers, surface, arrival, carried, hit):
    """A diffuse surface as a ray finds it that leaves a connected point: of what it scatters diffusely or by wide gloss only what
    connections leave out. What is left decides whether the path goes on: (whether, its state, the surface)."""
    share, shading = left_out(arrival.bound, arrival.position, arrival.normal, hit.point), surface.shading
    kept = add(scale(arrival.gloss, 1.0 - share), (share, share, share))
    left = luminance(kept)
    if not is_rough(hit.point.look):
        scattering = with_base(shading.scattering, kept)
        reflects = luminance(scattering.f0) + luminance(scattering.multiscatter) + 0.05 * scattering.coat
        left = (luminance(scattering.diffuse) + reflects) / (luminance(shading.scattering.diffuse) + reflects)
        shading, kept = Shading(shading.point, shading.row, scattering, shading.x, shading.y, shading.wo, shading.region), WHITE
    survival = min(1.0, max(LEAST_SURVIVAL, 2.0 * left)) if left > 0.0 else 0.0
    goes_on = sample_1d(numbers.key, numbers.sample, numbers.dimension + REST) < survival
    if goes_on:
        carried = Carried(scale(multiply(carried.throughput, kept), 1.0 / survival), carried.pending, carried.plain, carried.mirrored)
    return goes_on, carried, Surface(shading, surface.glass, True, surface.split)


@kernel
def note_scattering(sent, vertex, surface, way_on):
    """The kind of the path after one more scattering; at the first surface also its lobe."""
    code = sent.code * 4 + way_on.lobe + 1 if sent.code < MOST_DIGITS else sent.code
    if vertex > 0:
        return Sent(sent.lobe, sent.gloss, sent.rays, code)
    scattering, rays = surface.shading.scattering, 1.0
    if surface.split:
        rays = scattering.base_rays if way_on.lobe == BASE else scattering.gloss_rays + scattering.coat_rays
    return Sent(way_on.lobe, way_on.gloss_share, rays, code)


@kernel
def expected_light(scene, carried, surface):
    """Luminance of the bounced light that a path is expected to bring from the current point, by the guide; 0 where that knows nothing."""
    region, scattering = surface.shading.region, surface.shading.scattering
    if region == NO_REGION or surface.glass:
        return 0.0
    reflected = add(scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o), scattering.f0)
    return luminance(multiply(carried.throughput, reflected)) * scene.prepared[GUIDE].regions[region, BOUNCED] / math.pi


@kernel
def roulette(numbers, carried, state, sent, served, expected):
    """Russian roulette from the first bounce on: in a whitewashed room this gives a third less noise in equal time than starting at the fourth. What
    survives is raised, so nothing is lost on average (Arvo & Kirk 1990). `expected`: the light that the path is expected to bring, relative to that
    at its first diffuse point; where it is known, paths go on by that (Vorba & Křivánek 2016, "Adjoint-Driven Russian Roulette and Splitting"),
    else (0) by what they carry. Returns whether the path goes on, and what it is then."""
    if state.last and not state.further:
        return True, carried, state
    weight = sent.rays * LOOK_FURTHER if state.further else sent.rays
    kept = multiply(carried.throughput, carried.pending)
    survival = min(1.0, weight * max(kept[0], kept[1], kept[2]))
    if expected > 0.0 and served == NOT_SERVED:
        survival = min(1.0, max(LEAST_SURVIVAL, weight * expected))
    survives = sample_1d(numbers.key, numbers.sample, numbers.dimension + ROULETTE) < survival
    if served != NOT_SERVED and not state.further:
        # Roulette applies from the next surface on: a light that this ray itself hits counts in full.
        pending = scale(carried.pending, 1.0 / survival) if survives else BLACK
        last = State(state.seen, not survives, state.ended_by, False, state.diffuse_bounces, state.reflections, state.refractions)
        return True, Carried(carried.throughput, pending, carried.plain, carried.mirrored), last
    if not survives:
        return False, carried, state
    return True, Carried(scale(carried.throughput, 1.0 / survival), carried.pending, carried.plain, carried.mirrored), state


@kernel
def leave(scene, settings, ray, surface, way_on):
    """The ray that leaves a surface; through glass it enters or leaves the medium."""
    point, absorption = surface.shading.point, ray.absorption
    if way_on.through:
        absorption = row3(scene.surfaces, point.surface, ABSORPTION) if point.front else BLACK
    origin = offset_point(point, way_on.direction, settings.offset)
    return Ray(origin, way_on.direction, 0.0, 0, absorption, settings.offset / max(abs(way_on.side), 0.1))


@kernel
def end_turn(row, state, sent, branches, served):
    """Add the turn's results to its replicate, by what scattered it first; and its light beyond a limit. `served`: what was looked up at the first
    surface: then all else is gloss."""
    found = colour_in(row, FOUND)
    if sent.lobe == GLASS:
        add_to(row, BY_GLASS, found)
    else:
        gloss = found if served != NOT_SERVED else multiply(sent.gloss, found)
        add_to(row, BY_GLOSS, gloss)
        add_to(row, BY_BASE, add(found, scale(gloss, -1.0)))
    if state.ended_by != NOTHING:
        row[LEFT + state.ended_by - BY_DIFFUSE] += row[BEYOND]
    row[ENDED_IN_GLASS] += (1.0 if state.ended_by == BY_REFRACTIONS else 0.0) / branches


@kernel
def apply_clamp(row, most):
    """Clamp the luminance of a replicate's indirect light to `most`, if that is not 0."""
    bright = luminance(colour_in(row, BY_BASE)) + luminance(colour_in(row, BY_GLOSS)) + luminance(colour_in(row, BY_GLASS))
    if most > 0.0 and bright > most:
        row[CLAMPED] = bright - most
        for place in (BY_BASE, BY_GLOSS, BY_GLASS):
            put_colour(row, place, scale(colour_in(row, place), most / bright))
