"""Pictures of other programs: what is read of them, and what is refused."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import OpenEXR

from sivrel.core.errors import InputError
from sivrel.core.pictures.outside import read_outside

HEADER = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}


class Outside(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.rng = np.random.default_rng(1)

    def plane(self) -> np.ndarray:
        return self.rng.random((24, 32)).astype(np.float32)

    def write(self, name: str, channels: dict[str, np.ndarray]) -> Path:
        OpenEXR.File(dict(HEADER), dict(channels)).write(str(self.folder / name))
        return self.folder / name

    def test_passes_come_by_names_in_common_use(self):
        planes = {
            name: self.plane() for name in ("R", "G", "B", "N.X", "N.Y", "N.Z", "Depth.Z", "Diffuse Albedo.R", "Diffuse Albedo.G", "Diffuse Albedo.B")
        }
        picture = read_outside(self.write("a.exr", planes))
        np.testing.assert_array_equal(picture.beauty[..., 1], planes["G"])
        np.testing.assert_array_equal(picture.passes["normal"][..., 2], planes["N.Z"])
        np.testing.assert_array_equal(picture.passes["depth"][..., 0], planes["Depth.Z"])
        np.testing.assert_array_equal(picture.passes["albedo"][..., 0], planes["Diffuse Albedo.R"])
        self.assertIsNone(picture.recipe)

    def test_a_beauty_may_be_a_layer_or_grey(self):
        layer = {f"Combined.{c}": self.plane() for c in "RGBA"}
        np.testing.assert_array_equal(read_outside(self.write("b.exr", layer)).beauty[..., 0], layer["Combined.R"])
        grey = {"Y": self.plane()}
        np.testing.assert_array_equal(read_outside(self.write("c.exr", grey)).beauty[..., 2], grey["Y"])

    def test_a_lone_depth_channel(self):
        planes = {name: self.plane() for name in ("R", "G", "B", "Z")}
        np.testing.assert_array_equal(read_outside(self.write("d.exr", planes)).passes["depth"][..., 0], planes["Z"])

    def test_what_can_not_be_judged_is_refused_in_a_sentence(self):
        (self.folder / "text.exr").write_bytes(b"not a picture")
        (self.folder / "scene.usda").write_text("#usda 1.0")
        small = {name: np.zeros((4, 4), np.float32) for name in "RGB"}
        for path, part in (
            (self.folder / "text.exr", "not an OpenEXR"),
            (self.folder / "scene.usda", "can.t be diagnosed"),
            (self.folder / "none.png", "no picture"),
            (self.write("small.exr", small), "16 pixels"),
            (self.write("odd.exr", {"Q": self.plane()}), "R, G and B"),
        ):
            with self.assertRaisesRegex(InputError, part):
                read_outside(path)


if __name__ == "__main__":
    unittest.main()
