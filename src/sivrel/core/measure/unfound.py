"""A bound, from the emitters, on the light of glow that is only found by chance and that hardly any sample has found."""

import math

import numpy as np

from ..pictures.exr import Picture
from ..scene.arrays import EMISSION, FLAGS, GLOWS, PART_LIGHT, SceneArrays
from ..scene.triangles import corners_at, of_parts, standing_objects, stored_surfaces
from ..trace.traverse import closest_hits
from .noise import FEW_FINDS, LUMINANCE, relative_weights

SPOTS, MOST_TRIANGLES, RAYS = 300, 4096, 6
"""Points of the picture that are probed, triangles considered, brightest first, and rays from each point."""


def unfound_variance(picture: Picture, arrays: SceneArrays, seed: int = 0) -> float:
    """Mean relative variance of a pixel, weighted as in `measure_noise`, from glowing triangles at the first bounce when they are found
    by chance; 0 if enough samples have found them for the picture's own variance to include it, or nothing glows.

    A cosine-distributed ray hits a triangle with a probability equal to its form factor, and returns its radiance: the second moment is
    that radiance times the triangle's contribution at the point (Veach 1997, section 2.2). Blockers are tested by rays.
    """
    if not {"position", "normal", "albedo", "samples"} <= set(picture.passes) or _is_found(picture):
        return 0.0
    # What glows is stored where it stands.
    surfaces = arrays.surfaces[stored_surfaces(arrays)[: arrays.standing]]
    glow = surfaces[:, EMISSION : EMISSION + 3].astype(np.float64) @ LUMINANCE
    glow *= (arrays.objects[standing_objects(arrays), FLAGS] & GLOWS) != 0
    chosen = np.flatnonzero((glow > 0.0) & (of_parts(arrays, PART_LIGHT) < 0))
    if not len(chosen):
        return 0.0
    corners = corners_at(arrays, chosen)
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    areas = np.linalg.norm(normals, axis=1) / 2.0
    bright = np.argsort(-glow[chosen] * areas)[:MOST_TRIANGLES]
    normals /= np.maximum(2.0 * areas, 1e-30)[:, None]
    chosen, corners, areas, normals = chosen[bright], corners[bright], areas[bright], normals[bright]
    random = np.random.default_rng(seed)
    light = picture.beauty[..., :3].astype(np.float64) @ LUMINANCE
    weights = relative_weights(light)
    seen = np.flatnonzero(picture.beauty[..., 3].reshape(-1) > 0.0)
    if not len(seen):
        return 0.0
    spots = random.choice(seen, min(SPOTS, len(seen)), replace=False)

    def at(name: str) -> np.ndarray:
        return picture.passes[name].reshape(-1, picture.passes[name].shape[-1])[spots].astype(np.float64)

    p, n, albedo, samples = at("position"), at("normal"), at("albedo") @ LUMINANCE, np.maximum(at("samples")[:, 0], 1.0)
    chance = glow[chosen] * areas
    chance /= chance.sum()
    second = np.zeros(len(spots))
    for _ in range(RAYS):
        k = random.choice(len(chosen), len(spots), p=chance)
        root, v = np.sqrt(random.random(len(spots)))[:, None], random.random(len(spots))[:, None]
        on = corners[k, 0] * (1.0 - root) + corners[k, 1] * root * (1.0 - v) + corners[k, 2] * root * v
        to = on - p
        distance = np.linalg.norm(to, axis=1)
        d = to / np.maximum(distance, 1e-9)[:, None]
        here, there = np.einsum("sc,sc->s", d, n), np.abs(np.einsum("sc,sc->s", d, normals[k]))
        hits, _ = closest_hits(arrays.bvh, (p + 4.0 * arrays.offset * n).astype(np.float32), d.astype(np.float32), np.float32(0.0), np.float32(1e30))
        open_ = (hits == chosen[k]) & (here > 0.0)
        factor = np.where(open_, here * there / (math.pi * np.maximum(distance**2, areas[k])), 0.0)
        second += (albedo * glow[chosen[k]]) ** 2 * factor * areas[k] / chance[k] / RAYS
    return float((second / samples * weights[spots]).mean())


def _is_found(picture: Picture) -> bool:
    """Whether enough samples have hit glow after a bounce: contributions that make up most of their pixel's light from glow."""
    found = picture.passes.get("light.glow")
    if found is None:
        return False
    light = found.astype(np.float64) @ LUMINANCE
    emission = picture.passes["emission"].astype(np.float64) @ LUMINANCE if "emission" in picture.passes else 0.0
    return int((light - emission > 1e-3 * max(light.max(), 1e-30)).sum()) >= FEW_FINDS
