"""Mutated files of every format, each through the first look in a process with its bounds, and some on to a render by the command line.

`python -m tests.fuzz.files [COUNT] [SEED]`: COUNT mutants of each format, while two renders keep the machine busy. A mutant is read or refused in one
sentence, within MOST_SECONDS of processor time and MOST_MEGABYTES.
"""

import json
import random
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Sdf, UsdUtils

from sivrel.core.formats.gltf import _chunks
from sivrel.core.formats.gltf_out import write_gltf
from sivrel.core.formats.scenes import read_scene
from sivrel.core.pictures.exr import Picture, write_exr
from sivrel.core.render.frame import Frame

from .looker import Looker
from .test_readers import mutant

MOST_SECONDS, MOST_MEGABYTES = 10.0, 1500
RENDERED_EACH = 100
"""One of so many mutants that can be read is rendered too."""
USDA = """#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
    defaultPrim = "W"
)
def Xform "W" {
    def Mesh "Floor" (prepend apiSchemas = ["MaterialBindingAPI"]) {
        int[] faceVertexCounts = [4, 5]
        int[] faceVertexIndices = [0, 1, 2, 3, 0, 4, 5, 6, 3]
        point3f[] points = [(-2, 0, -2), (-2, 0, 2), (2, 0, 2), (2, 0, -2), (-2, 2, -2), (0, 3, -2), (2, 2, -2)]
        texCoord2f[] primvars:st = [(0, 0), (0, 1), (1, 1), (1, 0), (0, 0), (1, 0), (1, 1)] (interpolation = "vertex")
        rel material:binding = </W/M>
        double3 xformOp:translate = (0, 0, 0)
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }
    def PointInstancer "Posts" {
        rel prototypes = </W/Posts/Post>
        int[] protoIndices = [0, 0, 0]
        point3f[] positions = [(-1, 0, 0), (0, 0, 0), (1, 0, 0)]
        quath[] orientations = [(1, 0, 0, 0), (1, 0, 0, 0), (1, 0, 0, 0)]
        def Mesh "Post" {
            int[] faceVertexCounts = [3, 3, 3, 3]
            int[] faceVertexIndices = [0, 1, 2, 0, 3, 1, 1, 3, 2, 2, 3, 0]
            point3f[] points = [(0, 0, 0), (0.2, 0, 0), (0, 0, 0.2), (0, 0.5, 0)]
        }
    }
    def Material "M" {
        token outputs:surface.connect = </W/M/S.outputs:surface>
        def Shader "S" {
            uniform token info:id = "UsdPreviewSurface"
            color3f inputs:diffuseColor.connect = </W/M/T.outputs:rgb>
            float inputs:roughness = 0.3
            float inputs:opacity = 0.8
            color3f inputs:emissiveColor = (0.1, 0.1, 0.1)
            token outputs:surface
        }
        def Shader "T" {
            uniform token info:id = "UsdUVTexture"
            asset inputs:file = @wood.png@
            float4 inputs:scale = (1, 1, 1, 1)
            float3 outputs:rgb
        }
    }
    def RectLight "Lamp" (prepend apiSchemas = ["ShapingAPI", "ShadowAPI"]) {
        float inputs:intensity = 20
        float inputs:width = 1
        float inputs:height = 1
        float inputs:exposure = 1
        float inputs:shaping:cone:angle = 60
        asset inputs:shaping:ies:file = @lamp.ies@
        double3 xformOp:translate = (0, 2.5, 0)
        double3 xformOp:rotateXYZ = (-90, 0, 0)
        uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:rotateXYZ"]
    }
    def DomeLight "Sky" {
        asset inputs:texture:file = @sky.hdr@
    }
    def SphereLight "Ball" {
        float inputs:radius = 0.1
    }
    def Camera "Eye" {
        float focalLength = 18
        float fStop = 2.8
        double3 xformOp:translate = (0, 1, 5)
        uniform token[] xformOpOrder = ["xformOp:translate"]
    }
}
"""
IES = "IESNA:LM-63-2002\nTILT=NONE\n1 1000 1 3 1 1 2 0 0 0\n1 1 60\n0 45 90\n0\n100 80 0\n"
OBJ = "mtllib a.mtl\nv -1 0 -1\nv 1 0 -1\nv 1 0 1\nv -1 0 1\nv 0 1 0\nvt 0 0\nvt 1 1\nusemtl m\nf 1/1 2/2 3/1 4/2\ng top\nf 1 2 5\nf 2 3 5\n"
MTL = "newmtl m\nKd .5 .4 .3\nKe 1 1 1\nNs 50\nd .9\nmap_Kd wood.png\n"


def make_seeds(folder: Path) -> dict[str, tuple[str, str]]:
    """Write a small scene in every format; by format the file that is mutated, and the one that is opened."""
    Image.fromarray(np.random.default_rng(1).integers(0, 255, (16, 16, 3), np.uint8)).save(folder / "wood.png")
    Image.open(folder / "wood.png").save(folder / "wood.jpg")
    (folder / "sky.hdr").write_bytes(b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 4 +X 8\n" + bytes([128, 64, 30, 129] * 32))
    (folder / "lamp.ies").write_text(IES)
    texels = np.full((8, 16, 4), 0.5, np.float32)
    write_exr(folder / "sky.exr", Picture({"beauty": texels}, Frame(16, 8)))
    (folder / "a.usda").write_text(USDA)
    (folder / "exr.usda").write_text(USDA.replace("sky.hdr", "sky.exr"))
    (folder / "jpg.usda").write_text(USDA.replace("wood.png", "wood.jpg"))
    layer = Sdf.Layer.FindOrOpen(str(folder / "a.usda"))
    layer.Export(str(folder / "b.usdc"))
    UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(folder / "b.usdc")), str(folder / "c.usdz"))
    write_gltf(read_scene(folder / "a.usda"), folder / "d.glb")
    text, binary = _chunks((folder / "d.glb").read_bytes(), "d.glb")
    result = json.loads(text)
    result["buffers"][0]["uri"] = "e.bin"
    (folder / "e.gltf").write_text(json.dumps(result))
    (folder / "e.bin").write_bytes(binary)
    (folder / "f.obj").write_text(OBJ)
    (folder / "a.mtl").write_text(MTL)
    same = {name.rpartition(".")[2]: (name, name) for name in ("a.usda", "b.usdc", "c.usdz", "d.glb", "e.gltf", "f.obj")}
    return same | {
        "bin": ("e.bin", "e.gltf"), "mtl": ("a.mtl", "f.obj"), "hdr": ("sky.hdr", "a.usda"), "exr": ("sky.exr", "exr.usda"),
        "png": ("wood.png", "a.usda"), "jpg": ("wood.jpg", "jpg.usda"), "ies": ("lamp.ies", "a.usda"),
    }  # fmt: skip


@dataclass
class Tally:
    """What became of the mutants of one format: how many were read and refused, the most processor seconds and megabytes that one took, and what
    should not have been, with the mutant's number."""

    read: int = 0
    refused: int = 0
    seconds: float = 0.0
    megabytes: float = 0.0
    failures: list[tuple[int, str]] = field(default_factory=list)


def run_format(seeds: Path, mutated: str, opened: str, count: int, seed: int, kept: Path | None = None, render: bool = False) -> Tally:
    """Try `count` mutants of a file of the seeds. Failing ones are kept in a folder."""
    tally, original = Tally(), (seeds / mutated).read_bytes()
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as name, Looker() as looker:
        folder = Path(name) / "scene"
        shutil.copytree(seeds, folder)
        for number in range(count):
            (folder / mutated).write_bytes(mutant(original, random.Random(f"{seed} {mutated} {number}")))
            result, seconds, megabytes = looker.look(folder / opened, folder)
            tally.seconds, tally.megabytes = max(tally.seconds, seconds), max(tally.megabytes, megabytes)
            problem = _problem(result, seconds, megabytes)
            if result is not None and "problem" not in result:
                tally.read += 1
                if render and tally.read % RENDERED_EACH == 1:
                    problem = problem or _rendered(folder / opened)
            else:
                tally.refused += 1
            if problem:
                tally.failures.append((number, problem))
                if kept is not None:
                    shutil.copytree(folder, kept / f"{mutated}-{seed}-{number}", dirs_exist_ok=True)
    return tally


def _problem(result: dict | None, seconds: float, megabytes: float) -> str:
    if result is None:
        return "the process died"
    if "problem" in result and ("\n" in result["problem"] or not result["problem"].rstrip(")").endswith((".", "…"))):
        return f"no sentence: {result['problem']!r}"
    if seconds > MOST_SECONDS or megabytes > MOST_MEGABYTES:
        return f"{seconds:.1f} s, {megabytes:.0f} MB"
    return ""


def _rendered(path: Path) -> str:
    """What is wrong with rendering a file by the command line; empty where nothing is."""
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "sivrel", "render", str(path), "-o", f"{folder}/o.exr", "--size", "32x18", "--set", "sampling.max=2"]
        done = subprocess.run(command, capture_output=True, text=True, stdin=subprocess.DEVNULL)
    if done.returncode not in (0, 2) or "Traceback" in done.stderr:
        return f"exit {done.returncode}: {done.stderr[-2000:]}"
    return ""


def keep_busy(folder: Path) -> list[subprocess.Popen]:
    """Two renders that last."""
    command = [sys.executable, "-m", "sivrel", "render", "demo:keepers-kitchen", "--set", "sampling.max=65536", "--threads", "1", "-o"]
    return [
        subprocess.Popen([*command, f"{folder}/{k}.exr"], stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        for k in range(2)
    ]


def main(count: int, seed: int) -> int:
    kept = Path(tempfile.gettempdir()) / "sivrel-fuzz-files"
    failures = 0
    with tempfile.TemporaryDirectory() as name:
        seeds = Path(name) / "seeds"
        seeds.mkdir()
        renders = keep_busy(Path(name))
        try:
            print("format   tried  read  refused  most s  most MB  failures", flush=True)
            for form, (mutated, opened) in make_seeds(seeds).items():
                t = run_format(seeds, mutated, opened, count, seed, kept, render=True)
                failures += len(t.failures)
                print(f"{form:7} {count:6} {t.read:5} {t.refused:8} {t.seconds:7.1f} {t.megabytes:8.0f} {len(t.failures):9}", flush=True)
                for number, problem in t.failures[:5]:
                    print(f"    {number}: {problem}", flush=True)
        finally:
            for render in renders:
                render.kill()
                render.wait()
    return min(failures, 1)


if __name__ == "__main__":
    sys.exit(main(int(sys.argv[1]) if len(sys.argv) > 1 else 2000, int(sys.argv[2]) if len(sys.argv) > 2 else 1))
