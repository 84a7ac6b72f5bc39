"""Two helpers of one thread each on this machine, against two threads of one process: the same picture; and what a task costs besides its work."""

import time

import numpy as np

import sivrel
from sivrel.cluster.cluster import Cluster
from tests.cluster.machines import Machines

SIZE = (1280, 720)
VALUES = {"sampling.min": 8, "sampling.max": 8}
TASKS, FILM = 600, (32, 32, 60)
"""Tasks that do nothing, and the film that each brings."""
ROUNDS = 3


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
                lines.append(f"two threads {here.seconds:.1f} s, two helpers {elsewhere.seconds:.1f} s, {'the same' if same else 'OTHER'} bytes")
            addresses = list(there.members)
            begun = time.perf_counter()
            out = [
                there.client.submit(np.full, FILM, np.float32(k), workers=[addresses[k % 2]], allow_other_workers=False, pure=False)
                for k in range(TASKS)
            ]
            there.client.gather(out)
            each = (time.perf_counter() - begun) / TASKS * 1e3
    lines.append(f"helpers over threads: {np.median(ratios):.2f} ({min(ratios):.2f} to {max(ratios):.2f}); a task that does nothing: {each:.1f} ms")
    return "\n".join(lines)
