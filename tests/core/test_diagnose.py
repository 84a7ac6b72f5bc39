"""What a diagnosis rests on: the eye's threshold, pooling, estimates of grain, brute force on the grid, and the detectors on planted fields."""

import unittest
from dataclasses import replace

import numpy as np
from scipy import ndimage

from sivrel.core.diagnose import blotches, burnt, fireflies, grain, smear
from sivrel.core.diagnose.case import Case, as_filtered, estimated_error
from sivrel.core.diagnose.eye import BEST, as_shown, contrast, grain_factor, sensitivity, times_threshold
from sivrel.core.diagnose.finding import PROVEN, Finding, Suspect, Trial, cleared, mask_of, runs_of
from sivrel.core.diagnose.grid import Grid, grid_of, pooled
from sivrel.core.diagnose.measures import Amount, whole_error
from sivrel.core.diagnose.paired_render import PairedRender
from sivrel.core.diagnose.patch import Patch
from sivrel.core.diagnose.regions import places_off
from sivrel.core.diagnose.remedies import add_remedies
from sivrel.core.diagnose.retest import retest
from sivrel.core.diagnose.trials import brings
from sivrel.core.diagnose.truth import Coarse, brute_force
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.pictures.exr import Picture
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values

FRAME = Frame(480, 270)
CACHED = with_values(Recipe(), {"gi.seen": "irradiance_cache"})


def made_case(light: np.ndarray, error: float | None = None, recipe: Recipe | None = None, **passes: np.ndarray) -> Case:
    """A case of a grey picture; with `error`, a measured standard error of every pixel."""
    rows, columns = light.shape
    beauty = np.ones((rows, columns, 4), np.float32)
    beauty[..., :3] = light[..., None]
    planes = {"beauty": beauty, **passes}
    if error is not None:
        planes["variance"] = np.full((rows, columns, 3), error**2, np.float32)
        planes["samples"] = np.full((rows, columns, 1), 16.0, np.float32)
    return Case(Picture(planes, Frame(columns, rows), recipe), 0.0, recipe, Edits() if recipe else None)


def coarse(grid: Grid, light: np.ndarray, error: float, rng: np.random.Generator) -> Coarse:
    """A picture of cells with two halves that differ by chance alone."""
    made = Coarse(grid)
    made.taken[:] = 64
    for k in range(8):
        noisy = light + rng.normal(0.0, error * 8.0**0.5, light.shape)
        made.sum[k % 2] += 16 * noisy[..., None]
        made.planes.append(noisy)
        made.sizes.append(16)
    made.squares[:] = (error * 64) ** 2 * 2.0
    return made


def echo_of(truth: Coarse, off: np.ndarray, error: float, rng: np.random.Generator) -> PairedRender:
    """The echo of a recipe whose light is off, with brute force's own chance and some of its own."""
    made = PairedRender()
    for k, plane in enumerate(truth.planes):
        made.planes[k] = plane + off + rng.normal(0.0, error * 8.0**0.5, off.shape)
    return made


class Eye(unittest.TestCase):
    def test_the_eye_is_keenest_at_eight_cycles_a_degree(self):
        self.assertAlmostEqual(BEST, 7.9, delta=0.3)  # Mannos & Sakrison 1974
        self.assertAlmostEqual(float(sensitivity(BEST)), 1.0)
        self.assertLess(float(sensitivity(33.0)), 0.2)

    def test_what_is_just_seen_counts_once(self):
        size = 67.0 / (2.0 * BEST)
        self.assertAlmostEqual(times_threshold(0.005, size), 1.0, places=2)
        self.assertGreater(times_threshold(0.05, size), times_threshold(0.05, 1.0))

    def test_grain_of_five_per_cent_is_seen_and_of_one_is_not(self):
        self.assertGreater(0.05 * grain_factor() / 0.005, 2.0)
        self.assertLess(0.01 * grain_factor() / 0.005, 1.0)

    def test_light_is_shown_brighter_where_there_is_more(self):
        shown = as_shown(np.geomspace(1e-4, 100.0, 60), 0.0)
        self.assertTrue((np.diff(shown) >= -1e-6).all())
        self.assertLessEqual(shown.max(), 1.0)
        self.assertGreater(contrast(np.array(0.3), np.array(0.2), 0.0), 0.0)


class Grids(unittest.TestCase):
    def test_cells_hold_the_mean_of_their_pixels(self):
        image = np.random.default_rng(1).random((270, 480))
        grid = grid_of(FRAME)
        self.assertEqual((grid.columns, grid.rows), (96, 54))
        np.testing.assert_allclose(grid.pool(image), image.reshape(54, 5, 96, 5).mean(axis=(1, 3)))

    def test_cells_that_cut_pixels_keep_the_mean(self):
        image = np.random.default_rng(2).random((217, 333))
        self.assertAlmostEqual(float(pooled(image, 90, 59, (333, 217), (0, 0, 333, 217)).mean()), float(image.mean()), places=3)

    def test_a_region_covers_the_cells_inside_it(self):
        grid = grid_of(replace(FRAME, region=(100, 50, 200, 150)))
        self.assertEqual(int(grid.inside().sum()), 20 * 20)
        self.assertEqual(grid.cells_of((100, 50, 200, 150)), (20, 10, 40, 30))

    def test_masks_come_back_from_their_runs(self):
        mask = np.random.default_rng(3).random((54, 96)) < 0.3
        mask[-1, -1] = mask[0, 0] = True
        np.testing.assert_array_equal(mask_of(runs_of(mask)), mask)


class Grain(unittest.TestCase):
    def test_white_noise_is_estimated(self):
        rng = np.random.default_rng(4)
        ramp = np.linspace(0.2, 0.8, 320)[None, :] * np.ones((200, 1))
        found = estimated_error(ramp + rng.normal(0.0, 0.03, ramp.shape))
        self.assertAlmostEqual(float(np.median(found)), 0.03, delta=0.006)

    def test_texture_is_no_noise(self):
        y, x = np.mgrid[:200, :320]
        grainless = 0.5 + 0.1 * np.sin(x / 2.2) * np.sin(y / 3.1)
        self.assertLess(float(np.median(estimated_error(grainless))), 0.006)

    def test_grain_is_reported_where_it_is_seen(self):
        rng = np.random.default_rng(5)
        light = np.full((270, 480), 0.3)
        error = 0.03
        light[:, 240:] += rng.normal(0.0, error, (270, 240))
        quiet = made_case(light)
        finding = grain.find(quiet)[0]
        self.assertTrue(finding.weak)
        self.assertGreater(finding.box[0], 200)
        self.assertTrue(finding.settles)
        self.assertEqual(grain.find(made_case(np.full((270, 480), 0.3))), [])

    def test_remedies_suffice_by_the_law(self):
        case = made_case(np.full((270, 480), 0.3), 0.03, Recipe())
        case.seconds = 10.0
        case.ledger = [
            {"name": "Lamp", "noise": 0.9, "time": 0.2, "light": 1.0},
            {"name": "bounced light", "noise": 0.1, "time": 0.5, "light": 0.2},
        ]
        finding = grain.find(case)[0]
        self.assertEqual(finding.about, "Lamp")
        offers = [r for r in grain.remedies(case, finding) if r.changes]
        enough = [r for r in offers if r.seen is not None and r.seen < 3.0]
        self.assertTrue(enough)
        rays = next(r for r in offers if "light.Lamp.shadows.rays" in r.edits)
        left = 0.1 + 0.9 / rays.edits["light.Lamp.shadows.rays"]
        self.assertAlmostEqual(rays.amount / finding.amount, left**0.5, places=5)
        self.assertAlmostEqual(rays.seconds, 10.0 * (1.0 + 0.2 * (rays.edits["light.Lamp.shadows.rays"] - 1)), places=5)

    def test_glow_of_many_bulbs_is_aimed_at_before_it_is_given_thousands_of_samples(self):
        case = made_case(np.full((270, 480), 0.3), 0.25, Recipe())
        case.seconds, case.glowing = 10.0, [f"/Sign/Bulb{k}" for k in range(1000)]
        shares = {"glow": 0.95, "bounced light": 0.05}
        case.ledger = [{"name": name, "noise": share, "time": 0.1, "light": share} for name, share in shares.items()]
        finding = grain.find(case)[0]
        add_remedies(case, finding)
        first = finding.remedies[0]
        self.assertIn("Aim at the 1000 objects that glow", first.words)
        self.assertEqual((len(first.edits), first.values), (1000, {"lights.seen": "chosen"}))
        with_edits(Edits(), first.edits)

    def test_a_remedy_that_raises_the_error_as_a_whole_is_withdrawn(self):
        case = made_case(np.full((60, 80), 0.3), 0.03, CACHED)
        case.pixel_seconds = 4.0
        finding = Finding("blotches", "Blotches.", "", (0, 0, 80, 60), 0.5, 4.0, "structure", 0.06)
        for key, cure, after in (("cells", "Make cells smaller.", 0.2), ("paths", "Take more paths a cell.", 0.03)):
            finding.suspects.append(Suspect(key, cure, {"radiance_cache.cell": 0.1}, cure=cure))
            finding.trials.append(
                Trial(key, cure, {}, 0.8, 0.05, PROVEN, 1.0, amount=0.012, rate=1.0, whole_before=0.062, whole_after=after)
            )  # fmt: skip
        add_remedies(case, finding)
        self.assertEqual([r.words for r in finding.remedies if r.changes], ["Take more paths a cell."])
        self.assertEqual(len(finding.withdrawn), 1)
        self.assertIn("“Make cells smaller” is withdrawn: in its trial the total error went from 6.2% to 20.0%", finding.withdrawn[0])
        self.assertIn("6.2 %", cleared(finding.as_dict())["withdrawn"][0])

    def test_the_error_as_a_whole_is_bias_and_noise_of_the_proof(self):
        rng = np.random.default_rng(3)
        light = np.full((40, 60), 0.5)

        def patch(off: float, error: float, samples: int) -> Patch:
            colour = np.repeat((light * (1.0 + off) + rng.normal(0.0, error, light.shape))[..., None], 3, axis=2)
            return Patch(Frame(60, 40), colour, np.full(light.shape, error**2), samples, 1.0, np.zeros(0))

        truth = patch(0.0, 0.005, 512)
        self.assertAlmostEqual(whole_error(patch(0.1, 0.01, 64), truth, 64), (0.1**2 + 0.02**2) ** 0.5 / 1.05, delta=0.004)
        # At a quarter of the trial's samples the noise is twice as large, and a bias stays.
        self.assertAlmostEqual(whole_error(patch(0.0, 0.02, 64), truth, 16), 0.08 / 1.05, delta=0.005)

    def test_what_would_take_all_day_stands_last(self):
        case = made_case(np.full((270, 480), 0.3), 0.25, Recipe())
        case.seconds = 10.0
        shares = {"bounced light": 0.94, "Lamp": 0.06}
        case.ledger = [{"name": name, "noise": share, "time": share, "light": share} for name, share in shares.items()]
        finding = grain.find(case)[0]
        add_remedies(case, finding)
        seconds = [r.seconds for r in finding.remedies if r.changes and r.seconds]
        self.assertGreater(max(seconds), 20.0 * case.seconds)
        self.assertLess(seconds[0], 20.0 * case.seconds)
        self.assertGreater(seconds[-1], 20.0 * case.seconds)


class Shares(unittest.TestCase):
    def test_what_falls_with_more_of_something_is_distinguished_from_what_stays(self):
        for of_chance in (0.0, 0.5, 0.9, 1.0):  # of the square
            after = (1.0 - of_chance + of_chance / 8.0) ** 0.5
            made = brings(Amount(1.0, 0.05), Amount(after, 0.05), 8.0)
            self.assertAlmostEqual(made.value, of_chance)
            self.assertGreater(made.error, 0.03)


class Dots(unittest.TestCase):
    def test_dots_are_found_and_highlights_are_not(self):
        rng = np.random.default_rng(6)
        light = np.full((270, 480), 0.2) + rng.normal(0.0, 0.004, (270, 480))
        light[100:110, 100:112] = 3.0  # a highlight has neighbours of its kind
        spots = rng.choice(270 * 480, 40, replace=False)
        spots = spots[np.abs(spots // 480 - 105) > 12]
        light.reshape(-1)[spots] = 4.0
        finding = fireflies.find(made_case(light))[0]
        self.assertAlmostEqual(finding.evidence["pixels"], len(spots), delta=4)
        self.assertEqual(fireflies.find(made_case(np.full((270, 480), 0.2))), [])

    def test_paths_are_grouped(self):
        answer = {
            "diffuse → glass → a light met by chance": "caustic",
            "diffuse → diffuse → a glow met by chance": "glow",
            "diffuse → gloss → a light aimed at": "gloss",
            "glass → a light met by chance": "caustic",
            "diffuse → a light aimed at": "other",
        }
        for words, group in answer.items():
            self.assertEqual(fireflies.group_of(words), group, words)


class OffTruth(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(7)
        self.grid = grid_of(FRAME)

    def case(self, cells: np.ndarray, error: float = 0.02) -> Case:
        pixels = np.repeat(np.repeat(cells, 5, axis=0), 5, axis=1)
        made = made_case(pixels + self.rng.normal(0.0, error, pixels.shape), error, CACHED)
        made.paired = PairedRender()
        made.paired.planes = dict(enumerate(coarse(self.grid, cells, 0.01, self.rng).planes))
        return made

    def test_a_bright_place_is_found_with_its_ratio(self):
        true = np.full((54, 96), 0.1)
        shown = true.copy()
        shown[20:30, 40:52] *= 1.5
        off = places_off(self.case(shown), coarse(self.grid, true, 0.005, self.rng))
        self.assertEqual(len(off.regions), 1)
        self.assertAlmostEqual(off.regions[0].ratio, 1.5, delta=0.13)  # with a rim of a cell
        self.assertEqual(off.regions[0].sign, 1)

    def test_chance_makes_no_place(self):
        true = np.full((54, 96), 0.1)
        for _ in range(20):
            self.assertEqual(places_off(self.case(true), coarse(self.grid, true, 0.01, self.rng)).regions, [])

    def test_what_chance_may_have_moved_is_not_called_unchanged(self):
        """A place a third less off, so small and by so little brute force that noise alone changes it by as much."""
        true, mask = np.full((54, 96), 0.1), np.zeros((54, 96), bool)
        mask[20:23, 40:43] = True
        finding = Finding("leak", "A leak.", "", (200, 100, 215, 115), 0.01, 5.0, "bias", 0.3, mask=mask)
        answer = cleared(finding.as_dict())
        verdicts = []
        for _ in range(20):
            case = self.case(np.where(mask, 0.1 * 1.22, true), 0.002)
            result = retest(answer, {"amount": 0.0}, case, coarse(self.grid, true, 0.012, self.rng), before=0.3)
            verdicts.append(result.verdict)
            if result.verdict == "unchanged":
                self.assertLessEqual(abs(result.after / 0.3 - 1.0), 0.15)
            if result.verdict == "not certain":
                self.assertIn("noise alone changes it by", result.said)
        self.assertIn("not certain", verdicts)
        sure = retest(answer, {"amount": 0.0}, self.case(np.where(mask, 0.12, true), 0.002), coarse(self.grid, true, 0.0005, self.rng), before=0.3)
        self.assertEqual(sure.verdict, "smaller")

    def test_a_single_rare_path_makes_no_place(self):
        true = np.full((54, 96), 0.1)
        truth = coarse(self.grid, true, 0.005, self.rng)
        truth.sum[0, 30, 30] += 64 * 5.0
        truth.planes[0][30, 30] += 4 * 5.0
        self.assertEqual(places_off(self.case(true), truth).regions, [])

    def test_blotches_are_measured(self):
        true = np.full((54, 96), 0.2)
        field = ndimage.gaussian_filter(self.rng.normal(size=(54, 96)), 2.0)
        field *= 0.1 / field.std()
        made = blotches.find(self.case(true * (1.0 + field)), coarse(self.grid, true, 0.004, self.rng))
        self.assertEqual(len(made), 1)
        # As shown: the soft view raises contrast by its slope there.
        slope = float(contrast(np.array(0.21), np.array(0.2), 0.0)) / 0.05
        self.assertAlmostEqual(made[0].amount / slope, 0.1, delta=0.03)
        self.assertEqual(blotches.find(self.case(true), coarse(self.grid, true, 0.004, self.rng)), [])

    def test_chance_that_both_share_does_not_count(self):
        true = np.full((54, 96), 0.1)
        shown = true.copy()
        shown[20:26, 40:46] *= 1.15  # far below the chance of a cell
        truth, case = coarse(self.grid, true, 0.05, self.rng), self.case(shown, 0.3)
        self.assertEqual(places_off(case, truth).regions, [])
        case.paired = echo_of(truth, shown - true, 0.002, self.rng)
        off = places_off(case, truth)
        self.assertEqual(len(off.regions), 1)
        self.assertGreaterEqual(int(off.regions[0].cells[20:26, 40:46].sum()), 20)
        self.assertLess(off.error, 0.001)

    def test_grain_without_end_is_no_blotch(self):
        true = np.full((54, 96), 0.2)
        self.assertEqual(blotches.find(self.case(true, 0.1), coarse(self.grid, true, 0.02, self.rng)), [])


class Smear(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(8)

    def filtered(self, light: np.ndarray, image: np.ndarray, error: float) -> Case:
        case = made_case(light, error, Recipe())
        case.filtered = np.repeat(image[..., None], 3, axis=2).astype(np.float32)
        return case

    def test_noise_that_was_taken_is_no_smear_and_stripes_are(self):
        plain, noise = np.full((270, 480), 0.3), self.rng.normal(0.0, 0.03, (270, 480))
        self.assertEqual(smear.find(self.filtered(plain + noise, plain, 0.03)), [])
        stripes = plain.copy()
        stripes[100:200, 100:300] += 0.04 * np.sign(np.sin(np.arange(200) / 1.5))
        found = smear.find(self.filtered(stripes + noise, plain, 0.03))
        self.assertEqual([f.kind for f in found], ["smear"])
        self.assertLess(abs(found[0].share - 100 * 200 / (270 * 480)), 0.08)

    def test_the_filtered_picture_has_no_grain_and_its_own_error(self):
        plain, noise = np.full((270, 480), 0.3), self.rng.normal(0.0, 0.06, (270, 480))
        raw = made_case(plain + noise, 0.06, Recipe())
        self.assertEqual(len(grain.find(raw)), 1)
        image = np.repeat(plain[..., None], 3, axis=2).astype(np.float32)
        error = np.full(plain.shape, 0.01, np.float32)
        seen = as_filtered(raw, image, np.zeros(plain.shape, np.float32), error)
        self.assertEqual(grain.find(seen) + smear.find(seen), [])
        np.testing.assert_allclose(seen.cell_variance[10:-10, 10:-10], 1e-4, rtol=1e-5)  # whole in each cell: it is alike in neighbours
        left = as_filtered(raw, image + 0.7 * noise[..., None], np.zeros(plain.shape, np.float32), np.full(plain.shape, 0.05, np.float32))
        found = grain.find(left)
        self.assertEqual(len(found), 1)
        self.assertIn("of the filtered picture", found[0].title)

    def test_patches_that_a_filter_leaves_are_its_own(self):
        grid, true = grid_of(FRAME), np.full((54, 96), 0.2)
        field = ndimage.gaussian_filter(self.rng.normal(size=(54, 96)), 2.0)
        patchy = np.repeat(np.repeat(true * (1.0 + 0.1 * field / field.std()), 5, axis=0), 5, axis=1)
        light = 0.2 + self.rng.normal(0.0, 0.05, patchy.shape)
        truth = coarse(grid, true, 0.004, self.rng)
        self.assertEqual(len(smear.find_off(self.filtered(light, patchy, 0.05), truth)), 1)
        self.assertEqual(smear.find_off(self.filtered(light, np.full_like(patchy, 0.2), 0.05), truth), [])


class Burnt(unittest.TestCase):
    def test_burnt_places_and_the_exposure_that_saves_them(self):
        light = np.full((90, 160), 0.2)
        light[20:60, 30:90] = 30.0
        case = made_case(light, recipe=Recipe())
        case.picture.camera = "Eye"
        finding = burnt.find(case)[0]
        self.assertAlmostEqual(finding.amount, 40 * 60 / (90 * 160), delta=0.02)
        stops = finding.remedies[0].edits["camera.Eye.exposure"]
        self.assertLess(burnt.burnt(case, stops).mean(), 0.2 * finding.amount)

    def test_what_shines_may_be_white(self):
        light = np.full((90, 160), 0.2)
        light[20:60, 30:90] = 30.0
        glow = np.where(light > 1.0, light, 0.0).astype(np.float32)[..., None].repeat(3, axis=2)
        self.assertEqual(burnt.find(made_case(light, emission=glow)), [])


class Retests(unittest.TestCase):
    def answer(self, noise: float) -> tuple[Case, dict]:
        case = made_case(np.full((270, 480), 0.3), noise, Recipe())
        found = grain.find(case)
        return case, cleared(found[0].as_dict()) if found else {}

    def test_verdicts(self):
        _, finding = self.answer(0.05)
        remedy = {"amount": finding["amount"] / 2.0, "seconds": None}
        for noise, verdict in ((0.05, "unchanged"), (0.025, "smaller"), (0.002, "gone"), (0.09, "worse")):
            result = retest(finding, remedy, self.answer(noise)[0], None)
            self.assertEqual(result.verdict, verdict, noise)
        half = retest(finding, remedy, self.answer(0.025)[0], None)
        self.assertAlmostEqual(half.after / half.before, 0.5, delta=0.03)
        self.assertIn("50", half.said)


class BruteForce(unittest.TestCase):
    def test_shortcuts_are_taken_out_and_wishes_stay(self):
        recipe = with_values(
            Recipe(),
            {
                "gi.seen": "photon_map",
                "gi.beyond": "baked",
                "limits.indirect_clamp": 2,
                "limits.diffuse_bounces": 40,
                "shadows.way": "depth_map",
                "caustics.on": "yes",
                "limits.ray_offset": 0.1,
            },
        )
        plain = brute_force(recipe)
        self.assertEqual(
            (plain.gi.seen, plain.gi.beyond, plain.shadows.way, plain.of("caustics").on), ("brute_force", "brute_force", "traced", "yes")
        )
        self.assertEqual((plain.limits.indirect_clamp, plain.limits.diffuse_bounces, plain.limits.ray_offset), (0.0, 40, 0.0))
        self.assertEqual(brute_force(with_values(Recipe(), {"gi.seen": "off"})).gi.seen, "off")


if __name__ == "__main__":
    unittest.main()
