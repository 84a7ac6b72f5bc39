"""`slipway`: noon at the landing of the Skerry Light, the boat hauled up between posts and pots."""

from pathlib import Path

import numpy as np

from . import pictures
from .boat import boat
from .furniture import basket, log
from .parts import Part, box, coil, curve, join, lathe, noise, rope, sheet, tube
from .stage import Stage

SLOPE = 0.16
"""Fall of the slip towards the sea, metres a metre along -z."""


def _height(z: float) -> float:
    return SLOPE * z if z < 2.2 else SLOPE * 2.2


def _setts(stage: Stage) -> None:
    """The slip's granite setts, each a little out of line."""
    rng = np.random.default_rng(5)
    for number in range(3):
        sett = box(0.58, 0.2, 0.34, 0.03, 1).bent(lambda p, n=number: p + 0.012 * noise(p + 3.0 * n, 0.12, 40 + n)[:, None])
        stage.prototype(f"Sett{number}", {"Stone": (sett, "Granite")})
    k = 0
    for row, z in enumerate(np.arange(-4.6, 4.4, 0.36)):
        for x in np.arange(-3.3, 3.4, 0.61):
            at = (x + 0.3 * (row % 2) + rng.uniform(-0.01, 0.01), _height(z) - 0.1 + rng.uniform(-0.012, 0.012), z)
            stage.place(f"Slip/Sett{k}", f"Sett{k % 3}", at, 180.0 * (k % 2) + rng.uniform(-1.5, 1.5))
            k += 1
    skids = [
        box(0.16, 0.12, 7.4, 0.015, grain="z").turned("x", -np.degrees(np.arctan(SLOPE))).moved(x, _height(-1.0) + 0.06, -1.0) for x in (-0.62, 0.62)
    ]
    rollers = [log(1.9, 0.055, n).moved(0.0, _height(z) + 0.15, z) for n, z in enumerate((-3.2, -2.1, -1.0, 0.1, 1.2, 2.2))]
    stage.add("Slip/Skids", join(*skids), "WetWood")
    stage.add("Slip/Rollers", join(*rollers), "Post")


def _land(stage: Stage) -> None:
    x, z = np.meshgrid(np.linspace(-46, 30, 100), np.linspace(-48, 20, 90), indexing="xy")
    away = np.maximum(np.abs(x) - 3.1, 0.0)
    flat = np.stack([x, z], -1)
    side = np.clip(away / 3.2, 0, 1) * np.clip((z + 7.5 + 2.5 * noise(flat, 6.0, 3)) / 5.0, 0, 1)
    rock = 1.5 * side * (0.75 + 0.55 * noise(flat, 3.4, 8, 5)) + np.clip((z - 3.0) / 9.0, 0, 1) * (1.3 + 0.5 * noise(flat, 5.0, 9))
    ridge = np.clip((z - 9.0) / 10.0, 0, 1) * 2.4
    island = 4.6 * np.exp(-((((x + 25) / 10.0) ** 2 + ((z + 39) / 5.0) ** 2) ** 2)) * (0.85 + 0.4 * noise(flat, 3.0, 10))
    base = np.where(away > 0, np.minimum(SLOPE * z, SLOPE * 2.2) - 0.30 - 0.25 * away, SLOPE * np.minimum(z, 2.2) - 0.32)
    y = np.maximum(base, -2.2) + rock + ridge + island
    stage.add("Rocks", sheet(np.stack([x, y, z], -1)), "Rock", double_sided=True)
    xs, zs = np.meshgrid(np.linspace(-90, 90, 100), np.linspace(-120, 3, 90), indexing="xy")
    near = np.stack([xs, zs], -1)
    swell = 0.035 * noise(near, 2.2, 4, 4) + 0.05 * noise(near * np.array([0.4, 1.0]), 5.0, 6)
    stage.add("Sea", sheet(np.stack([xs, -0.62 + swell, zs], -1)), "Water", double_sided=True)
    tower = lathe([(0, 0), (1.5, 0), (1.5, 0.3), (1.32, 0.4), (1.0, 7.4), (1.28, 7.6), (1.28, 7.75), (0, 7.75)], 48)
    band = lathe([(1.21, 2.7), (1.235, 2.7), (1.135, 4.9), (1.11, 4.9)], 48)
    lantern = join(
        lathe([(0, 7.75), (0.72, 7.75), (0.72, 8.15), (0, 8.15)], 16),
        lathe([(0.8, 9.35), (0.84, 9.3), (0.5, 9.75), (0.12, 9.95), (0.1, 10.2), (0, 10.25)][::1], 24),
        *[
            tube(np.array([(0.68 * np.sin(a), 8.1, 0.68 * np.cos(a)), (0.68 * np.sin(a), 9.4, 0.68 * np.cos(a))]), 0.03, 6)
            for a in np.linspace(0, 2 * np.pi, 13)[:-1]
        ],
        *[
            tube(np.array([(1.2 * np.sin(a), 7.7, 1.2 * np.cos(a)), (1.2 * np.sin(a), 8.5, 1.2 * np.cos(a))]), 0.018, 5)
            for a in np.linspace(0, 2 * np.pi, 19)[:-1]
        ],
        tube(np.array([(1.2 * np.sin(a), 8.5, 1.2 * np.cos(a)) for a in np.linspace(0, 2 * np.pi, 37)]), 0.02, 5, False),
    )
    at = (-27.0, 1.0, -40.0)
    stage.add("Light/Tower", tower.moved(*at), "WhiteWall")
    stage.add("Light/Band", band.moved(*at), "RedPaint")
    stage.add("Light/Lantern", lantern.moved(*at), "DarkIron")
    house = [box(3.4, 1.9, 2.4, 0.03).moved(-22.4, 2.1, -39.2)]
    roof = join(*[box(3.7, 0.08, 1.7, 0.01).turned("x", 38.0 * k).moved(-22.4, 3.5, -39.2 + 0.62 * k) for k in (-1, 1)])
    stage.add("Light/House", join(*house), "WhiteWall")
    stage.add("Light/Roof", roof, "Slate")


def _posts(stage: Stage) -> None:
    rng = np.random.default_rng(9)
    post = lathe([(0, 0), (0.105, 0), (0.1, 0.6), (0.095, 1.1), (0.1, 1.13), (0.09, 1.17), (0, 1.19)], 24)
    post = post.bent(lambda p: p * (1.0 + 0.05 * noise(p, 0.09, 2)[:, None] * np.array([1, 0, 1])))
    iron_cap = join(lathe([(0.1, 1.0), (0.108, 1.0), (0.108, 1.06), (0.1, 1.06)], 24))
    stage.prototype("Post", {"Wood": (post, "Post"), "Band": (iron_cap, "DarkIron")})
    places = [(-2.75, z) for z in (-3.2, -1.0, 1.2)] + [(2.75, z) for z in (-3.2, -1.0, 1.2)]
    for k, (x, z) in enumerate(places):
        stage.place(f"Posts/Post{k}", "Post", (x, _height(z) - 0.1, z), rng.uniform(0, 360))
    lines = []
    for (x0, z0), (x1, z1) in zip(places[:2] + places[3:5], places[1:3] + places[4:6], strict=True):
        t = np.linspace(0.0, 1.0, 60)
        sag = 0.26 * (4 * t * (1 - t))
        y0, y1 = _height(z0) + 0.86, _height(z1) + 0.86
        lines.append(np.stack([x0 + (x1 - x0) * t, y0 + (y1 - y0) * t - sag, z0 + (z1 - z0) * t], axis=1))
    turns = np.linspace(0.0, 3.0, 70)
    hitches = [
        np.stack([x + 0.118 * np.cos(2 * np.pi * turns), _height(z) + 0.78 + 0.034 * turns, z + 0.118 * np.sin(2 * np.pi * turns)], 1)
        for x, z in places
    ]
    stage.add("Posts/Ropes", join(*[rope(line, 0.019, 8.0) for line in lines + hitches]), "Rope")


def _gear(stage: Stage) -> None:
    ground = _height(2.6)
    stage.add("Gear/Coil", rope(coil(0.3, 0.019, 5.0, 0.02, 0.012, 4), 0.019).moved(-1.75, _height(1.4) + 0.03, 1.4), "Rope")
    painter = curve(
        [
            (0.05, 0.82 + _height(1.9), 1.98),
            (0.25, 0.35, 2.25),
            (0.2, ground + 0.03, 2.6),
            (-0.5, ground + 0.03, 2.75),
            (-1.3, ground + 0.03, 2.3),
            (-1.55, _height(1.4) + 0.08, 1.6),
        ],
        90,
    )
    stage.add("Gear/Painter", rope(painter, 0.013, 8.0), "Rope")
    hoops = []
    for k in range(7):
        a = np.linspace(0.0, np.pi, 18)
        hoops.append(tube(np.stack([np.full(18, -0.36 + 0.12 * k), 0.02 + 0.36 * np.sin(a), 0.24 * np.cos(a)], 1), 0.011, 6))
    slats = [
        tube(np.array([(-0.38, 0.02 + 0.36 * np.sin(a), 0.24 * np.cos(a)), (0.38, 0.02 + 0.36 * np.sin(a), 0.24 * np.cos(a))]), 0.008, 5)
        for a in np.linspace(0.0, np.pi, 13)
    ]
    floor = [box(0.8, 0.024, 0.05, 0.005, 1).moved(0, 0.012, z) for z in (-0.22, -0.11, 0, 0.11, 0.22)]
    stage.prototype("Pot", {"Frame": (join(*hoops, *slats, *floor), "Willow")})
    for k, (x, z, turn, up) in enumerate(((1.85, 1.9, 20.0, 0.0), (2.3, 1.35, -28.0, 0.0), (2.02, 1.6, 8.0, 0.4), (1.75, 2.75, 75.0, 0.0))):
        stage.place(f"Gear/Pots/Pot{k}", "Pot", (x, _height(z) + 0.03 + up, z), turn)
    for name, colour in (("Orange", "OrangePaint"), ("White", "WhitePaint"), ("Blue", "BluePaint")):
        ball = lathe([(0, -0.16), (0.03, -0.155), (0.11, -0.115), (0.16, 0.0), (0.12, 0.11), (0.05, 0.165), (0.04, 0.2), (0.0, 0.2)], 28, 2)
        eye = tube(
            np.stack([0.03 * np.sin(np.linspace(0, 2 * np.pi, 19)), 0.215 + 0.03 * np.cos(np.linspace(0, 2 * np.pi, 19)), np.zeros(19)], 1),
            0.009,
            6,
            False,
        )
        stage.prototype(f"Float{name}", {"Ball": (ball, colour), "Eye": (eye, colour)})
    for k, (x, z, colour) in enumerate(
        ((-1.35, 2.1, "Orange"), (-1.05, 2.35, "White"), (-1.5, 2.5, "Orange"), (2.5, 2.3, "Blue"), (2.75, 2.05, "Orange"))
    ):
        stage.place(f"Gear/Floats/Float{k}", f"Float{colour}", (x, _height(z) + 0.17, z), 40.0 * k)
    for part, material in basket().values():
        stage.add("Gear/Basket", part.scaled(1.25, 1.25, 1.25).moved(-2.15, _height(2.3) + 0.02, 2.5), material)
    crate = [box(0.62, 0.09, 0.018, 0.004, 1).moved(0, 0.07 + 0.11 * k, 0.2 * s) for k in range(3) for s in (-1, 1)]
    crate += [box(0.018, 0.09, 0.4, 0.004, 1, grain="z").moved(0.31 * s, 0.07 + 0.11 * k, 0) for k in range(3) for s in (-1, 1)]
    crate += [box(0.6, 0.016, 0.075, 0.003, 1).moved(0, 0.02, -0.16 + 0.08 * k) for k in range(5)]
    crate += [box(0.03, 0.33, 0.03, 0.004, 1, grain="y").moved(0.285 * a, 0.17, 0.175 * b) for a in (-1, 1) for b in (-1, 1)]
    stage.add("Gear/Crate", join(*crate).turned("y", 31.0).moved(1.25, ground + 0.01, 3.05), "OarWood")
    ring = np.linspace(0.0, 2.0 * np.pi, 33)
    chain = []
    for k in range(26):
        t = k / 25
        centre = np.array([-0.62 + 0.1 * np.sin(t * 5), _height(3.4 - 2.2 * t) + 0.04, 3.6 - 1.9 * t])
        link = np.stack([0.026 * np.cos(ring), np.zeros(33), 0.045 * np.sin(ring)], 1)
        turned = Part(link, np.zeros((0, 4), int), np.zeros((0, 4, 2))).turned("z", 90.0 * (k % 2)).points + centre
        chain.append(tube(turned, 0.0085, 6, False))
    stage.add("Gear/Chain", join(*chain), "DarkIron")


def build(path: Path) -> None:
    """Write the shot to `path` with its textures beside it."""
    stage = Stage(path, "Slipway")
    stage.texture("granite", pictures.stone(21))
    stage.texture("rock", pictures.stone(22, (0.35, 0.32, 0.28), (0.12, 0.11, 0.105)))
    stage.texture("hull", pictures.paint(23, (0.62, 0.62, 0.58), worn=0.25))
    stage.texture("gunwale", pictures.paint(24, (0.07, 0.18, 0.24), worn=0.3))
    stage.texture("wood", pictures.wood(25, (0.48, 0.33, 0.19), (0.2, 0.12, 0.06), 0.3))
    stage.texture("post", pictures.wood(26, (0.24, 0.2, 0.16), (0.08, 0.065, 0.05), 0.3))
    stage.texture("weave", pictures.weave(27))
    material = stage.material
    material("Granite", roughness=0.75, picture="granite", repeat=0.7)
    material("Rock", roughness=0.85, picture="rock", repeat=0.22)
    material("Water", (0.012, 0.035, 0.045), roughness=0.08)
    material("HullPaint", roughness=0.35, picture="hull", repeat=0.9)
    material("GunwalePaint", roughness=0.35, picture="gunwale", repeat=1.5)
    material("BoatWood", roughness=0.5, picture="wood", repeat=0.9)
    material("OarWood", roughness=0.5, picture="wood", repeat=1.6)
    material("WetWood", roughness=0.35, picture="post", repeat=1.0)
    material("Post", roughness=0.8, picture="post", repeat=1.4)
    material("Rope", roughness=0.85, picture="weave", repeat=5.0)
    material("Willow", roughness=0.7, picture="weave", repeat=3.0)
    material("DarkIron", (0.05, 0.047, 0.045), roughness=0.45)
    material("WhiteWall", (0.78, 0.77, 0.73), roughness=0.8)
    material("WhitePaint", (0.74, 0.73, 0.69), roughness=0.35)
    material("RedPaint", (0.42, 0.05, 0.035), roughness=0.5)
    material("OrangePaint", (0.64, 0.16, 0.025), roughness=0.35)
    material("BluePaint", (0.05, 0.15, 0.32), roughness=0.35)
    material("Slate", (0.10, 0.105, 0.12), roughness=0.6)
    _setts(stage)
    _land(stage)
    _posts(stage)
    _gear(stage)
    hull = {}
    for name, (part, colour) in boat().items():
        hull[name] = (part.turned("x", 7.0).turned("y", -86.0).turned("x", -np.degrees(np.arctan(SLOPE))), colour)
    for name, (part, colour) in hull.items():
        stage.add(f"Boat/{name}", part.moved(0.0, _height(-0.1) + 0.27, -0.1), colour)
    stage.light("Distant", "NoonSun", 15.0, (1.0, 0.95, 0.86), normalize=True, angle=0.53, towards=(-0.72, -0.62, 0.30))
    stage.light("Dome", "Sky", 1.0, (0.52, 0.72, 1.0))
    stage.camera("landing", (3.35, 1.95, 5.6), (-0.6, 0.5, -0.9), 29.0, -0.45)
    stage.camera("posts", (-4.2, 1.1, 3.4), (-1.6, 0.3, 0.4), 36.0, -0.45)
    stage.camera("bow", (1.7, 0.95, 3.8), (-0.1, 0.45, 1.0), 40.0, -0.45)
    stage.save()
