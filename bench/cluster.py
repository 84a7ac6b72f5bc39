"""Two helpers of one thread each on this machine, against two threads of one process: the same picture; and what a task costs besides its work."""

import time
from typing import NamedTuple

import numpy as np
import psutil

import sivrel
from sivrel.cluster.cluster import Cluster
from sivrel.core.task import Task
from tests.cluster.machines import Machines

SIZE = (1280, 720)
VALUES = {"sampling.min": 8, "sampling.max": 8}
TASKS, FILM = 600, (32, 32, 98)
"""Tasks that do nothing, and the film that each brings."""
BLOB = 256 << 20
"""Bytes that are sent to a helper, to time how fast they go."""
ROUNDS = 5


class NoWork(NamedTuple):
    """Work that makes films of nothing, of a size of its own."""

    size: int

    def worker(self) -> "NoWork":
        return self

    def do(self, part: int, given: float, cancel: np.ndarray) -> np.ndarray:
        return np.full(FILM, given, np.float32)


class Sent(NamedTuple):
    """Work that does nothing with an array."""

    array: np.ndarray

    def worker(self) -> "Sent":
        return self

    def do(self, part: int, given: None, cancel: np.ndarray) -> float:
        return float(self.array[0])


def _tasks(there: Cluster, machines: Machines) -> str:
    """Milliseconds of a task by the clock, and of each processor: the desk's, the scheduler's, and a helper's."""
    processes = [psutil.Process(one.pid) for one in (machines.scheduler, *machines.helpers)]

    def spent() -> np.ndarray:
        return np.array([time.process_time(), *(sum(one.cpu_times()[:2]) for one in processes)])

    there.do(NoWork(0), dict.fromkeys(range(8), 0.0), Task(), lambda *_: None)
    before, begun = spent(), time.perf_counter()
    # Singly, as tasks are counted: the cluster would put many such parts in one.
    addresses = list(there.members)
    content = there.taker.take_apart(NoWork(0))
    out = [there.asking(addresses[k % 2], "do_some", content.digest, "bench", {0: float(k)}) for k in range(TASKS)]
    for one in out:
        one.result()
    clock = (time.perf_counter() - begun) / TASKS * 1e3
    desk, scheduler, *helpers = (spent() - before) / TASKS * 1e3
    return (
        f"a task that does nothing: {clock:.2f} ms by the clock; processors: desk {desk:.2f}, scheduler {scheduler:.2f}, helper {sum(helpers):.2f} ms"
    )


def _sent(there: Cluster) -> str:
    array, begun = np.random.default_rng(1).integers(0, 256, BLOB, np.uint8), time.perf_counter()
    there.do(Sent(array), {0: None, 1: None}, Task(), lambda *_: None)
    return f"{BLOB >> 20} MB sent to two helpers and kept: {2 * BLOB / 1e6 / (time.perf_counter() - begun):.0f} MB/s in all"


def cluster() -> str:
    shot, lines = sivrel.open("demo:keepers-kitchen"), []
    shot.render(VALUES, size=(64, 36))
    with Machines() as machines:
        for _ in range(2):
            machines.start()
        with Cluster(machines.address) as there:
            ratios = []
            for _ in range(ROUNDS):
                shot.elsewhere = None
                here = shot.render(VALUES, size=SIZE, threads=2)
                shot.elsewhere = there
                elsewhere = shot.render(VALUES, size=SIZE)
                ratios.append(here.seconds / elsewhere.seconds)
                same = np.array_equal(here.film, elsewhere.film)
                lines.append(
                    f"two threads {here.seconds:.1f} s ({here.spent.processor:.1f} s of processors), "
                    f"two helpers {elsewhere.seconds:.1f} s ({elsewhere.spent.processor:.1f}), {'the same' if same else 'OTHER'} bytes"
                )
            lines += [_tasks(there, machines), _sent(there)]
    lines.append(f"helpers over threads: {np.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f})")
    return "\n".join(lines)
