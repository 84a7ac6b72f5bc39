"""Files of thousands of lights and placements, and cages that are subdivided: work to open them, at four sizes, and how it grows."""

import tempfile
from pathlib import Path

import numpy as np
from pxr import Gf, Usd, UsdGeom, UsdLux, Vt

from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Scene
from sivrel.core.work_time import work_time

LAMPS, PLACEMENTS, CAGES = (625, 1250, 2500, 5000), (40, 80, 160, 320), (2, 3, 4, 5)
SIDE = 158
"""Faces along a side of the placed mesh: 50 000 triangles."""


def opening() -> str:
    """Processor time to read lamps and placements of a mesh of 50 000 triangles, with the exponent of its growth; and to subdivide."""
    lines = []
    with tempfile.TemporaryDirectory() as folder:
        for what, sizes, make in (("lamps", LAMPS, _lamps), ("placements", PLACEMENTS, _placements)):
            seconds = []
            for size in sizes:
                path = Path(folder) / f"{what}{size}.usdc"
                make(path, size)
                begun = work_time()
                scene = read_scene(path)
                seconds.append(work_time() - begun)
            power = np.polyfit(np.log(sizes), np.log(seconds), 1)[0]
            times = ", ".join(f"{size} {second:.2f} s" for size, second in zip(sizes, seconds, strict=True))
            lines.append(f"{what}: {times}; grows as the {power:.2f}th power; {scene.triangle_count()} triangles, {len(scene.lights)} lights")
        path = Path(folder) / "cage.usda"
        _cage(path)
        scene = read_scene(path)
        plain = _prepared(scene, with_values(Recipe(), {"surfaces.subdivide": 0.0}))[0]
        for level in CAGES:
            recipe = with_values(Recipe(), {"surfaces.subdivide": 1e-6, "surfaces.subdivide_unit": "m", "surfaces.subdivide_levels": level})
            seconds_of, triangles = _prepared(scene, recipe)
            lines.append(f"a cage of 1 024 faces, {level} levels: {seconds_of - plain:.2f} s more, {triangles} triangles")
    return "\n".join(lines)


def _prepared(scene: Scene, recipe: Recipe) -> tuple[float, int]:
    begun = work_time()
    ready = prepare(scene, recipe, frame=Frame(64, 36))
    return work_time() - begun, len(ready.arrays.corners)


def _stage(path: Path) -> Usd.Stage:
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, "Y")
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    return stage


def _mesh(stage: Usd.Stage, at: str, points: np.ndarray, faces: np.ndarray, scheme: str) -> None:
    mesh = UsdGeom.Mesh.Define(stage, at)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype("f4")))
    mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(faces), faces.shape[1], np.int32)))
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(faces.reshape(-1).astype(np.int32)))
    mesh.CreateSubdivisionSchemeAttr(scheme)


def _sheet(side: int) -> tuple[np.ndarray, np.ndarray]:
    """Points and faces of a wavy sheet with that many corners along a side."""
    x, y = np.meshgrid(np.linspace(-1.0, 1.0, side), np.linspace(-1.0, 1.0, side))
    points = np.stack([x, 0.2 * np.sin(5.0 * x) * np.cos(4.0 * y), y], axis=2).reshape(-1, 3)
    at = (np.arange(side - 1)[:, None] * side + np.arange(side - 1)).reshape(-1)
    return points, np.stack([at, at + side, at + side + 1, at + 1], axis=1)


def _lamps(path: Path, count: int) -> None:
    stage, rng = _stage(path), np.random.default_rng(1)
    _mesh(stage, "/World/Ground", *_sheet(2), "none")
    for k in range(count):
        lamp = UsdLux.SphereLight.Define(stage, f"/World/Street{k // 50}/Lamp{k}")
        lamp.CreateRadiusAttr(0.05)
        lamp.AddTranslateOp().Set(Gf.Vec3d(*rng.uniform([-40.0, 1.0, -40.0], [40.0, 4.0, 40.0])))
    stage.Save()


def _placements(path: Path, count: int) -> None:
    stage, rng = _stage(path), np.random.default_rng(1)
    UsdGeom.Xform.Define(stage, "/Kinds")
    _mesh(stage, "/Kinds/Sheet", *_sheet(SIDE + 1), "none")
    placer = UsdGeom.PointInstancer.Define(stage, "/World/Field")
    placer.CreatePrototypesRel().SetTargets(["/Kinds/Sheet"])
    placer.CreateProtoIndicesAttr(Vt.IntArray([0] * count))
    placer.CreatePositionsAttr(Vt.Vec3fArray.FromNumpy(rng.uniform([-60, 0, -60], [60, 0, 60], (count, 3)).astype("f4")))
    UsdLux.DomeLight.Define(stage, "/World/Sky")
    stage.Save()


def _cage(path: Path) -> None:
    stage = _stage(path)
    _mesh(stage, "/Cage", *_sheet(33), "catmullClark")
    UsdLux.DomeLight.Define(stage, "/Sky")
    stage.Save()
