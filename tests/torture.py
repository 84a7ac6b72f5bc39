"""Torture: the program is killed, frozen, starved of disk and damaged for a while, with a fixed seed, and has to come back whole each time.

`python -m tests.torture [MINUTES] [SEED]`. After every round: the same recipe gives the same bytes, the database is sound, no worker lives without
a server, nothing half-written is left, no question is unanswered, and nothing waits behind a job that kills its worker. Needs the right to
mount a small disk; without it the disk is not filled.
"""

import contextlib
import hashlib
import os
import random
import re
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sivrel.core.edits.edits import Edits
from sivrel.core.errors import InputError
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, to_json, with_values
from sivrel.store import database, files, jobs, proofs, requests, shots

DISK_MEGABYTES = 400
PATIENCE = 300.0
RECIPES: tuple[dict[str, Any], ...] = (
    {"sampling.max": 24}, {"sampling.max": 8, "gi.seen": "irradiance_cache"}, {"sampling.max": 16, "gi.seen": "off"},
    {"sampling.max": 8, "gi.beyond": "radiance_cache"},
)  # fmt: skip
KINDS = ("plan", "survey", "camera")
SHOTS = ("slipway", "keepers-kitchen")


class Torture:
    def __init__(self, data: Path, seed: int, mounted: bool) -> None:
        self.data, self.chance, self.mounted = data, random.Random(seed), mounted
        self.server: subprocess.Popen | None = None
        self.known: dict[tuple[str, int], str] = {}
        self.problems: list[str] = []
        self.did: dict[str, int] = {}

    # ---- what is tortured ------------------------------------------------------------------------------------------------

    def start(self) -> None:
        command = [sys.executable, "-m", "sivrel", "demo", "--port", "0", "--data", str(self.data)]
        self.server = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
        assert self.server.stderr is not None
        for line in self.server.stderr:
            found = re.search(r"http://\S+:(\d+)", line)
            if found:
                self.port = int(found[1])
                return
        raise AssertionError("the server does not start")

    def db(self) -> sqlite3.Connection:
        return database.connect(self.data)

    def workers(self) -> list[int]:
        found = subprocess.run(["pgrep", "-f", f"sivrel.work {self.data}"], capture_output=True, text=True)
        return [int(pid) for pid in found.stdout.split()]

    def queue(self, slug: str, number: int) -> int:
        with contextlib.closing(self.db()) as db:
            shot = shots.find(db, slug)
            assert shot is not None
            recipe = with_values(Recipe(), RECIPES[number])
            return jobs.add_proof(db, shot.id, None, recipe, shot.cameras[0]["name"], Frame(200, 112), edits=Edits())

    # ---- faults ----------------------------------------------------------------------------------------------------------

    def kill_worker(self) -> None:
        for pid in self.workers():
            os.kill(pid, signal.SIGKILL)

    def kill_server(self) -> None:
        assert self.server is not None
        self.server.kill()
        self.server.wait()
        self.expect(lambda: not self.workers(), 30.0, "a worker lives without its server")
        self.start()

    def end_server(self) -> None:
        assert self.server is not None
        self.server.terminate()
        self.server.wait()
        self.expect(lambda: not self.workers(), 30.0, "a worker lives without its server")
        self.start()

    def freeze(self) -> None:
        stopped = self.workers()
        for pid in stopped:
            os.kill(pid, signal.SIGSTOP)
        time.sleep(self.chance.uniform(0.5, 4.0))
        self.page("/")
        for pid in stopped:
            with contextlib.suppress(ProcessLookupError):
                os.kill(pid, signal.SIGCONT)

    def fill(self) -> None:
        if not self.mounted:
            return
        ballast = self.data.parent / "ballast"
        try:
            with open(ballast, "wb") as file:
                while True:
                    file.write(b"\0" * (1 << 16))
                    file.flush()
        except OSError:
            pass
        self.page("/shots/slipway")
        time.sleep(self.chance.uniform(1.0, 4.0))
        ballast.unlink()

    def damage(self) -> None:
        """Cut or alter tiles, and leave half-written files behind."""
        tiles = list(self.data.glob("jobs/*/[0-9]*.npy"))
        self.kill_worker()
        for path in self.chance.sample(tiles, min(3, len(tiles))):
            with contextlib.suppress(FileNotFoundError):
                result = path.read_bytes()
                path.write_bytes(self.chance.choice([b"", result[: len(result) // 2], result[:-1] + bytes([result[-1] ^ 1])]))
        for name in ("pictures/.new-torture.exr", "caches/.new-torture", "thumbnails/torture.new", "uploads/.new-torture/a.usda"):
            path = self.data / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x" * 100)
        caches = list((self.data / "caches").glob("*.cache"))
        if caches:
            path = self.chance.choice(caches)
            path.write_bytes(path.read_bytes()[:-10])

    def poison(self) -> None:
        """A job whose worker dies as soon as it is taken; what waits behind it has to be rendered."""
        bad = self.queue("keepers-kitchen", 1)
        with contextlib.closing(self.db()) as db:
            for _ in range(2):
                self.expect(lambda: self.state(db, bad) in ("rendering", "done", "failed"), PATIENCE, "the poison is never taken")
                if self.state(db, bad) == "rendering":
                    self.kill_worker()
                    time.sleep(0.3)

    @staticmethod
    def state(db: sqlite3.Connection, proof: int) -> str:
        job = jobs.of_proof(db, proof)
        return job.state if job else ""

    # ---- what has to hold --------------------------------------------------------------------------------------------------

    def page(self, path: str) -> None:
        """A page answers, if only by a sentence."""
        try:
            urllib.request.urlopen(urllib.request.Request(f"http://127.0.0.1:{self.port}{path}"), timeout=60.0).read()
        except urllib.error.HTTPError as error:
            if "problem" not in error.read().decode():
                self.problems.append(f"{path} answered {error.code} without a sentence")

    def expect(self, condition: Callable[[], bool], seconds: float, problem: str) -> None:
        end = time.monotonic() + seconds
        while not condition():
            if time.monotonic() > end:
                self.problems.append(problem)
                return
            time.sleep(0.1)

    def round(self) -> None:
        chance = self.chance
        queued = {
            self.queue(slug, number): (slug, number) for slug, number in [(chance.choice(SHOTS), chance.randrange(len(RECIPES))) for _ in range(3)]
        }
        with contextlib.closing(self.db()) as db:
            shot = shots.find(db, chance.choice(SHOTS))
            assert shot is not None
            body = {"recipe": to_json(Recipe()), "edits": "{}", "camera": None}
            asked = [requests.ask(db, kind, shot.id, body) for kind in KINDS]
        fault = chance.choice(
            [self.kill_worker, self.kill_worker, self.kill_server, self.end_server, self.freeze, self.fill, self.damage, self.poison]
        )
        time.sleep(chance.uniform(0.0, 6.0))
        fault()
        self.did[fault.__name__] = self.did.get(fault.__name__, 0) + 1
        with contextlib.closing(self.db()) as db:
            for proof, key in queued.items():
                self.expect(
                    lambda proof=proof: self.state(db, proof) in ("done", "failed"), PATIENCE, f"proof {proof} never ends after {fault.__name__}"
                )
                found = proofs.get(db, proof)
                if found is None or found.picture is None:
                    self.problems.append(f"proof {proof} has no picture after {fault.__name__}: {found.message if found else ''}")
                    continue
                if self.known.setdefault(key, found.picture) != found.picture:
                    self.problems.append(f"proof {proof} has other bytes after {fault.__name__}")
                path = files.picture_path(self.data, found.picture)
                if hashlib.sha256(path.read_bytes()).hexdigest() != found.picture:
                    self.problems.append(f"the picture of proof {proof} is not what its name says")
            for number in asked:
                self.expect(
                    lambda number=number: any(requests.answered(db, number)), PATIENCE, f"question {number} is unanswered after {fault.__name__}"
                )
                self.expect(lambda number=number: self.done(db, number), PATIENCE, f"question {number} is never done after {fault.__name__}")
            if db.execute("PRAGMA integrity_check").fetchone()[0] != "ok":
                self.problems.append(f"the database is damaged after {fault.__name__}")
        if len(self.workers()) > 1:
            time.sleep(3.0)
            if len(self.workers()) > 1:
                self.problems.append(f"there are {len(self.workers())} workers after {fault.__name__}")

    @staticmethod
    def done(db: sqlite3.Connection, number: int) -> bool:
        row = db.execute("SELECT done FROM questions WHERE id = ?", (number,)).fetchone()
        return row is None or bool(row["done"])

    def end(self) -> None:
        """A last start sweeps what was left; then nothing half-written may be there."""
        self.end_server()
        left = [path for pattern in ("*/.new*", "*/*.new", "uploads/*") for path in self.data.glob(pattern)]
        if left:
            self.problems.append(f"left over: {', '.join(map(str, left[:5]))}")
        assert self.server is not None
        self.server.terminate()
        self.server.wait()


def main(minutes: float, seed: int) -> int:
    with tempfile.TemporaryDirectory() as folder:
        disk = Path(folder) / "disk"
        disk.mkdir()
        mount = ["mount", "-t", "tmpfs", "-o", f"size={DISK_MEGABYTES}m", "tmpfs", str(disk)]
        mounted = subprocess.run(mount, capture_output=True).returncode == 0
        tortured = Torture(disk / "data", seed, mounted)
        end, rounds = time.monotonic() + 60.0 * minutes, 0
        try:
            tortured.start()
            while time.monotonic() < end and not tortured.problems:
                try:
                    tortured.round()
                except (InputError, sqlite3.Error) as error:
                    tortured.problems.append(f"{type(error).__name__}: {error}")
                rounds += 1
                print(f"{rounds} rounds, {tortured.did}", flush=True)
            tortured.end()
        finally:
            if tortured.server is not None:
                tortured.server.kill()
                tortured.server.wait()
            time.sleep(1.0)
            if mounted:
                subprocess.run(["umount", "-l", str(disk)], check=False)
    for problem in tortured.problems:
        print(problem)
    print(f"seed {seed}: {rounds} rounds, {len(tortured.problems)} problems{'' if mounted else '; no disk could be mounted, so none was filled'}")
    return min(1, len(tortured.problems))


if __name__ == "__main__":
    sys.exit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 30.0, int(sys.argv[2]) if len(sys.argv) > 2 else 1))
