"""Requests about a scene: light reach, plans, camera positions, surveys."""

import base64
import io
import math
from typing import Any

import numpy as np
from PIL import Image

from ..core.render.reach import what_reaches
from ..core.render.recipe import Recipe
from ..core.render.under import placed, surface_under
from ..core.survey.look import Look
from ..core.survey.plan import Drawing, plan_and_elevation
from ..core.survey.standpoint import seen_from
from ..core.survey.survey import survey as look_over
from ..core.trace.traverse import closest_hits
from .facts import light_facts
from .request import Request


def survey(request: Request) -> dict[str, Any]:
    ready = request.prepared()
    task = request.task(lambda what, share, found: {"what": what, "share": share, "findings": [finding.as_dict() for finding in found]})
    return look_over(ready, request.recipe, task).as_dict()


def seen_from_spot(request: Request) -> dict[str, Any]:
    body = request.body
    return seen_from(Look(request.prepared(), Recipe()), np.array([body["x"], body["y"], body["z"]], float))


def reach(request: Request) -> dict[str, Any]:
    body = request.body
    spot = what_reaches(request.prepared(), (body["width"], body["height"]), body["x"], body["y"])
    if spot is None:
        return {"object": None, "lights": []}
    return {"object": spot.object, "position": spot.position, "lights": [light.as_dict() for light in spot.lights]}


def place(request: Request) -> dict[str, Any]:
    """Where something of a kind would be put at a pixel: the values of its edits, and the object it is put on; empty where nothing is."""
    body = request.body
    surface = surface_under(request.prepared(), (body["width"], body["height"]), body["x"], body["y"])
    if surface is None:
        return {"object": None}
    values = {field: ",".join(f"{v:.4f}" for v in value) for field, value in placed(body["kind"], surface).items()}
    return {"object": surface.object, "values": values}


def plan(request: Request) -> dict[str, Any]:
    ready, body = request.prepared(), request.body
    first, second = plan_and_elevation(ready.scene, ready.arrays, ready.camera, body.get("height"), body.get("behind"))
    axes = ready.camera.to_world
    camera = {"at": axes[:, 3].tolist(), "forward": (-axes[:, 2]).tolist(), "right": axes[:, 0].tolist(), "half": ready.camera.half_width}
    return {"plan": _drawing(first), "elevation": _drawing(second), "lights": light_facts(ready.scene), "camera": camera}


def _drawing(drawn: Drawing) -> dict[str, Any]:
    """A drawing for the page: the picture as a data URL, and its position."""
    buffer = io.BytesIO()
    Image.fromarray(drawn.tones).save(buffer, "PNG")
    return {
        "picture": "data:image/png;base64," + base64.b64encode(buffer.getvalue()).decode(),
        "right": drawn.right.tolist(), "up": drawn.up.tolist(), "centre": drawn.centre.tolist(), "half": drawn.half,
        "lines": "".join("M{:.3f} {:.3f}L{:.3f} {:.3f}".format(*line) for line in drawn.lines.reshape(-1, 4).tolist()),
    }  # fmt: skip


def camera(request: Request) -> dict[str, Any]:
    """A camera's position, direction and field of view, and the distance of the point at the centre of its picture, in metres."""
    ready = request.prepared()
    world = ready.camera.to_world
    origin, ahead = world[:, 3], -world[:, 2]
    _, distances = closest_hits(
        ready.arrays.bvh, origin[None].astype(np.float32), ahead[None].astype(np.float32), np.float32(0.0), np.float32(1e30)
    )  # fmt: skip
    low, high = ready.scene.bounds()
    size = float(np.linalg.norm(high - low))
    distance = float(distances[0]) if distances[0] < 1e29 else size / 4.0
    return {
        "at": origin.tolist(), "ahead": ahead.tolist(), "distance": distance, "size": size,
        "view": math.degrees(2.0 * math.atan(ready.camera.half_width)), "orthographic": ready.camera.orthographic,
    }  # fmt: skip
