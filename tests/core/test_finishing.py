"""Finishing and the noise filter: neutral settings change nothing, each setting does what it says, the filter says what it smeared."""

import io
import unittest
from dataclasses import replace

import numpy as np
import tifffile
from PIL import Image

from sivrel.core.errors import InputError
from sivrel.core.finish.finishing import Finish, finish_from, finished, looked_up, measured_exposure, white_balance
from sivrel.core.finish.saved import encoded, kind_of
from sivrel.core.finish.view import to_bytes, to_display
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.pack.lights import pass_names
from sivrel.core.render.edge_filter import edge_filtered
from sivrel.core.render.film import ALBEDO, guides_in
from sivrel.core.render.filter import EDGE_AWARE, LEARNED, SMEARED, _smear, filter_noise, filter_passes, learned_filter
from sivrel.core.render.passes import film_passes
from sivrel.core.scene.model import Light, Scene, Surface
from sivrel.core.vector import LUMINANCE
from tests.scenes import box_inside, floor, lambert, looking_down, quad, render, sky

RNG = np.random.default_rng(5)
PICTURE = (0.18 * 2.0 ** RNG.uniform(-6, 5, (24, 32, 3))).astype(np.float32)
GREYS = np.repeat((0.18 * 2.0 ** np.linspace(-5, 4, 40))[None, :, None], 3, axis=2).astype(np.float32)


class Finishing(unittest.TestCase):
    def test_plain_is_the_view_itself(self):
        for view in ("soft", "plain"):
            difference = np.abs(finished(GREYS, Finish(view=view)) - to_display(GREYS, 0.0, view))
            self.assertLess(float(difference.max()), 2.5 / 255)

    def test_the_table_is_exact_at_its_nodes(self):
        nodes = (0.18 * 2.0 ** np.linspace(-10, 7, 56)[5:50]).astype(np.float32)
        grey = np.repeat(nodes[None, :, None], 3, axis=2)
        np.testing.assert_allclose(looked_up(grey, "soft"), to_display(grey, 0.0, "soft"), atol=1.5e-3)

    def test_exposure_is_a_factor(self):
        np.testing.assert_allclose(finished(PICTURE, Finish(exposure=1.0)), finished(PICTURE * 2.0, Finish()), atol=1e-5)

    def test_white_balance_makes_its_white_grey(self):
        for kelvin in (2500.0, 3999.0, 4001.0, 5000.0, 9000.0):
            warm = np.linalg.inv(white_balance(kelvin, 0.0)) @ np.ones(3)  # what a neutral sheet looks like in that light
            self.assertEqual(warm[0] > warm[2], kelvin < 6504.0)
            balanced = white_balance(kelvin, 0.0) @ warm
            np.testing.assert_allclose(balanced, balanced[0], rtol=1e-6)
        np.testing.assert_allclose(white_balance(6504.0, 0.0), np.eye(3), atol=1e-9)
        np.testing.assert_allclose(white_balance(3999.9, 0.0), white_balance(4000.1, 0.0), rtol=2e-3)  # the two loci are joined
        magenta = white_balance(6504.0, 0.5) @ np.ones(3)
        self.assertGreater((magenta[0] + magenta[2]) / 2, magenta[1])

    def test_highlights_are_held_and_the_rest_is_not(self):
        plain, held = finished(GREYS, Finish(view="plain")), finished(GREYS, Finish(view="plain", highlights=1.0))
        dark = GREYS[0, :, 0] < 0.6
        np.testing.assert_array_equal(plain[0, dark], held[0, dark])
        self.assertTrue((held[0, ~dark] <= plain[0, ~dark] + 1e-6).all())
        self.assertLess(float(held[0, -10, 0]), 1.0)
        self.assertTrue((np.diff(held[0, :, 0]) >= -1e-6).all())

    def test_shadows_are_lifted_and_the_rest_is_not(self):
        plain, lifted = finished(GREYS, Finish(view="plain")), finished(GREYS, Finish(view="plain", shadows=1.0))
        bright = GREYS[0, :, 0] >= 0.18
        np.testing.assert_array_equal(plain[0, bright], lifted[0, bright])
        dark = (GREYS[0, :, 0] > 1e-3) & (GREYS[0, :, 0] < 0.1)
        self.assertTrue((lifted[0, dark] > plain[0, dark]).all())
        self.assertTrue((np.diff(lifted[0, :, 0]) >= -1e-6).all())
        np.testing.assert_array_equal(finished(np.zeros((1, 1, 3)), Finish(shadows=1.0)), finished(np.zeros((1, 1, 3)), Finish()))

    def test_files_hold_what_is_shown(self):
        shown = finished(np.random.default_rng(3).uniform(0.0, 1.2, (9, 14, 3)), Finish())
        png, jpg = (np.asarray(Image.open(io.BytesIO(encoded(shown, kind)))) for kind in ("png", "jpg"))
        np.testing.assert_array_equal(png, to_bytes(shown))
        self.assertLess(float(np.abs(jpg.astype(float) - png).mean()), 4.0)
        tif = tifffile.imread(io.BytesIO(encoded(shown, "tif")))
        self.assertEqual((tif.dtype, tif.shape), (np.dtype(np.uint16), (9, 14, 3)))
        np.testing.assert_allclose(tif / 65535.0, shown, atol=1.0 / 65535.0)
        self.assertEqual((kind_of(".TIFF"), kind_of("jpeg")), ("tif", "jpg"))
        with self.assertRaisesRegex(InputError, "use .png, .jpg or .tif"):
            kind_of(".webp")

    def test_contrast_turns_about_middle_grey(self):
        grey = np.full((1, 1, 3), 0.18, np.float32)
        np.testing.assert_allclose(finished(grey, Finish(contrast=1.7)), finished(grey, Finish()), atol=1e-4)
        two = np.array([[[0.09] * 3, [0.36] * 3]], np.float32)
        soft, hard = (np.ptp(finished(two, Finish(contrast=c))[..., 0]) for c in (0.7, 1.4))
        self.assertGreater(hard, 1.5 * soft)

    def test_saturation_none_is_grey(self):
        shown = finished(PICTURE, Finish(saturation=0.0, view="plain"))
        np.testing.assert_allclose(shown, shown[..., :1].repeat(3, axis=2), atol=2e-3)

    def test_sharpening_raises_an_edge_and_leaves_what_is_even(self):
        edge = np.full((8, 8, 3), 0.1, np.float32)
        edge[:, 4:] = 0.3
        plain, sharp = finished(edge, Finish()), finished(edge, Finish(sharpening=1.0))
        np.testing.assert_allclose(plain[:, [0, 1, 6, 7]], sharp[:, [0, 1, 6, 7]], atol=1e-6)
        self.assertGreater(float(sharp[4, 4, 0]), float(plain[4, 4, 0]) + 0.01)
        self.assertLess(float(sharp[4, 3, 0]), float(plain[4, 3, 0]) - 0.01)

    def test_measured_exposure_brings_the_middle_to_middle_grey(self):
        self.assertAlmostEqual(measured_exposure(np.full((4, 4, 3), 0.18 / 4, np.float32)), 2.0)
        speckled = np.full((40, 40, 3), 0.09, np.float32)
        speckled[3, 3] = 1e6
        self.assertAlmostEqual(measured_exposure(speckled), 1.0)
        self.assertEqual(measured_exposure(np.zeros((4, 4, 3), np.float32)), 0.0)

    def test_bad_settings_are_reported_in_one_sentence(self):
        for values, part in (
            ({"contrast": "9"}, "0.5 to 2"),
            ({"glow": "1"}, "no finishing setting"),
            ({"view": "odd"}, "choose one of: soft, plain"),
            ({"tint": "x"}, "-1 to 1"),
        ):
            with self.assertRaises(InputError) as raised:
                finish_from(values)
            self.assertIn(part, str(raised.exception))


class Filter(unittest.TestCase):
    def scene(self) -> Scene:
        room, step = box_inside(), quad((-0.6, -0.2, -0.6), (0.6, -0.2, -0.6), (0.6, 0.4, -0.4), (-0.6, 0.4, -0.4), 1)
        lamp = Light("lamp", "sphere", (40.0,) * 3, (0.4, 0.2, 0.6), radius=0.15)
        return Scene("room", [room, step], [lambert(0.6), lambert((0.7, 0.3, 0.1))], [lamp])

    def passes(self, samples: int, seed: int = 0):
        scene = self.scene()
        film = render(scene, looking_down(0.7, 0.5, half_width=0.9), (96, 64), seed=seed, sampling__max=samples)
        return film_passes(film, pass_names(scene), pack_scene(scene))

    def test_it_comes_nearer_to_the_truth_and_keeps_edges(self):
        reference = self.passes(512, 9)["beauty"][..., :3]
        noisy = self.passes(8)
        kept = noisy["beauty"].copy()
        filtered = filter_noise(noisy)
        np.testing.assert_array_equal(noisy["beauty"], kept)
        error = lambda image: float(np.sqrt(np.mean(((image - reference) / (reference + 0.02)) ** 2)))  # noqa: E731
        self.assertEqual(filtered.by, LEARNED if learned_filter() else EDGE_AWARE)
        self.assertLess(filtered.smeared, 0.02)
        objects = noisy["object"][..., 0]
        for image, most in ((filtered.image, 0.3 if learned_filter() else 0.5), (edge_filtered(noisy), 0.5)):
            self.assertLess(error(image), most * error(noisy["beauty"][..., :3]))
            # Across the edge of the ochre step, colours stay apart.
            for number in (0, 1):
                mean = lambda image, n=number: image[objects == n].mean(axis=0)  # noqa: E731
                np.testing.assert_allclose(mean(image), mean(reference), rtol=0.05)

    @unittest.skipUnless(learned_filter(), "the learned filter does not run here")
    def test_its_error_is_about_what_it_says(self):
        reference = self.passes(512, 9)["beauty"][..., :3] @ LUMINANCE
        ratios = []
        for samples, seed in ((8, 1), (8, 2), (32, 3), (32, 4)):
            filtered = filter_noise(self.passes(samples, seed))
            seen = filtered.image @ LUMINANCE
            self.assertEqual(filtered.error.shape, seen.shape)
            ratios.append(filtered.level / float(np.sqrt(np.mean(((seen - reference) / (reference + 0.05 * reference.mean())) ** 2))))
        self.assertGreater(np.median(ratios), 0.5)
        self.assertLess(np.median(ratios), 2.0)

    def test_two_halves_make_the_picture(self):
        passes = self.passes(9)
        half, number = passes["half"][..., :3], passes["half"][..., 3:]
        self.assertEqual(set(number.reshape(-1)), {4.0})
        np.testing.assert_array_less(-1e-6, 9.0 * passes["beauty"][..., :3] - 4.0 * half)
        self.assertGreater(np.abs(half - passes["beauty"][..., :3]).mean(), 0.0)
        np.testing.assert_allclose(half.mean(), passes["beauty"][..., :3].mean(), rtol=0.2)
        self.assertNotIn("half", self.passes(1))

    def test_what_is_smeared_is_reported(self):
        """Fine stripes that no guide shows, averaged away because the picture was said to be noisier than it is."""
        passes = self.passes(64)
        striped = passes["beauty"].copy()
        striped[:, 20:60:3, :3] *= 1.6
        honest = edge_filtered({**passes, "beauty": striped})
        boastful = edge_filtered({**passes, "beauty": striped, "variance": passes["variance"] * 400.0})
        self.assertGreater(np.abs(boastful - striped[..., :3]).mean(), 1.3 * np.abs(honest - striped[..., :3]).mean())
        result = _smear(striped[..., :3], boastful, passes["variance"])
        self.assertGreater(float((result[:, 24:56] > SMEARED).mean()), 0.5)
        self.assertLess(float((_smear(striped[..., :3], honest, passes["variance"])[:, 70:] > SMEARED).mean()), 0.1)

    def test_a_missing_guide_is_named(self):
        passes = self.passes(1)
        passes.pop("normal")
        with self.assertRaisesRegex(InputError, "normal.*render it again"):
            filter_noise(passes)

    @unittest.skipIf(learned_filter() is None, "the learned filter does not run here")
    def test_filtered_passes_of_lights_add_up_to_direct_light(self):
        passes = self.passes(8)
        made = filter_passes(passes)
        lights = [name for name in made if name.startswith("filtered.light.")]
        self.assertGreaterEqual(len(lights), 1)
        np.testing.assert_allclose(sum(made[name] for name in lights), made["filtered.direct"], rtol=1e-3, atol=1e-5)
        for name, plane in made.items():
            before = passes[name.removeprefix("filtered.")]
            self.assertAlmostEqual(float(plane.mean()), float(before.mean()), delta=0.05 * float(before.mean()) + 1e-4)
        again = filter_noise(passes).image
        np.testing.assert_allclose(made["filtered.direct"] + made["filtered.indirect"], again, rtol=1e-2, atol=1e-5)

    def test_guides_are_those_of_what_is_seen_in_a_mirror(self):
        mirror = Surface("mirror", (0.9, 0.9, 0.9), roughness=0.0, metallic=1.0)
        ceiling = quad((-9, -9, 3), (-9, 9, 3), (9, 9, 3), (9, -9, 3), 1)
        scene = Scene("mirrored", [floor(9.0), ceiling], [mirror, lambert((0.7, 0.2, 0.1))], [sky(1.0)])
        for surface, albedo, normal in ((mirror, (0.7, 0.2, 0.1), -1.0), (lambert(0.9), (0.9, 0.9, 0.9), 1.0)):
            film = render(replace(scene, surfaces=[surface, scene.surfaces[1]]), looking_down(), sampling__max=2)
            guides = guides_in(film)
            np.testing.assert_allclose(guides[0].reshape(-1, 3).mean(axis=0), albedo, rtol=1e-5)
            np.testing.assert_allclose(guides[1][..., 2], normal, rtol=1e-5)
            np.testing.assert_allclose(film[..., ALBEDO], 0.9, rtol=1e-5)


if __name__ == "__main__":
    unittest.main()
