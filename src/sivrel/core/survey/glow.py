"""A small, distant surface that only glows and yet does much of the lighting: paths hardly ever find it."""

import numpy as np

from .finding import Mend, SceneFinding, box_of, point, short
from .look import Look

POINTS = 256
SMALL = 0.04
"""Its solid angle in steradians, seen from what it lights, below which at most one ray in 150 finds it."""
MUCH = 0.25
"""Share of all direct light."""


def glow_reaches(look: Look) -> bool:
    """Whether a surface that only glows lights visible surfaces."""
    glowing, at, normals = _glowing_over(look)
    return any(_brings(look, k, at, normals)[0].max() > 0.0 for k in glowing)


def _glowing_over(look: Look) -> tuple[list[int], np.ndarray, np.ndarray]:
    """Numbers of the meshes that only glow, and some visible points with their normals [n, 3]; no meshes if nothing is visible."""
    glowing = [k for k, mesh in enumerate(look.meshes) if not mesh.aimed and look.glows[look.object_of == k].any()]
    if not glowing or not len(look.seen):
        return [], np.zeros((0, 3)), np.zeros((0, 3))
    chosen = look.rng.permutation(len(look.seen))[:POINTS]
    return glowing, look.seen_at[chosen] + look.seen_normals[chosen] * 2.0 * look.offset, look.seen_normals[chosen]


def check(look: Look) -> list[SceneFinding]:
    glowing, at, normals = _glowing_over(look)
    if not glowing:
        return []
    others = look.light_at(at, normals, 3)[0].sum(axis=1) if look.lights else np.zeros(len(at))
    brings = {k: _brings(look, k, at, normals) for k in glowing}
    total = others.mean() + sum(light.mean() for light, _ in brings.values())
    found = []
    for k, (light, fills) in brings.items():
        share = float(light.mean() / total) if total > 0.0 else 0.0
        lit = light > 0.0
        if share < MUCH or not lit.any():
            continue
        angle = float(np.average(fills[lit], weights=light[lit]))
        if angle > SMALL:
            continue
        name, v = look.meshes[k].name, look.vertices[(look.object_of == k) & look.glows]
        found.append(
            SceneFinding(
                "small glow", f"{short(name)} only glows, and brings {share:.0%} of the direct light from {angle:.2g} sr.",
                f"Only bounced rays that happen to hit it find it, one in {2.0 * np.pi / angle:,.0f}: fireflies, and a clamp would remove its light.",
                harm=min(0.9, 0.4 + share * 0.5), at=point(v.mean(axis=(0, 1))), box=box_of(v), objects=[name],
                evidence={"share_of_direct_light": round(share, 3), "steradians": round(angle, 5)},
                mends=[Mend("Aim at it like at a light.", {f"object.{name}.aimed": True})], spot=look.spot(v.mean(axis=(0, 1))),
            )
        )  # fmt: skip
    return found


def _brings(look: Look, number: int, at: np.ndarray, normals: np.ndarray, samples: int = 8) -> tuple[np.ndarray, np.ndarray]:
    """Luminance of the irradiance from a glowing mesh at points, and its solid angle there in steradians."""
    numbers = np.flatnonzero((look.object_of == number) & look.glows)
    glow = np.where(look.glow[numbers] > 0.0, look.glow[numbers], 1.0)
    weights = look.areas[numbers] * glow
    light, angle = np.zeros(len(at)), np.zeros(len(at))
    both = look.meshes[number].double_sided
    area = float(look.areas[numbers].sum())
    for _ in range(samples):
        chosen = look.rng.choice(numbers, len(at), p=weights / weights.sum())
        mix = look.rng.dirichlet((1.0, 1.0, 1.0), len(at))
        target = np.einsum("nk,nkj->nj", mix, look.vertices[chosen])
        way = target - at
        distance = np.maximum(np.linalg.norm(way, axis=1), 1e-6)
        d = way / distance[:, None]
        out = -np.einsum("ij,ij->i", look.normals[chosen], d)
        out = np.abs(out) if both else np.maximum(out, 0.0)
        hits, met = look.cast(at, d)
        clear = (hits < 0) | (met > distance * 0.999 - 8.0 * look.offset)
        falls = out / distance**2 * clear
        light += weights.sum() * falls * np.maximum(np.einsum("ij,ij->i", normals, d), 0.0) / samples
        angle += area * falls / samples
    return light, angle
