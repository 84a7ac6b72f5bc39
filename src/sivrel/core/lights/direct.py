"""Direct light: found by aiming at lights and by rays that hit them by chance, weighted by the power heuristic (Veach 1997,
section 9.2.4, with the sample counts of equation 9.8)."""

from typing import NamedTuple

from ..guide.directions import guided_density
from ..kernel import called_kernel, kernel
from ..scene.arrays import (
    BOTH_SIDES,
    CAMERA,
    DIFFUSE,
    EMITTER_SIDES,
    FAR,
    FLAGS,
    GLOWS,
    GUIDE,
    LEAF,
    LIT,
    MESH,
    RAYS,
    SHADOWING,
    SKIP,
    SLOT,
    SPECULAR,
    TINTS,
    WAY,
    is_linked,
)  # fmt: skip
from ..scene.arrays import KIND as LIGHT_KIND
from ..scene.triangles import mesh_light_at, object_at
from ..shadows.traced import TRACED
from ..shadows.ways import light_share, share_from
from ..surfaces.preview import BASE as BASE_PART
from ..surfaces.preview import GLASS, evaluate_parts
from ..surfaces.preview import GLOSS as GLOSS_PART
from ..surfaces.surface_at import offset_point
from ..trace.sampler import sample_1d, sample_2d
from ..trace.simd import cycles
from ..trace.traverse import NO_HIT
from ..vector import add, dot, luminance, multiply, part_of, scale, to_local
from .choice import chance_of_light, light_chosen
from .emitters import BLACK, DELTA, meet_light, sample_light
from .mesh_emitter import mesh_density, mesh_radiance
from .tree import enters

CAMERA_ORIGIN = -1
"""The object that a camera ray starts on: none."""
MOST_DIMENSIONS = 3000
# Columns of the tally, a row for each light pass: light; its luminance without and with shadow.
UNHINDERED, REACHING = 3, 4
TALLY_COLUMNS = 5
THROUGH = 1e30
"""Marks a ray that went through glass: lights are not aimed at there, so a light it hits counts in full."""


class Arrival(NamedTuple):
    """The start of a ray: point, normal and object; the density of its direction (0: by the
    camera, THROUGH: through glass); the glossy share of its colour; and whether lights were aimed at there as at points
    the camera sees; the guide's region of the point; and, where the point is connected to light paths, the bound of that, else 0."""

    position: tuple
    normal: tuple
    object: int
    density: float
    gloss: tuple
    seen: bool
    region: int
    bound: float


@kernel
def _power_heuristic(mine, other):
    return mine * mine / (mine * mine + other * other)


@kernel
def _keep(tally, slot, colour):
    tally[slot, 0] += colour[0]
    tally[slot, 1] += colour[1]
    tally[slot, 2] += colour[2]


@kernel
def keep_parts(parts, glass, gloss, colour):
    """Add light to the parts [3, 3] by what scattered it first: by glass, or by base and gloss, with `gloss` as the glossy share."""
    for c in range(3):
        if glass:
            parts[GLASS, c] += colour[c]
        else:
            parts[GLOSS_PART, c] += gloss[c] * colour[c]
            parts[BASE_PART, c] += (1.0 - gloss[c]) * colour[c]


@kernel
def lights_object(scene, i, row):
    """Whether light `i` lights the object `row` (light linking)."""
    return is_linked(scene, row, int(scene.lights[i, LIT]))


@kernel
def _aimed_count(scene, settings, arrival, i):
    """Average number of samples that were aimed at light `i` from a ray's start."""
    if not arrival.seen:
        return chance_of_light(scene, arrival.region, i, arrival.position, arrival.normal)
    if settings.every_light:
        return scene.lights[i, RAYS]
    return settings.draws * chance_of_light(scene, arrival.region, i, arrival.position, arrival.normal)


@kernel
def factors(scene, i, gloss):
    """A light's factor for base and gloss, for a colour with the glossy share `gloss`."""
    by_base, by_gloss = scene.lights[i, DIFFUSE], scene.lights[i, SPECULAR]
    if by_base == 1.0 and by_gloss == 1.0:
        return 1.0, 1.0, 1.0
    return (
        by_base + (by_gloss - by_base) * gloss[0],
        by_base + (by_gloss - by_base) * gloss[1],
        by_base + (by_gloss - by_base) * gloss[2],
    )


@called_kernel
def _met(scene, settings, memory, arrival, i, origin, d, start, distance):
    """Radiance of light `i` where a ray hits it between `start` and `distance`, weighted against aiming at it."""
    by_camera = arrival.density <= 0.0
    if by_camera and scene.lights[i, CAMERA] == 0.0:
        return BLACK
    # If shadows are not only what rays hit, the ray looks past its hit and asks the light's own shadow way.
    needs_shadow_query = (
        not by_camera and scene.needs_shadow_query and (scene.filtered or scene.lights[i, WAY] != TRACED or scene.lights[i, SHADOWING] >= 0.0)
    )
    at, radiance, aimed = meet_light(scene, i, origin, arrival.normal, d, FAR if needs_shadow_query else distance)
    if at < 0.0 or at <= start:
        return BLACK
    if by_camera:
        return radiance
    if not lights_object(scene, i, arrival.object):
        return BLACK
    weight = _power_heuristic(arrival.density, aimed * _aimed_count(scene, settings, arrival, i))
    if needs_shadow_query and weight > 0.0:
        radiance = multiply(radiance, light_share(scene, memory.stack, i, origin, d, at, NO_HIT))
    return multiply(scale(radiance, weight), factors(scene, i, arrival.gloss))


@called_kernel
def lights_met(scene, settings, memory, replicate, arrival, origin, d, start, distance, throughput, direct):
    """Light of all lights that a ray hits between `start` and `distance` metres, times `throughput`; stored in the tally of the replicate if
    `direct`."""
    total = BLACK
    limit = FAR if scene.needs_shadow_query and arrival.density > 0.0 else distance
    for k in range(len(scene.distant) if limit >= FAR else 0):
        i = scene.distant[k]
        light = multiply(throughput, _met(scene, settings, memory, arrival, i, origin, d, start, distance))
        total = add(total, light)
        if direct:
            _keep(memory.tally[replicate], int(scene.lights[i, SLOT]), light)
    count = len(scene.tree)
    if count == 0:
        return total
    tiny = 1e-18
    inverse = (
        1.0 / (d[0] if abs(d[0]) > tiny else tiny),
        1.0 / (d[1] if abs(d[1]) > tiny else tiny),
        1.0 / (d[2] if abs(d[2]) > tiny else tiny),
    )
    node = 0
    while node < count:
        if not enters(scene.tree, node, origin, inverse, limit):
            node = int(scene.tree[node, SKIP])
            continue
        i = int(scene.tree[node, LEAF])
        if i >= 0:
            light = multiply(throughput, _met(scene, settings, memory, arrival, i, origin, d, start, distance))
            total = add(total, light)
            if direct:
                _keep(memory.tally[replicate], int(scene.lights[i, SLOT]), light)
        node += 1
    return total


@kernel
def glow_met(scene, settings, memory, replicate, arrival, hit, point, d, distance, throughput, direct):
    """Emission of a surface `point` that a ray along `d` hit on triangle `hit`, times `throughput`: its own where it
    only glows or the camera sees it, else as its mesh light states, weighted against aiming at it. `distance` is from the
    start of the ray."""
    number = mesh_light_at(scene, hit)
    light, slot = point.emission, 0
    if number < 0:
        if scene.objects[object_at(scene, hit), FLAGS] & GLOWS == 0:
            return BLACK
        light = multiply(throughput, light)
    else:
        i = number
        slot = int(scene.lights[i, SLOT])
        if arrival.density > 0.0:
            aimed_at = scene.lights[i, EMITTER_SIDES] > 0.0
            if (aimed_at and scene.needs_shadow_query and arrival.density < THROUGH) or not lights_object(scene, i, arrival.object):
                return BLACK  # found by aiming only: its shadow way may differ from what the ray hit
            if scene.lights[i, TINTS] == 0.0 and not (point.front or scene.surfaces[point.surface, BOTH_SIDES] > 0.0):
                return BLACK
            light, weight = mesh_radiance(scene, i, light), 1.0
            if aimed_at and light[0] + light[1] + light[2] > 0.0:
                cos = dot(point.geometric_normal, d)
                aimed = mesh_density(scene, i, hit, arrival.position, arrival.normal, distance, cos) * _aimed_count(scene, settings, arrival, i)
                weight = _power_heuristic(arrival.density, aimed)
            light = scale(light, weight)
        light = multiply(multiply(throughput, light), factors(scene, i, arrival.gloss))
    if direct:
        _keep(memory.tally[replicate], slot, light)
    return light


@called_kernel
def lights_aimed_at(scene, settings, memory, replicate, key, sample, choices, dimension, shading, throughput, seen, direct):
    """Direct light at a point, scattered towards the eye, found by aiming, times `throughput`:
    at all lights, each with its own rays, or at some chosen by importance, where the camera looks; at one light elsewhere.

    `choices` and `dimension` are the first dimensions of the random numbers for choosing and for aiming. Stored in the
    tally of the replicate if `direct`, with each light's cycles in its clock; and in its parts, by what scattered it.
    """
    count = len(scene.lights)
    total = BLACK
    if count == 0:
        return total
    if seen and settings.every_light:
        for i in range(count):
            before = cycles()
            rays = int(scene.lights[i, RAYS])
            for k in range(rays):
                u, v = sample_2d(key, sample * rays + k, dimension + i % MOST_DIMENSIONS)
                light = _aim(scene, settings, memory, replicate, shading, i, float(rays), u, v, throughput, direct)
                total = add(total, light)
            if direct:
                memory.clock[replicate, int(scene.lights[i, SLOT])] += float(cycles() - before)
        return total
    draws = settings.draws if seen else 1
    point = shading.point
    for k in range(draws):
        before = cycles()
        chosen, chance = light_chosen(scene, shading.region, point.position, point.normal, sample_1d(key, sample * draws + k, choices))
        if chance <= 0.0:
            continue
        u, v = sample_2d(key, sample * draws + k, dimension)
        light = _aim(scene, settings, memory, replicate, shading, chosen, draws * chance, u, v, throughput, direct)
        total = add(total, light)
        if direct:
            memory.clock[replicate, int(scene.lights[chosen, SLOT])] += float(cycles() - before)
    return total


@called_kernel
def _aim(scene, settings, memory, replicate, shading, i, samples, u, v, throughput, direct):
    """One sample of light `i`, of which `samples` are taken on average."""
    if not lights_object(scene, i, shading.row):
        return BLACK
    point = shading.point
    p, n = point.position, point.normal
    d, distance, radiance, density, triangle = sample_light(scene, i, p, n, u, v)
    if density == 0.0 or dot(d, point.geometric_normal) <= 0.0:
        return BLACK
    scattering = shading.scattering
    by_guide = guided_density(scene.prepared[GUIDE], shading.region, p, d) if scattering.guided > 0.0 else 0.0
    base, gloss, scattered = evaluate_parts(scattering, shading.wo, to_local(shading.x, shading.y, n, d), by_guide)
    colour = add(scale(base, scene.lights[i, DIFFUSE]), scale(gloss, scene.lights[i, SPECULAR]))
    value = multiply(throughput, colour)
    if value[0] + value[1] + value[2] <= 0.0:
        return BLACK
    light = scale(multiply(value, radiance), 1.0 / samples)
    weight = 1.0
    if density != DELTA:
        light = scale(light, 1.0 / density)
        # A mesh light that needs shadow queries is found by aiming only; see glow_met.
        if not (scene.needs_shadow_query and scene.lights[i, LIGHT_KIND] == MESH):
            weight = _power_heuristic(density * samples, scattered)
    share = share_from(scene, memory.stack, i, p, offset_point(point, d, settings.offset), d, distance, triangle)
    found = scale(multiply(light, share), weight)
    if direct:
        slot = int(scene.lights[i, SLOT])
        memory.tally[replicate, slot, UNHINDERED] += luminance(light)
        memory.tally[replicate, slot, REACHING] += luminance(multiply(share, light))
        _keep(memory.tally[replicate], slot, found)
        keep_parts(memory.parts[replicate], scattering.eta > 0.0, part_of(scale(gloss, scene.lights[i, SPECULAR]), colour), found)
    return found
