"""Pictures in and out, how they are shown, and what is measured on them."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import OpenEXR

from sivrel.core.errors import InputError
from sivrel.core.finish.view import LUT_SIZE, LUT_STOPS, MIDDLE, lookup_table, to_display
from sivrel.core.formats.image import read_image
from sivrel.core.measure.difference import compare, visible_difference
from sivrel.core.measure.noise import noise_level
from sivrel.core.measure.verdict import judge
from sivrel.core.pictures.coarser import coarser
from sivrel.core.pictures.exr import Picture, read_exr, write_exr
from sivrel.core.render.film import DEPTH, DIRECT, FILM_COLUMNS, INDIRECT, VARIANCE
from sivrel.core.render.frame import Frame
from sivrel.core.render.passes import film_passes
from sivrel.core.render.recipe import Recipe, with_values


def picture(value=0.5, frame=None, recipe=None, variance=0.0) -> Picture:
    frame = frame or Frame(40, 24)
    x0, y0, x1, y1 = frame.window
    film = np.zeros((y1 - y0, x1 - x0, FILM_COLUMNS), np.float32)
    film[..., DIRECT : DIRECT + 3] = value
    film[..., INDIRECT : INDIRECT + 3] = 0.25
    film[..., VARIANCE : VARIANCE + 3] = variance
    film[..., DEPTH] = np.inf
    return Picture(film_passes(film, []), frame, recipe or Recipe(), "shot", "camera")


class Hdr(unittest.TestCase):
    def test_plain_and_run_length_coded_rows(self):
        head = b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 2 +X 8\n"
        flat = np.array([[[128, 64, 0, 129]] * 8, [[200, 10, 20, 128]] * 8], np.uint8)
        coded = b"".join(b"\x02\x02\x00\x08" + b"".join(bytes([128 + 5, value, 3, value, value, value]) for value in row[0]) for row in flat)
        expected = (flat[..., :3] + 0.5) * 2.0 ** (flat[..., 3:].astype(float) - 136)
        for body in (flat.tobytes(), coded):
            np.testing.assert_allclose(read_image(head + body, "sky.hdr")[..., :3], expected, rtol=1e-6)
        for broken in (head + coded[:-9], b"#?RADIANCE\nnothing"):
            with self.assertRaises(InputError):
                read_image(broken, "sky.hdr")


class Exr(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_round_trip_with_recipe_region_and_layers(self):
        recipe = with_values(Recipe(), {"sampling.max": 3})
        original = picture(frame=Frame(40, 24, (8, 4, 30, 20), seed=9), recipe=recipe)
        write_exr(self.folder / "p.exr", original)
        back = read_exr(self.folder / "p.exr")
        self.assertEqual((back.recipe, back.frame, back.shot, back.camera), (recipe, original.frame, "shot", "camera"))
        some = read_exr(self.folder / "p.exr", ("direct", "no such pass"))
        self.assertEqual((list(some.passes), some.frame, some.recipe), (["beauty", "direct"], original.frame, recipe))
        np.testing.assert_array_equal(some.passes["direct"], original.passes["direct"])
        for name, plane in original.passes.items():
            np.testing.assert_array_equal(back.passes[name], plane)
        names = set(OpenEXR.File(str(self.folder / "p.exr"), separate_channels=True).channels())
        self.assertLessEqual({"R", "G", "B", "A", "direct.R", "indirect.G", "albedo.B", "normal.X", "depth.Z"}, names)

    def test_beauty_is_the_sum_of_its_parts(self):
        p = picture().passes
        np.testing.assert_array_equal(p["beauty"][..., :3], p["direct"] + p["indirect"])

    def test_bad_files_are_refused_in_a_sentence(self):
        (self.folder / "text.exr").write_text("not a picture")
        write_exr(self.folder / "good.exr", picture())
        whole = (self.folder / "good.exr").read_bytes()
        (self.folder / "cut.exr").write_bytes(whole[: len(whole) // 2])
        OpenEXR.File({}, {"Y": np.zeros((4, 4), np.float32)}).write(str(self.folder / "grey.exr"))
        for name in ("text.exr", "cut.exr", "grey.exr", "missing.exr"):
            with self.subTest(name), self.assertRaises(InputError) as caught:
                read_exr(self.folder / name)
            self.assertIn(name, str(caught.exception))


class Views(unittest.TestCase):
    def test_exposure_is_a_factor_of_two_a_stop(self):
        light = np.full((2, 2, 3), 0.05, np.float32)
        np.testing.assert_allclose(to_display(light, 2.0, "plain"), to_display(light * 4.0, 0.0, "plain"))

    def test_plain_view_is_srgb(self):
        light = np.array([[[0.0, 0.18, 1.0]]], np.float32)
        np.testing.assert_allclose(to_display(light, 0.0, "plain")[0, 0], [0.0, 0.4613561, 1.0], atol=2e-4)

    def test_browser_table_shows_what_the_server_shows(self):
        """Trilinear look-up, as the shader does it, against the transform itself."""
        rng = np.random.default_rng(2)
        light = (MIDDLE * 2.0 ** rng.uniform(-8, 4, (400, 3))).astype(np.float32)
        for view in ("soft", "plain"):
            table = lookup_table(view).view(np.float16).astype(float)
            at = (np.log2(light / MIDDLE) - LUT_STOPS[0]) / (LUT_STOPS[1] - LUT_STOPS[0]) * (LUT_SIZE - 1)
            low, f = np.floor(at).astype(int), at - np.floor(at)
            shown = np.zeros((len(light), 3))
            for corner in np.ndindex(2, 2, 2):
                c = np.array(corner)
                weight = np.prod(np.where(c, f, 1 - f), axis=1)[:, None]
                r, g, b = (low + c).T
                shown += weight * table[b, g, r, :3]
            error = np.abs(shown - to_display(light[None], 0.0, view)[0])
            self.assertLess(np.percentile(error, 95), 2.5 / 255)


class Measures(unittest.TestCase):
    def test_noise_is_the_relative_standard_error(self):
        # Light 0.75 everywhere, standard error 0.075: over 105 % of the light.
        self.assertAlmostEqual(noise_level(picture(variance=0.075**2)), 0.075 / (0.75 * 1.05), places=5)
        self.assertIsNone(noise_level(picture(variance=np.inf)))

    def test_difference_of_known_pictures(self):
        a, b = picture(0.5), picture(0.75, recipe=with_values(Recipe(), {"sampling.max": 64}))
        result = compare(a, b)
        self.assertAlmostEqual(result.mean_light, 1.0 / 0.75, places=6)
        self.assertAlmostEqual(result.rmse, 0.25, places=6)
        self.assertEqual(result.changed, [("sampling.max", 16, 64)])
        self.assertGreater(result.visible, 0.02)
        same = compare(a, a)
        self.assertEqual((same.rmse, same.visible), (0.0, 0.0))

    def test_the_eye_sees_a_step_and_not_a_trace(self):
        a = np.full((32, 32, 3), 0.2, np.float32)
        step, trace = a.copy(), a.copy()
        step[8:24, 8:24] *= 2.0
        trace[8:24, 8:24] *= 1.0005
        self.assertGreater(visible_difference(a, step)[16, 16], 0.1)
        self.assertLess(visible_difference(a, trace).max(), 0.01)

    def test_different_pixels_are_not_compared(self):
        for other in (Frame(40, 25), Frame(40, 30, region=(0, 0, 9, 9))):
            with self.assertRaisesRegex(InputError, "frames of one shape, with a common part"):
                compare(picture(frame=Frame(40, 30, region=(20, 10, 30, 20))), picture(frame=other))

    def test_a_region_and_its_enlargement_have_the_pixels_of_the_coarser(self):
        """The mean of a ramp over a pixel is its value in the middle; the variance of a mean of n is a nth."""
        for width, factor in ((20, 3.0), (22, 2.5)):
            height = 15 if width == 20 else 12
            fine = Frame(round(width * factor), round(height * factor), region=(3, 2, round(width * factor) - 4, round(height * factor) - 2))
            x0, y0, x1, y1 = fine.window
            ramp = np.broadcast_to(((np.arange(x0, x1) + 0.5) / factor)[None, :, None], (y1 - y0, x1 - x0, 3)).astype(np.float32)
            numbers = np.arange(x0, x1)[None, :, None] + np.zeros((y1 - y0, 1, 1), np.float32)
            passes = {
                "beauty": np.concatenate([ramp, np.ones_like(ramp[..., :1])], 2), "variance": np.ones_like(ramp),
                "samples": np.full_like(ramp[..., :1], 4.0), "object": numbers,
            }  # fmt: skip
            small = coarser(Picture(passes, fine), Frame(width, height))
            left, top, right, bottom = small.frame.window
            self.assertGreaterEqual(left * factor, x0 - 1e-6)
            self.assertLessEqual(right * factor, x1 + 1e-6)
            np.testing.assert_allclose(small.beauty[0, :, 0], np.arange(left, right) + 0.5, atol=1e-4 if factor == 3.0 else 0.03)
            self.assertEqual(small.beauty.shape, (bottom - top, right - left, 4))
            np.testing.assert_allclose(small.passes["samples"], 4.0 * factor * factor, rtol=1e-5)
            if factor == 3.0:
                np.testing.assert_allclose(small.passes["variance"], 1.0 / 9.0, rtol=1e-5)
                np.testing.assert_array_equal(small.passes["object"][0, :, 0], np.arange(left, right) * 3 + 1)

    def test_an_enlarged_render_of_the_same_shows_no_change(self):
        light = np.random.default_rng(5)
        coarse, fine = Frame(48, 27), Frame(96, 54, region=(20, 10, 80, 44))

        def noisy(frame: Frame, samples: float, lit: float = 0.2) -> Picture:
            x0, y0, x1, y1 = frame.window
            shape = (y1 - y0, x1 - x0)
            variance = 4e-4 / samples
            beauty = np.ones((*shape, 4), np.float32)
            beauty[..., :3] = lit + light.normal(0.0, variance**0.5, (*shape, 3))
            return Picture(
                {"beauty": beauty, "variance": np.full((*shape, 3), variance, np.float32), "samples": np.full((*shape, 1), samples, np.float32),
                 "object": np.zeros((*shape, 1), np.float32)}, frame)  # fmt: skip

        same = judge(noisy(coarse, 16.0), noisy(fine, 4.0))
        self.assertEqual(same.share, 0.0, same.sentence)
        self.assertEqual(same.window, (10, 5, 40, 22))
        self.assertGreater(judge(noisy(coarse, 16.0), noisy(fine, 4.0, 0.3)).share, 0.9)


if __name__ == "__main__":
    unittest.main()
