"""Camera rays, and occlusion rays."""

import math

import numpy as np

from ..kernel import called_kernel, kernel
from ..scene.arrays import BY_SHADOW
from ..surfaces.next_surface import next_surface
from ..surfaces.surface_at import offset_point
from ..trace.sampler import sample_2d
from ..vector import add, dot, row3, scale, subtract, to_world

LENS, SHUTTER = 1, 3
"""Dimensions of the random numbers that pick a point on the lens, and a moment while the shutter is open."""
CAMERA_ROWS = 7


@kernel
def tent(u):
    """A sample of the reconstruction filter, with density 1 - |x| on [-1, 1]."""
    return np.sqrt(2.0 * u) - 1.0 if u < 0.5 else 1.0 - np.sqrt(2.0 - 2.0 * u)


@called_kernel
def occlusion_at(scene, settings, stack, key, sample, dimension, point, x, y):
    """Share of cosine-distributed rays that reach settings.reach; those that end between settings.near and there count in part;
    1 without occlusion rays."""
    rays = settings.occlusion_rays
    if rays <= 0:
        return 1.0
    away = 0.0
    for k in range(rays):
        u, v = sample_2d(key, sample * rays + k, dimension)
        r, phi = math.sqrt(u), 2.0 * math.pi * v
        d = to_world(x, y, point.normal, (r * math.cos(phi), r * math.sin(phi), math.sqrt(max(0.0, 1.0 - u))))
        if dot(d, point.geometric_normal) <= 0.0:
            continue
        start = offset_point(point, d, settings.offset)
        _, distance, _, _, _, _ = next_surface(scene, stack, BY_SHADOW, key, sample * rays + k, dimension, 0, start, d, 0.0)
        if distance >= settings.reach:
            away += 1.0
        elif distance > settings.near:
            away += ((distance - settings.near) / (settings.reach - settings.near)) ** settings.contrast
    return away / rays


@kernel
def camera_at(camera, moment, row):
    """A row of a camera_over() at a moment of its shutter: 0 as it opens, 1 as it closes."""
    opening, closing = row3(camera, row, 0), row3(camera, row + CAMERA_ROWS, 0)
    return add(opening, scale(subtract(closing, opening), moment))


@kernel
def camera_ray(camera, x, y, key, sample, moment):
    """Origin and unit direction through the film point (x, y) in [-1, 1], y up. `camera` is camera_over(). Between opening and closing its axes go
    straight, which for the few degrees of a shutter's time is as good as turning."""
    right, up, back, eye = camera_at(camera, moment, 0), camera_at(camera, moment, 1), camera_at(camera, moment, 2), camera_at(camera, moment, 3)
    film, shift, optics = camera_at(camera, moment, 4), camera_at(camera, moment, 5), camera_at(camera, moment, 6)
    across = add(scale(right, (x + shift[0]) * film[0]), scale(up, (y + shift[1]) * film[1]))
    forward = scale(back, -1.0)
    if camera[4, 2] > 0.0:  # orthographic
        return add(eye, across), forward
    along = add(forward, across)
    lens, focus = optics[0], optics[1]
    if lens > 0.0:
        u, v = sample_2d(key, sample, LENS)
        r, phi = lens * math.sqrt(u), 2.0 * math.pi * v
        offset = add(scale(right, r * math.cos(phi)), scale(up, r * math.sin(phi)))
        along = add(scale(along, focus), scale(offset, -1.0))
        eye = add(eye, offset)
    return eye, scale(along, 1.0 / math.sqrt(dot(along, along)))
