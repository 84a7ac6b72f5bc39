"""A million triangles read from each format, in a process of its own: seconds, and the most memory that it took."""

import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom, Vt

from sivrel.core.edits.mending import flat_normals
from sivrel.core.formats.gltf_out import write_gltf
from sivrel.core.scene.model import Mesh, Scene, Surface

SIDE = 708
READ = r"""
import re, time, sys
from pathlib import Path
from sivrel.core.formats.scenes import read_scene
begun = time.perf_counter()
scene = read_scene(Path(sys.argv[1]))
print(scene.triangle_count(), time.perf_counter() - begun, int(re.search(r"VmHWM:\s+(\d+)", open("/proc/self/status").read())[1]) / 1024)
"""


def load() -> str:
    rng = np.random.default_rng(2)
    x, z = np.meshgrid(np.linspace(0.0, 10.0, SIDE), np.linspace(0.0, 10.0, SIDE))
    points = np.stack([x, 0.2 * rng.random(x.shape), z], axis=-1).reshape(-1, 3)
    i = np.arange(SIDE * SIDE).reshape(SIDE, SIDE)
    a, b, c, d = (
        i[rows, columns] for rows, columns in ((np.s_[:-1], np.s_[:-1]), (np.s_[1:], np.s_[:-1]), (np.s_[1:], np.s_[1:]), (np.s_[:-1], np.s_[1:]))
    )
    faces = np.concatenate([np.stack(t, axis=-1).reshape(-1, 3) for t in ((a, b, c), (a, c, d))])
    result = []
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        with open(folder / "ground.obj", "w") as out:
            np.savetxt(out, points, "v %.6f %.6f %.6f")
            np.savetxt(out, points[:, [0, 2]] / 10.0, "vt %.6f %.6f")
            np.savetxt(out, np.repeat(faces + 1, 2, axis=1), "f %d/%d %d/%d %d/%d")
        v = points[faces].astype(np.float32)
        mesh = Mesh.of("/Ground", v, flat_normals(v).astype(np.float32), v[..., [0, 2]], np.zeros(len(v), np.uint32))
        write_gltf(Scene("ground", [mesh], [Surface()]), folder / "ground.glb")
        for suffix in ("usdc", "usda"):
            stage = Usd.Stage.CreateNew(str(folder / f"ground.{suffix}"))
            prim = UsdGeom.Mesh.Define(stage, "/Ground")
            prim.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
            prim.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(faces), 3, np.int32)))
            prim.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(faces.reshape(-1).astype(np.int32)))
            stage.GetRootLayer().Save()
        for path in sorted(folder.iterdir()):
            said = subprocess.run([sys.executable, "-c", READ, str(path)], capture_output=True, text=True, check=True).stdout.split()
            result.append(f"{path.suffix} {int(said[0]):,} triangles: {float(said[1]):.1f} s, {float(said[2]):.0f} MB")
    return "; ".join(result)
