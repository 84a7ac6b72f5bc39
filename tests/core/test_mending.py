"""Mends of meshes against volumes and areas that are known."""

import unittest

import numpy as np

from sivrel.core.edits.apply_edits import apply_edits
from sivrel.core.edits.edits import Edits, from_json, to_json, with_edits
from sivrel.core.edits.mending import plain_shape, simplified, split, subdivided, thickened, turned
from sivrel.core.errors import InputError
from sivrel.core.scene.model import Light, Scene, Surface
from sivrel.core.scene.topology import facets, topology, turned_triangles, volume
from tests.rooms import ball, box, looking_at, made

CUBE = box("/Cube", (0, 0, 0), (1, 1, 1), 0)


def is_whole(mesh) -> bool:
    """Closed, with all neighbours agreeing."""
    net = topology(mesh.vertices)
    return not net.rim().any() and not turned_triangles(net).any()


class Thickness(unittest.TestCase):
    def test_a_sheet_becomes_a_slab_on_the_side_that_is_asked(self):
        sheet = made("/S", CUBE.vertices[:2], 0)  # x = 0, facing -x
        for thickness, low, high in ((0.2, 0.0, 0.2), (-0.2, -0.2, 0.0)):
            slab = thickened(sheet, thickness)
            self.assertTrue(is_whole(slab))
            self.assertAlmostEqual(volume(slab.vertices), 0.2, places=6)
            self.assertAlmostEqual(float(slab.vertices[..., 0].min()), low, places=6)
            self.assertAlmostEqual(float(slab.vertices[..., 0].max()), high, places=6)

    def test_openings_stay_open_and_corners_are_mitred(self):
        shell = made("/Open", CUBE.vertices[2:], 0)  # a box that lacks one side
        inwards, outwards = thickened(shell, 0.1), thickened(shell, -0.1)
        self.assertAlmostEqual(volume(inwards.vertices), 1.0 - 0.8 * 0.8 * 0.9, places=5)
        self.assertAlmostEqual(volume(outwards.vertices), 1.2 * 1.2 * 1.1 - 1.0, places=5)
        self.assertTrue(is_whole(inwards) and is_whole(outwards))

    def test_normals_follow_the_faces(self):
        for slab in (thickened(made("/S", CUBE.vertices[:2], 0), 0.3), turned(CUBE, "over")):
            n = facets(slab.vertices)
            self.assertTrue((np.einsum("nij,nj->ni", slab.normals, n) > 0.0).all())


class Shape(unittest.TestCase):
    def test_faces_are_made_to_agree(self):
        vertices = CUBE.vertices
        vertices[[1, 5, 7]] = vertices[[1, 5, 7]][:, ::-1]
        mixed = CUBE.changed(vertices=vertices)
        self.assertEqual(turned_triangles(topology(mixed.vertices)).sum(), 3)
        self.assertAlmostEqual(volume(turned(mixed, "agree").vertices), 1.0, places=6)
        self.assertAlmostEqual(volume(turned(turned(CUBE, "over"), "agree").vertices), 1.0, places=6)

    def test_edges_are_cut_without_opening_a_joint(self):
        for longest in (0.9, 0.3):
            fine = subdivided(CUBE, longest)
            edges = np.linalg.norm(fine.vertices - np.roll(fine.vertices, -1, axis=1), axis=2)
            self.assertLessEqual(float(edges.max()), longest)
            self.assertTrue(is_whole(fine))
            self.assertAlmostEqual(volume(fine.vertices), 1.0, places=5)
        with self.assertRaisesRegex(InputError, "longer edge"):
            subdivided(CUBE, 1e-4)

    def test_fewer_triangles_keep_the_shape(self):
        fine = ball("/B", (0, 0, 0), 1.0, 3, 32)
        coarse = simplified(fine, 0.2)
        self.assertLess(len(coarse.vertices), 0.25 * len(fine.vertices))
        self.assertAlmostEqual(volume(coarse.vertices), volume(fine.vertices), delta=0.03 * volume(fine.vertices))
        self.assertEqual(set(coarse.surfaces.tolist()), {3})

    def test_plain_shapes(self):
        self.assertAlmostEqual(volume(plain_shape(ball("/B", (0, 0, 0), 1.0, 0), "box").vertices), 8.0, delta=0.05)
        hull = plain_shape(subdivided(CUBE, 0.4), "hull")
        self.assertAlmostEqual(volume(hull.vertices), 1.0, places=5)

    def test_splitting(self):
        two = made("/Two", np.concatenate([CUBE.vertices, CUBE.vertices[:2] + 3.0]), 0)
        self.assertEqual([(m.name, len(m.vertices)) for m in split(two, "parts")], [("/Two/part1", 12), ("/Two/part2", 2)])
        self.assertEqual({m.name: len(m.vertices) for m in split(CUBE, "facing")}, {"/Cube/floor": 2, "/Cube/ceiling": 2, "/Cube/walls": 8})


class AsEdits(unittest.TestCase):
    def setUp(self):
        lamp = Light("Lamp", "sphere", radius=0.1, position=(0.5, 0.8, 0.5), lit=frozenset({"/Cube"}))
        self.scene = Scene("s", [CUBE], [Surface("White", (0.95, 0.95, 0.95))], [lamp], [looking_at("Eye", (0, 0, 5), (0, 0, 0))])

    def edited(self, **values) -> Scene:
        return apply_edits(self.scene, with_edits(Edits(), {key.replace("__", "."): value for key, value in values.items()}))

    def test_they_are_kept_and_read_again(self):
        edits = with_edits(Edits(), {"object./Cube.thickness": "0.1", "scene.whole.scale": "0.01", "card.C.depth": "0.05", "card.C.color": "1,0,0"})
        self.assertEqual(from_json(to_json(edits)), edits)
        self.assertEqual(edits.of_geometry().flat(), edits.flat())
        for key, words in (("scene.room.scale", "scene.whole.scale"), ("scene.whole.size", "Did you mean")):
            with self.assertRaisesRegex(InputError, words):
                with_edits(Edits(), {key: "1"})

    def test_scaling_takes_lights_and_cameras_along(self):
        small = self.edited(scene__whole__scale="0.01")
        self.assertAlmostEqual(volume(small.meshes[0].vertices), 1e-6, places=9)
        self.assertAlmostEqual(small.lights[0].radius, 0.001)
        self.assertAlmostEqual(small.lights[0].unit, 0.01)
        np.testing.assert_allclose(small.cameras[0].to_world[:, 3], (0, 0, 0.05))
        self.assertEqual(self.scene.lights[0].radius, 0.1)

    def test_links_follow_what_is_split(self):
        apart = apply_edits(self.scene, with_edits(Edits(), {"object./Cube.split": "facing"}))
        self.assertEqual(apart.lights[0].lit, {"/Cube/floor", "/Cube/ceiling", "/Cube/walls"})

    def test_a_surface_is_darkened_for_one_object(self):
        dark = apply_edits(self.scene, with_edits(Edits(), {"object./Cube.brightest": "0.8"}))
        self.assertAlmostEqual(dark.surfaces[int(dark.meshes[0].surfaces[0])].base_color[0], 0.8, places=6)
        self.assertEqual(self.scene.surfaces[0].base_color[0], 0.95)

    def test_a_deep_card_is_closed(self):
        card = apply_edits(self.scene, with_edits(Edits(), {"card.C.width": "2", "card.C.height": "1", "card.C.depth": "0.1", "card.C.at": "5,5,5"}))
        self.assertTrue(is_whole(card.meshes[-1]))
        self.assertAlmostEqual(volume(card.meshes[-1].vertices), 0.2, places=5)
        np.testing.assert_allclose(card.meshes[-1].vertices.reshape(-1, 3).mean(axis=0), (5, 5, 5), atol=0.02)


if __name__ == "__main__":
    unittest.main()
