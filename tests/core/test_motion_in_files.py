"""What moves in USD files: points, instances, visibility, lights and cameras, at frames and between them, and blurred."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

from sivrel.core.edits.edits import Edits
from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.through_time import Moving
from sivrel.core.scene.model import Scene
from sivrel.core.sequence.render import Sequence

STAGE = """#usda 1.0
(
    upAxis = "Y"
    metersPerUnit = 1
    startTimeCode = 1
    endTimeCode = 4
    framesPerSecond = 24
)
def Camera "Eye"
{
    float focalLength = 50
    double3 xformOp:translate.timeSamples = { 1: (0, 1, 10), 3: (2, 1, 10) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
def SphereLight "Lamp"
{
    float inputs:intensity.timeSamples = { 1: 2, 3: 6 }
    float inputs:radius = 0.2
    token visibility.timeSamples = { 1: "inherited", 3: "invisible" }
    double3 xformOp:translate.timeSamples = { 1: (0, 4, 0), 3: (0, 6, 0) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
def DistantLight "Sun"
{
    float inputs:intensity = 0.1
}
def Mesh "Flag"
{
    point3f[] points.timeSamples = { 1: [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)], 3: [(0, 0, 0), (1, 0, 0), (1, 1, 4), (0, 1, 4)] }
    int[] faceVertexCounts = [4]
    int[] faceVertexIndices = [0, 1, 2, 3]
    uniform token subdivisionScheme = "none"
}
def Xform "Buoy" (
    prepend references = </Shape>
    instanceable = true
)
{
    double3 xformOp:translate.timeSamples = { 1: (-2, 0, 0), 3: (-2, 2, 0) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
def Xform "Gone" (
    prepend references = </Shape>
    instanceable = true
)
{
    token visibility.timeSamples = { 1: "inherited", 3: "invisible", 4: "inherited" }
    double3 xformOp:translate = (-4, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
def PointInstancer "Gulls"
{
    rel prototypes = </Gulls/Gull>
    int[] protoIndices = [0, 0]
    point3f[] positions.timeSamples = { 1: [(3, 0, 0), (4, 0, 0)], 3: [(3, 2, 0), (4, 4, 0)] }
    int64[] invisibleIds.timeSamples = { 1: [], 3: [1] }
    def Xform "Gull" (prepend references = </Shape>)
    {
    }
}
class Xform "Shape"
{
    def Mesh "Top"
    {
        point3f[] points = [(0, 0, 0), (0.5, 0, 0), (0.5, 0.5, 0), (0, 0.5, 0)]
        int[] faceVertexCounts = [4]
        int[] faceVertexIndices = [0, 1, 2, 3]
        uniform token subdivisionScheme = "none"
    }
}
"""


class MotionInFiles(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "bay.usda"
        self.path.write_text(STAGE)

    def at(self, frame: float) -> Scene:
        return read_scene(self.path, frame=frame)

    def lowest(self, scene: Scene, name: str) -> list[float]:
        return sorted(round(float(mesh.box()[0][1]), 5) for mesh in scene.meshes if name in mesh.name)

    def test_frames_and_what_lies_between(self):
        for frame in (1.0, 1.5, 2.0):
            share = (frame - 1.0) / 2.0
            scene = self.at(frame)
            flag = next(mesh for mesh in scene.meshes if mesh.name == "/Flag")
            self.assertAlmostEqual(float(flag.vertices[..., 2].max()), 4.0 * share, places=5)
            self.assertEqual(self.lowest(scene, "Buoy"), [round(2.0 * share, 5)])
            self.assertEqual(self.lowest(scene, "Gulls"), sorted([round(2.0 * share, 5), round(4.0 * share, 5)]))
            lamp = next(light for light in scene.lights if light.name == "Lamp")
            self.assertAlmostEqual(lamp.intensity, 2.0 + 4.0 * share, places=5)
            np.testing.assert_allclose(lamp.position, (0.0, 4.0 + 2.0 * share, 0.0), atol=1e-6)
            np.testing.assert_allclose(scene.cameras[0].to_world[:, 3], (2.0 * share, 1.0, 10.0), atol=1e-6)
        self.assertEqual(self.at(1.0).frames.last, 4.0)

    def test_a_mistake_in_a_text_file_is_located(self):
        self.path.write_text(STAGE.replace("float inputs:radius = 0.2", "float inputs:radius 0.2"))
        with self.assertRaisesRegex(InputError, "line 18"):
            self.at(1.0)

    def test_what_is_invisible_for_a_while(self):
        before, during, after = self.at(2.9), self.at(3.0), self.at(4.0)
        for scene, seen in ((before, True), (during, False), (after, True)):
            self.assertEqual(any("Gone" in mesh.name for mesh in scene.meshes), seen)
        self.assertEqual([len(self.lowest(scene, "Gulls")) for scene in (before, during, after)], [2, 1, 1])
        self.assertEqual([any(light.name == "Lamp" for light in scene.lights) for scene in (before, during, after)], [True, False, False])

    def test_a_sequence_renders_what_comes_and_goes(self):
        moving = Moving(self.at, (1.0, 2.0, 3.0, 4.0), "bay")
        for values in ({}, {"motion.blur": "on", "motion.shutter": 1.0}):
            for copied in (500_000, 0):
                recipe = with_values(Recipe(), {"sampling.min": 4, "sampling.max": 4, "surfaces.copied": copied, **values})
                shot = Sequence(moving, recipe, Edits(), None, Frame(48, 27), threads=2)
                for time in (2.0, 3.0, 4.0):
                    beauty = shot.render(time).picture.beauty
                    self.assertTrue(np.isfinite(beauty).all())
                    self.assertGreater(float(beauty[..., :3].max()), 0.0)


if __name__ == "__main__":
    unittest.main()
