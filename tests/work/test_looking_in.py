"""Files that somebody gave, damaged or made to do harm: one sentence, soon, and nothing else harmed."""

import os
import resource
import struct
import subprocess
import sys
import tempfile
import time
import unittest
import zipfile
import zlib
from pathlib import Path
from unittest import mock

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.formats.gltf import glb
from sivrel.demo.shots import find_shot
from sivrel.work.looking_in import inspect_sandboxed

HEAD = '#usda 1.0\n(\n    metersPerUnit = 1\n    upAxis = "Y"\n{}\n)\n'
TRIANGLE = (
    'def Mesh "M"\n{\n int[] faceVertexCounts = [3]\n int[] faceVertexIndices = [0, 1, 2]\n point3f[] points = [(0,0,0), (1,0,0), (0,1,0)]\n}\n'
)


def png_of(width: int, height: int) -> bytes:
    """A PNG file whose header claims a size, with next to nothing behind it."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 6, 0, 0, 0)) + chunk(b"IDAT", zlib.compress(b"\0" * 64))


class LookingIn(unittest.TestCase):
    def setUp(self):
        made = tempfile.TemporaryDirectory()
        self.addCleanup(made.cleanup)
        self.folder = Path(made.name)

    def write(self, name: str, data) -> Path:
        path = self.folder / name
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
        return path

    def test_a_good_file_is_reported(self):
        self.write("a.usda", HEAD.format("") + TRIANGLE)
        result = inspect_sandboxed(self.folder / "a.usda", self.folder)
        self.assertEqual((result["triangles"], len(result["cameras"])), (1, 1))
        demo = find_shot("demo:lamp-room")
        self.assertGreater(inspect_sandboxed(demo, demo.parent)["triangles"], 50_000)

    def test_honest_files_that_are_much_work_are_read_on_a_busy_machine(self):
        side = 40
        points = ", ".join(f"({x}, {y}, {(x * y) % 3})" for y in range(side) for x in range(side))
        corners = [y * side + x for y in range(side - 1) for x in range(side - 1)]
        indices = ", ".join(f"{c}, {c + 1}, {c + side + 1}, {c + side}" for c in corners)
        mesh = f'def Mesh "M"\n{{\n int[] faceVertexCounts = [{", ".join("4" for _ in corners)}]\n int[] faceVertexIndices = [{indices}]\n'
        mesh += f" point3f[] points = [{points}]\n}}\n"
        places = ", ".join(f"({60 * k}, 0, 0)" for k in range(300))
        instancer = f" rel prototypes = </P/M>\n int[] protoIndices = [{', '.join(['0'] * 300)}]\n point3f[] positions = [{places}]\n{mesh}"
        self.write("forest.usda", HEAD.format("") + f'def PointInstancer "P"\n{{\n{instancer}}}\n')
        lamps = "".join(f'def SphereLight "L{k}"\n{{\n float inputs:radius = 0.1\n}}\n' for k in range(3000))
        self.write("lamps.usda", HEAD.format("") + TRIANGLE + f'def Xform "Street"\n{{\n{lamps}}}\n')
        busy = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(4)]
        try:
            forest, lit = (inspect_sandboxed(self.folder / name, self.folder) for name in ("forest.usda", "lamps.usda"))
        finally:
            for one in busy:
                one.kill()
                one.wait()
        self.assertEqual((forest["triangles"], forest["notes"][0][:8]), (300 * 2 * (side - 1) ** 2, "There is"))
        self.assertEqual((len(lit["lights"]), {light["group"] for light in lit["lights"]}), (3000, {"Street"}))

    def test_work_is_limited_and_said_without_blame(self):
        lamps = "".join(f'def SphereLight "L{k}" {{}}\n' for k in range(30_000))
        self.write("lamps.usda", HEAD.format("") + TRIANGLE + lamps)
        with mock.patch.dict(os.environ, {"SIVREL_LOOK_SECONDS": "1"}), self.assertRaises(InputError) as caught:
            inspect_sandboxed(self.folder / "lamps.usda", self.folder)
        self.assertRegex(str(caught.exception), r"takes more than 1 s of work to read\. If it is a large scene, split it")

    def test_hostile_files_end_soon_in_one_sentence(self):
        texture = (
            TRIANGLE[:-2] + ' rel material:binding = </L>\n}\ndef Material "L"\n{\n token outputs:surface.connect = </L/S.outputs:surface>\n'
            ' def Shader "S"\n {\n  uniform token info:id = "UsdPreviewSurface"\n  color3f inputs:diffuseColor.connect = </L/T.outputs:rgb>\n'
            '  token outputs:surface\n }\n def Shader "T"\n {\n  uniform token info:id = "UsdUVTexture"\n  asset inputs:file = @big.png@\n'
            "  float3 outputs:rgb\n }\n}\n"
        )
        self.write("big.png", png_of(100_000, 100_000))
        usdc = find_shot("demo:slipway").read_bytes()
        with zipfile.ZipFile(self.folder / "bomb.usdz", "w", zipfile.ZIP_DEFLATED) as bomb:
            bomb.writestr("a.usda", HEAD.format("") + " " * (200 << 20))
        count = 400_000_000
        instancer = (
            HEAD.format("") + 'def PointInstancer "P"\n{\n rel prototypes = </P/M>\n int[] protoIndices = [' + "0, " * 2_000_000 + "0]\n"
            " point3f[] positions = [" + "(0,0,0), " * 2_000_000 + "(0,0,0)]\n " + TRIANGLE.replace("\n", "\n ") + "\n}\n"
        )
        rng = np.random.default_rng(1)
        files = {
            "short.usdc": usdc[: len(usdc) // 3], "noise.usdc": usdc[:88] + bytes(rng.integers(0, 256, 50_000, np.uint8)),
            "self.usda": HEAD.format("    subLayers = [@self.usda@]") + 'def "A" (references = @self.usda@</A>) {}\n', "bomb.usdz": None,
            "many.usda": instancer, "deep.usda": HEAD.format("") + 'def "A" {' * 3000,
            "counts.glb": glb({"asset": {"version": "2.0"}, "accessors": [{"componentType": 5126, "count": count, "type": "VEC3"}],
                               "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "nodes": [{"mesh": 0}]}, b""),
            "nest.gltf": b"[" * 200_000, "empty.usda": b"", "none.obj": b"f 1 2 3\n", "text.obj": b"v a b c\nf 1 2 3\n",
        }  # fmt: skip
        for name, data in files.items():
            path = self.folder / name if data is None else self.write(name, data)
            before, begun = sorted(self.folder.iterdir()), time.monotonic()
            with self.subTest(name), self.assertRaises(InputError) as caught:
                inspect_sandboxed(path, None)
            self.assertRegex(str(caught.exception), r"^\S[^\n]*\.$", name)
            self.assertEqual(sorted(self.folder.iterdir()), before)
            self.assertLess(time.monotonic() - begun, 60.0, name)
            if data is not None and name != "many.usda":
                path.unlink()
        textured = inspect_sandboxed(self.write("textured.usda", HEAD.format("") + texture), self.folder)
        self.assertIn("million pixels", " ".join(textured["notes"]))
        self.assertLess(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss, 1 << 21)  # kB: the program's own and a gigabyte

    def test_what_climbs_out_is_refused(self):
        inside = self.folder / "in"
        inside.mkdir()
        self.write("secret.usda", HEAD.format("") + TRIANGLE)
        (inside / "a.usda").write_text(HEAD.format("") + 'def "A" (references = @../secret.usda@</M>) {}\n')
        with self.assertRaisesRegex(InputError, "not given with it"):
            inspect_sandboxed(inside / "a.usda", inside)


if __name__ == "__main__":
    unittest.main()
