"""Mattes: the share of each pixel that an object or surface covers, against areas known in closed form."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.pictures.mattes import mattes
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Scene
from tests.scenes import floor, lambert, looking_down, quad, sky

PLAIN = with_values(Recipe(), {"gi.seen": "off"})


def ready(*meshes, half_width=1.0):
    """A floor of 50 m, and what stands over it, from 10 m above through an orthographic camera 2 `half_width` wide."""
    ground = replace(floor(50.0), name="/Set/Ground")
    camera = replace(looking_down(10.0, half_width=half_width), orthographic=True)
    return prepare(Scene("plain", [ground, *meshes], [lambert(0.5), lambert(0.1)], [sky()], cameras=[camera]), PLAIN)


class Mattes(unittest.TestCase):
    def test_the_share_of_a_slanted_edge(self):
        """A half-plane x < 0.3 y + 0.013 covers pixels by the area under its edge."""
        a, b = np.array([0.3 * -50 + 0.013, -50.0, 1.0]), np.array([0.3 * 50 + 0.013, 50.0, 1.0])
        half = replace(quad(a - [100.0, 0, 0], a, b, b - [100.0, 0, 0], surface=1), name="/Set/Half.plane")
        made = mattes(ready(half), Frame(16, 16), rays=64)
        self.assertEqual(set(made.passes), {"matte.Set_Ground", "matte.Set_Half_plane"})
        covered = made.passes["matte.Set_Half_plane"][..., 0]
        np.testing.assert_allclose(covered + made.passes["matte.Set_Ground"][..., 0], 1.0, atol=1e-6)
        edges = np.linspace(1.0, -1.0, 16 * 32 + 1)
        y = (edges[:-1] + edges[1:]) / 2.0
        left = np.linspace(-1.0, 1.0, 17)[:-1]
        exact = np.clip((0.3 * y[:, None] + 0.013 - left) / (2.0 / 16.0), 0.0, 1.0).reshape(16, 32, 16).mean(axis=1)
        self.assertLess(float(np.abs(covered - exact).max()), 0.1)
        self.assertLess(float(np.abs(covered - exact).mean()), 0.005)

    def test_what_the_camera_does_not_see_is_left_out_and_regions_agree(self):
        card = quad((-0.5, -0.5, 1.0), (0.5, -0.5, 1.0), (0.5, 0.5, 1.0), (-0.5, 0.5, 1.0), surface=1)
        seen = mattes(ready(replace(card, name="/Card")), Frame(8, 8), rays=4)
        self.assertAlmostEqual(float(seen.passes["matte.Card"].mean()), 0.25, places=6)
        hidden = mattes(ready(replace(card, name="/Card", seen_by_camera=False)), Frame(8, 8), rays=4)
        self.assertEqual(list(hidden.passes), ["matte.Set_Ground"])
        part = mattes(ready(replace(card, name="/Card")), Frame(8, 8, region=(1, 2, 6, 7)), rays=4)
        np.testing.assert_array_equal(part.passes["matte.Card"], seen.passes["matte.Card"][2:7, 1:6])

    def test_by_surface_and_a_wrong_number_of_rays(self):
        card = quad((-0.5, -0.5, 1.0), (0.5, -0.5, 1.0), (0.5, 0.5, 1.0), (-0.5, 0.5, 1.0), surface=1)
        made = mattes(ready(replace(card, name="/Card")), Frame(8, 8), by="surface", rays=4)
        self.assertEqual(len(made.passes), 2)
        self.assertAlmostEqual(float(sum(plane.mean() for plane in made.passes.values())), 1.0, places=6)
        for rays in (0, 5, 5000):
            with self.assertRaisesRegex(InputError, "do not make a square"):
                mattes(ready(), Frame(4, 4), rays=rays)
