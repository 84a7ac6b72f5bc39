"""The light path from the eye to the lights, top to bottom.

At every point that a path meets, light that comes straight from the lights is found by aiming at them (next-event
estimation) and by chance (the scattered ray meets a light); the two are weighed by the power heuristic (Veach 1997,
section 9.2.4). Light that has bounced is found the way that the recipe chooses: `seen` where the camera looks, also
in mirrors; `beyond` everywhere after.
"""

import math
from typing import NamedTuple

from ..gi.off import OFF
from ..kernel import called_kernel, kernel
from ..lights.emitters import BLACK, DELTA, FAR, choice_chance, choose_light, meet_light, sample_light
from ..scene.surface_at import offset_point, opacity_at, surface_at
from ..shadows.traced import MOST_LAYERS, visibility
from ..surfaces.preview import evaluate, sample_direction, scattering_at
from ..trace.sampler import sample_1d, sample_2d
from ..trace.traverse import NO_HIT, closest_hit
from ..vector import add, dot, frame, multiply, row3, scale, to_local, to_world

MIRROR_ROUGHNESS = 0.1
"""What is met in a surface smoother than this counts as seen."""

# Dimensions of the random numbers: a block for each point of the path.
PIXEL, LENS, POINTS, PER_POINT = 0, 1, 16, 4096
CUTOUT, LOBE, DIRECTION, ROULETTE, CHOICE, LIGHTS = 0, 1024, 1025, 1026, 1027, 1028


class PathSettings(NamedTuple):
    """A recipe as the kernels read it; offset in metres, bounces as counts."""

    seen: int
    beyond: int
    diffuse_bounces: int
    reflections: int
    offset: float


class Arrival(NamedTuple):
    """How a ray set out: from where (with its normal), how densely its direction was sampled (0: by the camera),
    and whether all lights were aimed at there, or a chosen one."""

    position: tuple
    normal: tuple
    density: float
    every_light: bool


class PathResult(NamedTuple):
    """Radiance of one sample, and what its camera ray met first; hit 0 when that was nothing."""

    direct: tuple
    indirect: tuple
    hit: float
    albedo: tuple
    normal: tuple
    position: tuple


@kernel
def trace_path(scene, settings, stack, key, sample, origin, direction):
    """One path from the camera: a `PathResult`."""
    direct, indirect = BLACK, BLACK
    throughput = (1.0, 1.0, 1.0)
    hit_any, albedo, normal, position = 0.0, BLACK, BLACK, BLACK
    arrival = Arrival(origin, (0.0, 0.0, 1.0), 0.0, True)
    diffuse_bounces, reflections = 0, 0
    seen, last = True, False
    ray_origin, d = origin, direction
    vertex = 0
    while True:
        dimension = POINTS + vertex * PER_POINT
        hit, distance, b1, b2, start = _next_surface(scene, stack, key, sample, dimension + CUTOUT, ray_origin, d)

        met = _lights_met(scene, arrival, start, d, distance)
        if hit != NO_HIT:
            point = surface_at(scene, hit, b1, b2, d)
            met = add(met, point.emission)
        if vertex <= 1:
            direct = add(direct, multiply(throughput, met))
        else:
            indirect = add(indirect, multiply(throughput, met))
        if hit == NO_HIT or last:
            break

        wo_world = scale(d, -1.0)
        x, y = frame(point.normal)
        wo = to_local(x, y, point.normal, wo_world)
        scattering = scattering_at(point.base, point.roughness, point.metallic, point.ior, wo[2])
        if vertex == 0:
            hit_any, normal, position = 1.0, point.normal, point.position
            albedo = point.base

        aimed = _light_aimed_at(scene, settings, stack, key, sample, dimension, point, scattering, x, y, wo, vertex == 0)
        if vertex == 0:
            direct = add(direct, multiply(throughput, aimed))
        else:
            indirect = add(indirect, multiply(throughput, aimed))

        choice = sample_1d(key, sample, dimension + LOBE)
        u, v = sample_2d(key, sample, dimension + DIRECTION)
        wi, glossy = sample_direction(scattering, wo, choice, u, v)
        value, density = evaluate(scattering, wo, wi)
        d = to_world(x, y, point.normal, wi)
        if density <= 0.0 or dot(d, point.geometric_normal) <= 0.0:
            break
        throughput = multiply(throughput, scale(value, 1.0 / density))

        way = settings.seen if seen else settings.beyond
        if glossy:
            reflections += 1
        else:
            diffuse_bounces += 1
        # The scattered ray is followed once more even where bouncing ends: it may meet a light (direct light by chance).
        last = way == OFF or diffuse_bounces > settings.diffuse_bounces or reflections > settings.reflections
        seen = seen and glossy and point.roughness < MIRROR_ROUGHNESS
        if not last:
            # Russian roulette from the first bounce on: on a whitewashed room it gives a third less noise in equal time
            # than from the fourth. What survives is raised, so nothing is lost on average (Arvo & Kirk 1990).
            survival = min(1.0, max(throughput[0], throughput[1], throughput[2]))
            if sample_1d(key, sample, dimension + ROULETTE) >= survival:
                break
            throughput = scale(throughput, 1.0 / survival)
        arrival = Arrival(point.position, point.normal, density, vertex == 0)
        ray_origin = offset_point(point, d, settings.offset)
        vertex += 1
    return PathResult(direct, indirect, hit_any, albedo, normal, position)


@kernel
def _next_surface(scene, stack, key, sample, dimension, origin, d):
    """The surface that a ray meets, cut-outs passed by chance: (triangle, distance, b1, b2, origin).

    The distance counts from `origin`, and is FAR where nothing is met.
    """
    start = 0.0
    for layer in range(MOST_LAYERS):
        o = add(origin, scale(d, start))
        hit, t, b1, b2 = closest_hit(scene.bvh, stack, o[0], o[1], o[2], d[0], d[1], d[2], 0.0, FAR)
        if hit == NO_HIT:
            break
        if not scene.cutouts or sample_1d(key, sample, dimension + layer) < opacity_at(scene, hit, b1, b2):
            return hit, start + t, b1, b2, origin
        start += t + scene.offset
    return NO_HIT, FAR, 0.0, 0.0, origin


@kernel
def _lights_met(scene, arrival, origin, d, distance):
    """Radiance of the lights that a ray meets before `distance`, weighed against having aimed at them."""
    total = BLACK
    for i in range(len(scene.lights)):
        at, radiance, aimed = meet_light(scene.lights, i, origin, arrival.normal, d, distance)
        if at < 0.0:
            continue
        weight = 1.0
        if arrival.density > 0.0:
            if not arrival.every_light:
                aimed *= choice_chance(scene.lights, i, arrival.position, arrival.normal)
            weight = _power_heuristic(arrival.density, aimed)
        total = add(total, scale(radiance, weight))
    return total


@kernel
def _light_aimed_at(scene, settings, stack, key, sample, dimension, point, scattering, x, y, wo, every_light):
    """Light that comes straight from the lights to a point and on towards the eye, found by aiming at them:
    at all of them where the camera looks, at one chosen by importance elsewhere."""
    count = len(scene.lights)
    if count == 0:
        return BLACK
    if every_light:
        total = BLACK
        for i in range(count):
            u, v = sample_2d(key, sample, dimension + LIGHTS + i)
            total = add(total, _aim(scene, settings, stack, point, scattering, x, y, wo, i, 1.0, u, v))
        return total
    chosen, chance = choose_light(scene.lights, point.position, point.normal, sample_1d(key, sample, dimension + CHOICE))
    u, v = sample_2d(key, sample, dimension + LIGHTS)
    return _aim(scene, settings, stack, point, scattering, x, y, wo, chosen, chance, u, v)


@called_kernel
def _aim(scene, settings, stack, point, scattering, x, y, wo, light, chance, u, v):
    p, n = point.position, point.normal
    d, distance, radiance, density = sample_light(scene.lights, light, p, n, u, v)
    if density == 0.0 or dot(d, point.geometric_normal) <= 0.0:
        return BLACK
    value, scattered = evaluate(scattering, wo, to_local(x, y, n, d))
    if value[0] + value[1] + value[2] <= 0.0:
        return BLACK
    weight = 1.0 / chance
    if density != DELTA:
        weight *= _power_heuristic(density * chance, scattered) / density
    start = offset_point(point, d, settings.offset)
    weight *= visibility(scene, stack, start, d, distance)
    return scale(multiply(value, radiance), weight)


@kernel
def _power_heuristic(mine, other):
    return mine * mine / (mine * mine + other * other)


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
