"""A new kind of flaw is one module and one line: a toy detector goes through the whole diagnosis."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from sivrel.core.diagnose import detectors
from sivrel.core.diagnose.case import placed
from sivrel.core.diagnose.detector import Detector
from sivrel.core.diagnose.diagnosis import diagnose
from sivrel.core.diagnose.finding import PROVEN, Suspect, cleared
from sivrel.core.diagnose.measures import Amount
from sivrel.core.diagnose.render import render_case
from sivrel.core.diagnose.retest import GONE, SMALLER, retest
from sivrel.core.diagnose.retesting import Side, retest_on
from sivrel.core.diagnose.trials import try_suspects
from sivrel.core.edits.edits import Edits
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene
from sivrel.core.work_time import work_time
from tests import flaws
from tests.rooms import room
from tests.scenes import floor, lambert, looking_down


def green_of(colour: np.ndarray) -> float:
    """By how much green exceeds the other channels, as a share of it."""
    red, green, blue = (float(colour[..., k].mean()) for k in range(3))
    return max(0.0, 1.0 - (red + blue) / 2.0 / max(green, 1e-9))


def find(case):
    amount = green_of(case.picture.beauty)
    if amount < 0.2:
        return []
    made = placed(
        case, np.ones(case.light.shape, bool), kind="green cast", measure="green", amount=amount, contrast=amount, size=60.0, seen=20.0 * amount,
        title="Green {there}.", why="Green exceeds the other channels.", about="", evidence={},
    )  # fmt: skip
    made.suspects = [
        Suspect("sky", "the sky is on", edits={"light.Sky.on": False}, prior=1.0),
        Suspect("lime", "Lime shines green", edits={"light.Lime.on": False}, prior=2.0, cure="Turn Lime off."),
    ]
    return [made]


TOY = Detector(
    "green cast", find=find, measure="green", amount=lambda finding, case, truth, parent: (green_of(case.picture.beauty), 0.01),
    on_patch=lambda patch, truth, about: Amount(green_of(patch.colour), 0.01),
)  # fmt: skip


class Toy(unittest.TestCase):
    def test_it_is_found_tried_mended_and_measured_again(self):
        lights = [Light("Sky", "dome", intensity=0.3), Light("Lime", "point", (0.1, 1.0, 0.1), intensity=30.0, position=(0.0, 0.0, 2.0))]
        scene = Scene("green", [floor()], [lambert(0.5)], lights, [looking_down()])
        recipe, frame = with_values(Recipe(), {"gi.seen": "off", "sampling.max": 4}), Frame(64, 36)
        with (
            mock.patch.object(detectors, "DETECTORS", [*detectors.DETECTORS, TOY]),
            mock.patch("sivrel.core.diagnose.diagnosis.DETECTORS", [*detectors.DETECTORS, TOY]),
        ):
            case, renderer = render_case(scene, recipe, Edits(), None, frame)
            found = next(f for f in diagnose(case, renderer, seconds=4.0).findings if f.kind == "green cast")
            self.assertEqual((found.cause_key, found.trials[0].verdict), ("lime", PROVEN))
            remedy = found.remedies[0]
            self.assertEqual(remedy.words, "Turn Lime off.")
            child, _ = render_case(scene, *renderer.changed(remedy.values, remedy.edits), None, frame)
            again = retest(cleared(found.as_dict()), cleared(remedy.__dict__), child, None, parent=case)
        self.assertEqual(again.verdict, GONE)
        self.assertLess(again.after, 0.05)


class Retests(unittest.TestCase):
    def test_a_cure_is_distinguished_from_the_same_proof_again(self):
        planted = flaws.dim_by_bounces(room(4), 0.5)
        case, renderer = replace(planted, size=(96, 54)).render()
        found = next(f for f in diagnose(case, renderer, seconds=6.0).findings if f.kind in planted.kinds)
        finding, values = cleared(found.as_dict()), {"limits.diffuse_bounces": 12}
        remedy = {"values": values, "edits": {}, "amount": 0.0, "seconds": None}
        parent = Side(case, renderer)
        cured = Side(*render_case(renderer.scene, *renderer.changed(values, {}), None, renderer.frame))
        after = retest_on(finding, remedy, cured, parent, 0.5)
        self.assertIn(after.verdict, (GONE, SMALLER))
        self.assertGreater(after.before, 3.0 * after.after)
        same = Side(*render_case(renderer.scene, renderer.recipe, renderer.edits, None, replace(renderer.frame, seed=9)))
        self.assertNotIn(retest_on(finding, remedy, same, parent, 0.5).verdict, (GONE, SMALLER))
        # One that nothing is suspected of is concluded, too: it was tried, and has no cause.
        found.suspects, found.trials, found.confidence, found.note = [], [], None, ""
        try_suspects(case, renderer, found, work_time() + 5.0, work_time() + 5.0, 0.5)
        self.assertEqual((found.confidence, found.note), (0.0, "No tested cause explains it."))


class Measures(unittest.TestCase):
    def test_a_kind_that_came_with_the_cause_leaves_the_measure_as_it_was(self):
        case, _ = render_case(Scene("s", [floor(2.0)], [lambert(0.5)], [Light("Sky", "dome")], cameras=[looking_down()]),
                              with_values(Recipe(), {"sampling.max": 2}), Edits(), None, Frame(16, 16))  # fmt: skip
        self.assertIsNone(detectors.own_amount({"kind": "speckle", "measure": "bias"}, case, None, None))
        self.assertEqual(detectors.own_amount({"kind": "speckle", "measure": "self_hits"}, case, None, None), (0.0, 0.0))


if __name__ == "__main__":
    unittest.main()
