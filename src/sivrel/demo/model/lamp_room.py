"""`lamp-room`: the lamp room of the Skerry Light at night, its lens of glass prisms lit.

The lens stands open to the land: there the lamp is seen bare, and lights half of the room directly; all else comes through the
glass.
"""

from pathlib import Path

import numpy as np

from . import pictures
from .furniture import book, chair, jug
from .parts import Array, Part, box, coil, curve, flipped, join, lathe, rope, sheet, tube
from .stage import Stage

RADIUS, SIDES = 1.9, 12
SILL, EAVES = 0.86, 2.5
LENS, FOCUS = 0.46, 1.46
"""Radius of the lens, and height of the lamp in its middle, in metres."""
OPEN_FROM, OPEN_TO = 62.0, 158.0
"""The lens is open between these angles, in degrees from +z towards +x."""


def prism(profile: list[tuple[float, float]], start: float, end: float, steps: int = 88) -> Part:
    """A solid whose profile of (radius, height), outside up, is turned about y between two angles in degrees."""
    line, angle = np.array(profile, float), np.radians(np.linspace(start, end, steps + 1))
    grid = np.empty((len(angle), len(line), 3))
    grid[..., 0], grid[..., 2] = line[None, :, 0] * np.sin(angle)[:, None], line[None, :, 0] * np.cos(angle)[:, None]
    grid[..., 1] = line[None, :, 1]
    skin = sheet(grid, wrap_u=True)
    fan = np.array([(0, k, k + 1, k + 1) for k in range(1, len(line) - 1)])
    flat = np.broadcast_to(np.zeros(2), (len(fan), 4, 2))
    return join(skin, Part(grid[0], fan, flat), Part(grid[-1], fan[:, ::-1], flat))


def prisms() -> list[Part]:
    """The lens: a belt that bulges, rings that refract above and below it, and rings that reflect above those."""
    span = (OPEN_TO, OPEN_FROM + 360.0)
    t = np.linspace(-1.0, 1.0, 13)
    belt = [(LENS + 0.045 * (1.0 - s * s), 0.14 * s) for s in t] + [(LENS - 0.02, 0.14), (LENS - 0.02, -0.14)]
    made = [prism(belt, *span)]
    for side in (1.0, -1.0):
        for k in range(4):
            low, thick = 0.147 + 0.058 * k, 0.022 + 0.004 * k
            ring = [(LENS + thick, low), (LENS + 0.003, low + 0.052), (LENS - 0.02, low + 0.052), (LENS - 0.02, low)]
            # Upside down, the profile runs the other way round.
            made.append(prism(ring if side > 0 else [(r, -y) for r, y in ring[::-1]], *span))
    for k in range(6):
        a = 0.78 + 0.115 * k
        middle = np.array([0.56 * np.cos(a), 0.62 * np.sin(a) - 0.005])
        outward = np.array([np.cos(a), np.sin(a)])
        along = np.array([-outward[1], outward[0]])
        ring = [middle + 0.034 * outward - 0.006 * along, middle - 0.016 * outward + 0.03 * along, middle - 0.018 * outward - 0.03 * along]
        made.append(prism([(float(r), float(y)) for r, y in ring], *span))
    return [part.moved(y=FOCUS) for part in made]


def _ring(radius: float, height: float, thickness: float, start: float = 0.0, end: float = 360.0) -> Part:
    angle = np.radians(np.linspace(start, end, 97))
    return tube(np.stack([radius * np.sin(angle), np.full(97, height), radius * np.cos(angle)], axis=1), thickness, 10)


def _lens(stage: Stage) -> None:
    for k, part in enumerate(prisms()):
        stage.add(f"Lens/Prism{k}", part, "Crystal")
    bars = []
    for angle in (OPEN_TO, 202.0, 246.0, 290.0, 334.0, 378.0, OPEN_FROM + 360.0):
        a = np.radians(angle)
        profile = [(LENS + 0.055, -0.40), (LENS + 0.06, 0.0), (LENS + 0.05, 0.36), (0.50, 0.44), (0.40, 0.57), (0.21, 0.68)]
        bars.append(tube(curve([(r * np.sin(a), FOCUS + y, r * np.cos(a)) for r, y in profile], 40), 0.011, 10))
    stage.add("Lens/Bars", join(*bars), "Brass")
    span = (OPEN_TO, OPEN_FROM + 360.0)
    rings = [_ring(LENS + 0.012, FOCUS + y, 0.016, *span) for y in (-0.405, 0.402)]
    stage.add("Lens/Rings", join(*rings, _ring(0.2, FOCUS + 0.66, 0.018)), "Brass")
    plinth = [(0.0, 0.0), (0.56, 0.0), (0.56, 0.05), (0.42, 0.1), (0.3, 0.16), (0.2, 0.3), (0.18, 0.62), (0.2, 0.72), (0.3, 0.8)]
    stage.add("Pedestal/Column", lathe(plinth, 64, smooth=2), "GreenIron")
    stage.add("Pedestal/Table", lathe([(0.0, 0.8), (0.54, 0.8), (0.56, 0.82), (0.56, 0.85), (0.54, 0.87), (0.0, 0.87)], 96), "Brass")
    stage.add("Pedestal/Flange", lathe([(0.50, 0.87), (0.52, 0.93), (0.53, 1.04), (0.50, 1.045), (0.0, 1.045)], 96), "Brass")
    burner = [
        (0.0, 1.04),
        (0.11, 1.04),
        (0.12, 1.07),
        (0.07, 1.11),
        (0.05, 1.2),
        (0.045, 1.27),
        (0.075, 1.29),
        (0.075, 1.32),
        (0.03, 1.335),
        (0.0, 1.335),
    ]
    stage.add("Lamp/Burner", lathe(burner, 64, smooth=1), "Brass")
    stage.add("Lamp/Mantle", lathe([(0.0, 1.34), (0.035, 1.345), (0.042, 1.40), (0.04, 1.48), (0.028, 1.55), (0.0, 1.575)], 48, smooth=2), "Glowing")
    # The chimney is blown thin: one sheet, which bends nothing, so that the lamp can be aimed at through it.
    chimney = curve([(0.062, 1.322, 0.0), (0.075, 1.40, 0.0), (0.07, 1.5, 0.0), (0.045, 1.6, 0.0), (0.04, 1.78, 0.0)], 40)[:, :2]
    stage.add("Lamp/Chimney", lathe([(float(r), float(y)) for r, y in chimney], 72), "Clear")


def _on_ring(radius: float, k: float, height: float) -> Array:
    a = 2.0 * np.pi * k / SIDES
    return np.array([radius * np.sin(a), height, radius * np.cos(a)])


def _room(stage: Stage) -> None:
    stage.add("Room/Floor", lathe([(0.0, -0.05), (RADIUS + 0.2, -0.05), (RADIUS + 0.2, 0.0), (0.0, 0.0)], 96), "TreadPlate")
    stage.add("Room/Wall", flipped(lathe([(RADIUS, 0.0), (RADIUS, SILL)], 96)), "Cream")
    stage.add("Room/WallOutside", lathe([(RADIUS + 0.12, -0.05), (RADIUS + 0.12, SILL)], 96), "Cream")
    battens = [box(0.05, SILL - 0.16, 0.014).moved(0.0, SILL / 2 + 0.03, -RADIUS + 0.006).turned("y", 360.0 * (k + 0.5) / 36) for k in range(36)]
    stage.add("Room/Battens", join(*battens), "Cream")
    stage.add("Room/Skirting", flipped(lathe([(RADIUS - 0.02, 0.0), (RADIUS - 0.02, 0.1), (RADIUS, 0.115)], 96)), "GreenPaint")
    sill = [(RADIUS - 0.08, SILL - 0.03), (RADIUS + 0.16, SILL - 0.03), (RADIUS + 0.16, SILL + 0.02), (RADIUS - 0.08, SILL + 0.02)]
    stage.add("Room/Sill", lathe([*sill, sill[0]], 96), "Mahogany")
    bars, panes, rails = [], [], []
    for k in range(SIDES):
        low, high = _on_ring(RADIUS + 0.03, k, SILL), _on_ring(RADIUS + 0.03, k, EAVES)
        bars.append(tube(np.linspace(low, high, 3), 0.022, 10))
        corners = [_on_ring(RADIUS + 0.03, k, SILL), _on_ring(RADIUS + 0.03, k + 1, SILL), low * 0 + _on_ring(RADIUS + 0.03, k + 1, EAVES), high]
        panes.append(sheet(np.array([[corners[0], corners[1]], [corners[3], corners[2]]])))
        ends = _on_ring(RADIUS + 0.03, k, 1.68), _on_ring(RADIUS + 0.03, k + 1, 1.68)
        rails.append(tube(np.linspace(*ends, 3), 0.016, 8))
    stage.add("Room/Glazing/Bars", join(*bars, *rails), "GreenPaint")
    stage.add("Room/Glazing/Panes", join(*panes), "Window")
    dome = [
        (RADIUS + 0.14, EAVES - 0.02),
        (RADIUS + 0.1, EAVES + 0.06),
        (1.55, 2.95),
        (0.9, 3.32),
        (0.35, 3.48),
        (0.2, 3.56),
        (0.19, 3.8),
        (0.0, 3.82),
    ]
    stage.add("Room/Dome", flipped(lathe(dome, 96, smooth=2)), "Cream")
    stage.add("Room/DomeOutside", lathe([(r + 0.05, y + 0.03) for r, y in dome], 64, smooth=2), "GreenPaint")
    stage.add("Room/Eaves", join(_ring(RADIUS, EAVES - 0.01, 0.045), _ring(RADIUS + 0.02, SILL + 0.03, 0.02)), "GreenPaint")
    ribs = []
    for k in range(SIDES):
        a = 2.0 * np.pi * k / SIDES
        ribs.append(tube(curve([(r * 0.985 * np.sin(a), y - 0.02, r * 0.985 * np.cos(a)) for r, y in dome[1:5]], 30), 0.02, 8))
    stage.add("Room/Ribs", join(*ribs), "GreenPaint")
    stage.add("Room/VentBall", lathe([(0.0, 3.36), (0.1, 3.38), (0.16, 3.46), (0.1, 3.54), (0.0, 3.56)], 48, smooth=2), "Brass")
    stage.add("Room/Rail", join(*[_ring(0.82, y, 0.014, 150.0, 390.0) for y in (0.5, 0.92)]), "Brass")
    posts = [
        tube(np.array([(0.82 * np.sin(a), y, 0.82 * np.cos(a)) for y in np.linspace(0.0, 0.92, 4)]), 0.016, 10)
        for a in np.radians((150.0, 210.0, 270.0, 330.0, 390.0))
    ]
    stage.add("Room/RailPosts", join(*posts), "Brass")


DESK, DESK_TURN = (1.24, 0.0, -0.80), 123.0
LANTERN = (1.22, 0.7575, -0.78)


def _at_desk(part: Part, x: float, z: float, y: float = 0.7575) -> Part:
    """A part stood on the desk: x along its front, z towards the room's wall."""
    return part.moved(x, y, z).turned("y", DESK_TURN).moved(*DESK)


def _furnish(stage: Stage) -> None:
    shelf = box(0.78, 0.035, 0.34, 0.008, 3).moved(0.0, -0.0175, 0.0)
    legs = [box(0.035, 0.72, 0.035).moved(x, -0.395, z) for x in (-0.34, 0.34) for z in (-0.13, 0.13)]
    stage.add("Desk/Top", _at_desk(join(shelf, *legs), 0.0, 0.0), "Mahogany")
    for k, (x, turn, cover) in enumerate(((0.2, 14.0, "CoverRed"), (0.22, -8.0, "CoverBlue"))):
        for name, (part, material) in book(0.2, 0.27, 0.035).items():
            flat = part.turned("x", 90.0).moved(0.0, 0.0175, -0.13).turned("y", turn)
            stage.add(f"Desk/Log{k}/{name}", _at_desk(flat, x, 0.0, 0.758 + 0.036 * k), {"Cover": cover}.get(material, material))
    for name, (part, material) in jug().items():
        stage.add(f"Desk/OilJug/{name}", _at_desk(part.turned("y", 40.0), -0.24, 0.03), {"Enamel": "Copper"}.get(material, material))
    lantern = np.array(LANTERN)
    stage.add("Lantern/Base", lathe([(0.0, 0.0), (0.06, 0.0), (0.062, 0.03), (0.04, 0.045), (0.0, 0.045)], 40).moved(*lantern), "Brass")
    stage.add("Lantern/Cap", lathe([(0.05, 0.17), (0.055, 0.18), (0.03, 0.21), (0.012, 0.225), (0.0, 0.226)], 40).moved(*lantern), "Brass")
    wires = [
        tube(np.array([(0.05 * np.sin(a), y, 0.05 * np.cos(a)) for y in (0.035, 0.11, 0.18)]), 0.0025, 6) for a in np.arange(4) * np.pi / 2 + 0.4
    ]
    handle = tube(curve([(-0.03, 0.2, 0.0), (-0.045, 0.25, 0.0), (0.0, 0.29, 0.0), (0.045, 0.25, 0.0), (0.03, 0.2, 0.0)], 24), 0.0035, 8)
    stage.add("Lantern/Wires", join(*wires, handle).moved(*lantern), "Brass")
    stage.add("Lantern/Glass", lathe([(0.044, 0.046), (0.05, 0.09), (0.044, 0.168)], 48, smooth=2).moved(*lantern), "Clear")
    for name, (part, material) in chair().items():
        stage.add(f"Chair/{name}", part.turned("y", -75.0).moved(0.86, 0.0, -0.36), material)
    stage.add("Line", rope(coil(0.17, 0.012, 4.0, 0.02, 0.012, 8), 0.012).moved(1.28, 0.005, 0.42), "Rope")
    can = lathe([(0.0, 0.0), (0.1, 0.0), (0.105, 0.02), (0.105, 0.2), (0.06, 0.26), (0.025, 0.28), (0.025, 0.33), (0.0, 0.33)], 48, smooth=1)
    spout = tube(curve([(0.09, 0.1, 0.0), (0.17, 0.2, 0.0), (0.22, 0.34, 0.0)], 20), np.linspace(0.016, 0.007, 20), 10)
    stage.add("OilCan", join(can, spout).turned("y", 130.0).moved(1.42, 0.0, 0.05), "Copper")


def build(path: Path) -> None:
    """Write the shot to `path` with its textures beside it."""
    stage = Stage(path, "LampRoom")
    stage.texture("mahogany", pictures.wood(21, (0.26, 0.09, 0.045), (0.1, 0.035, 0.02)))
    stage.texture("oak", pictures.wood(4, (0.33, 0.2, 0.1), (0.12, 0.065, 0.03)))
    stage.texture("cream", pictures.paint(22, (0.66, 0.6, 0.47), worn=0.05))
    stage.texture("weave", pictures.weave(9))
    stage.normals("tread", pictures.tread_plate())
    material = stage.material
    material("Crystal", (1.0, 1.0, 1.0), roughness=0.0, opacity=0.0, ior=1.52, attenuation=((0.80, 0.93, 0.86), 0.2))
    material("Clear", (1.0, 1.0, 1.0), roughness=0.0, opacity=0.0, ior=1.47)
    material("Window", (1.0, 1.0, 1.0), roughness=0.0, opacity=0.0, ior=1.5, attenuation=((0.92, 0.96, 0.94), 0.0))
    material("Brass", (0.83, 0.60, 0.27), roughness=0.17, metallic=1.0)
    material("Copper", (0.83, 0.46, 0.30), roughness=0.25, metallic=1.0)
    material("GreenIron", (0.03, 0.075, 0.055), roughness=0.5, coat=1.0, coat_roughness=0.06)
    material("GreenPaint", (0.04, 0.10, 0.075), roughness=0.35)
    material("Cream", roughness=0.4, picture="cream", repeat=0.8)
    material("Mahogany", roughness=0.5, picture="mahogany", repeat=1.3, coat=0.8, coat_roughness=0.08)
    material("Oak", roughness=0.42, picture="oak", repeat=1.5)
    material("TreadPlate", (0.10, 0.10, 0.105), roughness=0.38, metallic=0.6, bumps="tread", repeat=4.0)
    material("Glowing", (0.8, 0.8, 0.8), roughness=0.9, glow=(40.0, 31.0, 19.0))
    material("Rope", roughness=0.85, picture="weave", repeat=6.0)
    material("Paper", (0.7, 0.66, 0.56), roughness=0.8)
    for name, colour in (("CoverRed", (0.25, 0.045, 0.035)), ("CoverBlue", (0.04, 0.08, 0.16)), ("CoverTan", (0.30, 0.19, 0.09))):
        material(name, colour, roughness=0.55)
    for name, colour in (("Enamel", (0.72, 0.73, 0.70)), ("EnamelBlue", (0.02, 0.06, 0.11)), ("EnamelRim", (0.03, 0.06, 0.16))):
        material(name, colour, roughness=0.18)
    _lens(stage)
    _room(stage)
    _furnish(stage)
    stage.aim_at("Lamp/Mantle")
    stage.light("Sphere", "LanternFlame", 2600.0, (1.0, 0.52, 0.2), radius=0.016, at=(LANTERN[0], 0.86, LANTERN[2]))
    stage.light("Dome", "NightSky", 0.045, (0.28, 0.48, 1.0))
    stage.light("Distant", "Moon", 0.4, (0.72, 0.84, 1.0), normalize=True, angle=0.55, at=(0, 0, 0), towards=(0.62, -0.55, 0.42))
    stage.camera("lens", (0.92, 1.66, 1.52), (0.3, 1.24, -0.1), 19.0, 3.0)
    stage.camera("prisms", (0.62, 1.62, 1.05), (0.0, 1.45, 0.0), 45.0, 2.5)
    stage.camera("desk", (1.25, 1.45, 0.75), (1.2, 0.82, -0.8), 32.0, 2.5)
    stage.save()
