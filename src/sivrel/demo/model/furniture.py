"""Things that stand about in a keeper's house: each a dictionary of named parts with their materials."""

import numpy as np

from .parts import Part, box, curve, flipped, join, lathe, noise, sheet, tube

Thing = dict[str, tuple[Part, str]]


def bowl() -> Thing:
    outside = [(0.0, 0.0), (0.045, 0.0), (0.05, 0.006), (0.05, 0.012), (0.09, 0.035), (0.125, 0.085), (0.128, 0.088)]
    inside = [(0.121, 0.085), (0.085, 0.038), (0.045, 0.018), (0.0, 0.015)]
    return {"Bowl": (lathe(outside + inside, 40, 1), "Glaze")}


def jug() -> Thing:
    profile = [(0.0, 0.0), (0.055, 0.0), (0.062, 0.01), (0.085, 0.07), (0.08, 0.12), (0.052, 0.17), (0.05, 0.2), (0.062, 0.235)]
    body = lathe(profile + [(0.056, 0.233), (0.044, 0.2), (0.046, 0.17), (0.07, 0.1), (0.0, 0.03)], 36, 1)

    def spout(p):
        q = p.copy()
        lip = np.clip((p[:, 1] - 0.19) / 0.045, 0.0, 1.0) * np.clip(p[:, 2] / 0.06, 0.0, 1.0) ** 2
        q[:, 2] += 0.035 * lip
        q[:, 0] *= 1.0 - 0.45 * lip
        return q

    handle = tube(curve([(0, 0.215, -0.05), (0, 0.225, -0.1), (0, 0.16, -0.125), (0, 0.09, -0.09)], 20), 0.009, 10)
    return {"Body": (body.bent(spout), "Enamel"), "Handle": (handle, "Enamel"), "Rim": (_rim(), "EnamelRim")}


def _rim() -> Part:
    angle = np.linspace(0.0, 2.0 * np.pi, 49)
    ring = np.stack([0.059 * np.sin(angle), np.full(49, 0.235), 0.059 * np.cos(angle)], axis=1)
    lip = np.clip(ring[:, 2] / 0.06, 0.0, 1.0) ** 2
    ring[:, 2] += 0.035 * lip
    ring[:, 0] *= 1.0 - 0.45 * lip
    return tube(ring, 0.004, 6, caps=False)


def cup() -> Thing:
    body = lathe(
        [(0.0, 0.0), (0.032, 0.0), (0.036, 0.004), (0.041, 0.04), (0.042, 0.078), (0.0385, 0.079), (0.037, 0.04), (0.03, 0.008), (0, 0.007)],
        28,
        1,
    )
    handle = tube(curve([(0.038, 0.066, 0), (0.062, 0.066, 0), (0.066, 0.04, 0), (0.038, 0.022, 0)], 14), 0.004, 8)
    return {"Body": (join(body, handle), "Enamel"), "Rim": (_ring(0.0403, 0.0785, 0.0022), "EnamelRim")}


def _ring(radius: float, height: float, thickness: float, sides: int = 40) -> Part:
    angle = np.linspace(0.0, 2.0 * np.pi, sides + 1)
    return tube(np.stack([radius * np.sin(angle), np.full(sides + 1, height), radius * np.cos(angle)], 1), thickness, 6, False)


def plate() -> Thing:
    profile = [(0.0, 0.0), (0.06, 0.0), (0.066, 0.004), (0.1, 0.014), (0.115, 0.018), (0.115, 0.021), (0.098, 0.019), (0.065, 0.009), (0, 0.008)]
    return {"Plate": (lathe(profile, 44, 1), "Glaze")}


def jar(height: float = 0.16, radius: float = 0.05) -> Thing:
    r, h = radius, height
    profile = [(0, 0), (r * 0.9, 0), (r, 0.01), (r, h * 0.75), (r * 0.8, h * 0.86), (r * 0.8, h), (0, h)]
    lid = lathe([(0, h), (r * 0.86, h), (r * 0.88, h + 0.006), (r * 0.8, h + 0.02), (0.012, h + 0.026), (0.014, h + 0.04), (0, h + 0.045)], 28, 1)
    return {"Jar": (lathe(profile, 28, 1), "Stoneware"), "Lid": (lid, "Stoneware")}


def loaf() -> Thing:
    angle = np.linspace(0.0, 2.0 * np.pi, 36, endpoint=False)
    t = np.linspace(0.0, np.pi, 22)
    grid = np.stack(
        [
            -0.15 * np.cos(t)[:, None] * np.ones(36),
            np.maximum(-0.02, 0.075 * np.sin(t)[:, None] ** 0.6 * np.cos(angle)) + 0.02,
            0.085 * np.sin(t)[:, None] ** 0.6 * np.sin(angle),
        ],
        axis=-1,
    )
    grid[..., 1] += 0.008 * noise(grid, 0.05, 3) - 0.012 * np.clip(np.sin(grid[..., 0] * 75.0) - 0.55, 0, 1) * (grid[..., 1] > 0.05)
    return {"Loaf": (flipped(sheet(grid, wrap_u=True)), "Crust")}


def lamp() -> Thing:
    """A paraffin lamp; the flame itself is a light of the shot, 0.25 above its foot."""
    font = lathe(
        [
            (0, 0),
            (0.075, 0),
            (0.078, 0.008),
            (0.04, 0.022),
            (0.018, 0.045),
            (0.03, 0.07),
            (0.075, 0.1),
            (0.08, 0.125),
            (0.05, 0.15),
            (0.026, 0.16),
            (0, 0.162),
        ],
        40,
        2,
    )
    burner = lathe([(0, 0.16), (0.03, 0.16), (0.034, 0.17), (0.034, 0.19), (0.018, 0.2), (0.012, 0.205), (0, 0.206)], 32)
    gallery = join(*[_ring(0.036, 0.178 + 0.006 * k, 0.0018) for k in range(3)])
    shade_profile = [(0.055, 0.385), (0.062, 0.383), (0.15, 0.295), (0.152, 0.29), (0.149, 0.29), (0.06, 0.379), (0.055, 0.381)]
    shade = lathe(shade_profile[::-1], 48)
    arms = join(
        *[
            tube(curve([(0.03 * s, 0.18, 0.03 * c), (0.07 * s, 0.2, 0.07 * c), (0.095 * s, 0.345, 0.095 * c)], 12), 0.0018, 6)
            for s, c in ((np.sin(a), np.cos(a)) for a in np.radians([20, 140, 260]))
        ]
    )
    knob = lathe([(0, 0), (0.009, 0), (0.012, 0.004), (0.009, 0.008), (0, 0.008)], 16).turned("z", -90).moved(0.035, 0.185)
    return {
        "Font": (font, "EnamelBlue"),
        "Knob": (knob, "Brass"),
        # Blackened, as they are so near the flame.
        "Burner": (join(burner, gallery, arms), "Soot"),
        "Shade": (shade, "Tin"),
    }


def chair() -> Thing:
    seat = box(0.42, 0.028, 0.4, 0.012, 3)
    seat = seat.bent(lambda p: p - np.outer(0.012 * np.exp(-((p[:, 0] / 0.13) ** 2) - (p[:, 2] / 0.13) ** 2) * (p[:, 1] > 0), [0, 1, 0]))
    legs = [
        tube(curve([(0.17 * sx, 0.45, 0.15 * sz), (0.185 * sx, 0.25, 0.165 * sz), (0.2 * sx, 0.0, 0.185 * sz)], 8), np.linspace(0.019, 0.015, 8), 12)
        for sx in (-1, 1)
        for sz in (-1, 1)
    ]
    rungs = [tube(np.array([(-0.186, 0.2, 0.17 * s), (0.186, 0.2, 0.17 * s)]), 0.0105, 10) for s in (-1, 1)]
    rungs += [tube(np.array([(0.19 * s, 0.25, -0.165), (0.19 * s, 0.25, 0.165)]), 0.0105, 10) for s in (-1, 1)]
    posts = [
        tube(curve([(0.175 * s, 0.45, -0.17), (0.18 * s, 0.7, -0.2), (0.19 * s, 0.93, -0.25)], 10), np.linspace(0.019, 0.015, 10), 12)
        for s in (-1, 1)
    ]

    def bend(p):
        q = p.copy()
        q[:, 2] -= 0.04 * (1.0 - (p[:, 0] / 0.2) ** 2)
        return q

    slats = []
    for y, z in ((0.62, -0.187), (0.74, -0.207), (0.87, -0.235)):
        slat = sheet(
            np.stack(
                [*np.meshgrid(np.linspace(-0.185, 0.185, 18), np.linspace(-0.032, 0.032, 3)), np.zeros((3, 18))],
                axis=-1,
            )
        )
        front = slat.moved(z=0.006)
        back = flipped(slat.moved(z=-0.006))
        edges = [box(0.37, 0.012, 0.012, 0.004, 1).moved(y=0.032 * s) for s in (-1, 1)]
        edges = [sub(e) for e in edges]
        slats.append(join(front, back, *edges).bent(bend).moved(0, y, z))
    return {"Seat": (seat.moved(y=0.464), "Oak"), "Frame": (join(*legs, *rungs, *posts, *slats), "Oak")}


def sub(part: Part) -> Part:
    """The long faces of a thin box cut crosswise, so that it can be bent."""
    cuts = 6
    p = part.points
    low, high = p[:, 0].min(), p[:, 0].max()
    pieces = []
    for k in range(cuts):
        a, b = low + (high - low) * k / cuts, low + (high - low) * (k + 1) / cuts
        points = p.copy()
        points[:, 0] = np.where(p[:, 0] > (low + high) / 2, b, a)
        pieces.append(Part(points, part.faces, part.uvs))
    return join(*pieces)


def table() -> Thing:
    rng = np.random.default_rng(8)
    boards = []
    for k in range(5):
        width = 0.168
        boards.append(box(1.45, 0.032, width - 0.002, 0.005, 2).moved(rng.uniform(-0.004, 0.004), rng.uniform(-0.0015, 0.0015), (k - 2) * width))
    legs = [
        lathe(
            [
                (0, 0),
                (0.02, 0),
                (0.024, 0.02),
                (0.03, 0.1),
                (0.022, 0.14),
                (0.034, 0.3),
                (0.038, 0.5),
                (0.03, 0.53),
                (0.038, 0.56),
                (0.038, 0.58),
                (0, 0.58),
            ],
            20,
            1,
        ).moved(0.6 * sx, 0, 0.33 * sz)
        for sx in (-1, 1)
        for sz in (-1, 1)
    ]
    blocks = [box(0.078, 0.15, 0.078, 0.004, grain="y").moved(0.6 * sx, 0.65, 0.33 * sz) for sx in (-1, 1) for sz in (-1, 1)]
    aprons = [box(1.14, 0.1, 0.022).moved(0, 0.67, 0.345 * s) for s in (-1, 1)] + [
        box(0.022, 0.1, 0.6, grain="z").moved(0.615 * s, 0.67, 0) for s in (-1, 1)
    ]
    for k, b in enumerate(boards):
        boards[k] = Part(b.points, b.faces, b.uvs + rng.uniform(0, 1, 2))
    return {"Top": (join(*boards).moved(y=0.741), "Pine"), "Legs": (join(*legs, *blocks, *aprons), "PaintedGreen")}


def stove() -> tuple[Thing, tuple[float, float, float]]:
    """A range with a door ajar, 0.85 wide, its back at z = 0; and the middle of its glowing slot."""
    iron = [box(0.85, 0.52, 0.52, 0.012, 3).moved(0, 0.42, 0.29)]
    iron += [box(0.93, 0.035, 0.6, 0.014, 3).moved(0, 0.7, 0.3), box(0.89, 0.04, 0.56, 0.01).moved(0, 0.15, 0.29)]
    iron += [
        tube(
            curve([(0.38 * sx, 0.14, 0.29 + 0.22 * sz), (0.42 * sx, 0.08, 0.29 + 0.24 * sz), (0.4 * sx, 0.0, 0.29 + 0.25 * sz)], 8),
            np.linspace(0.03, 0.02, 8),
            12,
        )
        for sx in (-1, 1)
        for sz in (-1, 1)
    ]
    plates = [lathe([(0, 0), (0.1, 0), (0.105, 0.006), (0.1, 0.011), (0, 0.012)], 40).moved(x, 0.716, 0.3) for x in (-0.24, 0.2)]
    plates += [_ring(0.07, 0.7275, 0.003).moved(x, 0, 0.3) for x in (-0.24, 0.2)]
    door = join(
        box(0.34, 0.3, 0.018, 0.006).moved(-0.17, 0, 0),
        box(0.26, 0.02, 0.012, 0.004).moved(-0.17, 0.09, 0.014),
        box(0.26, 0.02, 0.012, 0.004).moved(-0.17, -0.09, 0.014),
    )
    door = door.turned("y", 62.0).moved(0.02, 0.44, 0.566)
    oven = join(box(0.34, 0.34, 0.018, 0.008, 3).moved(0.22, 0.44, 0.556), box(0.28, 0.28, 0.01, 0.006).moved(0.22, 0.44, 0.566))
    rail = join(
        tube(np.array([(-0.44, 0.63, 0.63), (0.44, 0.63, 0.63)]), 0.011, 12),
        *[tube(np.array([(0.4 * s, 0.63, 0.55), (0.4 * s, 0.63, 0.63)]), 0.007, 8) for s in (-1, 1)],
        *[
            lathe([(0, -0.012), (0.014, -0.01), (0.017, 0), (0.014, 0.01), (0, 0.012)], 16).turned("z", 90).moved(0.445 * s, 0.63, 0.63)
            for s in (-1, 1)
        ],
    )
    knob = lathe([(0, 0), (0.012, 0), (0.016, 0.012), (0.012, 0.022), (0, 0.024)], 18).turned("x", 90)
    knobs = join(knob.moved(0.08, 0.44, 0.575), knob.moved(-0.27, 0.44, 0.65))
    pipe = join(
        lathe([(0.072, 0), (0.072, 0.05), (0.062, 0.06), (0.062, 1.8)], 32).moved(-0.24, 0.72, 0.14),
        *[lathe([(0.062, 0), (0.068, 0.004), (0.068, 0.02), (0.062, 0.024)], 32).moved(-0.24, 0.72 + h, 0.14) for h in (0.5, 1.1)],
    )
    fire = box(0.3, 0.24, 0.01, 0.002).moved(-0.15, 0.44, 0.553)
    bars = join(*[tube(np.array([(-0.28 + 0.05 * k, 0.33, 0.562), (-0.28 + 0.05 * k, 0.55, 0.562)]), 0.006, 8) for k in range(6)])
    thing: Thing = {
        "Body": (join(*iron, *plates, door, oven, bars), "Iron"),
        "Rail": (join(rail, knobs), "Brass"),
        "Pipe": (pipe, "Iron"),
        "Fire": (fire, "Fire"),
    }
    return thing, (-0.15, 0.44, 0.56)


def kettle() -> Thing:
    body = lathe([(0, 0), (0.1, 0), (0.108, 0.012), (0.11, 0.05), (0.09, 0.1), (0.05, 0.128), (0.05, 0.134), (0, 0.14)], 40, 2)
    lid = lathe([(0.05, 0.132), (0.047, 0.142), (0.012, 0.152), (0.014, 0.166), (0, 0.17)], 28, 1)
    spout = tube(curve([(0.09, 0.05, 0), (0.14, 0.07, 0), (0.155, 0.12, 0), (0.185, 0.135, 0)], 18), np.linspace(0.024, 0.011, 18), 14)
    handle = tube(curve([(-0.085, 0.1, 0), (-0.07, 0.2, 0), (0, 0.235, 0), (0.07, 0.2, 0), (0.085, 0.1, 0)], 28), 0.007, 10)
    return {"Body": (join(body, lid, spout, handle), "Copper")}


def cloth(width: float, depth: float, drop: float, seed: int) -> Part:
    """A cloth lying on a table edge at z = 0: flat behind it, hanging in folds in front of it."""
    columns, rows = 56, 44
    u, v = np.meshgrid(np.linspace(-width / 2, width / 2, columns), np.linspace(-depth, drop, rows), indexing="xy")
    hang = np.clip(v, 0.0, None)
    fold = np.sin(u * 26.0 + 1.2 * np.sin(u * 9.0 + seed)) * np.minimum(hang * 0.12, 0.018)
    points = np.stack([u * (1.0 - 0.16 * hang), np.where(v > 0, -hang, 0.002), np.where(v > 0, 0.012 * (1 - np.exp(-hang * 40)), v) + fold], axis=-1)
    points[..., 1] += np.where(v <= 0, 0.0025 * noise(np.stack([u, v], -1), 0.09, seed), 0.0)
    top = sheet(points, np.stack([u, v], axis=-1))
    return join(top)


def book(width: float, height: float, thick: float) -> Thing:
    cover = join(
        box(0.003, height, width, 0.001, 1).moved(-thick / 2),
        box(0.003, height, width, 0.001, 1).moved(thick / 2),
        box(thick, height, 0.004, 0.0015, 1).moved(0, 0, width / 2),
    )
    return {
        "Cover": (cover.moved(y=height / 2), "Cover"),
        "Leaves": (box(thick - 0.004, height - 0.008, width - 0.008, 0.0005, 1).moved(y=height / 2), "Paper"),
    }


def basket() -> Thing:
    """Round willow basket: stakes with rows of weavers that go in and out."""
    rows, sides = 13, 60
    angle = np.linspace(0.0, 2.0 * np.pi, sides + 1)
    weavers = []
    for k in range(rows):
        y = 0.015 + k * 0.019
        radius = 0.15 + 0.055 * np.sin(k / rows * 1.5)
        r = radius + 0.005 * np.sin(angle * 10.0 + np.pi * (k % 2))
        weavers.append(tube(np.stack([r * np.sin(angle), np.full(sides + 1, y), r * np.cos(angle)], 1), 0.0088, 5, False))
    rim = tube(np.stack([0.207 * np.sin(angle), np.full(sides + 1, 0.27), 0.207 * np.cos(angle)], 1), 0.013, 8, False)
    floor = lathe([(0, 0.004), (0.15, 0.004), (0.152, 0.012), (0, 0.012)], 32)
    return {"Weave": (join(*weavers, rim, floor), "Willow")}


def log(length: float, radius: float, seed: int) -> Part:
    path = np.stack([np.linspace(-length / 2, length / 2, 9), np.zeros(9), np.zeros(9)], axis=1)
    part = tube(path, radius, 14)
    return part.bent(lambda p: p * (1.0 + 0.09 * noise(p + seed, 0.06, seed)[:, None] * np.array([0.05, 1.0, 1.0])))
