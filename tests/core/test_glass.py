"""Glass, panes, coats and bumps: furnaces, closed forms, and light that passes straight or bent."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.measure.meters import measure_meters
from sivrel.core.render.film import DIRECT, ENDED_IN_GLASS, INDIRECT, NORMAL
from sivrel.core.scene.model import Light, Scene, Surface, Texture, TextureUse
from sivrel.core.scene.stand_ins import with_stand_ins
from sivrel.core.scene.texels import texels_of
from sivrel.core.surfaces import glass
from sivrel.core.surfaces.preview import Look, evaluate, evaluate_parts, glass_at, sample_direction, scattering_at
from tests.scenes import assert_agrees, floor, lambert, light, looking_down, mesh, quad, render, sky

CLEAR = Surface("clear", ior=1.5, roughness=0.0, opacity=0.0, see_through="solid")
WINDOW = Surface("window", ior=1.5, roughness=0.0, opacity=0.0, see_through="pane")


def direction(theta: float, phi: float = 0.3) -> tuple[float, float, float]:
    return float(np.sin(theta) * np.cos(phi)), float(np.sin(theta) * np.sin(phi)), float(np.cos(theta))


def slab(half: float = 5.0, low: float = 0.2, high: float = 0.3, surface: int = 1):
    """A closed box of glass over the floor."""
    x, top, bottom = half, high, low
    faces = [
        [(-x, -x, top), (x, -x, top), (x, x, top), (-x, x, top)],
        [(-x, -x, bottom), (-x, x, bottom), (x, x, bottom), (x, -x, bottom)],
        [(-x, -x, bottom), (x, -x, bottom), (x, -x, top), (-x, -x, top)],
        [(x, x, bottom), (-x, x, bottom), (-x, x, top), (x, x, top)],
        [(x, -x, bottom), (x, x, bottom), (x, x, top), (x, -x, top)],
        [(-x, x, bottom), (-x, -x, bottom), (-x, -x, top), (-x, x, top)],
    ]
    made = mesh([t for a, b, c, d in faces for t in ((a, b, c), (a, c, d))])
    made.surfaces[:] = surface
    return made


class Models(unittest.TestCase):
    def kept(self, model, wo, count=4096, seed=1):
        """Share of light that a model scatters, by its own samples."""
        rng = np.random.default_rng(seed)
        total = 0.0
        for choice, u, v in rng.random((count, 3)):
            wi, _ = sample_direction(model, wo, choice, u, v)
            base, gloss, density = evaluate_parts(model, wo, wi, 0.0)
            if density > 0.0 and wi[2] != 0.0:
                total += (base[1] + gloss[1]) / density
        return total / count

    def test_glass_keeps_all_light_on_both_sides(self):
        for ior in (1.33, 1.5, 2.4):
            for eta in (ior, 1.0 / ior):
                for roughness in (0.0, 0.3, 0.8):
                    for theta in (0.2, 0.9, 1.35):
                        wo = direction(theta)
                        self.assertAlmostEqual(self.kept(glass_at(roughness, eta, 1.0, wo[2]), wo), 1.0, delta=0.025)

    def test_density_of_glass_is_that_of_its_samples(self):
        """Integrated over a side by the midpoint rule, the density is the share of samples that go there."""
        n = 160
        cos, phi = (np.arange(n) + 0.5) / n, (np.arange(2 * n) + 0.5) / n * np.pi
        rng = np.random.default_rng(2)
        for eta in (1.5, 1 / 1.5):
            wo = direction(0.5)
            model = glass_at(0.5, eta, 1.0, wo[2])
            shares = [0.0, 0.0]
            for side, sign in enumerate((1.0, -1.0)):
                for c in cos:
                    s = np.sqrt(1 - c * c)
                    shares[side] += sum(evaluate_parts(model, wo, (float(s * np.cos(p)), float(s * np.sin(p)), float(sign * c)), 0.0)[2] for p in phi)
            went = np.array([sample_direction(model, wo, *rng.random(3))[0][2] for _ in range(6000)])
            weight = 2 * np.pi / (n * 2 * n)
            self.assertAlmostEqual(shares[0] * weight, float((went > 0).mean()), delta=0.02)
            self.assertAlmostEqual(shares[1] * weight, float((went < 0).mean()), delta=0.02)

    def test_shipped_table_is_what_its_script_computes(self):
        coarse = glass.make_table(cosines=4, roughnesses=3, indices=4, quadrature=48)
        for k, i, j in ((0, 1, 2), (1, 2, 3), (3, 1, 1), (3, 2, 2)):
            eta = glass.LARGEST_INDEX ** (2 * k / 3 - 1)
            self.assertAlmostEqual(glass.kept_by_one_bounce((j / 3) ** 2, i / 2, eta), float(coarse[k, i, j]), delta=0.02)

    def test_fresnel_at_normal_incidence_and_beyond_the_critical_angle(self):
        self.assertAlmostEqual(glass.fresnel(1.0, 1.5), 0.04)
        self.assertEqual(glass.fresnel(np.cos(0.8), 1 / 1.5), 1.0)
        self.assertAlmostEqual(glass.fresnel(np.cos(np.arctan(1.5)), 1.5), 0.5 * ((1.5**2 - 1) / (1.5**2 + 1)) ** 2)  # Brewster's angle

    def coated(self, base, roughness, metallic, coat, coat_roughness, cos):
        return scattering_at(Look(base, roughness, metallic, 1.5, False, (0.0,) * 3, coat, coat_roughness), 0.0, 0.0, 0.0, cos)

    def test_a_coat_neither_makes_nor_loses_light(self):
        for metallic, least in ((0.0, 0.985), (1.0, 0.95)):
            for roughness, coat_roughness in ((0.2, 0.05), (0.6, 0.3), (1.0, 0.02)):
                for theta in (0.2, 1.0, 1.4):
                    wo = direction(theta)
                    kept = self.kept(self.coated((1.0,) * 3, roughness, metallic, 1.0, coat_roughness, wo[2]), wo)
                    self.assertLess(kept, 1.02)
                    self.assertGreater(kept, least - 0.02)

    def test_a_coat_is_reciprocal(self):
        a, b = direction(0.3, 0.2), direction(1.2, 2.1)
        there, _ = evaluate(self.coated((0.8, 0.4, 0.1), 0.5, 0.3, 0.7, 0.2, a[2]), a, b)
        back, _ = evaluate(self.coated((0.8, 0.4, 0.1), 0.5, 0.3, 0.7, 0.2, b[2]), b, a)
        np.testing.assert_allclose(np.array(there) / b[2], np.array(back) / a[2], rtol=1e-9)

    def test_split_rays_count_in_the_density(self):
        wo, wi = direction(0.4), direction(0.7, 1.0)
        look = Look((0.5,) * 3, 0.4, 0.0, 1.5, False, (0.0,) * 3, 0.0, 0.0)
        base_only = evaluate(scattering_at(look, 1.0, 0.0, 0.0, wo[2]), wo, wi)
        both = evaluate(scattering_at(look, 3.0, 2.0, 0.0, wo[2]), wo, wi)
        gloss = evaluate(scattering_at(look, 0.0, 1.0, 0.0, wo[2]), wo, wi)[1]
        self.assertAlmostEqual(both[1], 3.0 * base_only[1] + 2.0 * gloss, places=9)
        np.testing.assert_allclose(both[0], base_only[0])


class Furnace(unittest.TestCase):
    def test_a_glass_slab_in_an_even_sky_is_not_seen(self):
        for roughness in (0.0, 0.4):
            glassy = replace(CLEAR, roughness=roughness)
            scene = Scene("slab", [floor(), slab(0.5)], [Surface(base_color=(0.0,) * 3, ior=1.0), glassy], [sky(1.0)])
            scene.meshes.pop(0)
            film = render(scene, looking_down(3.0, 0.4, half_width=0.1), (12, 12), sampling__max=64, limits__refractions=32, limits__reflections=32)
            assert_agrees(self, film, 1.0, largest_error=0.02)

    def test_split_rays_give_the_same_picture(self):
        scene = Scene(
            "s", [floor()], [Surface(base_color=(0.7, 0.5, 0.3), roughness=0.3, coat=0.5)], [sky(1.0), Light("p", "point", (2.0,) * 3, (0.3, 0, 1))]
        )
        camera = looking_down(1.0, 0.6, half_width=0.3)
        one = light(render(scene, camera, sampling__max=256))
        many = light(render(scene, camera, sampling__max=64, sampling__gi_rays=6, sampling__glossy_rays=3, seed=3))
        for c in range(3):
            self.assertAlmostEqual(one[0][c], many[0][c], delta=4 * np.hypot(one[1][c], many[1][c]) + 1e-5)


class ThroughGlass(unittest.TestCase):
    def lit_floor(self, over, surface, **settings):
        scene = Scene("under", [floor(), over] if over else [floor()], [lambert(0.5), surface], [sky(1.0)])
        camera = looking_down(0.1, half_width=0.02)
        return render(scene, camera, (12, 12), sampling__max=256, **settings)

    def test_a_pane_lets_through_what_stokes_says(self):
        """A pane over the whole floor: the sky through it, at every angle, by the closed form integrated over the hemisphere."""
        pane = quad((-50, -50, 0.2), (50, -50, 0.2), (50, 50, 0.2), (-50, 50, 0.2), 1)
        cos = np.sqrt((np.arange(2000) + 0.5) / 2000)
        through = float(np.mean([1.0 - glass.pane_reflects(float(c), 1.5) for c in cos]))
        # What the floor sends back up is partly sent down again by the pane, by the same share.
        expected = 0.5 * through / (1.0 - 0.5 * (1.0 - through))
        film = self.lit_floor(pane, WINDOW, limits__diffuse_bounces=16)
        assert_agrees(self, film, expected, largest_error=0.02)

    def test_a_tinted_pane_tints_what_is_aimed_at_and_what_is_met(self):
        tint = (0.9, 0.5, 0.2)
        pane = quad((-50, -50, 0.2), (50, -50, 0.2), (50, 50, 0.2), (-50, 50, 0.2), 1)
        stained = replace(WINDOW, ior=1.0, attenuation=tint)
        film = self.lit_floor(pane, stained)
        assert_agrees(self, film, [0.5 * t for t in tint], largest_error=0.01)
        sun = Light("sun", "sun", (np.pi, np.pi, np.pi))
        scene = Scene("sun", [floor(), pane], [lambert(0.5), stained], [sun])
        mean, _ = light(render(scene, looking_down(0.1, half_width=0.02), sampling__max=4))
        np.testing.assert_allclose(mean, [0.5 * t for t in tint], rtol=1e-3)

    def test_a_light_before_a_tinted_pane_keeps_its_colour(self):
        pane = quad((-50, -50, -0.5), (50, -50, -0.5), (50, 50, -0.5), (-50, 50, -0.5), 1)
        lamp = Light("lamp", "rect", (1.0,) * 3, (0.0, 0.0, 0.0), frame=np.diag([1.0, -1.0, -1.0]), width=4.0, height=4.0)
        scene = Scene("lamp", [pane], [lambert(0.5), replace(WINDOW, ior=1.0, attenuation=(0.2, 0.5, 0.9))], [lamp])
        film = render(scene, looking_down(0.5, half_width=0.1), (8, 8), sampling__max=16)
        np.testing.assert_allclose(film[..., DIRECT : DIRECT + 3], 1.0, rtol=1e-6)

    def test_solid_glass_takes_colour_with_depth(self):
        """Straight down through ten centimetres of glass onto a glowing floor, Fresnel's share twice and all echoes."""
        tinted = replace(CLEAR, attenuation=(0.5, 0.8, 1.0), attenuation_distance=0.1)
        glow = Surface("glow", (0.0,) * 3, ior=1.0, emission=(1.0,) * 3)
        scene = Scene("glow", [floor(40.0), slab(20.0)], [glow, tinted], [])
        film = render(scene, looking_down(2.0, half_width=1e-3), (16, 16), sampling__max=256, limits__refractions=32)
        a, r = np.array([0.5, 0.8, 1.0]), 0.04
        # The floor is black, so that what the lower face sends back down is lost.
        expected = a * (1 - r) ** 2 / (1 - (a * r) ** 2)
        assert_agrees(self, film, expected, largest_error=0.02)

    def test_caustic_light_arrives_under_a_slab(self):
        """A floor under a clear slab in an even sky is as bright as Stokes' pane makes it, found by chance alone."""
        cos = np.sqrt((np.arange(2000) + 0.5) / 2000)
        through = float(np.mean([1.0 - glass.pane_reflects(float(c), 1.5) for c in cos]))
        expected = 0.5 * through / (1.0 - 0.5 * (1.0 - through))
        film = self.lit_floor(slab(30.0), CLEAR, limits__diffuse_bounces=16, limits__refractions=32, limits__reflections=32)
        assert_agrees(self, film, expected, largest_error=0.02)
        self.assertLess(float(film[..., DIRECT].mean()), 1e-3 * expected)

    def test_the_limit_of_glass_leaves_it_black_and_says_so(self):
        glow = Surface("glow", (0.0,) * 3, ior=1.0, emission=(1.0,) * 3)
        scene = Scene("glow", [floor(40.0), slab(20.0)], [glow, CLEAR], [])
        camera = looking_down(2.0, half_width=1e-3)
        deep, shallow = (render(scene, camera, (16, 16), sampling__max=256, limits__refractions=n) for n in (16, 0))
        lost = float(deep[..., :6].sum() - shallow[..., :6].sum()) / float(deep[..., :6].sum())
        self.assertGreater(lost, 0.9)
        self.assertGreater(float(shallow[..., ENDED_IN_GLASS].mean()), 0.9)
        self.assertLess(float(deep[..., ENDED_IN_GLASS].mean()), 0.01)
        meters = measure_meters(shallow, ["floor", "slab"], np.array([0] * 2 + [1] * 12).__getitem__)
        self.assertAlmostEqual(meters["beyond"]["glass"], lost, delta=4 * meters["beyond_error"] * (1 - lost) + 0.02)

    def test_glass_is_seen_through_without_bounced_light(self):
        """With bounced light off, mirrors and glass still show what lies behind."""
        scene = Scene("seen", [floor(40.0), slab(20.0)], [lambert(0.5), CLEAR], [Light("l", "rect", (1.0,) * 3, (0, 0, 0.15), width=0.5, height=0.5)])
        film = render(scene, looking_down(2.0, half_width=1e-3), gi__seen="off", sampling__max=16)
        self.assertGreater(float(film[..., INDIRECT].mean()), 0.1)


class Bumps(unittest.TestCase):
    def test_a_normal_map_bends_the_normal_along_the_texture(self):
        lean = np.array([0.6, 0.0, 0.8])
        texels = np.ones((2, 2, 4), np.float32)
        texels[..., :3] = (lean + 1.0) / 2.0
        bumpy = Surface(normal_map=TextureUse(Texture(texels_of(texels), scale=(2.0,) * 4, bias=(-1.0,) * 4)))
        patch = quad((-1, -1, 0), (1, -1, 0), (1, 1, 0), (-1, 1, 0))
        for turned, expected in ((False, lean), (True, [0.0, 0.6, 0.8])):
            patch = patch.changed(uvs=patch.vertices[..., :2] if not turned else patch.vertices[..., [1, 0]] * [1, -1])
            film = render(Scene("bump", [patch], [bumpy], [sky()]), looking_down(1.0), (4, 4), sampling__max=1)
            np.testing.assert_allclose(film[0, 0, NORMAL : NORMAL + 3], expected, atol=1e-4)


class StandIns(unittest.TestCase):
    def test_costly_surfaces_get_plain_ones_of_the_same_mean_colour(self):
        texels = np.ones((2, 2, 4), np.float32)
        texels[0, :, :3], texels[1, :, :3] = 0.2, 0.6
        brass = Surface("brass", metallic=1.0, roughness=0.2, base_color_map=TextureUse(Texture(texels_of(texels))))
        matte = lambert(0.5, (0.1, 0.0, 0.0))
        scene = Scene("s", [quad((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), k) for k in range(3)], [brass, matte, WINDOW])
        plain, count = with_stand_ins(scene, "costly")
        self.assertEqual(count, 2)
        np.testing.assert_allclose(plain.surfaces[0].base_color, 0.4, atol=1e-6)
        self.assertEqual((plain.surfaces[0].metallic, plain.surfaces[0].ior), (0.0, 1.0))
        self.assertIs(plain.surfaces[1], matte)
        self.assertLess(plain.surfaces[2].opacity, 0.2)
        self.assertEqual(plain.surfaces[2].see_through, "cut_out")
        everything, count = with_stand_ins(scene, "all")
        self.assertEqual((count, everything.surfaces[1].emission), (3, (0.1, 0.0, 0.0)))

    def test_a_chosen_object_gets_its_own(self):
        shiny = Surface("shiny", roughness=0.1)
        scene = Scene("s", [quad((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0)), quad((0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1))], [shiny])
        scene.meshes[1].stand_in = True
        plain, count = with_stand_ins(scene, "none")
        self.assertEqual(count, 1)
        self.assertIs(plain.surfaces[plain.meshes[0].surfaces[0]], shiny)
        self.assertEqual(plain.surfaces[plain.meshes[1].surfaces[0]].ior, 1.0)


if __name__ == "__main__":
    unittest.main()
