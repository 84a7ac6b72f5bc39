"""Coincident surfaces: rounding decides which of them a ray hits, so they flicker and speckle."""

from collections.abc import Iterator

import numpy as np
from scipy.spatial import cKDTree

from .finding import Mend, SceneFinding, box_of, point, short
from .look import Look

APART = 1.5e-4
"""Distance in metres within which two surfaces coincide."""
PARALLEL = 0.9995
BATCH = 1 << 18
"""Pairs that are tried at a time."""
MOST_PAIRS = 1 << 19
"""Most pairs of the same plane and size that are tested: beyond that, a sample of the visible points is used."""
LEAST = 12
"""Visible points that must lie in two surfaces."""


def check(look: Look) -> list[SceneFinding]:
    """At every visible point: does another triangle lie in the same plane there?"""
    if not len(look.seen):
        return []
    size = float(np.linalg.norm(np.ptp(look.seen_at, axis=0)))
    apart = max(min(APART, 3e-5 * size), 2e-7 * size)
    places: dict[tuple[int, int], list[np.ndarray]] = {}
    for points, triangles in _near(look, apart):
        p, v, n = look.seen_at[points], look.vertices[triangles], look.normals[triangles]
        own = look.seen[points]
        same = (triangles != own) & (np.abs(np.einsum("ij,ij->i", n, look.normals[own])) > PARALLEL) & ~look.see_through[triangles]
        same &= (np.abs(np.einsum("ij,ij->i", p - v[:, 0], n)) < apart) & _within(p, v, n)
        pairs = np.sort(np.stack([look.object_of[own[same]], look.object_of[triangles[same]]], axis=1), axis=1)
        for a, b in np.unique(pairs, axis=0):
            places.setdefault((int(a), int(b)), []).append(points[same][(pairs == (a, b)).all(axis=1)])
    found = []
    for (a, b), parts in places.items():
        where = np.unique(np.concatenate(parts))
        if len(where) >= LEAST:
            found.append(_finding(look, a, b, where))
    return found


def _near(look: Look, apart: float) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Pairs of a visible point and a triangle of the same plane that may cover it: numbers int64 [n] of each, in batches."""
    v = look.vertices
    longest = np.linalg.norm(v - np.roll(v, -1, axis=1), axis=2).max(axis=1)
    for keys in _planes(look, apart):
        of_seen = keys[look.seen]
        candidates = np.flatnonzero(np.isin(keys, of_seen))
        candidates = candidates[np.argsort(keys[candidates], kind="stable")]
        firsts = np.searchsorted(keys[candidates], of_seen), np.searchsorted(keys[candidates], of_seen, side="right")
        for key in np.unique(of_seen):
            points = np.flatnonzero(of_seen == key)
            triangles = candidates[firsts[0][points[0]] : firsts[1][points[0]]]
            if len(triangles) < 2:
                continue
            if len(points) * len(triangles) <= BATCH:
                yield np.repeat(points, len(triangles)), np.tile(triangles, len(points))
                continue
            # Too many to test all pairs: those whose centre is as near as they are long, by size.
            classes = np.floor(np.log2(np.maximum(longest[triangles], 1e-6))).astype(np.int64)
            for size in np.unique(classes):
                members = triangles[classes == size]
                yield from _near_of_size(look, points, members, 2.0 ** (int(size) + 1))


def _near_of_size(look: Look, points: np.ndarray, members: np.ndarray, radius: float) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """The pairs of visible points and triangles whose centre is within `radius` metres, in batches."""
    tree = cKDTree(look.vertices[members].mean(axis=1))
    counts = tree.query_ball_point(look.seen_at[points], radius, return_length=True)
    step = max(1, -(-int(counts.sum()) // MOST_PAIRS))
    points, counts = points[::step], counts[::step]
    batches = np.cumsum(counts) // BATCH
    for batch in np.unique(batches):
        some = points[(batches == batch) & (counts > 0)]
        near = tree.query_ball_point(look.seen_at[some], radius)
        if len(some):
            yield np.repeat(some, [len(n) for n in near]), members[np.concatenate([np.array(n, np.int64) for n in near])]


def _planes(look: Look, apart: float) -> list[np.ndarray]:
    """Twice, in cells shifted by half, the number of each triangle's plane, int64 [triangles]."""
    n = look.normals
    major = np.abs(n).argmax(axis=1)
    n = n * np.where(np.take_along_axis(n, major[:, None], axis=1) < 0.0, -1.0, 1.0)
    off = np.einsum("ij,ij->i", n, look.vertices[:, 0])
    found = []
    for shift in (0.0, 0.5):
        cells = np.round(np.column_stack([n * 200.0, off / (8.0 * apart)]) + shift).astype(np.int64)
        found.append((((cells[:, 0] + 512) * 1024 + cells[:, 1] + 512) * 1024 + cells[:, 2] + 512) * (1 << 32) + (cells[:, 3] & 0xFFFFFFFF))
    return found


def _within(p: np.ndarray, v: np.ndarray, normals: np.ndarray) -> np.ndarray:
    """bool [n]: whether points in the planes of triangles lie inside them, a little off their edges."""
    a, b, c = v[:, 0], v[:, 1], v[:, 2]
    area = np.maximum(np.einsum("ij,ij->i", np.cross(b - a, c - a), normals), 1e-30)
    weights = [np.einsum("ij,ij->i", np.cross(q - p, r - p), normals) / area for q, r in ((b, c), (c, a), (a, b))]
    return np.min(weights, axis=0) > 0.01


def _finding(look: Look, a: int, b: int, where: np.ndarray) -> SceneFinding:
    names = list(dict.fromkeys((look.meshes[a].name, look.meshes[b].name)))
    at, share = look.seen_at[where], len(where) / look.rays
    small = min((a, b), key=lambda k: look.areas[look.object_of == k].sum())
    doubled = a == b
    title = f"{short(names[0])} and {short(names[1])} have surfaces in the same place."
    if doubled:
        title = f"{short(names[0])} has duplicate surfaces in the same place."
    mend = Mend("Delete the second copy in the scene's own program: a part of an object can't be removed here.")
    if not doubled:
        name = look.meshes[small].name
        mend = Mend(f"Leave {short(name)} out; or lift it by a millimetre in the scene's own program.", {f"object.{name}.out": True})
    return SceneFinding(
        "coincident",
        title,
        "Rounding decides which of the two a ray hits: specks of one in the other, speckled shadows, and light that starts behind the wrong one.",
        harm=min(0.8, 0.35 + 3.0 * share),
        at=point(at[len(at) // 2]),
        box=box_of(at),
        objects=names,
        evidence={"share_of_picture": round(share, 4)},
        mends=[mend],
        spot=look.spot(at[len(at) // 2]),
    )
