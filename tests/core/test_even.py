"""A frame rendered evenly until a time is over: the same samples as tile by tile, the same count everywhere, and going on after a stop."""

import unittest

import numpy as np

from sivrel.core.errors import Cancelled
from sivrel.core.render.even import render_even
from sivrel.core.render.film import FILM_COLUMNS, SAMPLES, film_columns, sums_of
from sivrel.core.render.frame import Frame, assemble, path_settings
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.task import Cancel, Task
from tests.rooms import room

FRAME = Frame(80, 48, seed=3)
RECIPE = with_values(Recipe(), {"sampling.max": 16})


class Even(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        made = room(3)
        cls.ready = prepare(made.scene, RECIPE, frame=FRAME)

    def even(self, seconds: float, a_sample: float = 1.0, stop_after: int | None = None, films=None, rounds=None):
        """Films by tile after so many seconds by a clock on which a sample of the whole frame takes `a_sample`."""
        kept, at, cancel, got = dict(films or {}), [0.0], Cancel(), []
        done = True
        count = len(FRAME.tiles())

        def on_tile(index, film):
            before = kept[index][..., SAMPLES].min() if index in kept else 0.0
            at[0] += a_sample * (film[..., SAMPLES].min() - before) / count
            kept[index] = film
            got.append(index)
            if stop_after is not None and len(got) >= stop_after:
                cancel.set()

        try:
            render_even(
                self.ready.arrays, self.ready.camera, RECIPE, FRAME, seconds, on_tile, films=films, task=Task(cancel=cancel), now=lambda: at[0],
                threads=2, on_round=(rounds if rounds is not None else []).append,
            )  # fmt: skip
        except Cancelled:
            done = False
        return done, kept

    def whole(self, films) -> np.ndarray:
        return assemble(FRAME, film_columns(self.ready.arrays.slots), films)

    def by_tiles(self, samples: int) -> np.ndarray:
        films: dict = {}
        render_tiles(self.ready.arrays, self.ready.camera, RECIPE, FRAME, films.__setitem__, threads=2, samples=samples)
        return self.whole(films)

    def test_every_pixel_has_the_samples_that_the_time_allows(self):
        rounds: list[int] = []
        done, films = self.even(11.6, rounds=rounds)
        self.assertTrue(done)
        self.assertEqual(rounds, [1, 2, 4, 8, 11])
        self.assertEqual(set(np.unique(self.whole(films)[..., SAMPLES])), {11.0})

    def test_rounds_come_to_what_all_samples_at_once_come_to(self):
        _, films = self.even(11.6)
        mine, wanted = self.whole(films), self.by_tiles(11)
        slots = self.ready.arrays.slots
        self.assertEqual(mine.shape[-1], film_columns(slots))
        for column in range(mine.shape[-1]):
            a, b = mine[..., column], wanted[..., column]
            there = np.isfinite(b)
            np.testing.assert_array_equal(np.isfinite(a), there, err_msg=f"column {column}")
            scale = max(float(np.abs(b[there]).max(initial=0.0)), 1e-12)
            np.testing.assert_allclose(a[there] / scale, b[there] / scale, atol=2e-4, err_msg=f"column {column} of {FILM_COLUMNS}")

    def test_it_goes_on_where_it_was_stopped(self):
        done, films = self.even(8.0, stop_after=9)
        self.assertFalse(done)
        self.assertGreater(len({float(film[..., SAMPLES].min()) for film in films.values()}), 1)
        done, films = self.even(4.0, films=films)
        self.assertTrue(done)
        counts = np.unique(self.whole(films)[..., SAMPLES])
        self.assertEqual(len(counts), 1)
        np.testing.assert_allclose(self.whole(films)[..., :6], self.by_tiles(int(counts[0]))[..., :6], atol=1e-4, rtol=1e-4)

    def test_less_time_than_a_sample_takes_still_gives_the_whole_picture(self):
        done, films = self.even(0.1)
        self.assertTrue(done)
        self.assertEqual(set(np.unique(self.whole(films)[..., SAMPLES])), {1.0})

    def test_sums_are_those_that_means_were_made_of(self):
        films: dict = {}
        render_tiles(self.ready.arrays, self.ready.camera, RECIPE, FRAME, films.__setitem__, threads=2)
        pairs = path_settings(RECIPE, self.ready.arrays, FRAME).pairs
        sums = sums_of(films[0], self.ready.arrays.slots, pairs)
        np.testing.assert_allclose(sums[:, :6] / 16.0, films[0].reshape(-1, films[0].shape[-1])[:, :6], rtol=1e-6)


if __name__ == "__main__":
    unittest.main()
