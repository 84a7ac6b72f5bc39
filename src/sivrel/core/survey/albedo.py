"""Surfaces that reflect more than any real one: rooms with them are slow, washed out and never dark."""

import numpy as np

from ..edits.mending import mean_base_color
from ..scene.triangles import stored_surfaces
from ..vector import LUMINANCE
from .finding import Mend, SceneFinding, box_of, point, short
from .look import Look

BRIGHTEST = 0.9
"""The highest albedo of real surfaces: fresh snow has 0.8 to 0.9 (Wiscombe & Warren 1980), white paint 0.8."""
LEAST_SEEN = 0.004


def check(look: Look) -> list[SceneFinding]:
    found = []
    seen = np.bincount(_surfaces(look)[look.seen], minlength=len(look.scene.surfaces)) / look.rays
    for number, surface in enumerate(look.scene.surfaces):
        if seen[number] < LEAST_SEEN or surface.metallic > 0.5 or surface.metallic_map or surface.lets_light_pass():
            continue
        albedo = float(mean_base_color(surface) @ LUMINANCE)
        if albedo <= BRIGHTEST:
            continue
        triangles = np.flatnonzero(_surfaces(look) == number)
        names = list(dict.fromkeys(look.meshes[k].name for k in look.object_of[triangles]))
        v = look.vertices[triangles]
        wearer = short(names[0]) + (f" and {len(names) - 1} more" if len(names) > 1 else "")
        found.append(
            SceneFinding(
                "too bright a surface", f"{surface.name}, on {wearer}, reflects {albedo:.0%} of the light.",
                f"After ten bounces {albedo**10:.0%} of the light is left, against {0.8**10:.0%} at 0.8: paths are long, the room looks washed out.",
                harm=min(0.6, 0.2 + seen[number] + 2.0 * (albedo - BRIGHTEST)), at=point(v[0].mean(axis=0)), box=box_of(v), objects=names,
                evidence={"albedo": round(albedo, 3), "share_of_picture": round(float(seen[number]), 4)},
                mends=[Mend("Darken it to 0.8.", {f"object.{name}.brightest": 0.8 for name in names})], spot=look.spot(v[0].mean(axis=0)),
            )
        )  # fmt: skip
    return found


def _surfaces(look: Look) -> np.ndarray:
    """The scene's surface number of each triangle."""
    return stored_surfaces(look.arrays) // 2
