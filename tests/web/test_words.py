"""Numbers and changes in words: what pages write where an artist reads them."""

import unittest
from types import SimpleNamespace

from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.render.recipe import Recipe, settings, with_values
from sivrel.web import words
from sivrel.web.tune.offers import offer_of
from sivrel.web.tune.tables import csv_of


class NumbersTest(unittest.TestCase):
    def test_times_have_as_many_digits_as_they_are_read_with(self):
        for value, text in (
            (None, "–"), (0.0, "0.00 s"), (0.434, "0.43 s"), (0.999, "1.00 s"), (1.0, "1.0 s"), (9.94, "9.9 s"), (10.0, "10 s"), (119.4, "119 s"),
            (120.0, "2 min 00 s"), (125.9, "2 min 05 s"), (3661.0, "61 min 01 s"),
        ):  # fmt: skip
            self.assertEqual(words.seconds(value), text)
        self.assertEqual(words.seconds_against(12.0, 10.1), "+1.9 s")
        self.assertEqual(words.seconds_against(10.0, 15.6), "−5.6 s")

    def test_shares_and_counts(self):
        self.assertEqual((words.percent(0.1234), words.percent(None)), ("12.3 %", "–"))
        for value, text in ((0.0, "0"), (0.031, "3.1"), (0.094, "9.4"), (0.5, "50"), (1.0, "100")):
            self.assertEqual(words.share(value), text)
        self.assertEqual((words.counted(1, "lamp"), words.counted(0, "lamp"), words.counted(2, "lamp")), ("1 lamp", "0 lamps", "2 lamps"))
        self.assertEqual(words.thousands(1234567), "1 234 567")
        self.assertEqual(words.size(640, 360), "640×360")

    def test_every_choice_of_every_setting_has_words(self):
        for key, info in settings().items():
            for choice in info.choices or ():
                shown = words.shown(key, choice)
                self.assertTrue(shown)
                self.assertNotIn("_", shown, (key, choice))
        self.assertEqual(words.shown("shadows.way", "off"), "no shadows")
        self.assertEqual((words.value_in_words(True), words.value_in_words(0.25)), ("on", "0.25"))


class ChangesTest(unittest.TestCase):
    def proof(self, recipe=None, edits=None, **frame) -> SimpleNamespace:
        about = {"width": 64, "height": 36, "region": None, "seed": 0, "time": None, **frame}
        return SimpleNamespace(recipe=recipe or Recipe(), edits=edits or Edits(), camera="landing", frame=SimpleNamespace(**about))

    def test_each_change_is_named_once_with_before_and_after(self):
        recipe = with_values(Recipe(), {"sampling.max": 99})
        found = words.changes(self.proof(), self.proof(recipe, width=128, height=72, seed=3, region=(0, 0, 10, 5)))
        self.assertEqual([name for name, _, _ in found], [settings()["sampling.max"].name, "size", "region", "seed"])
        self.assertEqual(found[1:], [("size", "64×36", "128×72"), ("region", "whole", "10×5 px"), ("seed", "0", "3")])
        self.assertEqual(words.changes(self.proof(), self.proof()), [])

    def test_edits_are_said_of_what_they_are_made_on(self):
        before = with_edits(Edits(), {"light./Rig/Key.intensity": 2.0})
        after = with_edits(before, {"light./Rig/Key.intensity": 4.0, "card.Flag.at": "0,1,0", "card.Flag.width": 2.0})
        found = words.changes(self.proof(edits=before), self.proof(edits=after))
        self.assertIn(("Key intensity", "2", "4"), found)
        self.assertEqual([one for one in found if "Flag" in one[0]], [("card Flag", "", "added")])  # one change, however many numbers
        back = words.changes(self.proof(edits=after), self.proof(edits=Edits()))
        self.assertIn(("card Flag", "", "taken out"), back)
        self.assertIn(("Key intensity", "4", "as in the file"), back)

    def test_one_line(self):
        self.assertEqual(words.in_one_line([("seed", "0", "3"), ("card Flag", "", "added")]), "seed 0 → 3, card Flag → added")
        self.assertEqual(words.in_one_line([]), "")


class MetersTest(unittest.TestCase):
    QUIET = {"clamped": 0.0, "beyond": {"diffuse": 0.0, "mirror": 0.0, "glass": 0.0, "total": 0.0}, "beyond_error": 0.0, "self_hits": 0.0}

    def said(self, recipe: Recipe | None = None, **meters) -> list[str]:
        return words.meters_in_words(SimpleNamespace(meters={**self.QUIET, **meters} if meters else {}, recipe=recipe or Recipe()))

    def test_what_costs_nothing_is_not_said(self):
        self.assertEqual(self.said(), [])
        self.assertEqual(self.said(ended_in_glass=0.001, fireflies=1e-4, firefly_kind=None), [])

    def test_what_subdivision_and_placements_cost_is_said(self):
        cost = {"triangles": 105_800_000, "stored": 113_000, "placements": 15_000, "from_cages": 48_000, "subdividing": 0.25, "packing": 1.5}
        (said,) = self.said(geometry=cost)
        self.assertEqual(
            said,
            "Geometry: 105 800 000 triangles, 113 000 of them stored, for 15 000 placements, 48 000 by subdivision in 0.25 s; packed in 1.5 s.",
        )
        self.assertEqual(self.said(geometry={**cost, "placements": 0, "from_cages": 0}), [])

    def test_large_textures_are_said_with_what_they_hold(self):
        self.assertEqual(
            self.said(textures={"count": 16, "bytes": 6 << 30, "resident": 27 << 20}),
            ["Textures: 16 large ones, 6.0 GB in all levels, 27 MB of them in memory at the end."],
        )
        self.assertEqual(self.said(textures=None), [])

    def test_each_cost_is_a_sentence_with_its_share(self):
        recipe = with_values(Recipe(), {"limits.indirect_clamp": 10.0, "limits.diffuse_bounces": 1})
        (clamped,) = self.said(recipe, clamped=0.034, clamped_most=("/Room/Wall", 0.6))
        self.assertEqual(clamped, "The clamp at 10 removes 3.4 % of the light, 60 % of it on Wall.")
        (beyond,) = self.said(recipe, beyond={"diffuse": 0.021, "mirror": 0.0004}, beyond_error=0.002)
        self.assertEqual(beyond, "2.1 % of the light lies beyond 1 diffuse bounce (± 0.2 %).")
        (glass,) = self.said(ended_in_glass=0.03)
        self.assertIn("allow more crossings", glass)
        (sparkle,) = self.said(fireflies=0.01, firefly_kind=("caustics", 0.8))
        self.assertEqual(sparkle, "1.0 % of the pixels are fireflies; 80 % of those by caustics.")
        (met,) = self.said(self_hits=0.02)
        self.assertIn("raise the ray offset", met)

    def test_what_became_of_a_cache(self):
        note = {"way": "photon_map", "kind": "photon map", "count": 12345, "unit": "photons", "seconds": 3.0, "notes": {"radius": 0.1, "emitted": 9}}
        made = {**note, "added": False, "made": True, "because": ""}
        for change, answer in (
            ({}, "made in 3.0 s."),
            ({"because": "lights"}, "made in 3.0 s because lights had changed."),
            ({"made": False}, "reused (saved 3.0 s)."),
            ({"made": False, "because": "geometry"}, "locked: used although geometry has changed since."),
            ({"added": True}, "extended for this camera, 3.0 s in total."),
        ):
            self.assertIn(f"Photon map: 12 345 photons, {answer}", words.way_in_words({**made, **change}))
        check = {"mean": -0.021, "mean_error": 0.01, "spread": 0.002, "spots": 50}
        answer = words.way_in_words({**made, "check": check})
        self.assertIn("Against brute force at 50 points: −2.1 % in total (± 1.0), single points within noise.", answer)


class TuningsTest(unittest.TestCase):
    def tuning(self, kind: str, result) -> SimpleNamespace:
        return SimpleNamespace(kind=kind, result=result)

    def test_a_table_is_there_before_anything_came(self):
        for kind in ("budget", "match", "advice"):
            self.assertEqual(len(csv_of(self.tuning(kind, None)).splitlines()), 1)

    def test_text_of_a_file_stays_in_its_cell(self):
        plan = {"name": 'a "b", c', "seconds": 1.0, "preparing": 0.0, "noise": None, "samples": 4, "values": {"sampling.max": 4}, "edits": {}}
        line = csv_of(self.tuning("budget", {"plans": [plan]})).splitlines()[1]
        self.assertEqual(line, '"a ""b"", c",1.0,0.0,,4,sampling.max=4')

    def test_what_is_offered_says_what_it_is_and_what_it_predicts(self):
        rung = {"values": {"sampling.max": 64}, "frame_seconds": 12.0, "error": {"noise": 0.03}}
        ladder = self.tuning("ladder", {"varied": [{"key": "sampling.max", "name": "samples"}], "rungs": [rung]})
        offer = offer_of(ladder, 0)
        self.assertEqual((offer.words, offer.changes), ("ladder: samples 64", {"sampling.max": 64}))
        self.assertEqual(offer.predicted, {"seconds": 12.0, "noise": 0.03})
        plan = {"name": "split", "values": {"sampling.gi_rays": 2}, "edits": {"light.Key.shadows.rays": 3}, "seconds": 9.0, "noise": 0.02}
        self.assertEqual(offer_of(self.tuning("budget", {"plans": [plan]}), 0).changes, {"sampling.gi_rays": 2, "light.Key.shadows.rays": 3})
        for number in (-1, 1):
            with self.assertRaisesRegex(ValueError, "reload the page"):
                offer_of(ladder, number)


if __name__ == "__main__":
    unittest.main()
