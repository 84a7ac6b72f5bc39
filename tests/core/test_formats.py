"""Scene formats of other packages, which come by an entry point."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

READER = """
import numpy as np
from sivrel.core.scene.model import Light, Mesh, Scene, Surface


def read(path, *, confine_to=None, frame=None):
    side = float(path.read_text())
    corners = np.array([[[-side, 0, -side], [side, 0, side], [side, 0, -side]]], np.float32)
    up = np.broadcast_to(np.array([0, 1, 0], np.float32), (1, 3, 3))
    mesh = Mesh.of("Floor", corners, up, np.zeros((1, 3, 2), np.float32), np.zeros(1, np.uint32))
    return Scene(path.stem, [mesh], [Surface()], [Light("Sky", "dome")])
"""
SCRIPT = """
import sys
import sivrel
from sivrel.core.formats.scenes import suffixes
print("pxr" in sys.modules, ".toy" in suffixes())
shot = sivrel.open(sys.argv[1])
print(shot.name, shot.scene.triangle_count(), shot.cameras, "pxr" in sys.modules)
try:
    sivrel.open(sys.argv[2])
except sivrel.InputError as error:
    print(error)
"""


class EntryPoints(unittest.TestCase):
    def test_a_format_of_another_package_is_read_and_a_broken_one_says_so(self):
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder)
            (place / "toy_format.py").write_text(READER)
            about = place / "toy_format-1.0.dist-info"
            about.mkdir()
            (about / "METADATA").write_text("Metadata-Version: 2.1\nName: toy-format\nVersion: 1.0\n")
            (about / "entry_points.txt").write_text(
                "[sivrel.scene_formats]\n.toy = toy_format:read\n.lost = not_there:read\n.usda = toy_format:read\n"
            )
            (place / "room.toy").write_text("2.0")
            (place / "room.lost").write_text("2.0")
            code = f"import sys; sys.path.insert(0, {str(place)!r})\n{SCRIPT}"
            done = subprocess.run([sys.executable, "-c", code, str(place / "room.toy"), str(place / "room.lost")], capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        listed, opened, refused = done.stdout.splitlines()
        self.assertEqual(listed, "False True")  # USD is not loaded for a toy
        self.assertEqual(opened, "room 1 ['framing'] False")
        self.assertIn("The package that reads .lost files can't be loaded", refused)


if __name__ == "__main__":
    unittest.main()
