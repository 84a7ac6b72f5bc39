"""Moving shots for tests: a room that a camera passes through, as scenes and as a USD file."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from sivrel.core.edits.edits import Edits
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.through_time import Moving
from sivrel.core.scene.model import Light, Scene
from sivrel.core.sequence.judge import Judge, Judged
from sivrel.core.sequence.render import Sequence

from .rooms import box, looking_at
from .scenes import box_inside, lambert

BRIGHT = 0.0
"""Exposure of the cameras, in stops."""


def at_time(time: float, pan: float = 0.0, lamp: float = 0.0, slide: float = 0.0) -> Scene:
    """A closed room of two metres with a block in it, at a time code: camera, lamp and block move by so many metres a frame."""
    room = replace(box_inside(1.0), name="Walls")
    block = box("Block", (-0.45 + slide * time, -1.0, -0.5), (0.15 + slide * time, -0.2, 0.1), 1)
    light = Light("Lamp", "sphere", (1.0, 0.9, 0.8), (0.5 + lamp * time, 0.6, 0.2), intensity=25.0, radius=0.15)
    camera = looking_at("Eye", (-0.3 + pan * time, 0.1, 0.9), (-0.05 + pan * time, -0.25, -0.5), BRIGHT)
    return Scene("room", [room, block], [lambert(0.7), lambert((0.5, 0.3, 0.2))], [light], [camera])


def sequence(values: dict, frames=(1, 2, 3), size=(64, 36), seed: int = 0, **motion: float) -> Sequence:
    """Frames of that room with a recipe."""
    name = f"room {sorted(motion.items())}"
    moving = Moving(lambda time: at_time(time, **motion), tuple(float(frame) for frame in frames), name)
    return Sequence(moving, with_values(Recipe(), values), Edits(), None, Frame(*size, seed=seed), name="room", threads=2)


def judged(shot: Sequence, filtered: bool = False) -> list[Judged]:
    """All frames of a sequence, rendered and judged."""
    judge, found = Judge(filtered=filtered), []
    for time in shot.frames:
        found += judge.add(shot.render(time).picture)
    return [*found, *judge.finish()]


def levels(shot: Sequence, filtered: bool = False) -> np.ndarray:
    return np.array([one.flicker.level for one in judged(shot, filtered) if one.flicker is not None])


def write_usda(path: Path, frames: int = 6, pan: float = 0.02) -> Path:
    """The room as a USD file whose camera moves."""
    corners = [(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]
    inwards = [(0, 4, 6, 2), (1, 3, 7, 5), (0, 1, 5, 4), (2, 6, 7, 3), (0, 2, 3, 1), (4, 5, 7, 6)]
    outwards = [face[::-1] for face in inwards]

    def mesh(name: str, points: list, faces: list, colour: tuple) -> str:
        return f"""
    def Mesh "{name}" {{
        int[] faceVertexCounts = [{", ".join("4" for _ in faces)}]
        int[] faceVertexIndices = [{", ".join(str(k) for face in faces for k in face)}]
        point3f[] points = [{", ".join(f"({x}, {y}, {z})" for x, y, z in points)}]
        uniform token subdivisionScheme = "none"
        color3f[] primvars:displayColor = [{colour}]
        bool doubleSided = 1
    }}"""

    small = [(-0.15 + 0.3 * x, -0.6 + 0.4 * y, -0.2 + 0.3 * z) for x, y, z in corners]
    places = ", ".join(f"{k}: ({-0.3 + pan * k}, 0.1, 0.9)" for k in range(1, frames + 1))
    path.write_text(f"""#usda 1.0
(
    defaultPrim = "Shot"
    metersPerUnit = 1
    upAxis = "Y"
    startTimeCode = 1
    endTimeCode = {frames}
    timeCodesPerSecond = 24
)
def Xform "Shot" {{{mesh("Walls", corners, inwards, (0.7, 0.7, 0.7))}{mesh("Block", small, outwards, (0.5, 0.3, 0.2))}
    def SphereLight "Lamp" {{
        float inputs:intensity = 25
        float inputs:radius = 0.15
        color3f inputs:color = (1, 0.9, 0.8)
        double3 xformOp:translate = (0.5, 0.6, 0.2)
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }}
    def Camera "Eye" {{
        float focalLength = 20
        float horizontalAperture = 36
        float verticalAperture = 20.25
        float3 xformOp:rotateXYZ = (-14, -6, 0)
        double3 xformOp:translate.timeSamples = {{{places}}}
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"]
    }}
}}
""")
    return path
