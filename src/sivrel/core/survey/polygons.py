"""Polygons too large to bake on, and rooms whose floor, walls and ceiling are one object."""

import numpy as np

from .finding import Mend, SceneFinding, box_of, point, short
from .look import Look

HUGE = 8.0
"""Length of a triangle, relative to the bake's longest edge, from which a bake starts too coarsely."""
LEAST_EDGE, USUAL_PATCH = 3.0, 0.5
STEEP = 0.7
SIDE = 0.06
"""Share of the picture that floor, ceiling or walls must fill to count."""


def check(look: Look) -> list[SceneFinding]:
    return [*_huge(look), *_one_object(look)]


def _huge(look: Look) -> list[SceneFinding]:
    recipe = look.recipe
    if "baked" not in (recipe.gi.seen, recipe.gi.beyond):
        return []
    patch = float(recipe.flat()["baked.max_edge"]) or USUAL_PATCH
    longest = max(LEAST_EDGE, HUGE * patch)
    v = look.vertices
    edge = np.linalg.norm(v - np.roll(v, -1, axis=1), axis=2).max(axis=1)
    seen = np.zeros(len(v), bool)
    seen[look.seen] = True
    found = []
    for number in np.unique(look.object_of[(edge > longest) & seen]):
        mine = (look.object_of == number) & (edge > longest) & seen
        name, share = look.meshes[number].name, look.share(np.flatnonzero(mine))
        if share < 0.02:
            continue
        found.append(
            SceneFinding(
                "huge polygons", f"{short(name)} has {mine.sum()} polygons up to {edge[mine].max():.1f} m long, and light is to be baked on it.",
                "A bake distributes light by patches: on a polygon this large it starts with too few, and errors spread over the whole face.",
                harm=min(0.6, 0.25 + share), at=point(v[mine][0].mean(axis=0)), box=box_of(v[mine]), objects=[name],
                evidence={"longest_edge_m": round(float(edge[mine].max()), 2), "share_of_picture": round(share, 4)},
                mends=[
                    Mend(f"Split its edges to {2.0 * patch:g} m.", {f"object.{name}.longest_edge": round(2.0 * patch, 3)}),
                ],
                spot=look.spot(v[mine][0].mean(axis=0)),
            )
        )  # fmt: skip
    return found


def _one_object(look: Look) -> list[SceneFinding]:
    if not look.inside:
        return []
    found = []
    up = look.seen_normals[:, 1]
    for number in np.unique(look.object_of[look.seen]):
        mine = look.object_of[look.seen] == number
        sides = {
            "floor": mine & (up > STEEP) & (look.seen_at[:, 1] < look.eye[1]), "ceiling": mine & (up < -STEEP) & (look.seen_at[:, 1] > look.eye[1]),
            "walls": mine & (np.abs(up) <= STEEP),
        }  # fmt: skip
        shares = {name: float(mask.sum()) / look.rays for name, mask in sides.items()}
        if sum(share > SIDE for share in shares.values()) < 2 or shares["walls"] <= SIDE:
            continue
        v = look.vertices[look.object_of == number]
        around = ((v.min(axis=(0, 1)) < look.eye) & (look.eye < v.max(axis=(0, 1)))).all()
        if not around:
            continue
        name = look.meshes[number].name
        has = " and ".join(n for n, share in shares.items() if share > SIDE)
        found.append(
            SceneFinding(
                "one object", f"{short(name)} is one object that is {has} of the room.",
                "Lights can't be linked to one of them, none can be refined or hidden by itself, and a bake smooths over their corners.",
                harm=0.2, at=point(v.mean(axis=(0, 1))), box=box_of(v), objects=[name],
                evidence={f"{n}_share_of_picture": round(s, 3) for n, s in shares.items()},
                mends=[Mend("Split it by facing: floor, ceiling and walls become objects of their own.", {f"object.{name}.split": "facing"})],
                spot=look.spot(look.seen_at[mine][0]),
            )
        )  # fmt: skip
    return found
