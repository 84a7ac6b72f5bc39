"""Holes in solids: missing faces, through which the room or the camera can see inside."""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..scene.topology import Topology, volume
from .finding import Mend, SceneFinding, box_of, point, short
from .look import Look, winding_number

LEAST_SIZE = 1.5
"""Size in metres below which an open bottom is common modelling practice: feet, pots, coats."""
SMALL = 0.3
"""Share of the surface above which a hole is an opening: a sheet, a bucket, half a tube."""
MOST_PARTS = 1000
"""Most parts of a mesh that are checked: a hundred thousand loose triangles are not a solid with holes."""
LEAST_THICKNESS = 0.01
"""Least thickness of a solid in metres: twice the volume over the surface, with its holes closed; less is a sheet."""


def check(look: Look) -> list[SceneFinding]:
    found = []
    for triangles, net in look.nets:
        for members in open_parts(net):
            v = look.vertices[triangles[members]]
            glass = look.solid_glass[triangles[members]].all()
            large = np.linalg.norm(np.ptp(v.reshape(-1, 3), axis=0)) > LEAST_SIZE
            if (large or glass) and not look.glows[triangles[members]].any():
                found += _holes_of(look, triangles[members], net, members)
    return found


def open_parts(net: Topology) -> list[np.ndarray]:
    """Triangle numbers of each part with a rim, int64 [n] each, at most MOST_PARTS, largest first."""
    order = np.argsort(net.part, kind="stable")
    parts = np.split(order, np.flatnonzero(np.diff(net.part[order])) + 1)
    at_rim = np.asarray(net.rim().any(axis=1))
    return sorted((part for part in parts if at_rim[part].any()), key=len, reverse=True)[:MOST_PARTS]


def caps_of(look: Look, triangles: np.ndarray, net: Topology, members: np.ndarray) -> tuple[list[np.ndarray], float]:
    """The caps that would close a solid's holes, triangles [n, 3, 3] each, and the volume it would bound; none if the part is not a
    solid with holes but a sheet, or mostly open."""
    caps = [np.stack([np.broadcast_to(loop.mean(axis=(0, 1)), (len(loop), 3)), loop[:, 1], loop[:, 0]], axis=1) for loop in _loops(net, members)]
    areas = [_area(cap) for cap in caps]
    own = float(look.areas[triangles].sum())
    if not 0.0 < sum(areas) < SMALL * own:
        return [], 0.0
    closed = np.concatenate([look.vertices[triangles], *caps])
    bound = volume(closed)
    return ([], 0.0) if abs(bound) * 2.0 / own < LEAST_THICKNESS or _holds_camera(look, closed) else (caps, bound)


def _area(cap: np.ndarray) -> float:
    return 0.5 * float(np.linalg.norm(np.cross(cap[:, 1] - cap[:, 0], cap[:, 2] - cap[:, 0]).sum(axis=0)))


def _holes_of(look: Look, triangles: np.ndarray, net: Topology, members: np.ndarray) -> list[SceneFinding]:
    caps, bound = caps_of(look, triangles, net, members)
    own = float(look.areas[triangles].sum())
    found = []
    name = look.meshes[look.object_of[triangles[0]]].name
    for cap in caps:
        middle, area = cap[0, 0], _area(cap)
        out = np.cross(cap[:, 1] - cap[:, 0], cap[:, 2] - cap[:, 0]).sum(axis=0) * np.sign(bound)
        out /= max(float(np.linalg.norm(out)), 1e-30)
        start = middle + out * max(10.0 * look.offset, 0.002)
        eyes = look.air[:: max(1, len(look.air) // 96)]
        seen = look.sees(np.broadcast_to(start, eyes.shape), eyes) & ((eyes - start) @ out > 0.0)
        glass = bool(look.solid_glass[triangles].all())
        if not seen.any() or area < (0.0 if glass else 1e-4):
            continue
        if glass:
            found.append(_of_glass(look, triangles, middle, cap, area, own))
            continue
        width = float(np.sqrt(area))
        low, high = cap.reshape(-1, 3).min(axis=0), cap.reshape(-1, 3).max(axis=0)
        card = f"card.Cover{short(name)}At{round(100 * middle[0])}_{round(100 * middle[1])}_{round(100 * middle[2])}"
        span = float(np.linalg.norm(high - low))
        surface = look.scene.surfaces[look.meshes[look.object_of[triangles[0]]].surfaces[0]]
        edits = {
            f"{card}.at": ",".join(f"{x:.4f}" for x in middle), f"{card}.towards": ",".join(f"{x:.4f}" for x in middle + out),
            f"{card}.width": round(span, 3), f"{card}.height": round(span, 3), f"{card}.depth": 0.02,
            f"{card}.color": ",".join(f"{c:.3f}" for c in surface.base_color),
        }  # fmt: skip
        found.append(
            SceneFinding(
                "hole", f"{short(name)} is a solid with a hole, {width:.2f} m wide.",
                "Light enters it and leaks out at the backs of its other faces; a bake has patches inside it, and glass is not solid.",
                harm=min(0.75, 0.3 + 0.5 * float(seen.mean()) + look.share(triangles)), at=point(middle), box=box_of(cap), objects=[name],
                evidence={"hole_m2": round(area, 4), "share_of_surface": round(area / own, 4)},
                mends=[Mend("Cover it with a card in its colour; in the scene's own program, fill the hole.", edits)], spot=look.spot(middle),
            )
        )  # fmt: skip
    return found


def _of_glass(look: Look, triangles: np.ndarray, middle: np.ndarray, cap: np.ndarray, area: float, own: float) -> SceneFinding:
    """Glass with a few missing faces: rays lose track of whether they are inside."""
    name = look.meshes[look.object_of[triangles[0]]].name
    return SceneFinding(
        "hole", f"{short(name)} is solid glass with a hole of {area * 1e4:.3g} cm².",
        "A ray that enters through the hole counts as outside while it is inside: it refracts the wrong way, and is not tinted by the glass.",
        harm=min(0.6, 0.35 + look.share(triangles)), at=point(middle), box=box_of(cap), objects=[name],
        evidence={"hole_m2": round(area, 7), "share_of_surface": round(area / own, 5)},
        mends=[Mend("In the scene's own program, fill the hole or weld the edges that nearly meet.")], spot=look.spot(middle),
    )  # fmt: skip


def _loops(net: Topology, members: np.ndarray) -> list[np.ndarray]:
    """The rims of some triangles, of these numbers, as loops of directed sides, float64 [sides, 2, 3] each."""
    triangle, side = np.nonzero(net.uses[net.edge_of[members]] == 1)
    triangle = members[triangle]
    a, b = net.corners[triangle, side], net.corners[triangle, (side + 1) % 3]
    points, at = np.unique(np.concatenate([a, b]), return_inverse=True)
    a, b = at[: len(a)], at[len(a) :]
    group = connected_components(coo_matrix((np.ones(len(a)), (a, b)), shape=(len(points), len(points))), directed=False)[1][a]
    return [np.stack([net.points[points[a[group == g]]], net.points[points[b[group == g]]]], axis=1) for g in np.unique(group)]


def _holds_camera(look: Look, closed: np.ndarray) -> bool:
    """Whether the camera is inside: then it is a room with openings, not a solid."""
    return abs(float(winding_number(look.eye[None], closed)[0])) > 0.5
