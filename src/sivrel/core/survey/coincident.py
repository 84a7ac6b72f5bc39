"""Surfaces that lie in each other: which of them a ray meets is left to rounding, so that they fleck."""

import numpy as np

from .finding import Finding, Mend, box_of, point, short
from .look import Look

APART = 1.5e-4
"""Metres within which two surfaces are one."""
PARALLEL = 0.9995
LEAST = 12
"""Places seen that must lie in two surfaces."""


def check(look: Look) -> list[Finding]:
    """At every place that is seen: does another triangle lie in the same plane there?"""
    if not len(look.seen):
        return []
    largest = np.linalg.norm(np.ptp(look.seen_at, axis=0))
    apart = max(APART, largest * 2e-7)
    pairs: dict[tuple[int, int], list[int]] = {}
    of_plane = _by_plane(look, apart)
    order = np.argsort(look.seen, kind="stable")
    starts = np.flatnonzero(np.diff(look.seen[order], prepend=-1))
    for mine in np.split(order, starts[1:]):
        triangle, p = look.seen[mine[0]], look.seen_at[mine]
        near = np.unique(np.concatenate([groups[keys[triangle]] for keys, groups in of_plane]))
        v = look.vertices[near]
        beside = (v.min(axis=1) - apart <= p.max(axis=0)).all(axis=1) & (v.max(axis=1) + apart >= p.min(axis=0)).all(axis=1)
        near = near[beside & (near != triangle) & (np.abs(look.normals[near] @ look.normals[triangle]) > PARALLEL) & ~look.see_through[near]]
        if not len(near):
            continue
        off = np.abs(np.einsum("nij,nj->ni", p[None] - look.vertices[near, 0][:, None], look.normals[near]))
        for k in range(len(near)):
            inside = (off[k] < apart) & _within(p, look.vertices[near[k]], look.normals[near[k]])
            if inside.any():
                key = tuple(sorted((int(look.object_of[triangle]), int(look.object_of[near[k]]))))
                pairs.setdefault(key, []).extend(mine[inside].tolist())  # type: ignore[arg-type]
    found = []
    for (a, b), places in pairs.items():
        where = np.unique(places)
        if len(where) >= LEAST:
            found.append(_finding(look, a, b, where))
    return found


def _by_plane(look: Look, apart: float) -> list[tuple[np.ndarray, list[np.ndarray]]]:
    """Twice, with cells shifted by half: the number of each triangle's plane, and the triangles of each plane."""
    n = look.normals
    major = np.abs(n).argmax(axis=1)
    n = n * np.where(np.take_along_axis(n, major[:, None], axis=1) < 0.0, -1.0, 1.0)
    off = np.einsum("ij,ij->i", n, look.vertices[:, 0])
    found = []
    for shift in (0.0, 0.5):
        cells = np.round(np.column_stack([n * 200.0, off / (8.0 * apart)]) + shift).astype(np.int64)
        mixed = (((cells[:, 0] + 512) * 1024 + cells[:, 1] + 512) * 1024 + cells[:, 2] + 512) * (1 << 32) + (cells[:, 3] & 0xFFFFFFFF)
        _, keys = np.unique(mixed, return_inverse=True)
        order = np.argsort(keys, kind="stable")
        found.append((keys, np.split(order, np.flatnonzero(np.diff(keys[order])) + 1)))
    return found


def _within(p: np.ndarray, triangle: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """bool [n]: whether points in a triangle's plane lie inside it, a little off its edges."""
    a, b, c = triangle
    area = max(float(np.cross(b - a, c - a) @ normal), 1e-30)
    weights = [np.cross(q - p, r - p) @ normal / area for q, r in ((b, c), (c, a), (a, b))]
    return np.min(weights, axis=0) > 0.01


def _finding(look: Look, a: int, b: int, where: np.ndarray) -> Finding:
    names = list(dict.fromkeys((look.meshes[a].name, look.meshes[b].name)))
    at, share = look.seen_at[where], len(where) / look.rays
    small = min((a, b), key=lambda k: look.areas[look.object_of == k].sum())
    doubled = a == b
    title = f"{short(names[0])} has surfaces twice in the same place." if doubled else f"{short(names[0])} and {short(names[1])} lie in each other."
    mend = Mend("Delete the second copy in the scene's own program: an object can't be parted from itself here.")
    if not doubled:
        name = look.meshes[small].name
        mend = Mend(f"Hide {short(name)} wherever it lies in the other; or lift it by a millimetre in the scene's own program.", {
            f"object.{name}.camera": False, f"object.{name}.shadows": False, f"object.{name}.bounced": False,
        })  # fmt: skip
    return Finding(
        "coincident",
        title,
        "Rounding decides which of the two a ray meets: flecks of one in the other, speckled shadows, and light that starts behind the wrong one.",
        harm=min(0.8, 0.35 + 3.0 * share),
        at=point(at[len(at) // 2]),
        box=box_of(at),
        objects=names,
        evidence={"share_of_picture": round(share, 4), "apart_m": APART},
        mends=[mend],
        spot=look.spot(at[len(at) // 2]),
    )
