"""The lineage as a tree, what a card says, finding and thinning."""

import unittest
from dataclasses import replace

from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.store.proofs import Proof
from sivrel.web.lineage.cards import lineage, to_thin
from sivrel.web.lineage.search import wanted
from sivrel.web.words import changes, meters_in_words, percent, seconds, seconds_against, value_in_words


def proof(number: int, parent: int | None = None, seconds=2.0, noise=0.1, camera="main", frame=None, edits=None, **values) -> Proof:
    recipe = with_values(Recipe(), {key.replace("__", "."): value for key, value in values.items()})
    return Proof(
        number, 1, parent, recipe, camera, frame or Frame(), "", "2026-11-25T12:00", "hash", seconds, noise, 0.5, 0, "", "done", "",
        edits or Edits(), [], [], [], {}, "", False, None,
    )  # fmt: skip


class Tree(unittest.TestCase):
    def test_branches_stay_together_oldest_first(self):
        cards = lineage([proof(1), proof(2, 1), proof(3), proof(4, 1), proof(5, 2), proof(6, 3)])
        self.assertEqual([(c.proof.id, c.depth) for c in cards], [(1, 0), (2, 1), (5, 1), (4, 1), (3, 0), (6, 1)])

    def test_a_proof_whose_parent_is_gone_stands_at_the_root(self):
        cards = lineage([proof(4, 2), proof(5, 4)])
        self.assertEqual([(c.proof.id, c.depth) for c in cards], [(4, 0), (5, 1)])

    def test_a_long_chain_neither_recurses_nor_runs_off_the_page(self):
        cards = lineage([proof(n, n - 1 or None) for n in range(1, 3001)])
        self.assertEqual(len(cards), 3000)
        self.assertEqual(max(c.depth for c in cards), 1)

    def test_only_branches_are_indented(self):
        cards = lineage([proof(1), proof(2, 1), proof(3, 2), proof(4, 2), proof(5, 4)])
        self.assertEqual(
            [(c.proof.id, c.depth, c.under, c.children) for c in cards], [(1, 0, None, 1), (2, 1, 1, 2), (3, 2, 2, 0), (4, 2, 2, 1), (5, 2, 4, 0)]
        )

    def test_thinning_keeps_ends_branch_points_and_what_somebody_marked(self):
        chain = [proof(1), proof(2, 1), replace(proof(3, 2), starred=True), proof(4, 3), proof(5, 4), proof(6, 4), proof(7, 6), proof(8, 7)]
        self.assertEqual(to_thin(lineage(chain)), [2, 6, 7])
        chain[5] = replace(chain[5], note="keep me")
        chain[6] = replace(chain[6], state="rendering")
        self.assertEqual(to_thin(lineage(chain)), [2])


class Finding(unittest.TestCase):
    CARDS = lineage(
        [
            proof(1, seconds=2.0, noise=0.2, shadows__rays=4),
            replace(proof(2, 1, seconds=8.0, noise=0.04, shadows__rays=16), name="Dusk", starred=True),
            replace(proof(3, 1, seconds=70.0, gi__seen="irradiance_cache"), meters={"fireflies": 0.01}, note="the stair corner"),
        ]
    )

    def found(self, text: str, flaw: str = "") -> list[int]:
        return [card.proof.id for card in self.CARDS if wanted(text, flaw)(card)]

    def test_settings_times_and_noise_by_number(self):
        for text, numbers in (
            ("shadow rays > 8", [2]), ("shadows.rays >= 4 and under 5 s", [1]), ("under 5 s", [1]), ("over 1 min", [3]), ("noise < 5 %", [2]),
            ("under 5 %", [2]), ("time <= 8", [1, 2]), ("shadow rays > 8 and under 5 s", []),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(self.found(text), numbers)

    def test_states_words_and_choices(self):
        for text, numbers in (
            ("starred", [2]), ("dusk", [2]), ("corner", [3]), ("seen is irradiance_cache", [3]), ("proof 2", [2]), ("done", [1, 2, 3]),
            ("failed", []), ("", [1, 2, 3]), ("a > b > c", []),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(self.found(text), numbers)

    def test_by_flaw(self):
        self.assertEqual(self.found("", "fireflies"), [3])
        self.assertEqual(self.found("", "grain"), [1])
        self.assertEqual(self.found("under 5 s", "grain"), [1])


class Words(unittest.TestCase):
    def test_a_card_says_what_changed_and_what_it_did(self):
        _, card = lineage([proof(1, sampling__max=8), proof(2, 1, seconds=3.9, noise=0.05, sampling__max=32, gi__seen="off")])
        self.assertEqual(card.changed, [("seen", "brute force", "nothing"), ("samples", "8", "32")])
        self.assertEqual((card.time, card.noise), ("+1.9 s", "10.0 → 5.0 %"))
        self.assertEqual(card.said, "seen brute force → nothing, samples 8 → 32")

    def test_limits_say_what_they_cost(self):
        self.assertEqual(meters_in_words(proof(1)), [])
        meters = {
            "clamped": 0.031, "clamped_most": ["/Room/Window/Pane", 0.9], "beyond_error": 0.001,
            "beyond": {"diffuse": 0.02, "mirror": 0.0, "total": 0.0}, "self_hits": 0.0,
        }  # fmt: skip
        result = meters_in_words(replace(proof(1, limits__indirect_clamp=10, limits__diffuse_bounces=1), meters=meters))
        self.assertEqual(result[0], "The clamp at 10 removes 3.1 % of the light, 90 % of it on Pane.")
        self.assertEqual(result[1], "2.0 % of the light lies beyond 1 diffuse bounce (± 0.1 %).")
        self.assertEqual(len(result), 2)

    def test_edits_are_changes_too(self):
        before = with_edits(Edits(), {"light.Lamp.intensity": 3})
        after = with_edits(Edits(), {"light.Lamp.intensity": 4, "light./Set/Fill.kind": "rect", "light.Lamp.shadows.way": "off"})
        self.assertEqual(
            changes(proof(1, edits=before), proof(2, edits=after)),
            [("Fill", "", "rect"), ("Lamp intensity", "3", "4"), ("Lamp shadow", "", "no shadows")],
        )
        self.assertEqual(changes(proof(1, edits=before), proof(2)), [("Lamp intensity", "3", "as in the file")])

    def test_frame_and_camera_are_changes_too(self):
        a = proof(1)
        b = proof(2, 1, camera="close", frame=Frame(960, 540, (0, 0, 96, 54), 7))
        result = {name: (before, after) for name, before, after in changes(a, b)}
        self.assertEqual(result["camera"], ("main", "close"))
        self.assertEqual(result["size"], ("480×270", "960×540"))
        self.assertEqual(result["region"], ("whole", "96×54 px"))
        self.assertEqual(result["seed"], ("0", "7"))

    def test_the_first_and_the_same_again(self):
        first, again = lineage([proof(1), proof(2, 1)])
        self.assertEqual((first.said, again.said), ("first proof", "same again"))
        self.assertIsNone(first.time)

    def test_unfinished_proofs_claim_nothing(self):
        _, card = lineage([proof(1), proof(2, 1, seconds=None, noise=None)])
        self.assertEqual((card.time, card.noise), (None, None))

    def test_numbers(self):
        self.assertEqual([seconds(v) for v in (None, 0.431, 8.06, 45.2, 133.7)], ["–", "0.43 s", "8.1 s", "45 s", "2 min 13 s"])
        self.assertEqual(seconds_against(2.0, 7.6), "−5.6 s")
        self.assertEqual([percent(v) for v in (None, 0.1234)], ["–", "12.3 %"])
        self.assertEqual([value_in_words(v) for v in ("brute_force", "off", 4, 0.25)], ["brute force", "nothing", "4", "0.25"])


if __name__ == "__main__":
    unittest.main()
