"""Work in parts: each is delivered once, on any number of threads, and what stops it stops all of it."""

import threading
import time
import unittest
from typing import NamedTuple

from sivrel.core.errors import Cancelled
from sivrel.core.spread import spread
from sivrel.core.task import Cancel, OutOfTime, Task
from sivrel.core.work_time import add_work, processor_time, work_time


class Squares(NamedTuple):
    """Takes `seconds` for a part, unless it is cancelled."""

    seconds: float = 0.0

    def worker(self) -> "Squares":
        return self

    def do(self, part, given, cancel):
        end = time.monotonic() + self.seconds
        while time.monotonic() < end:
            if cancel[0]:
                return None
            time.sleep(0.001)
        return part * given


class Elsewhere:
    """Does some of the parts, in the calling thread."""

    def __init__(self, most: int) -> None:
        self.most, self.asked = most, 0

    def threads(self) -> int:
        return 3

    def where(self) -> str:
        return "1 helper"

    def do(self, work, parts, task, deliver) -> None:
        for part in sorted(parts)[: self.most]:
            self.asked += 1
            deliver(part, work.worker().do(part, parts[part], task.cancel.flag))


class Spread(unittest.TestCase):
    PARTS = {part: part for part in range(40)}

    def test_each_part_is_delivered_once(self):
        for threads in (1, 3, 64):
            found: list[tuple[int, int]] = []
            spread(Squares(), self.PARTS, lambda *one, found=found: found.append(one), threads=threads)
            self.assertEqual(sorted(found), [(part, part * part) for part in range(40)])
        spread(Squares(), {}, self.fail)

    def test_what_is_left_elsewhere_is_done_here(self):
        for most in (0, 7, 40):
            found, there = {}, Elsewhere(most)
            spread(Squares(), self.PARTS, found.__setitem__, threads=2, task=Task(elsewhere=there))
            self.assertEqual((len(found), there.asked), (40, most))
        self.assertEqual((Task(elsewhere=there).threads(), Task(elsewhere=there).here().where()), (3, "this machine"))

    def test_cancelling_stops_within_a_part(self):
        cancel = Cancel()
        threading.Timer(0.1, cancel.set).start()
        with self.assertRaises(Cancelled):
            spread(Squares(1e6), self.PARTS, lambda *_: None, threads=2, task=Task(cancel=cancel))

    def test_what_the_receiver_raises_stops_all(self):
        done, cancel = [], Cancel()

        def deliver(part, result):
            done.append(part)
            raise KeyError(part)

        with self.assertRaises(KeyError):
            spread(Squares(0.005), self.PARTS, deliver, threads=2, task=Task(cancel=cancel))
        self.assertEqual(len(done), 1)
        self.assertTrue(cancel.is_set(), "also what is in the middle of a part")

    def test_a_deadline_ends_the_call_and_not_the_task(self):
        cancel, done = Cancel(), []

        def deliver(part, result):
            done.append(part)
            add_work(10.0, 2)

        with self.assertRaises(OutOfTime):
            spread(Squares(), self.PARTS, deliver, task=Task(cancel=cancel, until=work_time() + 8.0))
        self.assertEqual(len(done), 2)
        self.assertFalse(cancel.is_set())

    def test_processor_time_adds_up_what_work_time_shares(self):
        before = work_time(), processor_time()
        add_work(12.0, 4)
        self.assertAlmostEqual(work_time() - before[0], 3.0, delta=0.5)
        self.assertAlmostEqual(processor_time() - before[1], 12.0, delta=0.5)


if __name__ == "__main__":
    unittest.main()
