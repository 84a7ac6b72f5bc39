import os
import shutil
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
from tests.cluster.machines import Machines, until

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
        shot = sivrel.open(f"demo:{name}")
        here = shot.render({**QUICK, **values}, **view)
        shot.elsewhere = self.cluster
        before = sum(one.parts for one in self.cluster.members.values())
        there = shot.render({**QUICK, **values}, **view)
        return here, there, sum(one.parts for one in self.cluster.members.values()) - before

    def test_1_the_demo_shots_are_the_same_bytes(self):
        cached = {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "radiance_cache.paths": 0.05}
        shots = {"slipway": {"shadows.way": "depth_map"}, "lamp-room": {"caustics.on": "yes", "caustics.count": 3000}, "keepers-kitchen": cached}
        for name, values in shots.items():
            with self.subTest(name):
                here, there, tiles = self.both(name, values, size=SIZE)
                np.testing.assert_array_equal(here.film, there.film)
                self.assertGreaterEqual(tiles, len(here.picture.frame.tiles()), "on a busy machine one may be given out twice")
                self.assertGreater(there.clock.sum(), 0.0)

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

    def test_6_killed_stopped_and_without_a_folder(self):
        """Each happens when the first tile has come."""
        one, other, third = self.machines.helpers

        def stop():
            os.kill(other.pid, signal.SIGSTOP)

        def spoil():
            kept = self.machines.folder / "kept2"
            shutil.rmtree(kept)
            kept.write_text("no folder")

        values = {"sampling.min": 24, "sampling.max": 24}
        for k, (what, happens) in enumerate((("killed", one.kill), ("stopped", stop), ("spoiled", spoil))):
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
        self.assertTrue(any("has gone" in sentence for sentence in self.said))


class Alone(unittest.TestCase):
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
