"""Materials of MTL files, groups and damage of OBJ files: what a surface becomes, and that nothing is read that is not there."""

import unittest

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.formats.scenes import read_scene
from sivrel.core.scene.model import Surface
from tests.core.test_gltf_obj import InAFolder

TRIANGLE = "v 0 0 0\nv 1 0 0\nv 0 1 0\n"


class Materials(InAFolder):
    def material(self, *lines: str) -> tuple[Surface, list[str]]:
        self.write("a.mtl", "newmtl paint\n" + "\n".join(lines) + "\n")
        scene = read_scene(self.write("a.obj", f"mtllib a.mtl\n{TRIANGLE}usemtl paint\nf 1 2 3\n"))
        return scene.surfaces[int(scene.meshes[0].surfaces[0])], scene.notes

    def test_each_line_becomes_what_it_says(self):
        for lines, expected in (
            (["Kd 0.2 0.4 0.6"], {"base_color": (0.2, 0.4, 0.6), "ior": 1.0}),
            (["Kd 0.3"], {"base_color": (0.3, 0.3, 0.3)}),
            (["Ke 5 4 3"], {"emission": (5.0, 4.0, 3.0)}),
            (["d 0.25"], {"opacity": 0.25}),
            (["Tr 0.25"], {"opacity": 0.75}),
            (["d 7"], {"opacity": 1.0}),
            (["Ni 1.45"], {"ior": 1.45}),
            (["Ni 0.2"], {"ior": 1.0}),
            (["Pr 0.3"], {"roughness": 0.3, "ior": 1.5}),
            (["Pm 1", "Kd 0.9 0.8 0.5"], {"metallic": 1.0, "base_color": (0.9, 0.8, 0.5)}),
            (["Pc 0.5", "Pcr 0.1"], {"coat": 0.5, "coat_roughness": 0.1}),
            (["Ks 0.04 0.04 0.04"], {"specular": (0.04, 0.04, 0.04)}),
            (["Ks 0.5", "Pm 1"], {"specular": None, "metallic": 1.0}),
        ):
            with self.subTest(lines):
                surface, _ = self.material(*lines)
                for name, value in expected.items():
                    self.assertEqual(getattr(surface, name), value)

    def test_exponents_are_lobes_of_their_width(self):
        """Walter et al. 2007, 5.2: alpha² = 2 / (n + 2), and alpha is the roughness squared."""
        for exponent in (0.0, 10.0, 100.0, 1000.0):
            surface, _ = self.material("Ks 1", f"Ns {exponent}")
            self.assertAlmostEqual(surface.roughness**4, 2.0 / (exponent + 2.0), places=9)
        self.assertLess(self.material("Ns 1000")[0].roughness, self.material("Ns 10")[0].roughness)

    def test_what_can_not_be_read_is_said_and_the_rest_stands(self):
        surface, notes = self.material("Kd 0.2 0.4 0.6", "Ke red", "Ni", "Kd 0.1 0.2", "aniso 0.5", "illum 2", "Pm 0.5")
        self.assertEqual((surface.base_color, surface.metallic), ((0.2, 0.4, 0.6), 0.5))
        result = " ".join(notes)
        for words in ("Ke red", "Kd 0.1 0.2", "aniso"):
            self.assertIn(words, result)
        self.assertNotIn("illum", result)

    def test_a_picture_that_is_not_there_leaves_its_value(self):
        surface, notes = self.material("Kd 0.2 0.4 0.6", "map_Kd -s 2 2 -o 0.5 missing.png")
        self.assertIsNone(surface.base_color_map)
        self.assertEqual(surface.base_color, (0.2, 0.4, 0.6))
        self.assertTrue(any("missing.png" in note for note in notes))

    def test_a_library_that_is_not_there_is_a_grey(self):
        scene = read_scene(self.write("a.obj", f"mtllib gone.mtl\n{TRIANGLE}usemtl paint\nf 1 2 3\n"))
        self.assertEqual(scene.surfaces[0].base_color, Surface().base_color)
        self.assertTrue(any("gone.mtl" in note for note in scene.notes))
        self.assertTrue(any("paint is not described" in note for note in scene.notes))


class Shapes(InAFolder):
    def scene(self, text: str):
        return read_scene(self.write("a.obj", text))

    def test_parts_are_distinguished_by_object_group_and_material(self):
        scene = self.scene(f"{TRIANGLE}o Boat\nf 1 2 3\ng deck\nf 1 2 3\nf 1 2 3\no Quay side\nf 1 2 3\no Boat\nf 3 2 1\n")
        self.assertEqual({m.name: len(m.vertices) for m in scene.meshes}, {"/Boat": 2, "/Boat/deck": 2, "/Quay_side": 1})
        scene = self.scene(f"{TRIANGLE}o Boat\nusemtl a\nf 1 2 3\nusemtl b\nf 1 2 3\n")
        self.assertEqual([m.name for m in scene.meshes], ["/Boat", "/Boat/b"])
        self.assertEqual([s.name for s in scene.surfaces], ["a", "b"])

    def test_polygons_are_filled_whole(self):
        random = np.random.default_rng(1)
        for corners in (3, 4, 5, 8, 13):
            angles = np.sort(random.uniform(0.0, 2.0 * np.pi, corners))
            p = np.stack([np.cos(angles) * 3.0, np.sin(angles) * 2.0], axis=1)
            exact = abs(np.sum(p[:, 0] * np.roll(p[:, 1], -1) - np.roll(p[:, 0], -1) * p[:, 1])) / 2.0
            text = "".join(f"v {x:.7f} {y:.7f} 0\n" for x, y in p) + "f " + " ".join(str(k + 1) for k in range(corners)) + "\n"
            v = self.scene(text).meshes[0].vertices.astype(float)
            area = np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum() / 2.0
            self.assertAlmostEqual(area, exact, places=4)

    def test_colours_and_weights_behind_points_are_passed_over(self):
        scene = self.scene("v 0 0 0 1 0 0\nv 1 0 0 1 0 0\nv 0 1 0 1 0 0\nf 1 2 3\n")
        np.testing.assert_allclose(scene.meshes[0].vertices[0], [[0, 0, 0], [1, 0, 0], [0, 1, 0]])
        scene = self.scene("v 0 0 0 1\nv 1 0 0 1\nv 0 1 0\nvt 0.5\nf 1/1 2/1 3/1\n")
        np.testing.assert_allclose(scene.meshes[0].uvs[0], [[0.5, 0.0]] * 3)

    def test_lines_it_does_not_know_are_counted(self):
        scene = self.scene(f"{TRIANGLE}s off\nl 1 2\nl 2 3\ncurv 0 1 1\nf 1 2 3\n")
        result = " ".join(scene.notes)
        self.assertIn("2 lines “l”", result)
        self.assertIn("1 lines “curv”", result)
        self.assertNotIn("“s”", result)

    def test_damage_is_one_sentence_that_names_the_file(self):
        for text, words in (
            (f"{TRIANGLE}f 1 2 9\n", "points that do not exist"),
            (f"{TRIANGLE}f 1 2 0\n", "points that do not exist"),
            (f"{TRIANGLE}f 1 2 -7\n", "points that do not exist"),
            (f"{TRIANGLE}f 1/4 2/4 3/4\n", "coordinates that do not exist"),
            (f"{TRIANGLE}f 1//2 2//2 3//2\n", "normals that do not exist"),
            (f"{TRIANGLE}f one two three\n", "not numbers"),
            ("v 0 zero 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "not numbers"),
            (f"{TRIANGLE}f 99999999999999999999 2 3\n", "it is damaged"),
            ("v 1e300 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n", "not finite"),
            (TRIANGLE, "nothing to render"),
            ("", ""),
        ):
            with self.subTest(text), self.assertRaises(InputError) as caught:
                self.scene(text)
            self.assertIn(words, str(caught.exception))
            self.assertIn("a", str(caught.exception))
            self.assertNotIn("\n", str(caught.exception))


if __name__ == "__main__":
    unittest.main()
