import os
import signal
import subprocess
import sys
import unittest

import numpy as np

import sivrel
from sivrel.cluster.cluster import Cluster
from sivrel.core.errors import Cancelled
from sivrel.core.pictures.exr import read_exr
from sivrel.core.task import Cancel
from tests.cluster.machines import BIN, Machines, until

SIZE = (96, 54)
QUICK = {"sampling.min": 4, "sampling.max": 4}


def introduced(cluster: Cluster, count: int = 3) -> None:
    """Wait until so many helpers have said what they are."""
    cluster.look(now=True)
    until(lambda: sum(one.introduced for one in cluster.members.values()) == count)


class Helpers(unittest.TestCase):
    """Three helpers, which are killed and stopped while they render."""

    @classmethod
    def setUpClass(cls):
        cls.machines = cls.enterClassContext(Machines())
        for _ in range(3):
            cls.machines.start()
        cls.said: list[str] = []
        cls.cluster = cls.enterClassContext(Cluster(cls.machines.address, cls.said.append))
        introduced(cls.cluster)

    def both(self, name: str, values: dict, **view):
        """A picture rendered here, and the same elsewhere; and how many tiles came from elsewhere."""
        here = sivrel.open(f"demo:{name}").render({**QUICK, **values}, **view)
        shot = sivrel.open(f"demo:{name}")  # another, which makes its own caches
        shot.elsewhere = self.cluster
        before = self.cluster.parts
        there = shot.render({**QUICK, **values}, **view)
        return here, there, self.cluster.parts - before

    def test_1_the_demo_shots_are_the_same_bytes(self):
        cached = {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "radiance_cache.paths": 0.05}
        shots = {"slipway": {"shadows.way": "depth_map"}, "lamp-room": {"caustics.on": "yes", "caustics.count": 3000}, "keepers-kitchen": cached}
        for name, values in shots.items():
            with self.subTest(name):
                here, there, tiles = self.both(name, values, size=SIZE)
                np.testing.assert_array_equal(here.film, there.film)
                self.assertGreaterEqual(tiles, len(here.picture.frame.tiles()), "on a busy machine one may be given out twice")
                self.assertGreater(there.clock.sum(), 0.0)

    def test_1_caches_are_made_there_and_the_same_bytes(self):
        ways = {
            "bake": {"gi.seen": "baked", "baked.shots": 4000, "baked.samples": 1, "baked.max_edge": 1.0},
            "photons": {"gi.seen": "photon_map", "photon_map.count": 20_000, "photon_map.final_gather_rays": 0},
            "records": {"gi.seen": "irradiance_cache"},
            "light paths": {"bidirectional.on": "yes"},
        }
        for what, values in ways.items():
            with self.subTest(what):
                here, there, _ = self.both("slipway", values, size=SIZE)
                np.testing.assert_array_equal(here.film, there.film)
        kinds = {kind for one in self.cluster.members.values() for kind in one.took}
        self.assertEqual(kinds, {"TileWork", "GatherWork", "PhotonWork"})

    def test_1_rungs_entries_and_trials_are_rendered_there(self):
        shot, values = sivrel.open("demo:slipway"), {"sampling.max": [2, 4]}
        here = [rung.light for rung in shot.ladder(values, QUICK, seconds=4.0, size=SIZE).rungs]
        shot.elsewhere = self.cluster
        made = shot.render(QUICK, size=SIZE)
        for what in (
            lambda: self.assertEqual([rung.light for rung in shot.ladder(values, QUICK, seconds=4.0, size=SIZE).rungs], here),
            lambda: shot.match(["brute_force", "off"], QUICK, seconds=0.5, size=SIZE),
            lambda: shot.diagnose(made, seconds=4.0),
        ):
            before = self.cluster.parts
            what()
            self.assertGreater(self.cluster.parts, before)

    def test_1_time_of_helpers_counts_as_processor_time(self):
        _, there, _ = self.both("slipway", {"sampling.min": 16, "sampling.max": 16}, size=SIZE)
        self.assertEqual((there.spent.threads, there.spent.where), (3, "3 helpers"))
        self.assertGreater(there.spent.processor, sum(there.clock[-1:]) / 6e9)
        said = there.measured["meters"]["spent"]
        self.assertEqual(said["where"], "3 helpers")

    def test_1_a_deadline_is_kept(self):
        shot = sivrel.open("demo:slipway")
        shot.elsewhere = self.cluster
        found = shot.match(["photon_map", "off"], {"photon_map.count": 3_000_000, **QUICK}, seconds=0.1, size=SIZE)
        self.assertIn("its caches take more than", found.entrants[-1].out)

    def test_2_a_region_and_a_picture_with_a_time_limit(self):
        here, there, tiles = self.both("slipway", {}, size=(320, 180), region=(100, 60, 170, 120))
        np.testing.assert_array_equal(here.film, there.film)
        shot = sivrel.open("demo:slipway")
        shot.elsewhere = self.cluster
        timed = shot.render(QUICK, seconds=1.5, size=SIZE)
        samples = int(timed.passes["samples"].min())
        again = sivrel.open("demo:slipway").render({"sampling.min": samples, "sampling.max": samples}, size=SIZE)
        np.testing.assert_allclose(timed.picture.beauty, again.picture.beauty, rtol=1e-4, atol=1e-6)

    def test_3_the_command_line(self):
        folder = self.machines.folder
        for name, more in (("here", []), ("there", ["--scheduler", self.machines.address])):
            command = [
                "render",
                "demo:slipway",
                "-o",
                str(folder / f"{name}.exr"),
                "--size",
                "64x36",
                "--set",
                "sampling.max=2",
                "--set",
                "sampling.min=2",
            ]
            subprocess.run([sys.executable, "-m", "sivrel.cli", *command, *more], check=True, capture_output=True)
        here, there = (read_exr(folder / f"{name}.exr") for name in ("here", "there"))
        for name, pixels in here.passes.items():
            np.testing.assert_array_equal(pixels, there.passes[name], name)

    def test_4_another_version_is_not_used_and_another_processor_is_announced(self):
        said: list[str] = []
        with Cluster(self.machines.address, said.append) as cluster:
            cluster.mine = {**cluster.mine, "code": "another"}
            introduced(cluster)
            shot = sivrel.open("demo:slipway")
            shot.elsewhere = cluster
            shot.render({"sampling.min": 2, "sampling.max": 2}, size=(32, 18))
            self.assertIn("another version of Sivrel", said[0])
            self.assertEqual(sum(one.parts for one in cluster.members.values()), 0)
        for strict, words in ((False, "last bits of its tiles may differ"), (True, "only the same is wanted")):
            said.clear()
            with Cluster(self.machines.address, said.append, strict=strict) as cluster:
                cluster.mine = {**cluster.mine, "processor": "x86_64 another"}
                introduced(cluster)
                self.assertIn(words, said[0])
                self.assertEqual(len(cluster.useful()), 0 if strict else 3)

    def test_5_cancelling_stops_it(self):
        shot, cancel = sivrel.open("demo:slipway"), Cancel()
        shot.elsewhere = self.cluster
        with self.assertRaises(Cancelled):
            shot.render(
                {"sampling.min": 512, "sampling.max": 512}, size=(320, 180), cancel=cancel,
                progress=lambda what, share: cancel.set() if share > 0.0 else None,
            )  # fmt: skip

    def test_6_a_sequence_while_one_is_killed(self):
        frames, values = (1.0, 4.0), {"sampling.min": 16, "sampling.max": 16}

        def rendered(shot, happens) -> list[np.ndarray]:
            happened = []

            def report(words, share):
                if 0.0 < share < 1.0 and not happened:
                    happened.append(happens())

            made = shot.sequence(frames, values, size=SIZE, progress=report)
            return [made.render(time).film for time in frames]

        shot = sivrel.open("demo:stairwell")
        here = rendered(shot, lambda: None)
        shot.elsewhere = self.cluster
        before = self.cluster.parts
        there = rendered(shot, self.machines.helpers[0].kill)
        self.assertGreater(self.cluster.parts, before)
        for one, other in zip(here, there, strict=True):
            np.testing.assert_array_equal(one, other)
        until(lambda: self.cluster.look(now=True) or len(self.cluster.useful()) == 2)
        self.assertTrue(any("has gone" in sentence or "does not answer" in sentence for sentence in self.said))

    def test_7_stopped_and_continued_and_without_room(self):
        """Each happens when the first part has come; the picture is the same."""
        _, other, _ = self.machines.helpers
        small = self.machines.start(most_bytes=100_000)
        until(lambda: self.cluster.look(now=True) or len(self.cluster.useful()) == 3)
        self.assertIsNone(small.poll())
        values = {"sampling.min": 24, "sampling.max": 24}
        for k, (what, happens) in enumerate((("no room", lambda: None), ("stopped", lambda: os.kill(other.pid, signal.SIGSTOP)))):
            with self.subTest(what):
                shot = sivrel.open("demo:slipway")
                here = shot.render(values, size=(160, 90), seed=k)
                shot.elsewhere, happened = self.cluster, []

                def report(words, share, happens=happens, happened=happened):
                    if 0.0 < share < 1.0 and not happened:
                        happened.append(share)
                        happens()

                there = shot.render(values, size=(160, 90), seed=k, progress=report)
                self.assertTrue(happened)
                np.testing.assert_array_equal(here.film, there.film)
        self.assertTrue(any("could not keep the scene" in sentence for sentence in self.said), self.said)
        os.kill(other.pid, signal.SIGCONT)
        before = {one.address: one.parts for one in self.cluster.members.values()}
        shot.render({"sampling.min": 64, "sampling.max": 64}, size=(160, 90), seed=7)
        self.assertEqual(sum(one.parts > before[one.address] for one in self.cluster.useful()), 2, "the one that goes on is used again")


class Alone(unittest.TestCase):
    def test_a_worker_that_is_no_helper_is_not_waited_for(self):
        said: list[str] = []
        with Machines() as machines:
            plain = subprocess.Popen(
                [BIN / "dask", "worker", machines.address, "--no-nanny", "--no-dashboard", "--nthreads", "1"],
                cwd=machines.folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            )  # fmt: skip
            self.addCleanup(plain.wait)
            self.addCleanup(plain.kill)
            with Cluster(machines.address, said.append) as cluster:
                until(lambda: cluster.look(now=True) or any(one.problem for one in cluster.members.values()))
                self.assertIn("no helper of Sivrel", said[0])
                shot = sivrel.open("demo:slipway")
                shot.elsewhere = cluster
                self.assertEqual(shot.render({"sampling.min": 2, "sampling.max": 2}, size=(64, 36)).spent.where, "this machine")

    def test_without_helpers_it_is_rendered_here(self):
        with Machines() as machines, Cluster(machines.address) as cluster:
            shot = sivrel.open("demo:slipway")
            shot.elsewhere = cluster
            self.assertGreater(shot.render({"sampling.min": 2, "sampling.max": 2}, size=(16, 9)).mean_light, 0.0)

    def test_no_scheduler_is_one_sentence(self):
        wrong = {
            "tcp://127.0.0.1:9": "There is no scheduler at",
            "tcp://render9:8786": "tls://",
            "tls://127.0.0.1:9": "no certificates are configured",
        }
        for address, words in wrong.items():
            for command in (["helper", address], ["render", "demo:slipway", "-o", "/tmp/none.exr", "--size", "8x8", "--scheduler", address]):
                done = subprocess.run([sys.executable, "-m", "sivrel.cli", *command], capture_output=True, text=True)
                self.assertEqual(done.returncode, 2, done.stderr)
                self.assertIn(words, done.stderr.splitlines()[-1])


if __name__ == "__main__":
    unittest.main()
