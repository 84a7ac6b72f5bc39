"""The steps of a light path that add light: what it meets, what is aimed at, and what is looked up."""

import math

from ..gi.ambient import AMBIENT, ambient_at
from ..gi.brute_force import BRUTE_FORCE
from ..gi.way import INDIRECT, NOT_SERVED, WHOLE, WITH_GLOSS, Spot
from ..gi.ways import look_up_at
from ..kernel import kernel
from ..lights.direct import glow_met, keep_parts, lights_aimed_at, lights_met
from ..lights.emitters import BLACK
from ..numba_byref import by_passing_reference
from ..surfaces.next_surface import TINTED
from ..surfaces.preview import GLASS, is_rough
from ..trace.traverse import NO_HIT
from ..vector import add, luminance, multiply, scale
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
from .path_state import (
    AIMED,
    BY_CHANCE,
    BY_DIFFUSE,
    BY_REFRACTIONS,
    CHOICE,
    GLOW,
    LIGHTS,
    LOOKUP,
    MIRROR_ROUGHNESS,
    MOST_BOUNCES,
    MOST_SHINE,
    NOTHING,
    OCCLUSION,
)
from .rays import occlusion_at


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
    if hit.triangle != NO_HIT and hit.kind < TINTED:
        glow = glow_met(scene, settings, memory, replicate, arrival, hit.triangle, hit.point, ray.direction, hit.distance, lit, near)
    met, glow = multiply(met, carried.met), multiply(glow, carried.met)
    if vertex > 0 and not state.further:
        keep_brightest(row, sent.code, BY_CHANCE, met)
        keep_brightest(row, sent.code, GLOW, glow)
    met = add(met, glow)
    if vertex > 1 or state.further:
        keep_light(row, state.further, FOUND, met)
    elif vertex == 1:
        add_to(row, DIRECT, met)
        keep_parts(memory.parts[replicate], sent.lobe == GLASS, sent.gloss, met)
    elif not sample.gathering:
        add_to(row, MET, met)


@kernel
def note_guides(row, hit, surface, share):
    """Add albedo and normal for the noise filter, times the path's share of the sample, unless the surface is glass or a mirror: then what is seen in
    it will do. Whether it did."""
    if surface.glass or (not surface.diffuse and hit.point.look.roughness < MIRROR_ROUGHNESS):
        return False
    add_to(row, GUIDE_ALBEDO, scale(hit.point.look.base, share))
    add_to(row, GUIDE_NORMAL, scale(hit.point.normal, share))
    row[GUIDE_SHARE] += share
    return True


@kernel
def look_up(scene, settings, memory, sample, numbers, vertex, hit, ray, state, surface):
    """Irradiance of bounced light from the way in use, that of caustics, and what caustics send to the eye by gloss; which were found, and whether
    the first is by a connection, which leaves out what is near."""
    point, scattering = hit.point, surface.shading.scattering
    by_rays, by_photons, shine, served = BLACK, BLACK, BLACK, NOT_SERVED
    address = (settings.seen_lookup if state.seen else settings.beyond_lookup) if surface.diffuse else 0
    # A connection knows nothing of absorption: none is made inside a medium that absorbs.
    absorbs = ray.absorption[0] + ray.absorption[1] + ray.absorption[2] > 0.0
    connects = settings.connect != 0 and surface.diffuse and (settings.seen if state.seen else settings.beyond) == BRUTE_FORCE and not absorbs
    if address != 0 or settings.caustics or connects:
        spot = by_passing_reference(
            Spot(
                point.position, point.geometric_normal, point.normal, scale(ray.direction, -1.0), point.look, hit.triangle, hit.b1, hit.b2,
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
            shine = memory.shine[0], memory.shine[1], memory.shine[2]
        if connects:
            by_rays, _ = look_up_at(settings.connect, (scene, memory, spot, sample.number))
    return by_rays, by_photons, shine, served, connects


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
def add_light_looked_up(scene, settings, memory, replicate, numbers, vertex, carried, state, surface, first, by_rays, by_photons, caught, served):
    """Add the reflected part of looked-up light and of flat ambient light; `caught`: what caustics send to the eye by gloss."""
    shading, scattering, row = surface.shading, surface.shading.scattering, memory.found[replicate]
    reflected, shine = scale(scattering.diffuse, scattering.left_o * scattering.coat_left_o), BLACK
    if served in (WHOLE, WITH_GLOSS):
        # Gloss isn't traced from here, so it reflects the looked-up light as if it were diffuse.
        plain = luminance(reflected) + scattering.coat_left_o * scattering.escape_o * luminance(scattering.multiscatter)
        gloss = plain / (1.0 - scattering.gloss_chance - scattering.coat_chance) - plain
        shine = add(scale(scattering.multiscatter, scattering.escape_o * scattering.coat_left_o), (gloss, gloss, gloss))
    arriving = multiply(carried.throughput, scale(add(by_rays, by_photons), 1.0 / math.pi))
    glossy = multiply(carried.throughput, scale(by_rays, 1.0 / math.pi)) if surface.catches else arriving
    base, shine = multiply(reflected, arriving), multiply(shine, glossy)
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
    if surface.catches:
        shine = add(shine, multiply(carried.throughput, caught if surface.diffuse else multiply(caught, carried.plain)))
    keep_light(row, state.further, BY_GLOSS if vertex == 0 else FOUND, shine)


@kernel
def end_path(row, state, sent, branches, served):
    """Add a path's results to its replicate, by what scattered it first; and its light beyond a limit. `branches`: turns of the replicate; `served`:
    what was looked up at the first surface: then all else is gloss."""
    found = colour_in(row, FOUND)
    if sent.lobe == GLASS:
        add_to(row, BY_GLASS, found)
    else:
        gloss = found if served != NOT_SERVED else multiply(sent.gloss, found)
        add_to(row, BY_GLOSS, gloss)
        add_to(row, BY_BASE, add(found, scale(gloss, -1.0)))
    if state.ended_by != NOTHING:
        row[LEFT + state.ended_by - BY_DIFFUSE] += row[BEYOND]
    row[ENDED_IN_GLASS] += (sent.share if state.ended_by == BY_REFRACTIONS else 0.0) / branches


@kernel
def apply_clamp(row, most):
    """Clamp the luminance of a replicate's indirect light to `most`, if that is not 0."""
    bright = luminance(colour_in(row, BY_BASE)) + luminance(colour_in(row, BY_GLOSS)) + luminance(colour_in(row, BY_GLASS))
    if most > 0.0 and bright > most:
        row[CLAMPED] = bright - most
        for place in (BY_BASE, BY_GLOSS, BY_GLASS):
            put_colour(row, place, scale(colour_in(row, place), most / bright))
