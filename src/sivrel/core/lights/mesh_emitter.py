"""Meshes that are aimed at: a triangle chosen by its power through an alias table, then a point on it.

Alias table: Walker 1977, "An Efficient Method for Generating Discrete Random Variables with General Distributions", in
the construction of Vose 1991. Uniform points on a triangle: Turk 1990, "Generating Random Points in Triangles".
"""

import math

import numpy as np

from ..kernel import kernel
from ..scene.arrays import BOTH_SIDES, EMISSION, EMISSION_MAP, EMITTER_COUNT, EMITTERS, SceneArrays
from ..scene.surface_at import emission_at
from ..vector import LUMINANCE, cross, dot, scale, subtract

PROBES = np.array([[1 / 3, 1 / 3], [0.1, 0.1], [0.8, 0.1], [0.1, 0.8], [0.45, 0.1], [0.1, 0.45], [0.45, 0.45]])
"""Barycentric weights at which the emission of a textured triangle is looked at."""


def alias_table(weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(threshold float32, alias uint32) of each entry, for positive `weights` (Vose 1991)."""
    n = len(weights)
    scaled = np.asarray(weights, float) * n / np.sum(weights)
    threshold, alias = np.ones(n), np.arange(n, dtype=np.uint32)
    small = [i for i in range(n) if scaled[i] < 1.0]
    large = [i for i in range(n) if scaled[i] >= 1.0]
    while small and large:
        low, high = small.pop(), large.pop()
        threshold[low], alias[low] = scaled[low], high
        scaled[high] -= 1.0 - scaled[low]
        (small if scaled[high] < 1.0 else large).append(high)
    return threshold.astype(np.float32), alias


def emitter_table(geometry: SceneArrays, first: int, last: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, float]:
    """Triangles first..last of the scene as a mesh light.

    Returns the numbers of those that emit; their table uint32 [k, 2] (triangle, alias) and threshold float32 [k];
    the density of their samples per square metre float32 [k]; and the light's strength (luminance times area / 4 x sides).
    """
    corners = geometry.vertices[first:last].reshape(-1, 3, 3).astype(float)
    areas = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rows = geometry.surface_of[first:last]
    glow = geometry.surfaces[rows][:, EMISSION : EMISSION + 3] @ LUMINANCE
    textured = np.flatnonzero(geometry.surfaces[rows][:, EMISSION_MAP] >= 0.0)
    for k in textured:
        seen = [emission_at(geometry, first + int(k), b1, b2) for b1, b2 in PROBES]
        # The least that it counts for keeps a corner that the probes missed from never being sampled.
        glow[k] = max(np.mean(np.array(seen) @ LUMINANCE), 0.02 * np.max(geometry.texels[:, :3] @ LUMINANCE))
    power = areas * glow
    chosen = np.flatnonzero(power > 0.0)
    if len(chosen) == 0:
        return chosen, np.zeros((0, 2), np.uint32), np.zeros(0, np.float32), np.zeros(0, np.float32), 0.0
    threshold, alias = alias_table(power[chosen])
    numbers = chosen + first
    table = np.stack([numbers.astype(np.uint32), alias], axis=1)
    density = (power[chosen] / power.sum() / areas[chosen]).astype(np.float32)
    sides = 1.0 + geometry.surfaces[rows[chosen]][:, BOTH_SIDES].mean()
    return numbers, table, threshold, density, float(power.sum()) * sides / 4.0


@kernel
def sample_mesh(scene, i, p, u, v):
    """A point of mesh light `i` as seen from `p`: (direction, distance, radiance, density per steradian)."""
    lights = scene.lights
    first, count = int(lights[i, EMITTERS]), int(lights[i, EMITTER_COUNT])
    nothing = (0.0, 0.0, 1.0), 0.0, (0.0, 0.0, 0.0), 0.0
    if count == 0:
        return nothing
    at = u * count
    entry = min(int(at), count - 1)
    rest, threshold = at - entry, np.float64(scene.emitter_cut[first + entry])
    # What is left of the number after the choice is as random as it was.
    if rest < threshold:
        rest = rest / threshold
    else:
        rest = (rest - threshold) / max(1.0 - threshold, 1e-12)
        entry = int(scene.emitters[first + entry, 1])
    triangle = scene.emitters[first + entry, 0]
    root = math.sqrt(min(rest, 1.0))
    b1, b2 = root * (1.0 - v), root * v
    w = scene.vertices
    a = (np.float64(w[triangle, 0]), np.float64(w[triangle, 1]), np.float64(w[triangle, 2]))
    e1 = subtract((np.float64(w[triangle, 3]), np.float64(w[triangle, 4]), np.float64(w[triangle, 5])), a)
    e2 = subtract((np.float64(w[triangle, 6]), np.float64(w[triangle, 7]), np.float64(w[triangle, 8])), a)
    q = (a[0] + b1 * e1[0] + b2 * e2[0], a[1] + b1 * e1[1] + b2 * e2[1], a[2] + b1 * e1[2] + b2 * e2[2])
    to_light = subtract(q, p)
    d2 = dot(to_light, to_light)
    n = cross(e1, e2)
    area2 = math.sqrt(dot(n, n))
    if d2 <= 0.0 or area2 <= 0.0:
        return nothing
    distance = math.sqrt(d2)
    d = scale(to_light, 1.0 / distance)
    cos = -dot(d, n) / area2
    if cos == 0.0 or (cos < 0.0 and scene.surfaces[scene.surface_of[triangle], BOTH_SIDES] == 0.0):
        return nothing
    radiance = emission_at(scene, triangle, b1, b2)
    return d, distance, radiance, np.float64(scene.aimed_density[triangle]) * d2 / abs(cos)


@kernel
def mesh_density(scene, triangle, distance, cos):
    """Density per steradian with which `sample_mesh` would have aimed at a point of `triangle`, met at `distance` under
    the cosine `cos` of its normal."""
    return np.float64(scene.aimed_density[triangle]) * distance * distance / max(abs(cos), 1e-12)
