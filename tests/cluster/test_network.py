"""Helpers on another network, with TLS, and delay where the kernel can make it: the commands of docs/cluster.md, as they stand there."""

import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from sivrel.core.pictures.exr import read_exr
from tests.cluster.machines import BIN, until

SPACE, HERE, THERE, PORT = "sivrel-test", "10.77.13.1", "10.77.13.2", 8786
DELAY = "20ms"
CERTIFICATES = """
openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ca.pem -days 365 -subj /CN=ours
openssl req -newkey rsa:2048 -nodes -keyout here.key -out here.csr -subj /CN=render
openssl x509 -req -in here.csr -CA ca.pem -CAkey ca.key -CAcreateserial -out here.pem -days 365
"""
NETWORK = f"""
ip netns add {SPACE}
ip link add sivrel-here type veth peer name sivrel-there netns {SPACE}
ip addr add {HERE}/24 dev sivrel-here
ip link set sivrel-here up
ip netns exec {SPACE} ip addr add {THERE}/24 dev sivrel-there
ip netns exec {SPACE} ip link set sivrel-there up
ip netns exec {SPACE} ip link set lo up
"""
SLOW = f"tc qdisc add dev sivrel-here root netem delay {DELAY}"
"""Where the kernel has it."""


def run(lines: str, folder: Path) -> None:
    for line in lines.strip().splitlines():
        subprocess.run(line.split(), cwd=folder, check=True, capture_output=True)


class AnotherNetwork(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        missing = [name for name in ("ip", "tc", "openssl") if shutil.which(name) is None]
        if missing or os.geteuid() != 0:
            raise unittest.SkipTest(f"networks can't be made here ({', '.join(missing) or 'not as this user'})")
        cls.addClassCleanup(subprocess.run, ["ip", "netns", "del", SPACE], capture_output=True)
        try:
            run(NETWORK, cls.folder)
        except subprocess.CalledProcessError as error:
            raise unittest.SkipTest(f"networks can't be made here ({error.stderr.decode().strip()})") from None
        subprocess.run(SLOW.split(), capture_output=True)
        run(CERTIFICATES, cls.folder)
        tls = "DASK_DISTRIBUTED__COMM__TLS__"
        cls.environment = {**os.environ, f"{tls}CA_FILE": "ca.pem"}
        for role in ("WORKER", "CLIENT"):
            cls.environment |= {f"{tls}{role}__CERT": "here.pem", f"{tls}{role}__KEY": "here.key"}
        cls.address = f"tls://{THERE}:{PORT}"

    def start(self, log: str, *command: str | Path) -> Path:
        """Start a command on the other network; its output."""
        path = self.folder / log
        with open(path, "w") as out:
            started = subprocess.Popen(
                ["ip", "netns", "exec", SPACE, *command], cwd=self.folder, env=self.environment, stdout=out, stderr=subprocess.STDOUT
            )
        self.addCleanup(started.wait)
        self.addCleanup(started.kill)
        return path

    def sivrel(self, *arguments: str) -> str:
        done = subprocess.run([sys.executable, "-m", "sivrel.cli", *arguments], cwd=self.folder, env=self.environment, capture_output=True, text=True)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout + done.stderr

    def test_the_same_bytes_over_tls(self):
        said = self.start(
            "scheduler", BIN / "dask", "scheduler", "--host", THERE, "--port", str(PORT), "--protocol", "tls", "--tls-ca-file", "ca.pem",
            "--tls-cert", "here.pem", "--tls-key", "here.key", "--no-dashboard",
        )  # fmt: skip
        until(lambda: "Scheduler at" in said.read_text())
        for name in ("one", "two"):
            folder = ["--folder", f"kept-{name}", "--threads", "1"]
            helper = self.start(name, sys.executable, "-m", "sivrel.cli", "helper", self.address, *folder)
            until(lambda helper=helper: "helping" in helper.read_text())
        what = ["--set", "sampling.max=16", "--set", "sampling.min=16", "--set", "gi.seen=irradiance_cache", "--size", "160x90"]
        self.sivrel("render", "demo:slipway", "-o", "here.exr", *what)
        answer = self.sivrel("render", "demo:slipway", "-o", "there.exr", *what, "--scheduler", self.address, "--json", "--same-processor")
        self.assertIn('"where": "2 helpers"', answer)
        here, there = (read_exr(self.folder / f"{name}.exr") for name in ("here", "there"))
        for name, pixels in here.passes.items():
            np.testing.assert_array_equal(pixels, there.passes[name], name)


if __name__ == "__main__":
    unittest.main()
