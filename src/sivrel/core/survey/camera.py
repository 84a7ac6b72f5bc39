"""The camera: inside an object, so close to one that it fills the picture, or with an exposure that does not fit the light."""

from typing import Any

import numpy as np

from ..finish.finishing import measured_exposure
from ..render.film import film_beauty, film_columns
from ..render.frame import Frame, assemble
from ..render.recipe import Recipe
from ..render.tiles import render_tiles
from .finding import Mend, SceneFinding, point, short
from .glow import glow_reaches
from .look import Look

NEAR, NEAR_SHARE = 0.05, 0.04
"""Distance in metres within which an object is in the way, and the share of the picture that it must fill."""
STOPS = 3.0
"""Stops by which the exposure may deviate on purpose."""
PILOT = (48, 27)
"""Pixels of the small render used to judge exposure."""


def check(look: Look) -> list[SceneFinding]:
    inside = _inside(look) or _sees_nothing(look)
    return inside or [*_too_near(look), *_exposure(look)]


def _said(
    look: Look, kind: str, title: str, why: str, harm: float, mends: list[Mend], evidence: dict[str, Any], objects: tuple[str, ...] = ()
) -> SceneFinding:
    at = point(look.eye)
    return SceneFinding(kind, title, why, harm, at, (at, at), [look.camera.name, *objects], evidence, mends, spot=(0.5, 0.5))


def _inside(look: Look) -> list[SceneFinding]:
    solid = look.solid_at(look.eye)
    if solid is None:
        return []
    forward, world = -look.camera.to_world[:, 2], look.camera.to_world
    share = next((s for s in np.linspace(0.02, 3.0, 150) if abs(look.winding((look.eye + forward * s)[None], solid)[0]) < 0.5), None)
    mends = [Mend("Move the camera out of it.")]
    if share is not None:
        at, aim = look.eye + forward * (share + 0.05), world[:, 3] + forward * (share + 5.0)
        mends = [
            Mend(f"Move the camera {share + 0.05:.2f} m ahead, out of it.", {
                f"camera.{look.camera.name}.at": ",".join(f"{v:.3f}" for v in at),
                f"camera.{look.camera.name}.towards": ",".join(f"{v:.3f}" for v in aim),
            })
        ]  # fmt: skip
    return [
        _said(
            look, "camera inside", f"The camera {look.camera.name} is inside {short(solid.name)}.", "It sees the backs of its faces, or nothing.",
            1.0, mends, {"inside": solid.name}, (solid.name,),
        )
    ]  # fmt: skip


def _sees_nothing(look: Look) -> list[SceneFinding]:
    if not look.sees_nothing:
        return []
    low, high = look.scene.bounds()
    middle = ",".join(f"{v:.3f}" for v in (low + high) / 2.0)
    mend = Mend("Turn it to the middle of the scene.", {f"camera.{look.camera.name}.towards": middle})
    return [_said(look, "camera sees nothing", f"The camera {look.camera.name} sees nothing.", "None of its rays hits anything.", 1.0, [mend], {})]


def _too_near(look: Look) -> list[SceneFinding]:
    near = look.seen_distance < NEAR
    share = float(near.sum()) / look.rays
    if share < NEAR_SHARE or look.camera.orthographic:
        return []
    number = int(np.bincount(look.object_of[look.seen[near]]).argmax())
    name = look.meshes[number].name
    return [
        _said(
            look, "camera too near",
            f"{short(name)} is {look.seen_distance[near].min() * 100:.1f} cm before the camera and fills {share:.0%} of the picture.",
            "It is out of focus, shades what is behind it, and is cut off by a camera with a near clipping plane.", 0.5 + 0.5 * share,
            [Mend(f"Hide {short(name)} from the camera only.", {f"object.{name}.camera": False})],
            {"share_of_picture": round(share, 3), "nearest_m": round(float(look.seen_distance.min()), 4)}, (name,),
        )
    ]  # fmt: skip


def _exposure(look: Look) -> list[SceneFinding]:
    """By a small render with a few bounces."""
    tiles: dict[int, Any] = {}
    frame = Frame(*PILOT)
    render_tiles(look.arrays, look.camera, PILOT_RECIPE, frame, tiles.__setitem__, threads=2)
    beauty = film_beauty(assemble(frame, film_columns(look.arrays.slots), tiles))
    light = beauty @ (0.2126, 0.7152, 0.0722)
    if not np.isfinite(light).all() or light.max() <= 0.0:
        if glow_reaches(look):
            return []  # it is lit by glow that the few pilot paths did not find: the glow has a finding of its own
        return [_said(look, "no light", "Nothing in the picture is lit.", "No light of the shot reaches anything the camera sees.", 1.0, [
            Mend("See the findings on lights, or add a light.", {"light.FirstLight.kind": "dome"}),
        ], {"brightest": 0.0})]  # fmt: skip
    right = float(measured_exposure(beauty))
    off = look.camera.exposure - right
    if abs(off) <= STOPS:
        return []
    word = "over" if off > 0.0 else "under"
    return [
        _said(
            look, "exposure", f"The picture is {word}exposed by about {abs(off):.1f} stops.",
            "Burnt and black areas can't be judged: noise looks smaller or larger than it is, and visibility is judged for the wrong brightness.",
            min(0.6, 0.1 * abs(off)),
            [Mend(f"Set the camera's exposure to {right:+.1f} stops.", {f"camera.{look.camera.name}.exposure": round(right, 1)})],
            {"stops": round(off, 2), "camera_exposure": look.camera.exposure, "measured_exposure": round(right, 2)},
        )
    ]  # fmt: skip


PILOT_RECIPE = Recipe()
