"""The steps of a light path from surface to surface; those that add light are in path_light.py, the state that they pass on in path_state.py.

`integrator.trace_paths` calls every step in turn. Each step is compiled into it, at its one call site.
"""

import math

import numpy as np

from ..gi.ambient import AMBIENT
from ..gi.bidirectional import left_out
from ..gi.off import OFF
from ..gi.way import NOT_SERVED, WITH_GLOSS
from ..gi.ways import CAUSTICS
from ..guide.regions import BOUNCED
from ..guide.regions import NOWHERE as NO_REGION
from ..kernel import kernel
from ..lights.direct import CAMERA_ORIGIN, THROUGH, Arrival
from ..lights.emitters import BLACK
from ..scene.arrays import ABSORPTION, CONNECTIONS, GUIDE, TINT
from ..scene.triangles import object_at, surface_row_at
from ..surfaces.glass import glass_reflects
from ..surfaces.hit_scattering import Shading, scatter, shading_met
from ..surfaces.next_surface import CLEAR, NEVER, OPAQUE, TINTED, next_surface_or_fork
from ..surfaces.preview import BASE, GLOSS, is_rough, is_wide, with_base
from ..surfaces.surface_at import WIDE, offset_point, passing_at, surface_at
from ..trace.sampler import hash32, pixel_key, sample_1d, sample_2d
from ..trace.traverse import NO_HIT
from ..vector import add, luminance, multiply, row3, scale
from .forks import EITHER, LOWER, REFLECTED, UPPER, Start
from .memory import (
    BEYOND,
    FOUND,
    put_colour,
)
from .path_state import (
    BASE_DIRECTION,
    BY_DIFFUSE,
    BY_GLOSS_LOOKUP,
    BY_REFLECTIONS,
    BY_REFRACTIONS,
    BY_TOTAL,
    CUTOUT,
    DIRECTION,
    FURTHER,
    LEAST_GLOSS,
    LEAST_SURVIVAL,
    LOBE,
    LOOK_FURTHER,
    MIRROR_ROUGHNESS,
    MOST_DIGITS,
    NOTHING,
    NOWHERE,
    OCCLUSION,
    PAIRED,
    PICK,
    PIXEL,
    REST,
    ROULETTE,
    UP,
    WHITE,
    Carried,
    Drawn,
    First,
    Hit,
    Numbers,
    Ray,
    Sample,
    Sent,
    State,
    Surface,
)
from .rays import SHUTTER, camera_ray, occlusion_at, tent


@kernel
def begin_sample(settings, camera, given_rays, row, x, y, width, height, seed, number):
    """Sample `number` of pixel (x, y): along a camera ray, or along row `row` of the given rays, if any."""
    key = pixel_key(seed, y * width + x)
    paired = sample_1d(key, number, PAIRED) < settings.pairs
    if len(given_rays) > 0:
        ray = given_rays[row]
        return Sample(key, number, (ray[0], ray[1], ray[2]), (ray[3], ray[4], ray[5]), paired, True, 0.0, WIDE if settings.filtering > 0.0 else 0.0)
    u, v = sample_2d(key, number, PIXEL)
    film_x = (x + 0.5 + tent(u)) / width * 2.0 - 1.0
    film_y = 1.0 - (y + 0.5 + tent(v)) / height * 2.0
    origin, direction = camera_ray(camera, film_x, film_y, key, number, sample_1d(key, number, SHUTTER))
    across = settings.filtering * 2.0 * camera[4, 0] / width
    parallel = camera[4, 2] > 0.0
    return Sample(key, number, origin, direction, paired, False, across if parallel else 0.0, 0.0 if parallel else across)


@kernel
def begin_turn(settings, sample, key):
    """A path at the sample's origin."""
    return Start(
        Ray(sample.origin, sample.direction, 0.0, 0, BLACK, 0.0, sample.width, sample.spread),
        Carried(WHITE, WHITE, BLACK if sample.gathering and settings.caustics else WHITE, WHITE),
        State(not sample.gathering, False, NOTHING, False, 1 if sample.gathering else 0, 0, 0),
        Sent(BASE, BLACK, 1.0, 0, 1.0),
        Arrival(sample.origin, UP, CAMERA_ORIGIN, 0.0, BLACK, True, NO_REGION, 0.0),
        0, EITHER, key, key, 0.0, False, NOT_SERVED, False,
    )  # fmt: skip


@kernel
def begin_path(row):
    """Nothing has been found on a path yet."""
    put_colour(row, FOUND, BLACK)
    row[BEYOND] = 0.0


@kernel
def begun_at(first, carried, sent):
    """The state of another turn from the first surface."""
    return Carried(first.throughput, carried.pending, carried.plain, carried.met), Sent(sent.lobe, sent.gloss, sent.rays, sent.code, first.share)


@kernel
def key_of(sample, replicate):
    """Key of the random numbers from the first surface on."""
    return hash32(sample.key ^ np.uint32(0x5BD1E995)) if replicate > 0 else sample.key


@kernel
def advance(scene, stack, numbers, by, ray, least, way):
    """The next surface along a ray; and the ray, with the layers it has passed. `least`: see `next_surface_or_fork`."""
    triangle, distance, b1, b2, kind, layer = next_surface_or_fork(
        scene, stack, by, numbers.key, numbers.sample, numbers.dimension + CUTOUT, ray.layer, ray.origin, ray.direction, ray.start, least,
        way == REFLECTED,
    )  # fmt: skip
    point = NOWHERE.point
    if triangle != NO_HIT and kind < TINTED:
        point = surface_at(scene, triangle, b1, b2, ray.direction, ray.width + ray.spread * distance)
    passed = Ray(ray.origin, ray.direction, ray.start, layer, ray.absorption, ray.lifted, ray.width, ray.spread)
    return Hit(triangle, distance, b1, b2, kind, point), passed


@kernel
def absorb(carried, ray, distance):
    """The state after a distance through an absorbing medium (Beer's law)."""
    absorption = ray.absorption
    if absorption[0] + absorption[1] + absorption[2] <= 0.0:
        return carried
    stretch = distance - ray.start + ray.lifted
    left = (math.exp(-absorption[0] * stretch), math.exp(-absorption[1] * stretch), math.exp(-absorption[2] * stretch))
    return Carried(multiply(carried.throughput, left), carried.pending, carried.plain, carried.met)


@kernel
def settle(carried):
    """The state once the pending factor applies."""
    return Carried(multiply(carried.throughput, carried.pending), WHITE, carried.plain, carried.met)


@kernel
def least_share(settings, sample, state, sent, way, room):
    """Share of the light at a fork from which on both ways are followed, where there is `room` for one of them to wait. None forks where occlusion
    darkens direct light: that is known of one first surface only."""
    if settings.forks <= 0.0 or settings.occlude_direct > 0.0 or sample.gathering or not state.seen:
        return NEVER
    if way in (LOWER, UPPER) or not (room or way == REFLECTED):
        return NEVER
    return settings.forks / sent.share


@kernel
def reflected_by_pane(scene, hit, ray):
    """Share of the light that a pane reflects, of what it reflects or lets pass."""
    passing, clear = passing_at(scene, hit.triangle, hit.b1, hit.b2, ray.direction)
    return clear / (passing + clear)


@kernel
def take_share(carried, sent, share):
    """The state of a path that goes one way from a fork."""
    left = Carried(scale(carried.throughput, share), carried.pending, carried.plain, carried.met)
    return left, Sent(sent.lobe, sent.gloss, sent.rays, sent.code, sent.share * share)


@kernel
def pass_pane(scene, carried, ray, hit):
    """Go on through a tinted pane."""
    tint = row3(scene.surfaces, surface_row_at(scene, hit.triangle), TINT)
    through = Ray(ray.origin, ray.direction, hit.distance + scene.offset, ray.layer, ray.absorption, 0.0, ray.width, ray.spread)
    return Carried(multiply(carried.throughput, tint), carried.pending, carried.plain, carried.met), through


@kernel
def follow_further(numbers, carried, state):
    """Whether a path ended by a limit continues, as a few do to measure the light beyond, weighted by the inverse of that share."""
    if state.ended_by == NOTHING or sample_1d(numbers.key, numbers.sample, numbers.dimension + FURTHER) >= LOOK_FURTHER:
        return False, carried, state
    raised = Carried(scale(carried.throughput, 1.0 / LOOK_FURTHER), carried.pending, carried.plain, carried.met)
    return True, raised, State(state.seen, state.last, state.ended_by, True, state.diffuse_bounces, state.reflections, state.refractions)


@kernel
def surface_met(scene, settings, sample, vertex, hit, ray, by_pane):
    """How the current point scatters. `by_pane`: whether it is a pane before the first surface."""
    split = vertex == 0 and not by_pane and not sample.gathering and (settings.gi_rays > 1 or settings.glossy_rays > 1)
    base_rays, gloss_rays = float(settings.gi_rays) if split else 0.0, float(settings.glossy_rays) if split else 0.0
    glass, shading = shading_met(scene, object_at(scene, hit.triangle), hit.kind, hit.point, ray.direction, base_rays, gloss_rays, True)
    catches = settings.caustics and hit.kind == OPAQUE and is_wide(hit.point.look, scene.prepared[CAUSTICS].wide)
    return Surface(shading, glass, not glass and luminance(shading.scattering.diffuse) > 0.0, catches, split)


@kernel
def first_surface(scene, settings, memory, sample, numbers, hit, carried, sent, surface):
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
    let_through = 1.0 - settings.occlude_direct * (1.0 - occlusion)
    return First(hit, carried.throughput, albedo, occlusion, let_through, sent.share, branches, gloss_branches)


@kernel
def lower_share(surface, drawn, served):
    """Share of the random numbers that choose a lobe by which glass reflects, or by which gloss does over a base; 0 where nothing is to be chosen."""
    scattering = surface.shading.scattering
    if surface.split or served != NOT_SERVED:
        return 0.0
    if surface.glass:
        return glass_reflects(surface.shading.wo, scattering.alpha, scattering.eta, drawn.u, drawn.v)
    return scattering.gloss_chance + scattering.coat_chance


@kernel
def draw_lobe(settings, sample, numbers, branch, surface, first):
    """Random numbers for scattering, and those of the branch. Where several rays leave, the last branches scatter by the base, others by gloss."""
    by_base = surface.split and branch >= first.gloss_branches
    index, scattering = numbers.sample, surface.shading.scattering
    if surface.split:
        index = sample.number * settings.gi_rays + branch - first.gloss_branches if by_base else sample.number * settings.glossy_rays + branch
    choice = sample_1d(numbers.key, index, numbers.dimension + LOBE)
    u, v = sample_2d(numbers.key, index, numbers.dimension + (BASE_DIRECTION if by_base else DIRECTION))
    if surface.split and not surface.glass:
        choice = 1.0 if by_base else choice * (scattering.gloss_chance + scattering.coat_chance)
    pick = sample_1d(numbers.key, index, numbers.dimension + PICK) if scattering.guided > 0.0 else 1.0
    return Drawn(choice, pick, u, v), Numbers(numbers.key, index, numbers.dimension)


@kernel
def scatter_on(scene, surface, drawn, way, lower):
    """The next direction, its lobe and roughness, and the share of the light that goes this `way` at a fork whose lower way takes `lower`."""
    choice, share = drawn.choice, 1.0
    if way == LOWER:
        choice, share = choice * lower, lower
    elif way != EITHER:
        choice, share = lower + choice * (1.0 - lower), 1.0 - lower
    way_on = scatter(scene, surface.shading, surface.glass, choice, drawn.pick, drawn.u, drawn.v)
    look = surface.shading.point.look
    roughness = look.coat_roughness if way_on.lobe == GLOSS and choice < surface.shading.scattering.coat_chance else look.roughness
    return way_on, roughness, share


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
    pending, plain, met = carried.pending, carried.plain, WHITE if surface.diffuse else carried.plain
    if served != NOT_SERVED:
        pending = way_on.gloss_share
    if surface.catches:
        plain = WHITE if last else BLACK
    elif settings.caustics and surface.diffuse:
        plain = WHITE if served != NOT_SERVED or last else way_on.gloss_share
    return Carried(throughput, pending, plain, met)


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
        carried = Carried(scale(multiply(carried.throughput, kept), 1.0 / survival), carried.pending, carried.plain, carried.met)
    return goes_on, carried, Surface(shading, surface.glass, True, surface.catches, surface.split)


@kernel
def note_scattering(sent, vertex, surface, way_on):
    """The kind of the path after one more scattering; at the first surface also its lobe."""
    code = sent.code * 4 + way_on.lobe + 1 if sent.code < MOST_DIGITS else sent.code
    if vertex > 0:
        return Sent(sent.lobe, sent.gloss, sent.rays, code, sent.share)
    scattering, rays = surface.shading.scattering, 1.0
    if surface.split:
        rays = scattering.base_rays if way_on.lobe == BASE else scattering.gloss_rays + scattering.coat_rays
    return Sent(way_on.lobe, way_on.gloss_share, rays, code, sent.share)


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
    weight = sent.rays / sent.share * (LOOK_FURTHER if state.further else 1.0)
    kept = multiply(carried.throughput, carried.pending)
    survival = min(1.0, weight * max(kept[0], kept[1], kept[2]))
    if expected > 0.0 and served == NOT_SERVED:
        survival = min(1.0, max(LEAST_SURVIVAL, weight * expected))
    survives = sample_1d(numbers.key, numbers.sample, numbers.dimension + ROULETTE) < survival
    if served != NOT_SERVED and not state.further:
        # Roulette applies from the next surface on: a light that this ray itself hits counts in full.
        pending = scale(carried.pending, 1.0 / survival) if survives else BLACK
        last = State(state.seen, not survives, state.ended_by, False, state.diffuse_bounces, state.reflections, state.refractions)
        return True, Carried(carried.throughput, pending, carried.plain, carried.met), last
    if not survives:
        return False, carried, state
    return True, Carried(scale(carried.throughput, 1.0 / survival), carried.pending, carried.plain, carried.met), state


@kernel
def leave(scene, settings, ray, distance, surface, way_on, roughness):
    """The ray that leaves a surface; through glass it enters or leaves the medium. It spreads with the lobe; the curvature of mirrors is left out."""
    point, absorption = surface.shading.point, ray.absorption
    if way_on.through:
        absorption = row3(scene.surfaces, point.surface, ABSORPTION) if point.front else BLACK
    origin = offset_point(point, way_on.direction, settings.offset)
    spread = ray.spread
    if settings.filtering > 0.0:
        spread += WIDE if way_on.lobe == BASE else min(WIDE, 0.5 * roughness * roughness)
    lifted, width = settings.offset / max(abs(way_on.side), 0.1), ray.width + ray.spread * distance
    return Ray(origin, way_on.direction, 0.0, 0, absorption, lifted, width, spread)
