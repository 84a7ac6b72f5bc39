"""A net loft of any size: nets and ropes of curves, floats of subdivided cages, textured boards. Made up for tests and the bench."""

from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

WIDE, LONG, HIGH = 5.0, 7.0, 3.6
"""Metres of the loft; its roof begins at 1.4 m."""
PAINTS = ((0.62, 0.12, 0.07), (0.85, 0.45, 0.08), (0.1, 0.28, 0.42), (0.8, 0.78, 0.7))


def write_loft(path: Path, meshes: int = 40, floats: int = 14) -> None:
    """Write the loft as USD, with a texture beside it. meshes: of the net, along a side; floats: on their line."""
    random = np.random.default_rng(5)
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    boards(random, path.parent / "boards.png")
    for name, colour, roughness in (("Twine", (0.3, 0.42, 0.36), 0.8), ("Hemp", (0.45, 0.33, 0.2), 0.9), ("Beam", (0.25, 0.17, 0.11), 0.7)):
        _surface(stage, name, colour, roughness)
    for k, colour in enumerate(PAINTS):
        _surface(stage, f"Paint{k}", colour, 0.25)
    _surface(stage, "Boards", (0.4, 0.3, 0.2), 0.6, "boards.png")
    _room(stage)
    _nets(stage, meshes)
    _ropes(stage, random)
    _floats(stage, floats)
    _light(stage)
    stage.GetRootLayer().Save()


def boards(random: np.random.Generator, path: Path) -> None:
    """Grey-brown boards with grain, 512 pixels square."""
    x, y = np.meshgrid(np.arange(512), np.arange(512))
    board = x // 64
    tone = random.uniform(0.75, 1.1, 8)[board] * (0.9 + 0.1 * np.sin(0.35 * x + 3.0 * np.sin(0.02 * y + 9.0 * board)))
    tone *= np.where(x % 64 < 2, 0.35, 1.0)
    colour = np.clip(tone[..., None] * np.array([0.5, 0.4, 0.3]), 0.0, 1.0)
    Image.fromarray((255.0 * colour**0.45).astype(np.uint8)).save(path)


def _surface(stage: Usd.Stage, name: str, colour: tuple, roughness: float, picture: str = "") -> None:
    material, shader = UsdShade.Material.Define(stage, f"/Looks/{name}"), UsdShade.Shader.Define(stage, f"/Looks/{name}/Shader")
    shader.CreateIdAttr("UsdPreviewSurface")
    base = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
    base.Set(Gf.Vec3f(*colour))
    shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(roughness)
    if picture:
        reader = UsdShade.Shader.Define(stage, f"/Looks/{name}/Reader")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
        texture = UsdShade.Shader.Define(stage, f"/Looks/{name}/Texture")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(picture))
        texture.CreateInput("wrapS", Sdf.ValueTypeNames.Token).Set("repeat")
        texture.CreateInput("wrapT", Sdf.ValueTypeNames.Token).Set("repeat")
        texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
        base.ConnectToSource(texture.ConnectableAPI(), "rgb")
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")


def _bind(prim: UsdGeom.Gprim, surface: str) -> None:
    UsdShade.MaterialBindingAPI.Apply(prim.GetPrim()).Bind(UsdShade.Material.Get(prim.GetPrim().GetStage(), f"/Looks/{surface}"))


def _panel(stage: Usd.Stage, at: str, corners: list, surface: str, repeat: tuple[float, float] = (1.0, 1.0)) -> None:
    mesh = UsdGeom.Mesh.Define(stage, at)
    mesh.CreatePointsAttr([Gf.Vec3f(*map(float, p)) for p in corners])
    mesh.CreateFaceVertexCountsAttr([4])
    mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    mesh.CreateDoubleSidedAttr(True)
    st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
    st.Set([Gf.Vec2f(0, 0), Gf.Vec2f(repeat[0], 0), Gf.Vec2f(*repeat), Gf.Vec2f(0, repeat[1])])
    _bind(mesh, surface)


def _room(stage: Usd.Stage) -> None:
    w, l, low = WIDE / 2.0, LONG / 2.0, 1.4
    _panel(stage, "/Loft/Floor", [(-w, 0, l), (w, 0, l), (w, 0, -l), (-w, 0, -l)], "Boards", (4.0, 3.0))
    for side, s in (("Left", -1), ("Right", 1)):
        _panel(stage, f"/Loft/Knee{side}", [(s * w, 0, l), (s * w, 0, -l), (s * w, low, -l), (s * w, low, l)], "Boards", (5.0, 1.0))
        _panel(stage, f"/Loft/Roof{side}", [(s * w, low, l), (s * w, low, -l), (0, HIGH, -l), (0, HIGH, l)], "Boards", (5.0, 2.0))
    # The end wall with a window in it, and the wall behind the camera.
    for name, x0, x1, y0, y1 in (("Left", -w, -0.5, 0.0, low), ("Right", 0.5, w, 0.0, low), ("Below", -0.5, 0.5, 0.0, 0.7)):
        _panel(stage, f"/Loft/End{name}", [(x0, y0, -l), (x1, y0, -l), (x1, y1, -l), (x0, y1, -l)], "Boards", (2.0, 1.0))
    for name, x0, x1, top0, top1 in (("Left", -w, -0.5, low, HIGH - 0.44), ("Right", 0.5, w, HIGH - 0.44, low)):
        _panel(stage, f"/Loft/Gable{name}", [(x0, low, -l), (x1, low, -l), (x1, top1, -l), (x0, top0, -l)], "Boards", (2.0, 1.0))
    _panel(stage, "/Loft/Above", [(-0.5, 1.9, -l), (0.5, 1.9, -l), (0.5, HIGH, -l), (-0.5, HIGH, -l)], "Boards")
    _panel(stage, "/Loft/Back", [(-w, 0, l), (w, 0, l), (w, HIGH, l), (-w, HIGH, l)], "Boards", (4.0, 2.0))
    for k, z in enumerate(np.linspace(-l + 0.7, l - 0.7, 5)):
        _panel(stage, f"/Loft/Beam{k}", [(-1.5, 2.28, z), (1.5, 2.28, z), (1.5, 2.44, z), (-1.5, 2.44, z)], "Beam")


def _curves(stage: Usd.Stage, at: str, curves: list[np.ndarray], width: float, surface: str, **how: str) -> None:
    made = UsdGeom.BasisCurves.Define(stage, at)
    made.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.concatenate(curves).astype(np.float32)))
    made.CreateCurveVertexCountsAttr(Vt.IntArray.FromNumpy(np.array([len(c) for c in curves], np.int32)))
    made.CreateTypeAttr(how.get("type", "cubic"))
    made.CreateBasisAttr(how.get("basis", "catmullRom"))
    made.CreateWrapAttr(how.get("wrap", "pinned"))
    made.CreateWidthsAttr([width])
    made.SetWidthsInterpolation(UsdGeom.Tokens.constant)
    _bind(made, surface)


def _nets(stage: Usd.Stage, meshes: int) -> None:
    """A net that hangs from the ridge, of two sets of twines that cross."""
    u = np.linspace(0.0, 1.0, meshes)

    def at(a: np.ndarray, b: np.ndarray) -> np.ndarray:
        x = -1.9 + 2.6 * a + 0.12 * np.sin(7.0 * b + 2.0 * a)
        y = 2.7 - 1.9 * b - 0.5 * (1.0 - (2.0 * a - 1.0) ** 2) * (1.0 - 0.6 * b)
        return np.stack([x, y, -1.6 + 0.9 * a + 0.25 * np.sin(5.0 * a) * b], axis=1)

    falling = [at(np.full(meshes, a), u) for a in u]
    crossing = [at(u, np.full(meshes, b)) for b in u]
    _curves(stage, "/Loft/Net/Falling", falling, 0.007, "Twine")
    _curves(stage, "/Loft/Net/Crossing", crossing, 0.007, "Twine")


def _ropes(stage: Usd.Stage, random: np.random.Generator) -> None:
    """A coil on the floor, and a rope that hangs in a loop from a beam."""
    turn = np.linspace(0.0, 2.0 * np.pi * 7.0, 7 * 14)
    radius = 0.34 + 0.02 * np.sin(3.1 * turn) + random.normal(0.0, 0.004, len(turn))
    coil = np.stack([1.2 + radius * np.cos(turn), 0.03 + 0.034 * turn / (2.0 * np.pi), 0.2 + radius * np.sin(turn)], axis=1)
    t = np.linspace(0.0, 1.0, 12)
    hanging = np.stack([0.4 + 1.6 * t, 1.5 - 2.2 * t * (1.0 - t), np.full(12, -0.7)], axis=1)
    angle = 2.0 * np.pi * np.arange(16) / 16
    ring = np.stack([1.6 + 0.3 * np.cos(angle), np.full(16, 0.04), 1.4 + 0.3 * np.sin(angle)], axis=1)
    _curves(stage, "/Loft/Rope/Coil", [coil], 0.036, "Hemp", basis="bspline")
    _curves(stage, "/Loft/Rope/Loop", [hanging], 0.03, "Hemp")
    _curves(stage, "/Loft/Rope/Ring", [ring], 0.05, "Hemp", wrap="periodic", basis="bspline")


def _floats(stage: Usd.Stage, count: int) -> None:
    """Floats on a line along the left side: cubes that subdivision makes round, with a crease for the band of each second one."""
    corners = np.array([(x, y, z) for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], float)
    faces = [0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3]
    for k in range(count):
        mesh = UsdGeom.Mesh.Define(stage, f"/Loft/Floats/Float{k}")
        size = (0.13, 0.17, 0.13) if k % 2 else (0.16, 0.16, 0.16)
        mesh.CreatePointsAttr([Gf.Vec3f(*map(float, p * size)) for p in corners])
        mesh.CreateFaceVertexCountsAttr([4] * 6)
        mesh.CreateFaceVertexIndicesAttr(faces)
        mesh.CreateSubdivisionSchemeAttr("catmullClark")
        if k % 2:
            mesh.CreateCreaseIndicesAttr([0, 1, 5, 4, 0])
            mesh.CreateCreaseLengthsAttr([5])
            mesh.CreateCreaseSharpnessesAttr([2.0])
        mesh.AddTranslateOp().Set((-1.75 + 0.1 * np.sin(3.0 * k), 0.12 + 0.24 * (k % 3 == 0), 2.2 - 0.3 * k))
        mesh.AddRotateXYZOp().Set((20.0 * k, 47.0 * k, 11.0 * k))
        _bind(mesh, f"Paint{k % len(PAINTS)}")


def _light(stage: Usd.Stage) -> None:
    sun = UsdLux.DistantLight.Define(stage, "/Loft/Sun")
    sun.CreateAngleAttr(0.53)
    sun.CreateIntensityAttr(60000.0)
    sun.CreateColorAttr(Gf.Vec3f(1.0, 0.85, 0.65))
    sun.AddRotateXYZOp().Set(Gf.Vec3f(-17.0, 171.0, 0.0))
    sky = UsdLux.DomeLight.Define(stage, "/Loft/Sky")
    sky.CreateIntensityAttr(6.0)
    sky.CreateColorAttr(Gf.Vec3f(0.6, 0.75, 1.0))
    lamp = UsdLux.SphereLight.Define(stage, "/Loft/Lamp")
    lamp.CreateRadiusAttr(0.06)
    lamp.CreateIntensityAttr(900.0)
    lamp.CreateColorAttr(Gf.Vec3f(1.0, 0.72, 0.42))
    lamp.AddTranslateOp().Set((0.9, 2.1, -0.6))
    eye = UsdGeom.Camera.Define(stage, "/Loft/Eye")
    eye.CreateFocalLengthAttr(22.0)
    eye.AddTransformOp().Set(Gf.Matrix4d().SetLookAt(Gf.Vec3d(1.0, 1.6, 3.3), Gf.Vec3d(-0.3, 1.05, -1.6), Gf.Vec3d(0, 1, 0)).GetInverse())
