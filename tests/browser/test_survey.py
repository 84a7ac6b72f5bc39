"""The survey in Chromium: from what is wrong with the kitchen to a proof without its leak."""

import unittest
from pathlib import Path

from axe_playwright_python.sync_playwright import Axe

from sivrel.core.pictures.exr import read_exr
from sivrel.store import database, files, proofs
from tests.browser.test_bench import BrowserTest

LEAK = (slice(0, 15), slice(112, 128))
"""Rows and columns of a 240 x 135 picture from the camera `table` where the open joint lights the boards."""


class Survey(BrowserTest):
    def found(self):
        """Wait for the survey to end; the kinds of what it found."""
        self.page.wait_for_timeout(150)
        self.page.wait_for_function("() => document.getElementById('going').hidden", timeout=120_000)
        return self.page.locator("#found li[data-kind]").evaluate_all("(lines) => lines.map((line) => line.dataset.kind)")

    def prove_here(self) -> int:
        self.wait("sivrel.chosen.a?.picture && sivrel.plate.pictures[0]?.finished && sivrel.chosen.a.width === 240")
        return self.page.evaluate("() => sivrel.chosen.a.id")

    def light_of(self, number: int) -> float:
        data = Path(self.program.data)
        db = database.create(data)
        picture = read_exr(files.picture_path(data, proofs.get(db, number).picture))
        db.close()
        return float((picture.beauty[LEAK][..., :3] @ (0.2126, 0.7152, 0.0722)).mean())

    def test_mends_take_the_leak_away(self):
        self.open("keepers-kitchen")
        page = self.page
        page.wait_for_function("() => fetch('/status.json').then((a) => a.json()).then((s) => s.worker.phase === 'idle')", polling=300)
        page.select_option("[name='gi.seen']", "irradiance_cache")
        for name, value in (("irradiance_cache.rays", "64"), ("sampling.max", "8"), ("width", "240"), ("height", "135")):
            self.set(name, value)
        self.prove()
        before = self.prove_here()
        page.locator("#stage").focus()
        page.keyboard.type("gs")
        page.wait_for_selector("#found")
        self.assertIn(f"proof={before}", page.url)
        kinds = self.found()
        self.assertEqual(kinds[0], "sheet")
        self.assertIn("gap", kinds)
        self.assertEqual(page.locator("#plate .ring").count(), len(kinds))
        page.wait_for_selector("#drawings .found.chosen .light-path")
        # Turning to the next cuts the plan through it; the line can be dragged.
        page.keyboard.press("ArrowDown")
        page.wait_for_function("() => document.querySelector('#drawings figcaption').textContent.includes('cut 2.3')")
        line = page.locator("#drawings svg[data-view='1'] .cut-line .grip").bounding_box()
        page.mouse.move(line["x"] + 60, line["y"] + line["height"] / 2)
        page.mouse.down()
        page.mouse.move(line["x"] + 60, line["y"] + 90, steps=4)
        page.mouse.up()
        page.wait_for_function("() => /cut [01]\\./.test(document.querySelector('#drawings figcaption').textContent)")
        # What a place sees.
        page.keyboard.press("q")
        plan = page.locator("#drawings svg[data-view='0']").bounding_box()
        page.mouse.click(plan["x"] + plan["width"] / 2, plan["y"] + plan["height"] / 2)
        page.wait_for_function("() => document.getElementById('standpoint').textContent.includes('WindowSky')")
        page.keyboard.press("Escape")
        self.assertFalse(page.locator("#standpoint").is_visible())
        problems = [v for v in Axe().run(page).response["violations"] if v["impact"] in ("serious", "critical")]
        self.assertEqual(problems, [])
        # Mend until nothing is left; undo and redo on the way.
        page.keyboard.press("ArrowUp")
        thick = "'object./Kitchen/Room/NorthWall.thickness' in sivrel.edits()"
        for key, is_thick in (("m", True), ("Control+z", False), ("Control+Shift+z", True)):
            page.keyboard.press(key)
            self.assertEqual(page.evaluate(thick), is_thick)
        self.assertNotIn("sheet", self.found())
        for _ in range(5):
            if not self.found():
                break
            page.keyboard.press("m")
        self.assertEqual(self.found(), [])
        self.assertIn("NorthWall: thickness 0.25 m", page.locator("#mends").inner_text())
        page.keyboard.down("f")
        page.wait_for_function("() => document.querySelector('#drawings figcaption').textContent.includes('before the fixes')")
        page.keyboard.up("f")
        page.keyboard.press("Enter")
        page.wait_for_selector("#stage")
        after = self.prove_here()
        self.assertNotEqual(after, before)
        self.assertIn("thickness", page.locator("#lineage").inner_text())
        self.assertLess(self.light_of(after), 0.65 * self.light_of(before))


if __name__ == "__main__":
    unittest.main()
