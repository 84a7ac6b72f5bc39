"""The light path from the eye to the lights, top to bottom.

At every point that a path meets, light that comes straight from the lights is found by aiming at them (next-event
estimation) and by chance (the scattered ray meets a light); see `lights/direct.py`. Light that has bounced is found the
way that the recipe chooses: `seen` where the camera looks, also in mirrors; `beyond` everywhere after.
"""

import math
from typing import NamedTuple

import numpy as np

from ..gi.off import OFF
from ..kernel import called_kernel, kernel
from ..lights.direct import CAMERA_ORIGIN, Arrival, Shading, glow_met, lights_aimed_at, lights_met
from ..lights.emitters import BLACK, FAR
from ..reference import by_passing_reference
from ..scene.arrays import BY_BOUNCED, BY_CAMERA, FLAGS
from ..scene.surface_at import offset_point, opacity_at, surface_at
from ..shadows.traced import MOST_LAYERS
from ..surfaces.preview import evaluate_parts, sample_direction, scattering_at
from ..trace.sampler import sample_1d, sample_2d
from ..trace.simd import cycles
from ..trace.traverse import NO_HIT, closest_hit
from ..vector import add, dot, frame, luminance, multiply, row3, scale, to_local, to_world

MIRROR_ROUGHNESS = 0.1
"""What is met in a surface smoother than this counts as seen."""

# Dimensions of the random numbers: a block for each point of the path.
PIXEL, LENS, POINTS, PER_POINT = 0, 1, 16, 4096
CUTOUT, FURTHER, LOBE, DIRECTION, ROULETTE, CHOICE, LIGHTS = 0, 1000, 1024, 1025, 1026, 1027, 1028
# What ends a path: nothing yet, a limit of diffuse bounces, of reflections, or of all.
NOTHING, BY_DIFFUSE, BY_REFLECTIONS, BY_TOTAL = 0, 1, 2, 3
LOOK_FURTHER = 0.03125
"""Share of the paths ended by a limit that are followed on all the same, to measure what the limit leaves out."""
MOST_VERTICES = 256


class PathSettings(NamedTuple):
    """A recipe as the kernels read it; offset in metres, bounces as counts; every_light: whether all lights are aimed at
    where the camera looks, or `draws` chosen ones; clamp: most luminance of a sample's indirect light, 0 for any."""

    seen: int
    beyond: int
    diffuse_bounces: int
    reflections: int
    total: int
    clamp: float
    offset: float
    every_light: bool
    draws: int


class PathResult(NamedTuple):
    """Radiance of one sample, and what its camera ray met first; hit 0 when that was nothing, object -1.

    clamped: luminance that the clamp took off; left: luminance that lies beyond the limits of diffuse bounces, reflections
    and all, found by following a few paths further; self_hits: rays that met the very triangle they left
    """

    direct: tuple
    indirect: tuple
    hit: float
    albedo: tuple
    normal: tuple
    position: tuple
    object: int
    clamped: float
    left: tuple
    self_hits: float


@called_kernel
def trace_path(scene, settings, memory, key, sample, origin, direction):
    """One path from the camera: a `PathResult`. Direct light is added to the memory's tally by light pass, cycles
    to its clock. Scene, settings and memory are references."""
    direct, indirect = BLACK, BLACK
    throughput = (1.0, 1.0, 1.0)
    hit_any, albedo, normal, position = 0.0, BLACK, BLACK, BLACK
    arrival = Arrival(origin, (0.0, 0.0, 1.0), CAMERA_ORIGIN, 0.0, BLACK, True)
    diffuse_bounces, reflections = 0, 0
    seen, last, ended_by, further = True, False, NOTHING, False
    beyond, self_hits, first_object, left_triangle = 0.0, 0.0, np.int64(-1), NO_HIT
    ray_origin, d = origin, direction
    vertex, scattered_at = 0, cycles()
    while True:
        dimension = POINTS + vertex * PER_POINT
        by = BY_CAMERA if vertex == 0 else BY_BOUNCED
        hit, distance, b1, b2 = _next_surface(scene, memory.stack, by, key, sample, dimension + CUTOUT, ray_origin, d)

        near = vertex <= 1
        if hit != NO_HIT and hit == left_triangle:
            self_hits += 1.0
        met = lights_met(scene, settings, memory, arrival, ray_origin, d, distance, throughput, near)
        if hit != NO_HIT:
            point = surface_at(scene, hit, b1, b2, d)
            cos = dot(point.geometric_normal, d)
            met = add(met, glow_met(scene, settings, memory, arrival, hit, cos, point.emission, distance, throughput, near))
        if further:
            beyond += luminance(met)
        elif near:
            direct = add(direct, met)
        else:
            indirect = add(indirect, met)
        if hit == NO_HIT or vertex >= MOST_VERTICES:
            break
        if last and not further:
            # The path ends here; a few are followed on, raised by how few they are, to measure what lies beyond.
            if ended_by == NOTHING or sample_1d(key, sample, dimension + FURTHER) >= LOOK_FURTHER:
                break
            further = True
            throughput = scale(throughput, 1.0 / LOOK_FURTHER)

        wo_world = scale(d, -1.0)
        x, y = frame(point.normal)
        wo = to_local(x, y, point.normal, wo_world)
        scattering = scattering_at(point.base, point.roughness, point.metallic, point.ior, wo[2])
        row = np.int64(scene.object_of[hit])
        if vertex == 0:
            hit_any, normal, position = 1.0, point.normal, point.position
            albedo, first_object = point.base, row

        first = vertex == 0
        shading = by_passing_reference(Shading(point, row, scattering, x, y, wo))
        aimed = lights_aimed_at(
            scene, settings, memory, key, sample, dimension + CHOICE, dimension + LIGHTS, shading, throughput, seen, first,
        )  # fmt: skip
        if further:
            beyond += luminance(aimed)
        elif first:
            direct = add(direct, aimed)
        else:
            indirect = add(indirect, aimed)

        choice = sample_1d(key, sample, dimension + LOBE)
        u, v = sample_2d(key, sample, dimension + DIRECTION)
        wi, glossy = sample_direction(scattering, wo, choice, u, v)
        base, gloss, density = evaluate_parts(scattering, wo, wi)
        d = to_world(x, y, point.normal, wi)
        if density <= 0.0 or dot(d, point.geometric_normal) <= 0.0:
            break
        value = add(base, gloss)
        throughput = multiply(throughput, scale(value, 1.0 / density))

        way = settings.seen if seen else settings.beyond
        if glossy:
            reflections += 1
        else:
            diffuse_bounces += 1
        # The scattered ray is followed once more even where bouncing ends: it may meet a light (direct light by chance).
        if not last:
            if way == OFF:
                last = True
            elif diffuse_bounces > settings.diffuse_bounces:
                last, ended_by = True, BY_DIFFUSE
            elif reflections > settings.reflections:
                last, ended_by = True, BY_REFLECTIONS
            elif diffuse_bounces + reflections > settings.total:
                last, ended_by = True, BY_TOTAL
        arrival = Arrival(point.position, point.normal, row, density, _share(gloss, value), seen)
        seen = seen and glossy and point.roughness < MIRROR_ROUGHNESS
        if not last or further:
            # Russian roulette from the first bounce on: on a whitewashed room it gives a third less noise in equal time
            # than from the fourth. What survives is raised, so nothing is lost on average (Arvo & Kirk 1990).
            raised = LOOK_FURTHER if further else 1.0
            survival = min(1.0, raised * max(throughput[0], throughput[1], throughput[2]))
            if sample_1d(key, sample, dimension + ROULETTE) >= survival:
                break
            throughput = scale(throughput, 1.0 / survival)
        ray_origin, left_triangle = offset_point(point, d, settings.offset), hit
        if vertex == 0:
            scattered_at = cycles()
        vertex += 1
    if vertex > 0:
        memory.clock[len(memory.tally)] += float(cycles() - scattered_at)
    clamped, bright = 0.0, luminance(indirect)
    if settings.clamp > 0.0 and bright > settings.clamp:
        clamped = bright - settings.clamp
        indirect = scale(indirect, settings.clamp / bright)
    left = (
        beyond if ended_by == BY_DIFFUSE else 0.0,
        beyond if ended_by == BY_REFLECTIONS else 0.0,
        beyond if ended_by == BY_TOTAL else 0.0,
    )
    return PathResult(direct, indirect, hit_any, albedo, normal, position, first_object, clamped, left, self_hits)


@kernel
def _share(part, whole):
    """Share of a part in a colour, per channel."""
    return (
        part[0] / whole[0] if whole[0] > 0.0 else 0.0,
        part[1] / whole[1] if whole[1] > 0.0 else 0.0,
        part[2] / whole[2] if whole[2] > 0.0 else 0.0,
    )


@kernel
def _next_surface(scene, stack, by, key, sample, dimension, origin, d):
    """The surface that a ray meets, among the objects that rays of the kind `by` meet, cut-outs passed by chance:
    (triangle, distance, b1, b2). The distance is FAR where nothing is met."""
    start = 0.0
    for layer in range(MOST_LAYERS):
        o = add(origin, scale(d, start))
        hit, t, b1, b2 = closest_hit(scene.bvh, stack, o[0], o[1], o[2], d[0], d[1], d[2], 0.0, FAR)
        if hit == NO_HIT:
            break
        there = not scene.filtered or scene.objects[scene.object_of[hit], FLAGS] & by != 0
        if there and (not scene.cutouts or sample_1d(key, sample, dimension + layer) < opacity_at(scene, hit, b1, b2)):
            return hit, start + t, b1, b2
        start += t + scene.offset
    return NO_HIT, FAR, 0.0, 0.0


@kernel
def camera_ray(camera, x, y, key, sample):
    """Origin and unit direction through the film point (x, y) in [-1, 1], y up. `camera` is camera_array()."""
    right, up, back = row3(camera, 0, 0), row3(camera, 1, 0), row3(camera, 2, 0)
    eye = row3(camera, 3, 0)
    px, py = (x + camera[5, 0]) * camera[4, 0], (y + camera[5, 1]) * camera[4, 1]
    across = add(scale(right, px), scale(up, py))
    forward = scale(back, -1.0)
    if camera[4, 2] > 0.0:  # orthographic
        return add(eye, across), forward
    along = add(forward, across)
    lens, focus = camera[6, 0], camera[6, 1]
    if lens > 0.0:
        u, v = sample_2d(key, sample, LENS)
        r, phi = lens * math.sqrt(u), 2.0 * math.pi * v
        shift = add(scale(right, r * math.cos(phi)), scale(up, r * math.sin(phi)))
        along = add(scale(along, focus), scale(shift, -1.0))
        eye = add(eye, shift)
    return eye, scale(along, 1.0 / math.sqrt(dot(along, along)))
