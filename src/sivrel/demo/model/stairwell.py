"""`stairwell`: the stair of the Skerry Light by night, climbed by the camera; 96 frames at 24 a second.

A spiral of stone steps round an open well. Lanterns hang along the wall, a lamp swings on its chain in the well, and the door of a landing opens on
moonlight.
"""

from pathlib import Path

import numpy as np

from . import pictures
from .parts import Array, Part, box, coil, curve, flipped, join, lathe, rope, sheet, tube
from .stage import Stage

FIRST, LAST, RATE = 1, 96, 24.0
WELL, WALL, TOP = 0.62, 2.15, 10.2
"""Radii of the open well and of the wall, and height of the ceiling, in metres."""
RISE, PER_TURN, STEPS = 0.195, 16, 46
LANDING = 22
"""Number of the step that is a landing, with the door."""
LANTERNS = 44
SWING, PERIOD = 6.0, 4.16
"""Degrees to each side, and seconds, of the lamp on the chain."""
PIVOT = (0.0, 9.9, 0.0)
CHAIN = 4.25
DOOR_ANGLE = 74.0
"""Degrees by which the door stands open at the end."""
EYE, STRIDE = 1.52, 11.0
"""Height of the camera over the stair, in metres, and the steps that it climbs."""


def at(turn: float, radius: float, height: float) -> Array:
    """A point by its steps along the spiral, its radius and its height in metres."""
    a = 2.0 * np.pi * turn / PER_TURN
    return np.array([radius * np.sin(a), height, radius * np.cos(a)])


def wedge(start: float, end: float, low: float, high: float, inner: float = WELL, outer: float = WALL + 0.05) -> Part:
    """A solid between two places on the spiral, two heights and two radii; its nose is worn round."""
    count = 7
    turn = np.linspace(start, end, count)
    rim = [(inner, low), (outer, low), (outer, high), (inner, high)]
    grid = np.stack([[at(t, r, y) for r, y in (*rim, rim[0])] for t in turn])
    skin = flipped(sheet(grid))
    ends = [sheet(np.array([[at(t, *rim[0]), at(t, *rim[1])], [at(t, *rim[3]), at(t, *rim[2])]])) for t in (start, end)]
    return join(skin, ends[0], flipped(ends[1]))


def _tower(stage: Stage) -> None:
    # Niches and courses: the wall bulges a little from stone to stone.
    rows, columns = 150, 220
    y, a = np.meshgrid(np.linspace(0.0, TOP, rows), np.linspace(0.0, 2.0 * np.pi, columns), indexing="ij")
    course = np.sin(np.pi * (y / 0.34 % 1.0)) ** 0.25
    joint = np.abs(np.sin(a * 9.0 + np.floor(y / 0.34) * 1.7)) ** 0.12
    radius = WALL + 0.012 - 0.016 * course * joint
    grid = np.stack([radius * np.sin(a), y, radius * np.cos(a)], axis=-1)
    uvs = np.stack([a * WALL, y], axis=-1)
    half = columns // PER_TURN
    door = int(round((LANDING + 0.9) / PER_TURN % 1.0 * (columns - 1)))
    floor = int(round(LANDING * RISE / TOP * (rows - 1)))
    sill = int(round((LANDING * RISE + 2.05) / TOP * (rows - 1)))
    left, right = door - half // 2 - 2, door + half // 2 + 2
    pieces = [
        (grid[: floor + 1], uvs[: floor + 1]), (grid[sill:], uvs[sill:]),
        (grid[floor : sill + 1, : left + 1], uvs[floor : sill + 1, : left + 1]), (grid[floor : sill + 1, right:], uvs[floor : sill + 1, right:]),
    ]  # fmt: skip
    stage.add("Tower/Wall", join(*[sheet(points, st) for points, st in pieces]), "Stone", double_sided=True)
    stage.add("Tower/Ground", lathe([(0.0, -0.3), (WALL + 0.3, -0.3), (WALL + 0.3, 0.0), (0.0, 0.0)], 64), "Flags")
    stage.add("Tower/Ceiling", flipped(lathe([(WALL + 0.3, TOP - 0.1), (1.2, TOP + 0.25), (0.0, TOP + 0.3)], 64, smooth=1)), "Planks")
    frame = grid[floor : sill + 1, [left, right]]
    posts = [tube(frame[:, k] * np.array([0.99, 1.0, 0.99]), 0.055, 8) for k in (0, 1)]
    lintel = tube(np.linspace(frame[-1, 0], frame[-1, 1], 4) * np.array([0.99, 1.0, 0.99]), 0.06, 8)
    stage.add("Tower/DoorFrame", join(*posts, lintel), "Oak")
    hinge, other = frame[0, 0] * np.array([0.985, 1.0, 0.985]), frame[0, 1] * np.array([0.985, 1.0, 0.985])
    across = other - hinge
    width = float(np.hypot(across[0], across[2]))
    facing = float(np.degrees(np.arctan2(-across[2], across[0])))
    boards = [box(width / 5 - 0.006, 1.98, 0.04, 0.006).moved(width / 5 * (k + 0.5), 1.0, 0.0) for k in range(5)]
    straps = [box(width * 0.86, 0.07, 0.052, 0.004).moved(width * 0.46, y, 0.0) for y in (0.35, 1.62)]
    frames = np.arange(FIRST, LAST + 1)
    t = np.clip((frames - 26.0) / 58.0, 0.0, 1.0)
    opening = DOOR_ANGLE * t * t * (3.0 - 2.0 * t)
    turned = stage.turning("Door", hinge, "y", {int(f): facing + float(o) for f, o in zip(frames, opening, strict=True)})
    stage.add(f"{turned}/Boards", join(*boards), "DoorPaint")
    stage.add(f"{turned}/Straps", join(*straps), "Iron")
    stage.add(
        f"{turned}/Latch",
        lathe([(0.0, -0.03), (0.022, -0.03), (0.03, 0.0), (0.022, 0.03), (0.0, 0.03)], 20, 1).moved(width - 0.1, 1.0, -0.04),
        "Brass",
    )


def _stair(stage: Stage) -> None:
    for k in range(STEPS):
        wide = 3.0 if k == LANDING else 1.06
        stage.add(f"Stair/Step{k:02d}", wedge(k, k + wide, k * RISE - 0.19, k * RISE + RISE - 0.19), "Step")
    turns = np.linspace(0.0, STEPS, 260)
    rail = np.array([at(t, WELL + 0.04, t * RISE + 0.86) for t in turns])
    stage.add("Stair/Rail", tube(rail, 0.021, 10), "Brass")
    posts = [tube(np.array([at(k + 0.5, WELL + 0.04, k * RISE + h) for h in (0.0, 0.45, 0.9)]), 0.011, 8) for k in range(STEPS)]
    stage.add("Stair/Posts", join(*posts), "Iron")
    line = np.array([at(t, WALL - 0.07, t * RISE + 0.95 - 0.05 * abs(np.sin(np.pi * t / 4.0))) for t in turns])
    stage.add("Stair/HandRope", rope(line, 0.016), "Rope")
    hooks = [tube(curve([at(k, WALL, k * RISE + 0.97), at(k, WALL - 0.07, k * RISE + 0.95)], 6), 0.008, 6) for k in range(0, STEPS, 4)]
    stage.add("Stair/Hooks", join(*hooks), "Iron")


def _lantern() -> dict[str, tuple[Part, str]]:
    """A small lantern, its flame 0.075 above its foot."""
    foot = lathe([(0.0, 0.0), (0.04, 0.0), (0.042, 0.016), (0.028, 0.026), (0.0, 0.026)], 20)
    cap = lathe([(0.036, 0.13), (0.044, 0.134), (0.02, 0.165), (0.008, 0.18), (0.0, 0.181)], 20)
    wires = [tube(np.array([(0.036 * np.sin(a), y, 0.036 * np.cos(a)) for y in (0.02, 0.075, 0.134)]), 0.0022, 5) for a in np.arange(4) * np.pi / 2]
    ring = tube(curve([(-0.012, 0.178, 0.0), (-0.02, 0.2, 0.0), (0.0, 0.222, 0.0), (0.02, 0.2, 0.0), (0.012, 0.178, 0.0)], 14), 0.0025, 5)
    return {"Body": (join(foot, cap, *wires, ring), "Brass")}


def _lamps(stage: Stage) -> None:
    stage.prototype("Lantern", _lantern())
    random = np.random.default_rng(31)
    for k in range(LANTERNS):
        turn = (k + 0.5) * STEPS / LANTERNS + random.uniform(-0.2, 0.2)
        place = at(turn, WALL - 0.27, turn * RISE + 1.58 + random.uniform(-0.12, 0.14))
        stage.place(f"Lanterns/L{k:02d}", "Lantern", tuple(place), float(random.uniform(0.0, 90.0)))
        bracket = curve([at(turn, WALL, place[1] + 0.2), at(turn, WALL - 0.16, place[1] + 0.27), place + (0.0, 0.22, 0.0)], 10)
        stage.add(f"Brackets/B{k:02d}", tube(bracket, 0.006, 6), "Iron")
        warm = (1.0, 0.5, 0.19) if k % 7 != 3 else (0.5, 0.85, 1.0) if k % 2 else (1.0, 0.24, 0.1)
        stage.light("Sphere", f"Flame{k:02d}", float(random.uniform(700.0, 1500.0)), warm, radius=0.014, at=tuple(place + (0.0, 0.075, 0.0)))
    frames = np.arange(FIRST, LAST + 1)
    swing = SWING * np.sin(2.0 * np.pi * (frames - FIRST) / RATE / PERIOD + 0.6)
    lamp = stage.turning("Swinging", np.array(PIVOT), "z", {int(f): float(s) for f, s in zip(frames, swing, strict=True)})
    links = [tube(np.array([(0.0, -y, 0.0) for y in np.linspace(0.0, CHAIN, 40)]), 0.006 + 0.004 * (np.arange(40) % 2), 6)]
    shade = lathe([(0.05, -CHAIN - 0.02), (0.2, -CHAIN - 0.15), (0.205, -CHAIN - 0.15), (0.06, -CHAIN + 0.01), (0.0, -CHAIN + 0.02)], 40)
    stage.add(f"{lamp}/Chain", join(*links), "Iron")
    stage.add(f"{lamp}/Shade", shade, "ShadePaint", double_sided=True)
    stage.light("Sphere", "Flame", 1500.0, (1.0, 0.66, 0.32), radius=0.03, at=(0.0, -CHAIN - 0.13, 0.0), under=lamp)


def _things(stage: Stage) -> None:
    low = LANDING * RISE
    barrel = lathe([(0.0, 0.0), (0.2, 0.0), (0.235, 0.2), (0.24, 0.28), (0.235, 0.36), (0.2, 0.56), (0.0, 0.56)], 32, smooth=1)
    spot = at(LANDING + 2.35, WALL - 0.32, low)
    stage.add("Things/Barrel", barrel.moved(*spot), "Oak")
    stage.add(
        "Things/Hoops",
        join(*[lathe([(r, y), (r + 0.005, y), (r + 0.005, y + 0.03), (r, y + 0.03)], 32) for r, y in ((0.222, 0.1), (0.228, 0.42))]).moved(*spot),
        "Iron",
    )
    stage.add("Things/Coil", rope(coil(0.15, 0.013, 3.5, 0.02, 0.01, 5), 0.013).moved(*(at(LANDING + 1.6, WALL - 0.5, low + 0.012))), "Rope")
    for k, turn in enumerate((5.5, 13.4, 17.5, 30.4)):
        step = np.floor(turn) * RISE
        can = lathe([(0.0, 0.0), (0.075, 0.0), (0.078, 0.15), (0.04, 0.2), (0.02, 0.24), (0.0, 0.24)], 28, smooth=1)
        stage.add(f"Things/Can{k}", can.moved(*at(turn, WALL - 0.24, step)), "Copper")


def build(path: Path) -> None:
    """Write the shot to `path` with its textures beside it."""
    stage = Stage(path, "Stairwell")
    stage.frames(FIRST, LAST, RATE)
    stage.texture("stone", pictures.stone(41, (0.36, 0.34, 0.31), (0.13, 0.125, 0.12)))
    stage.texture("steps", pictures.stone(42, (0.40, 0.38, 0.35), (0.2, 0.19, 0.18), (0.22, 0.2, 0.16)))
    stage.texture("oak", pictures.wood(43, (0.3, 0.18, 0.09), (0.11, 0.06, 0.03)))
    stage.texture("weave", pictures.weave(44))
    material = stage.material
    material("Stone", roughness=0.85, picture="stone", repeat=0.6)
    material("Step", roughness=0.55, picture="steps", repeat=0.8)
    material("Flags", roughness=0.7, picture="steps", repeat=0.5)
    material("Oak", roughness=0.5, picture="oak", repeat=1.2)
    material("Planks", roughness=0.7, picture="oak", repeat=0.7)
    material("Rope", roughness=0.9, picture="weave", repeat=6.0)
    material("Brass", (0.83, 0.60, 0.27), roughness=0.22, metallic=1.0)
    material("Copper", (0.83, 0.46, 0.30), roughness=0.3, metallic=1.0)
    material("Iron", (0.03, 0.03, 0.032), roughness=0.5)
    material("DoorPaint", (0.05, 0.11, 0.15), roughness=0.4)
    material("ShadePaint", (0.62, 0.58, 0.48), roughness=0.5)
    _tower(stage)
    _stair(stage)
    _lamps(stage)
    _things(stage)
    out = at(LANDING + 0.9, 1.0, 0.0)
    stage.light("Dome", "NightSky", 0.03, (0.3, 0.48, 1.0))
    stage.light("Distant", "Moon", 1.1, (0.7, 0.82, 1.0), normalize=True, angle=0.55, at=(0, 0, 0), towards=(-float(out[0]), -0.62, -float(out[2])))
    path_of_eye, look = {}, {}
    for frame in range(FIRST, LAST + 1):
        turn = 7.0 + STRIDE * (frame - FIRST) / (LAST - FIRST)
        sway = 0.018 * np.sin(2.0 * np.pi * (frame - FIRST) / RATE * 1.9)
        path_of_eye[frame] = at(turn, 1.46, turn * RISE + EYE + sway)
        look[frame] = at(turn + 4.6, 1.08, (turn + 4.6) * RISE + 0.62)
    stage.moving_camera("climb", path_of_eye, look, 18.0, 1.0)
    stage.camera("well", tuple(at(2.0, 0.2, 0.5)), (0.05, 6.0, 0.0), 18.0, 1.0)
    stage.camera("landing", tuple(at(LANDING + 0.6, 1.75, LANDING * RISE + 1.5)), tuple(at(LANDING + 6.5, 1.5, LANDING * RISE + 1.5)), 20.0, 1.0)
    stage.save()
