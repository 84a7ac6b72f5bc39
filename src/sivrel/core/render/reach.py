"""For a pixel: which lights reach its point, how much each brings, and what blocks them."""

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from ..kernel import called_kernel
from ..lights.direct import lights_object
from ..lights.emitters import DELTA, sample_light
from ..numba_byref import by_reference
from ..pack.lights import active_lights
from ..pack.objects import packed_meshes
from ..scene.arrays import BY_CAMERA, DIFFUSE, SHADOWING, SPECULAR
from ..scene.triangles import object_at
from ..shadows.traced import stops
from ..shadows.ways import share_from
from ..surfaces.next_surface import next_surface
from ..surfaces.preview import evaluate_parts, scattering_at
from ..surfaces.surface_at import offset_point, surface_at
from ..trace.sampler import pixel_key, sample_2d
from ..trace.traverse import NO_HIT, closest_hit, make_stack
from ..vector import add, dot, frame, luminance, multiply, scale, to_local
from .film import camera_over
from .prepare import Prepared
from .rays import camera_ray

SAMPLES = 256
OK, LINKED_AWAY, BEHIND = 0, 1, 2


@dataclass(frozen=True)
class LightReach:
    """brings: luminance towards the camera; unhindered: the same without any blocker; blockers: share of the
    rays that each object stops, most first; why: the reason if nothing arrives although nothing blocks it."""

    name: str
    brings: float
    unhindered: float
    blockers: list[tuple[str, float]]
    why: str

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


@dataclass(frozen=True)
class Spot:
    """object: name of the visible mesh; position in metres; lights: strongest first."""

    object: str
    position: tuple[float, float, float]
    lights: list[LightReach]


@called_kernel
def _spot(scene_arrays, camera, x, y, offset, samples, stack, found, brings, unhindered, reason, blocked):
    """Fill: found float64 [5] (whether anything is seen, position, object), per light brings and unhindered float64,
    reason int64, and blocked float64 [lights, objects], the share of rays that each object is the first to block."""
    scene = by_reference(scene_arrays)
    key = pixel_key(0, 0)
    origin, d = camera_ray(camera, x, y, key, 0, 0.0)
    hit, _, b1, b2, _, _ = next_surface(scene, stack, BY_CAMERA, key, 0, 0, 0, origin, d, 0.0)
    if hit == NO_HIT:
        return
    point = surface_at(scene, hit, b1, b2, d, 0.0)
    row = object_at(scene, hit)
    found[0], found[1], found[2], found[3], found[4] = 1.0, point.position[0], point.position[1], point.position[2], row
    tx, ty = frame(point.normal)
    wo = to_local(tx, ty, point.normal, scale(d, -1.0))
    scattering = scattering_at(point.look, 0.0, 0.0, 0.0, wo[2])
    for i in range(len(scene.lights)):
        reason[i] = 2
        if not lights_object(scene, i, row):
            reason[i] = 1
            continue
        for k in range(samples):
            u, v = sample_2d(key, k, 16 + i)
            wi, distance, radiance, density, triangle = sample_light(scene, i, point.position, point.normal, u, v)
            if density == 0.0 or dot(wi, point.geometric_normal) <= 0.0:
                continue
            base, gloss, _ = evaluate_parts(scattering, wo, to_local(tx, ty, point.normal, wi), 0.0)
            value = add(scale(base, scene.lights[i, DIFFUSE]), scale(gloss, scene.lights[i, SPECULAR]))
            light = luminance(multiply(value, radiance)) / (1.0 if density == DELTA else density) / samples
            if light <= 0.0:
                continue
            reason[i] = 0
            start = offset_point(point, wi, offset)
            unhindered[i] += light
            brings[i] += light * luminance(share_from(scene, stack, i, point.position, start, wi, distance, triangle))
            passed, reach = 0.0, distance * (1.0 - 1e-6) - offset - scene.offset
            for _ in range(64):
                q = add(start, scale(wi, passed))
                hit, t, _, _ = closest_hit(scene.bvh, stack, q[0], q[1], q[2], wi[0], wi[1], wi[2], 0.0, reach - passed)
                if hit == NO_HIT:
                    break
                if hit != triangle and stops(scene, hit, int(scene.lights[i, SHADOWING])):
                    blocked[i, object_at(scene, hit)] += 1.0 / samples
                    break
                passed += t + scene.offset


def what_reaches(prepared: Prepared, size: tuple[int, int], x: float, y: float, ray_offset: float = 0.0) -> Spot | None:
    """The spot under pixel (x, y) of a frame of `size`, or None where the camera sees nothing."""
    scene, arrays = prepared.scene, prepared.arrays
    width, height = size
    lights, meshes = active_lights(scene), packed_meshes(scene)
    found, brings, unhindered = np.zeros(5), np.zeros(len(lights)), np.zeros(len(lights))
    reason, blocked = np.zeros(len(lights), np.int64), np.zeros((len(lights), max(1, len(meshes))))
    eye = camera_over(*2 * (prepared.camera,), width, height)
    eye[6, 0] = eye[13, 0] = 0.0  # through the middle of the lens
    fx, fy = x / width * 2.0 - 1.0, 1.0 - y / height * 2.0
    _spot(arrays, eye, fx, fy, ray_offset or arrays.offset, SAMPLES, make_stack(), found, brings, unhindered, reason, blocked)
    if not found[0]:
        return None
    reaches = []
    for i, light in enumerate(lights):
        order = np.argsort(-blocked[i], kind="stable")[:3]
        blockers = [(meshes[k].name, float(blocked[i, k])) for k in order if blocked[i, k] > 0.005]
        why = {0: "", 1: "is linked to other objects", 2: "does not shine this way"}[int(reason[i])]
        reaches.append(LightReach(light.name, float(brings[i]), float(unhindered[i]), blockers, why))
    reaches.sort(key=lambda r: (-r.brings, -r.unhindered))
    return Spot(meshes[int(found[4])].name, (float(found[1]), float(found[2]), float(found[3])), reaches)
