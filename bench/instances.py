"""An orchard of placed trees, at four sizes: work to open, prepare and draft it, memory, and how the cost of a ray grows; a loft of
curves; and ten million triangles of their own."""

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from pxr import Gf, Usd, UsdGeom, UsdLux, Vt

from tests.loft import write_loft
from tests.orchard import write_orchard

TREES = (625, 1250, 2500, 5000)
TILES, SIDE = 20, 500
"""Meshes of their own, and faces along a side of each: ten million triangles."""
MEASURE = r"""
import json, re, sys, time
import numpy as np
from pathlib import Path
import sivrel
from sivrel.core.trace.traverse import closest_hits
from sivrel.core.work_time import work_time

def took(work):
    begun, clock = work_time(), time.perf_counter()
    made = work()
    return made, work_time() - begun, time.perf_counter() - clock

values = json.loads(sys.argv[2])
shot, read, read_clock = took(lambda: sivrel.open(Path(sys.argv[1])))
picture, drawn, drawn_clock = took(lambda: shot.render({"sampling.min": 8, "sampling.max": 8, "gi.seen": "brute_force", **values}))
arrays, scene = picture.ready.arrays, picture.ready.scene
low, high = scene.bounds()
random = np.random.default_rng(1)
o = random.uniform(low, high, (200_000, 3)).astype(np.float32)
d = random.normal(size=(200_000, 3)).astype(np.float32)
closest_hits(arrays.bvh, o[:10], d[:10], np.float32(0.0), np.float32(1e30))
_, rays, _ = took(lambda: closest_hits(arrays.bvh, o, d, np.float32(0.0), np.float32(1e30)))
held = [arrays.corners, arrays.points, arrays.normals, arrays.uvs, arrays.parts, arrays.part_at, arrays.surface_of, arrays.mesh_leaf]
print(json.dumps({
    "bytes": sum(column.nbytes for column in held) / len(arrays.corners),
    "hierarchy": (arrays.bvh.nodes.nbytes + arrays.bvh.leaves.nbytes) / len(arrays.corners),
    "triangles": scene.triangle_count(), "stored": len(arrays.corners), "read": read, "clock": read_clock + drawn_clock,
    "drawn": drawn, "ray": rays / len(o) * 1e6, "megabytes": int(re.search(r"VmHWM:\s+(\d+)", open("/proc/self/status").read())[1]) / 1024,
}))
"""


def instances() -> str:
    """Every size in a process of its own, with compiled kernels; the smallest also with a copy of each tree."""
    lines, found = [], []
    with tempfile.TemporaryDirectory() as folder:
        for trees in TREES:
            path = Path(folder) / f"orchard{trees}.usdc"
            write_orchard(path, trees)
            found.append(_measured(path, {"surfaces.copied": 0}))
            lines.append(f"{trees} trees: {_words(found[-1])}")
        few = Path(folder) / "few.usdc"
        write_orchard(few, 60)
        shared, copied = (_measured(few, {"surfaces.copied": most}) for most in (0, 20_000_000))
        lines.append(f"60 trees, shared: {_words(shared)}; copied: {_words(copied)}; a ray takes {shared['ray'] / copied['ray']:.2f} times as long")
        path = Path(folder) / "loft.usda"
        write_loft(path, 120, 14)
        lines.append(f"a loft of curves and cages: {_words(_measured(path))}")
        path = Path(folder) / "tiles.usdc"
        _tiles(path)
        lines.append(f"triangles of their own: {_words(_measured(path))}")
    count, cost = (np.array([one[name] for one in found]) for name in ("triangles", "ray"))
    slope, start = np.polyfit(np.log2(count), cost, 1)
    off = np.abs(start + slope * np.log2(count) - cost).max()
    power = np.polyfit(np.log(count), np.log(cost), 1)[0]
    lines.append(f"a ray takes {slope:+.2f} µs more when the triangles double, within {off:.2f} µs; as a power of their number: {power:.2f}")
    read = np.polyfit(np.log(TREES), np.log([one["read"] for one in found]), 1)[0]
    lines.append(f"reading grows as the {read:.2f}th power of the trees")
    return "\n".join(lines)


def _measured(path: Path, values: dict | None = None) -> dict:
    said = subprocess.run([sys.executable, "-c", MEASURE, str(path), json.dumps(values or {})], capture_output=True, text=True, check=True)
    return json.loads(said.stdout.splitlines()[-1])


def _words(one: dict) -> str:
    return (
        f"{one['triangles'] / 1e6:.1f} million triangles, {one['stored'] / 1e3:.0f} thousand stored in {one['bytes']:.0f} bytes each, and "
        f"{one['hierarchy']:.0f} of hierarchy: read in {one['read']:.1f} s, draft of 8 samples "
        f"in {one['drawn']:.1f} s of processor time, both in {one['clock']:.1f} s by the clock, {one['megabytes']:.0f} MB, {one['ray']:.2f} µs a ray"
    )


def _tiles(path: Path) -> None:
    stage, random = Usd.Stage.CreateNew(str(path)), np.random.default_rng(1)
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    across = np.linspace(0.0, 10.0, SIDE + 1)
    corner = (np.arange(SIDE)[:, None] * (SIDE + 1) + np.arange(SIDE)).reshape(-1)
    faces = np.stack([corner, corner + 1, corner + SIDE + 2, corner + SIDE + 1], axis=1).astype(np.int32)
    for k in range(TILES):
        x, z = np.meshgrid(across, across)
        y = 0.2 * np.sin(3.0 * x + k) * np.cos(2.0 * z) + random.normal(0.0, 0.002, x.shape)
        mesh = UsdGeom.Mesh.Define(stage, f"/Field/Tile{k}")
        points = np.stack([x + 10.0 * (k % 5), y, -z - 10.0 * (k // 5)], axis=-1).reshape(-1, 3)
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(faces), 4, np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(faces.reshape(-1)))
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    UsdLux.DomeLight.Define(stage, "/Field/Sky").CreateIntensityAttr(1.0)
    eye = UsdGeom.Camera.Define(stage, "/Field/Eye")
    eye.AddTransformOp().Set(Gf.Matrix4d().SetLookAt(Gf.Vec3d(25, 8, 8), Gf.Vec3d(25, 0, -15), Gf.Vec3d(0, 1, 0)).GetInverse())
    stage.GetRootLayer().Save()
