"""Seconds of work: those of the processor, of a thread and of the pools that work for it."""

import threading
import time
import unittest

import numpy as np

from sivrel.core.work_time import Pool, work_time


def spin(seconds: float) -> None:
    """Keep this thread's processor busy for so long."""
    end = time.thread_time() + seconds
    numbers = np.ones(20_000)
    while time.thread_time() < end:
        numbers.sum()


class WorkTime(unittest.TestCase):
    def test_waiting_counts_for_nothing_and_work_for_what_it_took(self):
        begun = work_time()
        time.sleep(0.2)
        self.assertLess(work_time() - begun, 0.05)
        spin(0.1)
        self.assertAlmostEqual(work_time() - begun, 0.1, delta=0.05)

    def test_what_a_pool_does_is_divided_by_its_threads(self):
        begun = work_time()
        with Pool(2) as pool:
            list(pool.map(lambda _: spin(0.2), range(2)))
        self.assertAlmostEqual(work_time() - begun, 0.2, delta=0.05)

    def test_what_others_do_does_not_count(self):
        other = threading.Thread(target=spin, args=(0.3,))
        begun = work_time()
        other.start()
        time.sleep(0.05)
        other.join()
        self.assertLess(work_time() - begun, 0.05)

    def test_a_thread_of_a_pool_tells_the_time_of_its_owner(self):
        spin(0.05)
        begun, answer = work_time(), []
        with Pool(1) as pool:
            pool.submit(lambda: (spin(0.1), answer.append(work_time() - begun))).result()
        self.assertAlmostEqual(answer[0], 0.1, delta=0.05)
        self.assertAlmostEqual(work_time() - begun, answer[0], delta=0.05)


if __name__ == "__main__":
    unittest.main()
