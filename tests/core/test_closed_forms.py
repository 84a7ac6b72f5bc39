"""The renderer against light that is known in closed form, or by integrating it another way."""

import math
import unittest

import numpy as np
from scipy.integrate import dblquad

from sivrel.core.scene.model import Light, Scene, Surface
from tests.scenes import assert_agrees, box_inside, floor, lambert, looking_down, quad, render, sky


def down_facing(kind: str, above: float, **more) -> Light:
    """A light over the floor that shines down (its -z is the floor's)."""
    return Light(kind, kind, (1.0, 2.0, 3.0), (0.0, 0.0, above), np.eye(3), **more)


class WhiteFurnace(unittest.TestCase):
    def test_lambert_returns_its_albedo(self):
        for albedo in (1.0, 0.37):
            film = render(Scene("furnace", [floor()], [lambert(albedo)], [sky()]), looking_down(tilt=0.6))
            assert_agrees(self, film, albedo)

    def test_layered_and_metal_surfaces_return_everything(self):
        for roughness in (0.0, 0.15, 0.45, 0.8, 1.0):
            for metallic in (0.0, 0.5, 1.0):
                for tilt in (0.0, 1.25):
                    with self.subTest(roughness=roughness, metallic=metallic, tilt=tilt):
                        surface = Surface("white", (1.0, 1.0, 1.0), roughness, metallic)
                        # Many samples: what aiming finds of a narrow lobe comes rarely, and must have come often enough.
                        film = render(Scene("furnace", [floor()], [surface], [sky()]), looking_down(tilt=tilt), sampling__max=1024)
                        assert_agrees(self, film, 1.0)


class Irradiance(unittest.TestCase):
    """A white floor of albedo 1 under one light: its radiance is the irradiance over pi."""

    def floor_under(self, light: Light, camera=None, **settings):
        return render(Scene("floor", [floor()], [lambert(1.0)], [light]), camera or looking_down(), sampling__max=64, **settings)

    def test_rect_over_its_middle(self):
        a, b, h = 0.7, 0.4, 0.9
        light = down_facing("rect", h, width=2 * a, height=2 * b)
        # Four times the form factor of a corner (Howell, "A Catalog of Radiation Configuration Factors", B-3).
        x, y = a / h, b / h
        corner = (x / math.hypot(1, x) * math.atan(y / math.hypot(1, x)) + y / math.hypot(1, y) * math.atan(x / math.hypot(1, y))) / (2 * math.pi)
        assert_agrees(self, self.floor_under(light), 4.0 * corner * np.array([1.0, 2.0, 3.0]))

    def test_rect_shines_from_one_face(self):
        light = down_facing("rect", 1.0)
        light.frame = np.diag([1.0, -1.0, -1.0])
        assert_agrees(self, self.floor_under(light), 0.0)

    def test_disk_over_its_middle(self):
        r, h = 0.6, 0.8
        light = down_facing("disk", h, width=2 * r, height=2 * r)
        assert_agrees(self, self.floor_under(light), r * r / (r * r + h * h) * np.array([1.0, 2.0, 3.0]))

    def test_sphere_off_the_vertical(self):
        r, position = 0.3, np.array([0.5, -0.4, 1.1])
        light = Light("sphere", "sphere", (1.0, 2.0, 3.0), tuple(position), radius=r)
        d2 = float(position @ position)
        assert_agrees(self, self.floor_under(light), r * r / d2 * position[2] / math.sqrt(d2) * np.array([1.0, 2.0, 3.0]))

    def test_constant_dome(self):
        assert_agrees(self, self.floor_under(sky(2.5)), 2.5)

    def test_point_falls_with_the_square(self):
        for distance in (1.0, 2.0, 4.0):
            light = Light("point", "point", (5.0,) * 3, (0.0, 0.0, distance))
            film = self.floor_under(light, looking_down(half_width=1e-6))
            assert_agrees(self, film, 5.0 / distance**2 / math.pi)

    def test_sun_at_an_angle(self):
        direction = np.array([0.6, 0.0, 0.8])
        frame = np.array([[0.8, 0.0, -0.6], [0.0, 1.0, 0.0], direction])
        for angle in (0.0, math.radians(0.53), math.radians(20.0)):
            cap = math.pi * math.sin(angle / 2) ** 2 if angle else 1.0
            light = Light("sun", "sun", (3.0 / cap,) * 3, frame=frame, angle=math.degrees(angle))
            assert_agrees(self, self.floor_under(light), 3.0 * 0.8 / math.pi)

    def test_two_samplings_of_one_light_agree_on_gloss(self):
        """Multiple importance sampling: on a smooth metal the disk is found by chance, on a rough one by aiming."""
        for roughness in (0.05, 0.6):
            surface = Surface("metal", (1.0, 1.0, 1.0), roughness, 1.0)
            light = down_facing("disk", 2.0, width=4.0, height=4.0)
            scene = Scene("gloss", [floor()], [surface], [light])
            aimed = render(scene, looking_down(height=0.5, tilt=0.3), sampling__max=256)
            glowing = Scene("glow", [floor(), self.glowing_disk()], [surface, lambert(0.0, (1.0, 2.0, 3.0))], [])
            met = render(glowing, looking_down(height=0.5, tilt=0.3), sampling__max=256)
            a, b = (f[..., :3].reshape(-1, 3) for f in (aimed, met))
            error = np.sqrt(a.var(axis=0, ddof=1) / len(a) + b.var(axis=0, ddof=1) / len(b))
            self.assertTrue((np.abs(a.mean(axis=0) - b.mean(axis=0)) < 3.0 * error + 2e-4).all())

    @staticmethod
    def glowing_disk():
        from tests.scenes import mesh

        angle = np.linspace(0.0, 2.0 * np.pi, 721)
        rim = np.stack([2.0 * np.cos(angle), 2.0 * np.sin(angle), np.full_like(angle, 2.0)], axis=1)
        return mesh([((0, 0, 2), b, a) for a, b in zip(rim[:-1], rim[1:], strict=True)], 1)


class Bounces(unittest.TestCase):
    def test_grey_closed_box_is_a_geometric_series(self):
        albedo, glow = 0.6, 0.25
        scene = Scene("box", [box_inside()], [lambert(albedo, (glow,) * 3)], [])
        camera = looking_down(height=0.5, tilt=0.4, half_width=0.8)
        for bounces in (0, 1, 3, 12):
            # The camera sees the glow and the light that one scattering brings; each bounce adds the next term.
            expected = glow * sum(albedo**k for k in range(bounces + 2))
            film = render(scene, camera, sampling__max=256, limits__diffuse_bounces=bounces)
            assert_agrees(self, film, expected)
            assert_agrees(self, film, glow * (1.0 + albedo), "direct")

    def test_off_means_direct_light_alone(self):
        scene = Scene("box", [box_inside()], [lambert(0.6, (0.25,) * 3)], [])
        film = render(scene, looking_down(height=0.5), gi__seen="off")
        assert_agrees(self, film, 0.25 * 1.6)
        assert_agrees(self, film, 0.0, "indirect")

    def test_beyond_off_leaves_one_bounce(self):
        scene = Scene("box", [box_inside()], [lambert(0.6, (0.25,) * 3)], [])
        film = render(scene, looking_down(height=0.5), gi__beyond="off", sampling__max=64)
        assert_agrees(self, film, 0.25 * (1.0 + 0.6 + 0.36))

    def test_colour_bleeds_from_a_wall(self):
        """A sun that grazes the white floor lights a red wall alone; what the floor shows is the wall's light, integrated
        over the wall by SciPy."""
        red, white, irradiance, distance = np.array([0.7, 0.1, 0.05]), 0.8, 4.0, 0.5
        wall = quad((0, -1, 0), (0, 1, 0), (0, 1, 2), (0, -1, 2), 1)
        sun = Light("sun", "sun", (irradiance,) * 3, frame=np.array([[0, 1, 0], [0, 0, 1], [1.0, 0, 0]]))
        scene = Scene("corner", [floor(surface=0), wall], [lambert(white), lambert(red)], [sun])
        camera = looking_down(height=1.0, half_width=1e-4, at=(distance, 0.0))
        film = render(scene, camera, sampling__max=256, limits__diffuse_bounces=1)

        def form(y, z):  # cos at the floor, cos at the wall, over r squared
            r2 = distance**2 + y * y + z * z
            return z * distance / r2**2

        factor = dblquad(form, 0.0, 2.0, -1.0, 1.0)[0] / math.pi
        assert_agrees(self, film, white * red * irradiance / math.pi * factor)
        assert_agrees(self, film, 0.0, "direct")

    def test_cut_outs_let_their_share_through(self):
        card = quad((-9, -9, 0.5), (9, -9, 0.5), (9, 9, 0.5), (-9, 9, 0.5), 1)
        half = Surface("card", (0.0, 0.0, 0.0), ior=1.0, opacity=0.25)
        sun = Light("sun", "sun", (math.pi,) * 3)
        below = looking_down(height=0.25)
        film = render(Scene("card", [floor(), card], [lambert(1.0), half], [sun]), below, gi__seen="off", sampling__max=64)
        assert_agrees(self, film, 0.75)


if __name__ == "__main__":
    unittest.main()
