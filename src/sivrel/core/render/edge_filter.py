"""The edge-aware filter: an average of a picture guided by its passes, for machines where Open Image Denoise does not run.

Dammertz et al. 2010, "Edge-Avoiding À-Trous Wavelet Transform for fast Global Illumination Filtering": five rounds of a small
kernel whose holes double, each neighbour weighed by how alike its colour, normal and place are. As Schied et al. 2017,
"Spatiotemporal Variance-Guided Filtering" (sections 4.3 and 4.4), without the temporal part: colour is divided by albedo first, and the
tolerance for colour follows from the measured variance, which is filtered along. To keep fireflies from spreading, a pixel that far
outshines all its neighbours is clamped to them first.
"""

import numpy as np

from ..kernel import called_kernel

ROUNDS = 5
COLOUR, NORMAL, PLACE, ALBEDO = 3.0, 64.0, 1.0, 0.08
"""How far neighbours may differ: luminance in standard errors; exponent of the normals' cosine; distance from the tangent plane in
steps of a pixel's width there; albedo."""
FIREFLY = 3.0
"""A pixel this many times brighter than the brightest of its neighbours is clamped to that one."""
LEAST_ALBEDO = 0.02
LUMINANCE = np.array([0.2126, 0.7152, 0.0722], np.float32)


@called_kernel
def _round(colour, variance, normal, position, albedo, spacing, step, filtered, filtered_variance):
    rows, columns = colour.shape[0], colour.shape[1]
    for y in range(rows):
        for x in range(columns):
            # Variance is smoothed before it is used as a tolerance: unsmoothed it is as grainy as the picture.
            around, weights = 0.0, 0.0
            for j in range(max(0, y - 1), min(rows, y + 2)):
                for i in range(max(0, x - 1), min(columns, x + 2)):
                    weight = (2.0 if j == y else 1.0) * (2.0 if i == x else 1.0)
                    around += weight * variance[j, i]
                    weights += weight
            error = np.sqrt(around / weights) * COLOUR + 1e-6
            light = 0.2126 * colour[y, x, 0] + 0.7152 * colour[y, x, 1] + 0.0722 * colour[y, x, 2]
            r = g = b = total = total_variance = 0.0
            for dj in range(-2, 3):
                j = y + dj * step
                if j < 0 or j >= rows:
                    continue
                for di in range(-2, 3):
                    i = x + di * step
                    if i < 0 or i >= columns:
                        continue
                    weight = (0.375 if dj == 0 else 0.25 if abs(dj) == 1 else 0.0625) * (0.375 if di == 0 else 0.25 if abs(di) == 1 else 0.0625)
                    if dj != 0 or di != 0:
                        cos = off_plane = apart = 0.0
                        for c in range(3):
                            cos += normal[y, x, c] * normal[j, i, c]
                            off_plane += normal[y, x, c] * (position[j, i, c] - position[y, x, c])
                            apart += (albedo[y, x, c] - albedo[j, i, c]) ** 2
                        other = 0.2126 * colour[j, i, 0] + 0.7152 * colour[j, i, 1] + 0.0722 * colour[j, i, 2]
                        weight *= max(0.0, cos) ** NORMAL
                        weight *= np.exp(-abs(light - other) / error - abs(off_plane) / (PLACE * spacing[y, x] * step) - apart / (ALBEDO * ALBEDO))
                    r += weight * colour[j, i, 0]
                    g += weight * colour[j, i, 1]
                    b += weight * colour[j, i, 2]
                    total += weight
                    total_variance += weight * weight * variance[j, i]
            filtered[y, x, 0], filtered[y, x, 1], filtered[y, x, 2] = r / total, g / total, b / total
            filtered_variance[y, x] = total_variance / (total * total)


@called_kernel
def _hold_fireflies(colour, held):
    """Clamp a pixel that far outshines all its neighbours to the brightest of them."""
    rows, columns = colour.shape[0], colour.shape[1]
    for y in range(rows):
        for x in range(columns):
            mine = 0.2126 * colour[y, x, 0] + 0.7152 * colour[y, x, 1] + 0.0722 * colour[y, x, 2]
            most = 0.0
            for j in range(max(0, y - 1), min(rows, y + 2)):
                for i in range(max(0, x - 1), min(columns, x + 2)):
                    if j != y or i != x:
                        light = 0.2126 * colour[j, i, 0] + 0.7152 * colour[j, i, 1] + 0.0722 * colour[j, i, 2]
                        most = max(most, light)
            scale = most / mine if mine > FIREFLY * most and most > 0.0 else 1.0
            for c in range(3):
                held[y, x, c] = colour[y, x, c] * scale


def edge_filtered(passes: dict[str, np.ndarray]) -> np.ndarray:
    """The beauty of `passes` (as core.render.passes names them) filtered, float32 [rows, columns, 3]: visible emission stays as it is, the rest is
    divided by albedo, averaged, and multiplied back. Raises KeyError where a guiding pass is missing."""
    beauty = passes["beauty"][..., :3].astype(np.float32)
    emission, albedo = passes["emission"].astype(np.float32), passes["albedo"].astype(np.float32)
    normal, position = passes["normal"].astype(np.float32), passes["position"].astype(np.float32)
    normal = normal / np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-6)
    there = np.isfinite(passes["depth"][..., 0]) & (passes["object"][..., 0] >= 0)
    # The background is treated as one distant wall, since a pane in front of it may reflect grain.
    normal = np.where(there[..., None], normal, np.array([0.0, 0.0, 1.0], np.float32))
    position = np.where(there[..., None], position, np.float32(0.0))
    base = np.maximum(albedo, LEAST_ALBEDO)
    colour = np.ascontiguousarray((beauty - emission) / base)
    variance = np.where(np.isfinite(passes["variance"]), passes["variance"], 0.0)
    light_variance = np.ascontiguousarray(((np.sqrt(np.maximum(variance, 0.0)) / base) @ LUMINANCE) ** 2, np.float32)
    across = np.gradient(position, axis=1)
    spacing = np.linalg.norm(across, axis=2).astype(np.float32)
    typical = float(np.median(spacing[there])) if there.any() else 1.0
    spacing = np.ascontiguousarray(np.clip(spacing, 0.2 * typical + 1e-9, 4.0 * typical + 1e-9))
    held = np.empty_like(colour)
    _hold_fireflies(colour, held)
    guides = [np.ascontiguousarray(plane) for plane in (normal, position, albedo)]
    for k in range(ROUNDS):
        filtered, filtered_variance = np.empty_like(held), np.empty_like(light_variance)
        _round(held, light_variance, *guides, spacing, 1 << k, filtered, filtered_variance)
        held, light_variance = filtered, filtered_variance
    return (held * base + emission).astype(np.float32)
