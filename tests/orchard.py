"""An orchard of apple trees behind the keeper's house, of any size: a scene of placed shapes, made up for tests and the bench.

Branches fork by a simple recursive rule (Prusinkiewicz & Lindenmayer 1990, "The Algorithmic Beauty of Plants", section 2.3).
"""

from pathlib import Path

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

KINDS = 4
SPACING = 4.2
"""Metres between the trees of a row."""
GREENS = ((0.16, 0.27, 0.06), (0.2, 0.3, 0.07), (0.13, 0.24, 0.07), (0.24, 0.31, 0.09))


def write_orchard(path: Path, trees: int, detail: float = 1.0) -> None:
    """Write the orchard as USD. detail: 1 gives a tree about 20 000 triangles."""
    random = np.random.default_rng(11)
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    _surfaces(stage)
    side = int(np.ceil(trees**0.5))
    depth = side * SPACING
    _ground(stage, depth)
    _house(stage)
    for kind in range(KINDS):
        wood, leaves, apples = _tree(random, detail)
        _mesh(stage, f"/Orchard/Trees/Kinds/Tree{kind}/Wood", *wood, "Bark")
        _mesh(stage, f"/Orchard/Trees/Kinds/Tree{kind}/Leaves", *leaves, f"Leaf{kind}", double_sided=True)
        _mesh(stage, f"/Orchard/Trees/Kinds/Tree{kind}/Apples", *apples, "Apple")
    placer = UsdGeom.PointInstancer.Define(stage, "/Orchard/Trees")
    placer.CreatePrototypesRel().SetTargets([f"/Orchard/Trees/Kinds/Tree{kind}" for kind in range(KINDS)])
    k = np.arange(trees)
    x, z = (k % side - side / 2.0) * SPACING, -14.0 - (k // side) * SPACING
    at = np.stack([x + random.normal(0.0, 0.35, trees), np.zeros(trees), z + random.normal(0.0, 0.35, trees)], axis=1)
    at[:, 1] = _height(at[:, 0], at[:, 2])
    turns, sizes = random.uniform(0.0, 2.0 * np.pi, trees), random.uniform(0.75, 1.2, trees)
    placer.CreateProtoIndicesAttr(Vt.IntArray.FromNumpy(random.integers(0, KINDS, trees).astype(np.int32)))
    placer.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(at.astype(np.float32)))
    placer.CreateOrientationsAttr([Gf.Quath(float(np.cos(a / 2.0)), 0.0, float(np.sin(a / 2.0)), 0.0) for a in turns])
    placer.CreateScalesAttr(Vt.Vec3fArray.FromNumpy(np.repeat(sizes[:, None], 3, axis=1).astype(np.float32)))
    _light(stage)
    stage.GetRootLayer().Save()


def _height(x: np.ndarray, z: np.ndarray) -> np.ndarray:
    """The hill behind the house."""
    back = np.maximum(0.0, -z - 10.0)
    return 0.11 * back + 0.0006 * back**2 / (1.0 + 0.004 * back) + 0.5 * np.sin(0.09 * x + 0.6) * np.minimum(1.0, back / 12.0)


def _surfaces(stage: Usd.Stage) -> None:
    colours = {
        "Bark": (0.16, 0.12, 0.09),
        "Apple": (0.6, 0.07, 0.05),
        "Grass": (0.15, 0.22, 0.06),
        "Lime": (0.82, 0.8, 0.74),
        "Slate": (0.12, 0.13, 0.15),
    }
    colours |= {"Door": (0.1, 0.25, 0.22), **{f"Leaf{k}": colour for k, colour in enumerate(GREENS)}}
    for name, colour in colours.items():
        material, shader = UsdShade.Material.Define(stage, f"/Looks/{name}"), UsdShade.Shader.Define(stage, f"/Looks/{name}/Shader")
        shader.CreateIdAttr("UsdPreviewSurface")
        shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*colour))
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(0.25 if name == "Apple" else 0.8)
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")


def _mesh(stage: Usd.Stage, at: str, points: np.ndarray, faces: np.ndarray, surface: str, double_sided: bool = False) -> None:
    mesh = UsdGeom.Mesh.Define(stage, at)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(faces), faces.shape[1], np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(faces.reshape(-1).astype(np.int32)))
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreateDoubleSidedAttr(double_sided)
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(UsdShade.Material.Get(stage, f"/Looks/{surface}"))


def _joined(parts: list[tuple[np.ndarray, np.ndarray]]) -> tuple[np.ndarray, np.ndarray]:
    starts = np.cumsum([0] + [len(points) for points, _ in parts[:-1]])
    return np.concatenate([p for p, _ in parts]), np.concatenate([f + s for (_, f), s in zip(parts, starts, strict=True)])


def _frame(d: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    a = np.cross(d, (0.0, 0.0, 1.0) if abs(d[2]) < 0.9 else (1.0, 0.0, 0.0))
    a /= np.linalg.norm(a)
    return a, np.cross(d, a)


def _tree(random: np.random.Generator, detail: float) -> list[tuple[np.ndarray, np.ndarray]]:
    """Points and faces of the wood, the leaves and the apples of one tree, about 4 m high, its foot at the origin."""
    limbs: list[tuple[np.ndarray, np.ndarray, float, float]] = []
    waiting = [(np.zeros(3), np.array([0.0, 1.0, 0.0]), 1.1, 0.13, 0)]
    tips = []
    while waiting:
        foot, d, length, thick, order = waiting.pop()
        end = foot + d * length
        limbs.append((foot, end, thick, thick * 0.72))
        if order == 5:
            tips.append((foot, end))
            continue
        turn = random.uniform(0.0, 2.0 * np.pi)
        count = 3 if order < 2 else 2
        for k in range(count):
            a, b = _frame(d)
            angle, spread = turn + 2.0 * np.pi * k / count + random.normal(0.0, 0.3), random.uniform(0.4, 0.75)
            new = d * np.cos(spread) + (a * np.cos(angle) + b * np.sin(angle)) * np.sin(spread) + np.array([0.0, 0.12, 0.0])
            waiting.append((end, new / np.linalg.norm(new), length * random.uniform(0.66, 0.82), thick * 0.6, order + 1))
    sides = 6
    around = 2.0 * np.pi * np.arange(sides) / sides
    wood = []
    for foot, end, thick, thin in limbs:
        d = (end - foot) / np.linalg.norm(end - foot)
        a, b = _frame(d)
        ring = a * np.cos(around)[:, None] + b * np.sin(around)[:, None]
        k, n = np.arange(sides), (np.arange(sides) + 1) % sides
        wood.append((np.concatenate([foot + ring * thick, end + ring * thin]), np.stack([k, n, n + sides, k + sides], axis=1)))
    leaves = []
    for foot, end in tips:
        count = max(2, int(130 * detail))
        at = foot + (end - foot) * random.uniform(0.0, 1.2, (count, 1)) + random.normal(0.0, 0.11, (count, 3))
        u = random.normal(size=(count, 3))
        u /= np.linalg.norm(u, axis=1, keepdims=True)
        v = np.cross(u, random.normal(size=(count, 3)))
        v /= np.maximum(np.linalg.norm(v, axis=1, keepdims=True), 1e-9)
        points = np.stack([at - u * 0.045, at - v * 0.02, at + u * 0.045, at + v * 0.02], axis=1).reshape(-1, 3)
        leaves.append((points, np.arange(4 * count).reshape(-1, 4)))
    apples = [_ball(tips[k][1] + random.normal(0.0, 0.06, 3) - (0.0, 0.05, 0.0), 0.035) for k in random.choice(len(tips), 24, replace=False)]
    return [_joined(wood), _joined(leaves), _joined(apples)]


def _ball(at: np.ndarray, radius: float) -> tuple[np.ndarray, np.ndarray]:
    """An octahedron with every face split in four, on a sphere."""
    points = np.array([(1, 0, 0), (-1, 0, 0), (0, 1, 0), (0, -1, 0), (0, 0, 1), (0, 0, -1)], float)
    faces = np.array([(0, 2, 4), (2, 1, 4), (1, 3, 4), (3, 0, 4), (2, 0, 5), (1, 2, 5), (3, 1, 5), (0, 3, 5)])
    a, b, c = (points[faces[:, k]] for k in range(3))
    ab, bc, ca = a + b, b + c, c + a
    triangles = np.concatenate([np.stack(t, axis=1) for t in ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca))])
    triangles /= np.linalg.norm(triangles, axis=2, keepdims=True)
    return at + triangles.reshape(-1, 3) * radius, np.arange(3 * len(triangles)).reshape(-1, 3)


def _ground(stage: Usd.Stage, depth: float) -> None:
    reach = max(depth, 40.0)
    x, z = np.meshgrid(np.linspace(-reach, reach, 120), np.linspace(30.0, -reach - 30.0, 120))
    points = np.stack([x, _height(x, z) - 0.02, z], axis=-1).reshape(-1, 3)
    k = (np.arange(119)[:, None] * 120 + np.arange(119)).reshape(-1)
    _mesh(stage, "/Orchard/Ground", points, np.stack([k, k + 1, k + 121, k + 120], axis=1), "Grass")


def _house(stage: Usd.Stage) -> None:
    """A gabled cottage, 7 x 4.5 m, with a door and a chimney."""
    w, d, eaves, ridge = 3.5, 2.25, 2.4, 4.2
    walls = np.array([(-w, 0, d), (w, 0, d), (w, 0, -d), (-w, 0, -d), (-w, eaves, d), (w, eaves, d), (w, eaves, -d), (-w, eaves, -d)], float)
    _mesh(stage, "/Orchard/House/Walls", walls, np.array([(0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)]), "Lime")
    gables = np.array([(-w, eaves, d), (-w, eaves, -d), (-w, ridge, 0), (w, eaves, -d), (w, eaves, d), (w, ridge, 0)], float)
    _mesh(stage, "/Orchard/House/Gables", gables, np.array([(1, 0, 2), (4, 3, 5)]), "Lime", double_sided=True)
    o = 0.3
    roof = np.array([(-w - o, eaves - 0.2, d + o), (w + o, eaves - 0.2, d + o), (w + o, ridge, 0), (-w - o, ridge, 0),
                     (w + o, eaves - 0.2, -d - o), (-w - o, eaves - 0.2, -d - o)], float)  # fmt: skip
    _mesh(stage, "/Orchard/House/Roof", roof, np.array([(0, 1, 2, 3), (4, 5, 3, 2)]), "Slate", double_sided=True)
    for name, low, high, look in (("Door", (-0.5, 0.0, d), (0.5, 2.0, d + 0.06), "Door"), ("Chimney", (1.9, 3.0, -0.35), (2.6, 5.0, 0.35), "Lime")):
        corners = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)], float)
        faces = np.array([(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)])
        _mesh(stage, f"/Orchard/House/{name}", corners, faces, look)


def _light(stage: Usd.Stage) -> None:
    sun = UsdLux.DistantLight.Define(stage, "/Orchard/Sun")
    sun.CreateAngleAttr(0.53)
    sun.CreateIntensityAttr(50000.0)
    sun.CreateColorAttr(Gf.Vec3f(1.0, 0.86, 0.66))
    sun.AddRotateXYZOp().Set(Gf.Vec3f(-20.0, 75.0, 0.0))
    sky = UsdLux.DomeLight.Define(stage, "/Orchard/Sky")
    sky.CreateIntensityAttr(0.7)
    sky.CreateColorAttr(Gf.Vec3f(0.55, 0.72, 1.0))
    eye = UsdGeom.Camera.Define(stage, "/Orchard/Eye")
    look = Gf.Matrix4d().SetLookAt(Gf.Vec3d(13.0, 2.6, 13.0), Gf.Vec3d(-1.0, 3.6, -10.0), Gf.Vec3d(0, 1, 0)).GetInverse()
    eye.AddTransformOp().Set(look)
    eye.CreateFocalLengthAttr(30.0)
