"""`keepers-kitchen`: the whitewashed kitchen of the Skerry Light, on an evening with the fire lit.

It is modelled with two faults on purpose: the north wall is a single sheet, and the roof does not close on it.
"""

from pathlib import Path

import numpy as np

from . import pictures
from .furniture import basket, book, bowl, chair, cloth, cup, jar, jug, kettle, lamp, loaf, log, plate, stove, table
from .parts import Part, box, coil, curve, flipped, join, lathe, noise, rope, sheet, tube
from .stage import Stage

WIDTH, DEPTH, HEIGHT = 4.4, 3.8, 2.4
WALL = 0.6
GAP = 0.035
"""Height of the open joint over the north wall, in metres."""


def _skin(columns: int, rows: int, width: float, height: float, seed: int, lumps: float = 0.011) -> Part:
    """A hand-plastered wall in the x-y plane facing +z, its lower left corner at the origin."""
    u, v = np.meshgrid(np.linspace(0, width, columns), np.linspace(0, height, rows), indexing="xy")
    edge = np.minimum.reduce([u, width - u, v, height - v])
    depth = (lumps * (0.5 + 0.5 * noise(np.stack([u, v], -1), 0.55, seed)) + 0.002) * np.clip(edge / 0.05, 0.0, 1.0)
    return sheet(np.stack([u, v, depth], axis=-1)[::-1], np.stack([u, v], -1)[::-1])


def _window_wall(stage: Stage) -> None:
    """The thick west wall at x = WIDTH with its deep splayed window."""
    z0, z1, y0, y1 = 0.98, 2.02, 0.92, 1.96  # inner opening
    far = WIDTH + WALL
    solid = [
        box(WALL, HEIGHT + 0.1, z0 + 0.7, 0.002).moved(WIDTH + WALL / 2, HEIGHT / 2, (z0 - 0.7) / 2),
        box(WALL, HEIGHT + 0.1, DEPTH - z1 + 0.7, 0.002).moved(WIDTH + WALL / 2, HEIGHT / 2, (DEPTH + 0.7 + z1) / 2),
        box(WALL, y0, z1 - z0, 0.002).moved(WIDTH + WALL / 2, y0 / 2, (z0 + z1) / 2),
        box(WALL, HEIGHT + 0.1 - y1, z1 - z0, 0.002).moved(WIDTH + WALL / 2, (HEIGHT + 0.1 + y1) / 2, (z0 + z1) / 2),
    ]
    stage.add("Room/WestWall/Core", join(*solid), "Whitewash")
    # Reveal: a loft from the inner opening to the smaller outer one, with a rounded arris.
    corners = np.array([(y0, z0), (y0, z1), (y1, z1), (y1, z0)])
    line = np.concatenate([np.linspace(corners[k], corners[(k + 1) % 4], 12, endpoint=False) for k in range(4)])
    centre = line.mean(axis=0)
    rings = []
    for t in np.concatenate([[-0.03], np.linspace(0.0, 0.04, 4), np.linspace(0.1, 1.0, 10)]):
        # The arris flares out a little before it meets the wall's face.
        grow = 1.0 + 0.035 * np.exp(-max(t, 0.0) / 0.018) - 0.30 * max(t, 0.0)
        ring = centre + (line - centre) * grow
        x = np.full(len(ring), WIDTH + WALL * max(t, 0.0)) - (0.004 if t < 0 else 0.0)
        rings.append(np.column_stack([x, ring]))
    reveal = sheet(np.array(rings), wrap_u=True)
    reveal = reveal.bent(lambda p: p + 0.006 * noise(p, 0.25, 5)[:, None] * np.array([0.3, 1.0, 1.0]))
    stage.add("Room/WestWall/Reveal", reveal, "Whitewash")
    half_y, half_z = (y1 - y0) * 0.35, (z1 - z0) * 0.35
    cy, cz = (y0 + y1) / 2, (z0 + z1) / 2
    ring = [
        box(0.02, y1 - y0, (z1 - z0) / 2 - half_z, 0.001).moved(far, cy, cz + s * (half_z + (z1 - z0) / 4 + half_z) / 2 + s * 0.0) for s in (-1, 1)
    ]
    ring += [box(0.02, (y1 - y0) / 2 - half_y, z1 - z0, 0.001).moved(far, cy + s * ((y1 - y0) / 2 + half_y) / 2, cz) for s in (-1, 1)]
    ring[:2] = [box(0.02, y1 - y0, (z1 - z0) / 2 - half_z, 0.001).moved(far, cy, cz + s * ((z1 - z0) / 2 + half_z) / 2) for s in (-1, 1)]
    stage.add("Room/WestWall/Stop", join(*ring), "Whitewash")
    x = far - 0.06
    frame = [box(0.06, 0.05, 2 * half_z + 0.08, grain="z").moved(x, cy + s * (half_y + 0.005), cz) for s in (-1, 1)]
    frame += [box(0.06, 2 * half_y, 0.05, grain="y").moved(x, cy, cz + s * (half_z + 0.005)) for s in (-1, 1)]
    frame += [box(0.035, 2 * half_y, 0.022, grain="y").moved(x, cy, cz), box(0.035, 0.022, 2 * half_z, grain="z").moved(x, cy + 0.07, cz)]
    stage.add("Room/WestWall/Frame", join(*frame), "PaintedBlue")
    board = box(WALL * 0.72, 0.035, z1 - z0 - 0.05, 0.012, 3, grain="z").moved(WIDTH + 0.16, y0 + 0.02, cz)
    stage.add("Room/WestWall/Board", board, "Pine")
    for x_from, x_to, low, high in ((0.0, z0, 0.0, HEIGHT), (z1, DEPTH, 0.0, HEIGHT), (z0, z1, 0.0, y0), (z0, z1, y1, HEIGHT)):
        skin = _skin(int((x_to - x_from) / 0.06) + 3, int((high - low) / 0.06) + 3, x_to - x_from, high - low, 31, 0.006)
        # Faces -x: x runs along +z.
        stage.add(f"Room/WestWall/Skin_{int(x_from * 100)}_{int(low * 100)}", _to_wall(skin, (WIDTH, low, x_from), "west"), "Whitewash")


def _to_wall(skin: Part, corner: tuple[float, float, float], wall: str) -> Part:
    """A skin stood against a wall: `north` faces +z, `west` -x, `east` +x, `south` -z."""
    turn = {"north": 0.0, "west": -90.0, "east": 90.0, "south": 180.0}[wall]
    return skin.turned("y", turn).moved(*corner)


def _room(stage: Stage) -> None:
    _window_wall(stage)
    # North: the planted fault, a single sheet that stops short of the roof between the beams.
    u = np.linspace(-WALL, WIDTH + 0.02, 60)
    top = np.where((u > 2.35) & (u < 3.9), HEIGHT - GAP, HEIGHT + 0.04)
    v = np.linspace(0.0, 1.0, 34)
    lumps = 0.010 * noise(np.stack(np.meshgrid(u, v * HEIGHT), -1), 0.5, 11)
    grid = np.stack([np.broadcast_to(u, (34, 60)), v[:, None] * (top + 0.05)[None, :] - 0.05, lumps], axis=-1)
    stage.add("Room/NorthWall", sheet(grid[::-1]), "Whitewash")
    for name, size, at in (
        ("EastWall", (WALL, HEIGHT + 0.1, DEPTH + 1.4), (-WALL / 2, HEIGHT / 2, DEPTH / 2)),
        ("SouthWall", (WIDTH + 2 * WALL, HEIGHT + 0.1, WALL), (WIDTH / 2, HEIGHT / 2, DEPTH + WALL / 2)),
    ):
        stage.add(f"Room/{name}/Core", box(*size, 0.002).moved(*at), "Whitewash")
    stage.add("Room/EastWall/Skin", _to_wall(_skin(60, 40, DEPTH, HEIGHT, 21), (0.0, 0.0, DEPTH), "east"), "Whitewash")
    stage.add("Room/SouthWall/Skin", _to_wall(_skin(60, 40, WIDTH, HEIGHT, 22), (WIDTH, 0.0, DEPTH), "south"), "Whitewash")
    rng = np.random.default_rng(4)
    planks = []
    for k in range(22):
        z = (k + 0.5) * DEPTH / 22
        start = 0.0
        for length in (rng.uniform(1.4, 2.6), 5.0):
            end = min(start + length, WIDTH)
            plank = box(end - start - 0.003, 0.03, DEPTH / 22 - 0.004, 0.004, 1).moved((start + end) / 2, -0.015 + rng.uniform(-0.0015, 0.0015), z)
            planks.append(Part(plank.points, plank.faces, plank.uvs + rng.uniform(0, 1, 2)))
            start = end
            if start >= WIDTH:
                break
    stage.add("Room/Floor", join(*planks), "FloorBoards")
    stage.add("Room/Ground", box(WIDTH + 3, 0.2, DEPTH + 3, 0.01).moved(WIDTH / 2, -0.131, DEPTH / 2), "Stone")
    beams = [box(0.13, 0.17, DEPTH + 0.2, 0.012, 3, grain="z").moved(x, HEIGHT - 0.07, DEPTH / 2) for x in (0.7, 1.9, 3.1, 4.15)]
    stage.add("Room/Beams", join(*[b.bent(lambda p: p + 0.006 * noise(p, 0.3, 9)[:, None]) for b in beams]), "Beams")
    boards = [box(WIDTH + 1.4, 0.022, 0.176, 0.004, 1).moved(WIDTH / 2, HEIGHT + 0.022, -0.08 + (k + 0.5) * 0.18) for k in range(23)]
    boards = [Part(b.points, b.faces, b.uvs + rng.uniform(0, 1, 2)) for b in boards]
    stage.add("Room/CeilingBoards", join(*boards), "CeilingPaint")
    stage.add("Room/Roof", box(WIDTH + 2.2, 0.2, DEPTH + 1.0, 0.01).moved(WIDTH / 2, HEIGHT + 0.14, DEPTH / 2 + 0.42), "Stone")
    skirting = [
        box(WIDTH, 0.12, 0.02).moved(WIDTH / 2, 0.06, 0.022),
        box(0.02, 0.12, DEPTH, grain="z").moved(0.016, 0.06, DEPTH / 2),
        box(0.02, 0.12, DEPTH, grain="z").moved(WIDTH - 0.012, 0.06, DEPTH / 2),
    ]
    stage.add("Room/Skirting", join(*skirting), "PaintedGreen")


def _add(stage: Stage, name: str, thing, at=(0.0, 0.0, 0.0), turn: float = 0.0) -> None:
    for part_name, (part, material) in thing.items():
        stage.add(f"{name}/{part_name}", part.turned("y", turn).moved(*at), material)


def _furnish(stage: Stage) -> None:
    range_, _ = stove()
    _add(stage, "Stove", range_, (1.28, 0.0, 0.1))
    _add(stage, "Kettle", kettle(), (1.06, 0.73, 0.42), 28.0)
    stage.add("Hearth", box(1.3, 0.05, 0.95, 0.012, 3).moved(1.28, 0.012, 0.5), "Stone")
    _add(stage, "Table", table(), (2.95, 0.0, 1.78), 4.0)
    top = 0.757
    _add(stage, "Lamp", lamp(), (2.52, top, 1.66))
    _add(stage, "Jug", jug(), (3.36, top, 1.62), 150.0)
    _add(stage, "Bowl", bowl(), (3.02, top + 0.003, 1.9))
    _add(stage, "Loaf", loaf(), (2.86, top + 0.028, 1.56), 24.0)
    stage.add("BreadBoard", box(0.42, 0.022, 0.24, 0.008, 3).turned("y", 24.0).moved(2.86, top + 0.011, 1.56), "Oak")
    stage.add("TableCloth", cloth(0.62, 0.5, 0.26, 2).turned("y", 4.0).moved(3.05, top + 0.003, 2.215), "Check", double_sided=True)
    for k, (x, z, r) in enumerate(((2.98, 1.92, 0.034), (3.05, 1.88, 0.036), (3.01, 1.95, 0.033), (3.06, 1.94, 0.031))):
        apple = lathe([(0, 0.1), (0.3, 0.02), (0.8, 0.25), (1.0, 0.8), (0.9, 1.4), (0.5, 1.75), (0.15, 1.62), (0, 1.5)], 24, 2)
        stage.add(
            f"Apples/Apple{k}", apple.scaled(r, r, r).turned("x", 20.0 * k).moved(x, top + 0.035 + 0.004 * k, z), "Apple" if k % 2 else "AppleGreen"
        )
    stage.prototype("Chair", chair())
    stage.place("ChairNear", "Chair", (2.62, 0.0, 2.5), 168.0)
    stage.place("ChairFar", "Chair", (3.75, 0.0, 1.5), -98.0)
    stage.prototype("Cup", cup())
    for k, (x, z, turn) in enumerate(((3.22, 1.98, 40.0), (2.72, 1.98, 200.0))):
        stage.place(f"Cups/Cup{k}", "Cup", (x, top + 0.004, z), turn)
    _shelves(stage)
    _floor_things(stage)


def _shelves(stage: Stage) -> None:
    boards = []
    for y in (1.28, 1.6, 1.92):
        boards.append(box(1.5, 0.024, 0.2, 0.006).moved(3.1, y, 0.115))
    brackets = [box(0.022, 0.74, 0.15, 0.004, grain="y").moved(3.1 + 0.72 * s, 1.6, 0.09) for s in (-1, 1)]
    stage.add("Shelves/Boards", join(*boards), "PaintedGreen")
    stage.add("Shelves/Ends", join(*brackets), "PaintedGreen")
    rails = [tube(np.array([(2.36, y + 0.05, 0.2), (3.84, y + 0.05, 0.2)]), 0.006, 8) for y in (1.6, 1.92)]
    stage.add("Shelves/Rails", join(*rails), "Oak")
    stage.prototype("Plate", plate())
    for k in range(5):
        stage.prototype(f"Plate{k}", {"Plate": (plate()["Plate"][0].turned("x", 76.0).moved(y=0.115), "Glaze")}) if k == 0 else None
        stage.place(f"Shelves/Plates/Plate{k}", "Plate0", (2.52 + 0.27 * k, 1.612, 0.095))
    for k, (x, h, r) in enumerate(((2.5, 0.17, 0.05), (2.63, 0.13, 0.045), (2.76, 0.2, 0.055), (2.92, 0.15, 0.05))):
        _add(stage, f"Shelves/Jars/Jar{k}", jar(h, r), (x, 1.292, 0.12), 20.0 * k)
    for k in range(4):
        stage.place(f"Shelves/Cups/Cup{k}", "Cup", (3.12 + 0.12 * k, 1.293, 0.13), 35.0 + 50.0 * k)
    rng = np.random.default_rng(12)
    x = 2.42
    for k in range(9):
        thick, height = rng.uniform(0.022, 0.05), rng.uniform(0.17, 0.235)
        thing = book(rng.uniform(0.12, 0.15), height, thick)
        colour = ("CoverRed", "CoverBlue", "CoverTan")[k % 3]
        thing = {n: (p, colour if m == "Cover" else m) for n, (p, m) in thing.items()}
        _add(stage, f"Shelves/Books/Book{k}", thing, (x + thick / 2, 1.932, 0.12), rng.uniform(-2, 2))
        x += thick + 0.004
    bell = lathe([(0, 0.13), (0.03, 0.125), (0.045, 0.09), (0.055, 0.03), (0.08, 0.0), (0.076, 0.0), (0.05, 0.03), (0, 0.12)], 32, 2)
    stage.add("Shelves/Bell", flipped(bell).moved(3.55, 1.932, 0.12), "Brass")
    _add(stage, "Shelves/Jug", jug(), (3.3, 1.932, 0.12), 70.0)
    dial = join(lathe([(0, 0), (0.1, 0), (0.11, 0.01), (0.11, 0.03), (0.095, 0.036), (0.09, 0.03)], 48).turned("x", 90.0))
    stage.add("Barometer/Case", dial.moved(2.06, 1.62, 0.02), "Brass")
    stage.add("Barometer/Face", lathe([(0, 0.026), (0.094, 0.026), (0.094, 0.02)], 48).turned("x", 90.0).moved(2.06, 1.62, 0.02), "Paper")
    hand = box(0.006, 0.075, 0.002, 0.0008, 1).moved(0, 0.03, 0).turned("z", 38.0).moved(2.06, 1.62, 0.05)
    stage.add("Barometer/Hand", hand, "Iron")


def _floor_things(stage: Stage) -> None:
    _add(stage, "Basket", basket(), (2.02, 0.0, 0.52))
    logs = [
        log(0.3, 0.032, k)
        .turned("y", 40.0 * k)
        .turned("z", 12.0 * (k % 3 - 1))
        .moved(2.02 + 0.04 * np.sin(k * 2.1), 0.21 + 0.028 * (k // 2), 0.52 + 0.05 * np.cos(k * 1.7))
        for k in range(7)
    ]
    stage.add("Basket/Logs", join(*logs), "Bark")
    stage.add("RopeCoil", rope(coil(0.16, 0.012, 6.0, 0.013, 0.006, 3), 0.012).moved(0.62, 0.0, 0.95), "Rope")
    u, v = np.meshgrid(np.linspace(-0.95, 0.95, 50), np.linspace(-0.6, 0.6, 34), indexing="xy")
    height = 0.011 + 0.004 * noise(np.stack([u, v], -1), 0.35, 6) + 0.01 * np.exp(-(((v - 0.2 * u + 0.35) / 0.03) ** 2))
    rug = np.stack([u, height, v], axis=-1)
    top = sheet(rug, np.stack([u, v], -1))
    skirt = [np.stack([line * np.array([1.0, 0.0, 1.0]), line], 0) for line in (rug[0], rug[-1][::-1], rug[:, -1], rug[::-1, 0])]
    stage.add("Rug", join(top, *[sheet(s) for s in skirt]).turned("y", 12.0).moved(1.75, 0.0, 2.0), "Rug", double_sided=True)
    bucket = lathe([(0, 0.01), (0.11, 0.01), (0.115, 0.0), (0.15, 0.27), (0.154, 0.272), (0.146, 0.268), (0.108, 0.02), (0, 0.02)], 40)
    hoops = join(
        *[
            lathe([(0.117 + 0.128 * h, h), (0.121 + 0.128 * h, h), (0.124 + 0.128 * h, h + 0.022), (0.12 + 0.128 * h, h + 0.022)], 40)
            for h in (0.04, 0.2)
        ]
    )
    bail = tube(curve([(-0.15, 0.25, 0), (-0.12, 0.2, 0.14), (0.0, 0.17, 0.2), (0.12, 0.2, 0.14), (0.15, 0.25, 0)], 24), 0.005, 8)
    stage.add("Bucket/Staves", bucket.moved(0.42, 0.0, 0.45), "Oak")
    stage.add("Bucket/Iron", join(hoops, bail).moved(0.42, 0.0, 0.45), "Iron")
    # Oilskin on a peg of the east side, in the corner of the picture.
    peg_rail = box(0.9, 0.08, 0.02, 0.006).moved(0.55, 1.72, 0.03)
    stage.add("Pegs/Rail", peg_rail, "PaintedGreen")
    for k in range(3):
        peg = tube(curve([(0, 0, 0), (0, 0.01, 0.05), (0, 0.03, 0.075)], 8), np.linspace(0.011, 0.008, 8), 10)
        stage.add(f"Pegs/Peg{k}", peg.moved(0.25 + 0.3 * k, 1.71, 0.035), "Oak")
    t, a = np.meshgrid(np.linspace(0.0, 1.0, 44), np.linspace(0.0, 2.0 * np.pi, 61)[:-1], indexing="ij")
    fold = 1.0 + 0.16 * np.sin(a * 7.0 + 3.0 * t) * t + 0.08 * np.sin(a * 11.0) * t
    r_x, r_z = (0.03 + 0.17 * t**0.55) * fold, (0.02 + 0.075 * t**0.6) * fold
    coat = np.stack([r_x * np.cos(a) + 0.01 * np.sin(6 * t), -1.02 * t + 0.02, r_z * np.sin(a) * np.where(np.sin(a) < 0, 0.35, 1.0)], axis=-1)
    stage.add("Oilskin", flipped(sheet(coat, wrap_u=True)).moved(0.55, 1.74, 0.1), "Oilskin", double_sided=True)
    line_path = rope(coil(0.13, 0.008, 4.0, 0.012, 0.01, 5), 0.008).turned("x", 84.0).moved(0.25, 1.56, 0.085)
    stage.add("HangingLine", line_path, "Rope")


def build(path: Path) -> None:
    """Write the shot to `path` with its textures beside it."""
    stage = Stage(path, "Kitchen")
    stage.texture("whitewash", pictures.whitewash(1))
    stage.texture("floor", pictures.wood(2, (0.36, 0.24, 0.14), (0.13, 0.075, 0.04), 0.12))
    stage.texture("pine", pictures.wood(3, (0.55, 0.36, 0.19), (0.27, 0.15, 0.065)))
    stage.texture("oak", pictures.wood(4, (0.33, 0.2, 0.1), (0.12, 0.065, 0.03)))
    stage.texture("check", pictures.checked_cloth(5))
    stage.texture("rug", pictures.checked_cloth(6, (0.34, 0.11, 0.07), (0.06, 0.055, 0.075), 3))
    stage.texture("iron", pictures.iron(7))
    stage.texture("green", pictures.paint(8, (0.13, 0.22, 0.17)))
    stage.texture("weave", pictures.weave(9))
    stage.texture("stone", pictures.stone(10))
    material = stage.material
    material("Whitewash", roughness=0.9, picture="whitewash", repeat=0.55)
    material("CeilingPaint", roughness=0.85, picture="whitewash", repeat=0.8)
    material("FloorBoards", roughness=0.42, picture="floor", repeat=0.8)
    material("Beams", roughness=0.7, picture="oak", repeat=0.7)
    material("Pine", roughness=0.45, picture="pine", repeat=1.0)
    material("Oak", roughness=0.42, picture="oak", repeat=1.5)
    material("PaintedGreen", roughness=0.4, picture="green", repeat=1.2)
    material("PaintedBlue", (0.16, 0.24, 0.31), roughness=0.4)
    material("Stone", roughness=0.85, picture="stone", repeat=0.9)
    material("Iron", roughness=0.42, picture="iron", repeat=1.5)
    material("Brass", (0.78, 0.55, 0.24), roughness=0.35, metallic=1.0)
    material("EnamelBlue", (0.02, 0.06, 0.11), roughness=0.25)
    material("Soot", (0.02, 0.018, 0.016), roughness=0.8)
    material("Copper", (0.80, 0.43, 0.27), roughness=0.32, metallic=1.0)
    material("Tin", (0.10, 0.19, 0.14), roughness=0.3)
    material("Enamel", (0.72, 0.73, 0.70), roughness=0.16)
    material("EnamelRim", (0.03, 0.06, 0.16), roughness=0.2)
    material("Glaze", (0.62, 0.60, 0.52), roughness=0.14)
    material("Stoneware", (0.34, 0.25, 0.17), roughness=0.3)
    material("Crust", (0.37, 0.19, 0.075), roughness=0.75)
    material("Apple", (0.42, 0.06, 0.035), roughness=0.28)
    material("AppleGreen", (0.36, 0.34, 0.06), roughness=0.28)
    material("Check", roughness=0.9, picture="check", repeat=2.5)
    material("Rug", roughness=0.95, picture="rug", repeat=1.6)
    material("Willow", roughness=0.7, picture="weave", repeat=3.0)
    material("Rope", roughness=0.85, picture="weave", repeat=6.0)
    material("Bark", (0.17, 0.115, 0.075), roughness=0.9)
    material("Oilskin", (0.56, 0.36, 0.06), roughness=0.33)
    material("Paper", (0.7, 0.66, 0.56), roughness=0.8)
    material("CoverRed", (0.25, 0.045, 0.035), roughness=0.55)
    material("CoverBlue", (0.04, 0.08, 0.16), roughness=0.55)
    material("CoverTan", (0.30, 0.19, 0.09), roughness=0.55)
    material("Fire", (0.02, 0.015, 0.01), roughness=0.9, glow=(0.62, 0.15, 0.025))
    _room(stage)
    _furnish(stage)
    # The sky comes in through the window as a light of its own: aimed at, where the dome behind it is mostly walled off.
    stage.light("Distant", "EveningSun", 13.0, (1.0, 0.66, 0.36), normalize=True, angle=0.7, at=(0, 0, 0), towards=(-0.86, -0.30, 0.05))
    stage.light("Dome", "Sky", 0.8, (0.62, 0.78, 1.0))
    window = (WIDTH + WALL - 0.02, 1.44, 1.5)
    stage.light("Rect", "WindowSky", 14.0, (0.66, 0.80, 1.0), width=0.72, height=0.72, at=window, towards=(0.0, 1.44, 1.5))
    stage.light("Sphere", "Flame", 330.0, (1.0, 0.6, 0.27), radius=0.028, at=(2.52, 0.757 + 0.25, 1.66))
    stage.camera("table", (0.78, 1.40, 3.25), (2.62, 0.98, 1.15), 25.0, 1.7)
    stage.camera("stove", (2.75, 1.25, 2.9), (1.2, 0.62, 0.3), 32.0, 2.4)
    stage.camera("shelf", (2.3, 1.5, 2.2), (3.05, 1.55, 0.1), 38.0, 2.2)
    stage.save()
