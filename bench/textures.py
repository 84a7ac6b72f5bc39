"""Sixteen large textures on sixteen walls, at four sizes: work to open them first and again, to draft them, and the most memory of the process."""

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from sivrel.core.kernel_cache import kernel_folder

SIZES, COUNT = (1024, 2048, 4096, 8192), 16
MEASURE = r"""
import json, re, sys
from pathlib import Path
import sivrel
from sivrel.core.work_time import work_time

begun = work_time()
shot = sivrel.open(Path(sys.argv[1]))
read, begun = work_time() - begun, work_time()
picture = shot.render({"sampling.min": 8, "sampling.max": 8, "gi.seen": "brute_force"}, size=(960, 540))
drawn = work_time() - begun
most = int(re.search(r"VmHWM:\s+(\d+)", open("/proc/self/status").read())[1]) / 1024
meter = picture.measured["meters"]["textures"] or {"bytes": 0, "resident": 0}
print(json.dumps({"read": read, "drawn": drawn, "megabytes": most, "stored": meter["bytes"], "resident": meter["resident"]}))
"""


def write_walls(folder: Path, size: int) -> Path:
    """A room of COUNT panels, each with a texture of its own of `size` x `size` texels."""
    random = np.random.default_rng(size)
    stage = Usd.Stage.CreateNew(str(folder / f"walls{size}.usda"))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, 1.0)
    side = int(COUNT**0.5)
    for k in range(COUNT):
        coarse = random.integers(0, 256, (64, 64, 3), np.uint8)
        picture = np.asarray(Image.fromarray(coarse).resize((size, size), Image.Resampling.BICUBIC))
        Image.fromarray(picture).save(folder / f"wall{size}-{k}.jpg", quality=90)
        x, y = k % side, k // side
        mesh = UsdGeom.Mesh.Define(stage, f"/Walls/Wall{k}")
        mesh.CreatePointsAttr([Gf.Vec3f(x, y, 0), Gf.Vec3f(x + 1, y, 0), Gf.Vec3f(x + 1, y + 1, 0), Gf.Vec3f(x, y + 1, 0)])
        mesh.CreateFaceVertexCountsAttr([4])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2, 3])
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        st = UsdGeom.PrimvarsAPI(mesh).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
        st.Set([Gf.Vec2f(0, 0), Gf.Vec2f(1, 0), Gf.Vec2f(1, 1), Gf.Vec2f(0, 1)])
        material = UsdShade.Material.Define(stage, f"/Looks/Look{k}")
        shader = UsdShade.Shader.Define(stage, f"/Looks/Look{k}/Shader")
        shader.CreateIdAttr("UsdPreviewSurface")
        texture = UsdShade.Shader.Define(stage, f"/Looks/Look{k}/Texture")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath(f"./wall{size}-{k}.jpg"))
        shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(texture.ConnectableAPI(), "rgb")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)
    UsdLux.DomeLight.Define(stage, "/Sky").CreateIntensityAttr(1.0)
    camera = UsdGeom.Camera.Define(stage, "/Eye")
    camera.AddTranslateOp().Set(Gf.Vec3d(side / 2, side / 2, 1.2 * side))
    stage.GetRootLayer().Save()
    return folder / f"walls{size}.usda"


def textures() -> str:
    """Every size in processes of its own, with compiled kernels and an empty cache of textures at first."""
    lines, works = [], []
    with tempfile.TemporaryDirectory() as folder:
        for size in SIZES:
            path, cache = write_walls(Path(folder), size), Path(folder) / "cache"
            for which in ("first", "again"):
                found = _measured(path, cache)
                if which == "first":
                    works.append(found["read"])
                held = f"{found['stored'] / 2**30:.2f} GB stored, {found['resident'] / 2**20:.0f} MB of them in memory"
                lines.append(
                    f"{COUNT} x {size}², {which}: read in {found['read']:.1f} s of work, drawn in {found['drawn']:.1f} s, "
                    f"{found['megabytes']:.0f} MB; {held}"
                )
    power = np.polyfit(np.log(SIZES), np.log(works), 1)[0] / 2.0
    return "\n".join([*lines, f"the first reading grows with the {power:.2f}th power of the texels"])


def _measured(path: Path, cache: Path) -> dict[str, float]:
    (cache / "sivrel").mkdir(parents=True, exist_ok=True)
    if not (cache / "sivrel" / "kernels").exists():
        (cache / "sivrel" / "kernels").symlink_to(kernel_folder())
    made = subprocess.run(
        [sys.executable, "-c", MEASURE, str(path)], capture_output=True, text=True, check=True, env={**os.environ, "XDG_CACHE_HOME": str(cache)}
    )
    return dict(json.loads(made.stdout.splitlines()[-1]))
