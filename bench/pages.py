"""The pages over HTTP, with a worker: the click, the drag, and how they answer with two thousand proofs while a render runs."""

import contextlib
import json
import os
import random
import re
import statistics
import struct
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
import urllib.request
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from http.cookiejar import CookieJar
from pathlib import Path

from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.store import database, proofs, shots
from sivrel.work.intake import add_demo_shots

PROOFS, READERS, THINKS, LASTS = 2000, 50, 2.0, 20.0
SHOT = "keepers-kitchen"
"""Proofs of a shot; readers beside a render, seconds that each looks at a page before the next, and seconds that they read in all."""


class Site:
    """The program on a free port, with a session of its own."""

    def __init__(self, data: str, environment: dict[str, str] | None = None, ready: bool = True) -> None:
        command = [sys.executable, "-m", "sivrel", "demo", "--port", "0", "--data", data]
        self.program = subprocess.Popen(command, stderr=subprocess.PIPE, text=True, env={**os.environ, **(environment or {})})
        assert self.program.stderr is not None
        self.address = next(found[0] for line in self.program.stderr if (found := re.search(r"http://\S+:\d+", line)))
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))
        found = re.search(r'name="csrf" content="([^"]+)"', self.get(f"/shots/{SHOT}").read().decode())
        assert found
        self.token = found[1]
        threading.Thread(target=self.program.stderr.read, daemon=True).start()  # a full pipe would stop the program
        while ready and self.worker()["phase"] != "idle":
            time.sleep(0.1)

    def worker(self) -> dict:
        return json.load(self.get("/status.json"))["worker"]

    def stop(self) -> None:
        self.program.terminate()
        self.program.wait()

    def get(self, path: str):
        return self.opener.open(self.address + urllib.parse.quote(path, safe="/?=&,"))

    def post(self, path: str, **fields):
        form = urllib.parse.urlencode({"csrf_token": self.token, "camera": "table", "width": 480, "height": 270, "seed": 0, **fields}).encode()
        return self.opener.open(urllib.request.Request(self.address + path, form, {"HX-Request": "true"}))

    def prove(self, **fields) -> int:
        found = re.search(r'"proof": (\d+)', self.post(f"/shots/{SHOT}/prove", **fields).headers["HX-Trigger-After-Settle"])
        assert found
        return int(found[1])


@contextlib.contextmanager
def site(data: str = "") -> Iterator[Site]:
    """The program over a data folder, or over an empty one."""
    with tempfile.TemporaryDirectory() as folder:
        running = Site(data or folder)
        try:
            yield running
        finally:
            running.stop()


def click_to_first_tile() -> str:
    """From the form's submission over HTTP to the first tile's bytes, the worker idle and the shot open."""
    times = []
    with site() as at:
        for seed in range(5):
            begun = time.perf_counter()
            number = at.prove(seed=seed, **{"sampling.max": 8})
            while not at.get(f"/proofs/{number}/tiles").read(1):
                time.sleep(0.005)
            times.append(time.perf_counter() - begun)
            while json.load(at.get(f"/proofs/{number}.json"))["state"] != "done":
                time.sleep(0.1)
    return f"{statistics.median(times):.2f} s"


def drag() -> str:
    """From a changed number to the first picture of a third of the plate, and to one sample for every pixel of it, everything warm; alone,
    and while a long render runs."""
    result = []
    with site() as at:
        for name in ("alone", "beside a render"):
            if name != "alone":
                at.prove(**{"sampling.max": 4096})
                time.sleep(2.0)
            first, whole = zip(*[_moment(at, bounces) for bounces in (2, 3, 4, 5, 6, 7)][1:], strict=True)
            result.append(f"{name} {statistics.median(first):.2f} s, whole {statistics.median(whole):.2f} s")
    return "; ".join(result)


def _moment(at: Site, bounces: int) -> tuple[float, float]:
    begun, samples, times = time.perf_counter(), -1.0, []
    fields = {"region": "160,90,320,180", "sampling.max": 64, "limits.diffuse_bounces": bounces}
    number = json.load(at.post(f"/shots/{SHOT}/moment?client=0123456789", **fields))["number"]
    while samples < 1.0:
        answer = at.get(f"/moments/0123456789?number={number}&samples={samples}")
        if answer.status == 200:
            samples = struct.unpack_from("<f", answer.read(), 28)[0]
            times.append(time.perf_counter() - begun)
        else:
            time.sleep(0.01)
    return times[0], times[-1]


def pages() -> str:
    """The 95th percentile of a page's time over HTTP, in ms, with two thousand proofs of a shot while a render runs."""
    with tempfile.TemporaryDirectory() as data:
        last = _fill(Path(data))
        with site(data) as at:
            at.prove(**{"sampling.max": 4096})
            time.sleep(2.0)
            result = []
            for path in (
                "/", f"/shots/{SHOT}", f"/shots/{SHOT}/lineage", f"/shots/{SHOT}/lineage?find=shadow rays > 8 and under 5 s",
                f"/shots/{SHOT}/recipe?proof={last}", f"/proofs/{last}.json", "/recipes", "/queue", "/status.json",
            ):  # fmt: skip
                at.get(path).read()
                times = []
                for _ in range(40):
                    begun = time.perf_counter()
                    at.get(path).read()
                    times.append(time.perf_counter() - begun)
                result.append(f"{path} {sorted(times)[37] * 1000:.0f}")
    return ", ".join(result) + " ms"


def cold() -> str:
    """Seconds of the first page of a bench of two thousand proofs after a start, and of the first search."""
    with tempfile.TemporaryDirectory() as data:
        _fill(Path(data))
        with site(data) as at:  # which has asked for the bench once already, so the next program is asked by hand
            at.program.terminate()
            at.program.wait()
        command = [sys.executable, "-m", "sivrel", "demo", "--port", "0", "--data", data]
        with subprocess.Popen(command, stderr=subprocess.PIPE, text=True) as program:
            assert program.stderr is not None
            address = next(found[0] for line in program.stderr if (found := re.search(r"http://\S+:\d+", line)))
            urllib.request.urlopen(f"{address}/status.json").read()
            result = []
            for path in (f"/shots/{SHOT}", f"/shots/{SHOT}/lineage?find=shadow%20rays%20%3E%208"):
                begun = time.perf_counter()
                urllib.request.urlopen(address + path).read()
                result.append(f"{time.perf_counter() - begun:.2f} s")
            program.terminate()
    return "bench {}, search {}".format(*result)


def readers() -> str:
    """The 95th percentile and the longest of pages' times, in ms, with fifty readers of a shot of two thousand proofs beside a render."""
    with tempfile.TemporaryDirectory() as data:
        last = _fill(Path(data))
        paths = [f"/shots/{SHOT}", f"/shots/{SHOT}/lineage", f"/proofs/{last}.json", "/status.json", "/queue", f"/shots/{SHOT}/pins.json"]
        with site(data) as at:
            at.prove(**{"sampling.max": 65536})
            time.sleep(2.0)
            times: list[float] = []

            def read(number: int) -> None:
                chance, end = random.Random(number), time.perf_counter() + LASTS
                time.sleep(chance.uniform(0.0, THINKS))
                while time.perf_counter() < end:
                    begun = time.perf_counter()
                    urllib.request.urlopen(at.address + chance.choice(paths)).read()
                    times.append(time.perf_counter() - begun)
                    time.sleep(chance.uniform(0.5 * THINKS, 1.5 * THINKS))

            with ThreadPoolExecutor(READERS) as pool:
                list(pool.map(read, range(READERS)))
    times.sort()
    return f"{len(times)} pages, 95th percentile {times[int(0.95 * len(times))] * 1000:.0f} ms, longest {times[-1] * 1000:.0f} ms"


def _fill(data: Path) -> int:
    """Make a lineage of two thousand proofs that branches; returns the last one's number."""
    db = database.create(data)
    add_demo_shots(db, data)
    shot, chance = shots.find(db, SHOT), random.Random(1)
    assert shot is not None
    first = proofs.of_shot(db, shot.id)[0]
    numbers = [first.id]
    with database.transaction(db):
        for seed in range(PROOFS - len(proofs.finished(db, shot.id))):
            values = {
                "sampling.max": chance.choice([4, 8, 16, 32]),
                "limits.diffuse_bounces": chance.randint(0, 12),
                "shadows.rays": chance.randint(1, 16),
            }
            number = proofs.add(db, shot.id, chance.choice(numbers[-20:]), with_values(Recipe(), values), "table", Frame(seed=seed))
            proofs.finish(db, number, first.picture or "", 2.0 + seed % 7, 0.1, 0.2, 0)
            numbers.append(number)
    db.close()
    return numbers[-1]
