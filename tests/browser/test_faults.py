"""What a user sees when a job kills its worker, the disk is full, a recipe can't be read, or the server is gone."""

import os
import signal
import subprocess
import tempfile
import time
import unittest
from pathlib import Path

from sivrel.store import database, proofs, shots
from tests.work.test_faults import fill

from .test_bench import BrowserTest, Program

SET = """([key, value]) => {
  const field = document.getElementById("recipe-form").elements[key];
  field.value = value;
  for (const kind of ["input", "change"]) field.dispatchEvent(new Event(kind, { bubbles: true }));
}"""
"""Sets a field of the recipe as a hand would."""
HEAVY = {"gi.seen": "photon_map", "photon_map.count": "5000000"}


class Faults(BrowserTest):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.disk = None
        folder = Path(cls.folder.name) / "disk"
        folder.mkdir()
        if not subprocess.run(["mount", "-t", "tmpfs", "-o", "size=130m", "tmpfs", str(folder)], capture_output=True).returncode:
            cls.disk = folder

    @classmethod
    def tearDownClass(cls):
        if cls.disk is not None:
            subprocess.run(["umount", "-l", str(cls.disk)], check=True)
        super().tearDownClass()

    def kill_worker(self, data: Path) -> None:
        found = subprocess.run(["pgrep", "-f", f"sivrel.work {data}"], capture_output=True, text=True)
        for pid in found.stdout.split():
            os.kill(int(pid), signal.SIGKILL)

    def phase(self, program: Program) -> str:
        return self.page.request.get(f"{program.address}status.json").json()["worker"]["phase"]

    def until(self, condition, what: str) -> None:
        end = time.monotonic() + 400.0
        while not condition():
            self.assertLess(time.monotonic(), end, f"waited in vain for {what}")
            time.sleep(0.05)

    def test_a_job_that_kills_the_renderer_says_so_and_the_next_is_rendered(self):
        self.open("keepers-kitchen")
        self.until(lambda: self.phase(self.program) == "idle", "the renderer")
        for key, value in HEAVY.items():
            self.page.evaluate(SET, [key, value])
        self.page.keyboard.press("Enter")
        self.page.wait_for_selector(".card[data-state=rendering]")
        for _ in range(2):
            self.until(lambda: self.phase(self.program) == "making", "the preparation")
            self.kill_worker(self.program.data)
            self.until(lambda: self.phase(self.program) != "making", "the renderer's end to be noted")
        self.page.wait_for_selector(".card[data-state=failed] >> text=ended twice")
        number = self.page.evaluate("() => sivrel.chosen.a.id")
        self.page.wait_for_function("() => document.querySelector('main').innerText.includes('or resume it')")
        self.open("slipway")
        self.page.evaluate(SET, ["sampling.max", "1"])
        self.page.keyboard.press("Enter")
        self.wait(f"sivrel.chosen.a?.id > {number} && sivrel.plate.pictures[0]?.finished")

    def test_a_full_disk_is_reported_and_over_when_there_is_room(self):
        if self.disk is None:
            self.skipTest("this machine lets nobody mount a small disk")
        program = Program(self.disk / "data")
        self.addCleanup(program.stop)
        self.addCleanup(setattr, self.program, "address", self.program.address)
        self.program.address = program.address  # for the check of what the page asks for
        self.page.goto(f"{program.address}shots/slipway")
        self.wait("sivrel.plate.pictures[0]?.finished")
        self.until(lambda: self.phase(program) == "idle", "the renderer")
        self.assertFalse(self.page.locator("#full").is_visible())
        ballast = self.disk / "ballast"
        fill(ballast)
        self.page.wait_for_selector("#full", state="visible")
        self.assertIn("continue by themselves when there is space", self.page.locator("#full").inner_text())
        answer = self.page.request.get(f"{program.address}shots/keepers-kitchen")
        self.assertEqual(answer.status, 200)
        ballast.unlink()
        self.page.wait_for_selector("#full", state="hidden")
        self.page.keyboard.press("Enter")
        self.page.wait_for_selector(".card[data-state=waiting], .card[data-state=rendering]")

    def test_a_proof_that_cannot_be_read_is_a_card_among_others(self):
        with tempfile.TemporaryDirectory():
            db = database.connect(self.program.data)
            shot = shots.find(db, "lamp-room")
            proof = proofs.of_shot(db, shot.id)[1]
            kept = db.execute("SELECT edits FROM proofs WHERE id = ?", (proof.id,)).fetchone()["edits"]
            db.execute("UPDATE proofs SET edits = '{\"version\": 99}' WHERE id = ?", (proof.id,))
            self.addCleanup(db.close)
            self.addCleanup(db.execute, "UPDATE proofs SET edits = ? WHERE id = ?", (kept, proof.id))
            self.open("lamp-room")
            self.page.wait_for_selector(f".card[data-proof='{proof.id}'] >> text=can't be read")
            self.page.click(f".card[data-proof='{proof.id}'] .choose")
            self.wait(f"sivrel.chosen.a.id === {proof.id} && sivrel.plate.pictures[0]?.finished")

    def test_a_server_that_is_gone_is_reported_and_the_page_goes_on(self):
        self.open("slipway")
        port = int(self.program.address.rsplit(":", 1)[1].strip("/"))
        self.program.stop(signal.SIGKILL)
        self.page.wait_for_selector("#lost", state="visible")
        self.program.start(port)
        self.page.wait_for_selector("#lost", state="hidden")
        self.page.locator(".card .choose").first.click()
        self.wait("sivrel.plate.pictures[0]?.finished")


if __name__ == "__main__":
    unittest.main()
