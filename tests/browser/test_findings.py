"""Find, try, mend, retest, in Chromium, by what an artist would click: the four flaws that the demo shots teach; and a picture from elsewhere."""

import io
import tempfile
import unittest
from pathlib import Path

import numpy as np
from axe_playwright_python.sync_playwright import Axe
from PIL import Image

from tests.browser.test_bench import BrowserTest
from tests.orchard import write_orchard

LIST = "sivrel.findings.list"


class Findings(BrowserTest):
    def prove_with(self, shot: str, **values: str) -> int:
        self.open(shot)
        page = self.page
        page.wait_for_function("() => fetch('/status.json').then((a) => a.json()).then((s) => s.worker.phase === 'idle')", polling=300)
        for name, value in {"width": "240", "height": "135", **values}.items():
            key = name.replace("__", ".")
            page.select_option(f"[name='{key}']", value) if key.startswith("gi.") or key == "camera" else self.set(key, value)
        self.prove()
        self.wait("sivrel.chosen.a?.picture && sivrel.plate.pictures[0]?.finished && sivrel.chosen.a.width === 240")
        return page.evaluate("() => sivrel.chosen.a.id")

    def diagnose(self, kind: str) -> dict:
        """Press the key, wait, turn to the worst of a kind; what it says."""
        page = self.page
        page.locator("#stage").focus()
        page.evaluate("() => (sivrel.findings.seconds = 30)")  # trials end when a cause is proven; a slow machine takes longer
        page.keyboard.type("jf")
        page.wait_for_function(f"() => {LIST}.length > 0 || sivrel.findings.about")  # the first come while the rest is looked for
        page.wait_for_function("() => sivrel.findings.about && !sivrel.findings.going")
        kinds = page.evaluate(f"() => {LIST}.map((one) => one.kind)")
        self.assertIn(kind, kinds)
        line = page.locator(f"#findings li[data-kind='{kind}']").first
        if "chosen" not in (line.get_attribute("class") or ""):
            line.locator(".finding-head").click()
        page.wait_for_selector(f"#findings li.chosen[data-kind='{kind}'] .finding-body")
        self.assertTrue(page.locator("#outlines").is_visible())
        return page.evaluate("() => sivrel.findings.list[sivrel.findings.at]")

    def mend(self, found: dict) -> dict:
        """Click the first remedy that is offered, and wait for the retest of its proof."""
        page, before = self.page, self.page.evaluate("() => sivrel.chosen.a.id")
        self.assertTrue(found["remedies"], found["title"])
        page.locator("#findings li.chosen button.remedy").first.click()
        page.wait_for_function(f"() => sivrel.chosen.a.id !== {before} && sivrel.chosen.a.picture")
        page.wait_for_function("() => sivrel.findings.retests[0]?.result")
        page.wait_for_selector("#findings .retested b")
        self.assertEqual(page.evaluate("() => sivrel.chosen.a.parent"), before)
        return page.evaluate("() => sivrel.findings.retests[0].result")

    def test_the_leak_of_the_thin_wall(self):
        self.prove_with("keepers-kitchen", sampling__max="16")
        found = self.diagnose("leak")
        self.assertEqual(found["cause_key"], "gap")
        self.assertIn("No setting cures this", found["note"])
        self.assertGreater(len(found["drawn"]), 1)  # the light's way, on the plate
        self.assertGreaterEqual(self.page.locator("#findings .strip .proven img").count(), 1)
        problems = [v for v in Axe().run(self.page).response["violations"] if v["impact"] in ("serious", "critical")]
        self.assertEqual(problems, [])
        self.assertEqual(self.mend(found)["verdict"], "gone")

    def test_the_blotches_of_the_cache(self):
        # Records so close together that their patches are as wide as a blotch is looked for.
        cache = {"irradiance_cache__rays": "16", "irradiance_cache__max_spacing": "20"}
        self.prove_with("keepers-kitchen", gi__seen="irradiance_cache", sampling__max="16", **cache)
        found = self.diagnose("blotches")
        self.assertIn(found["cause_key"], ("record rays", "cache error", "greatest spacing"))
        self.assertGreater(found["confidence"], 0.5)
        result = self.mend(found)
        self.assertIn(result["verdict"], ("gone", "smaller"))
        self.assertLess(result["after"], 0.8 * result["before"])

    def test_the_fireflies_of_the_prisms(self):
        # The filter takes them off: they are found on the picture as it is.
        self.page.add_init_script("localStorage.setItem('sivrel:filter-drafts', 'no')")
        self.prove_with("lamp-room", limits__refractions="16", sampling__max="16")
        found = self.diagnose("fireflies")
        self.assertIn(found["cause_key"], ("bright samples", "caustic paths", "glossy rays"))
        self.assertIn(self.mend(found)["verdict"], ("gone", "smaller"))

    def test_the_steps_of_the_coarse_depth_map(self):
        self.open("slipway")
        self.page.keyboard.press("l")
        self.page.evaluate("() => sivrel.recipe.setEdits({ 'light.NoonSun.shadows.way': 'depth_map' })")
        number = self.prove_with_edits()
        found = self.diagnose("steps")
        self.assertIn(found["cause_key"], ("map fit", "map resolution", "depth map"))
        self.assertIn(self.mend(found)["verdict"], ("gone", "smaller"))
        # The report of the flawed proof says what became of it.
        self.page.goto(f"{self.program.address}proofs/{number}/report")
        self.assertIn("steps", self.page.locator("main").inner_text())
        self.assertEqual(self.page.locator(".report-sheet .whole path").count() % 2, 0)

    def prove_with_edits(self) -> int:
        page = self.page
        page.wait_for_function("() => fetch('/status.json').then((a) => a.json()).then((s) => s.worker.phase === 'idle')", polling=300)
        page.evaluate("() => document.getElementById('leaf-recipe').click()")
        for name, value in (("width", "240"), ("height", "135"), ("sampling.max", "16")):
            self.set(name, value)
        self.prove()
        self.wait("sivrel.chosen.a?.picture && sivrel.plate.pictures[0]?.finished && sivrel.chosen.a.width === 240")
        return page.evaluate("() => sivrel.chosen.a.id")

    def test_a_scene_says_how_far_it_is_while_it_opens_and_can_be_left(self):
        page = self.page
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "orchard.usdc"
            write_orchard(path, 400, detail=2.0)
            page.goto(self.program.address)
            page.fill("#path", str(path))
            page.click(".open button.ink")
            page.wait_for_function("() => document.getElementById('reading').textContent.includes('meshes')")
            page.click("#reading button:has-text('Cancel')")
            page.wait_for_function("() => document.getElementById('reading').hidden")
            self.assertTrue(page.locator(".open button.ink").first.is_visible())
            page.click(".open button.ink")
            page.wait_for_url("**/shots/orchard**")
            self.assertEqual(page.locator("h1, .where").first.count(), 1)
        page.goto(self.program.address)
        page.fill("#path", "/nowhere/at/all.usda")
        page.click(".open button.ink")
        page.wait_for_selector("#reading button:has-text('Close')")
        self.assertIn("There is no file /nowhere/at/all.usda", page.locator("#reading").inner_text())

    def test_a_render_from_elsewhere_is_judged_and_dismissed(self):
        rng = np.random.default_rng(8)
        pixels = (np.full((90, 160, 3), 110.0) + rng.normal(0.0, 22.0, (90, 160, 3))).clip(0, 255).astype(np.uint8)
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "elsewhere.png"
            data = io.BytesIO()
            Image.fromarray(pixels).save(data, "PNG")
            path.write_bytes(data.getvalue())
            page = self.page
            page.goto(self.program.address)
            page.set_input_files("#files", str(path))
            page.click(".open button")
            self.wait("sivrel.chosen.a?.picture && sivrel.plate.pictures[0]?.finished")
        found = self.diagnose("grain")
        self.assertTrue(found["weak"])
        self.assertIn("four times the shadow samples", page.locator("#findings .settles").first.inner_text())
        page.fill("#findings .dismissal input", "wanted grain")
        page.keyboard.press("Enter")
        page.wait_for_selector("#findings li.dismissed")
        self.assertIn("wanted grain", page.locator("#findings").inner_text())


del BrowserTest


if __name__ == "__main__":
    unittest.main()
