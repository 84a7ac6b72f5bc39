"""Caches in Chromium: what a way will prepare is said, what it holds is drawn, where it serves is hatched, and the page of them all."""

import unittest

from tests.browser.test_bench import BrowserTest


class Caches(BrowserTest):
    def test_from_the_recipe_to_the_page_of_caches(self):
        self.open("slipway")
        page = self.page
        page.wait_for_function("() => fetch('/status.json').then((a) => a.json()).then((s) => s.worker.phase === 'idle')", polling=300)
        page.select_option("[name='gi.seen']", "irradiance_cache")
        for name, value in (("irradiance_cache.rays", "64"), ("sampling.max", "2"), ("width", "160"), ("height", "90")):
            self.set(name, value)
        self.assertTrue(page.locator("[name='irradiance_cache.error']").is_visible())
        self.assertFalse(page.locator("[name='photon_map.count']").is_visible())
        page.wait_for_function("() => document.querySelector('.ways-state').textContent.includes('must be made before the first pixel')")
        self.prove()
        self.wait("sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished")
        self.assertIn("Irradiance cache: ", page.locator(".meters").inner_text())
        self.assertIn("Against brute force", page.locator(".meters").inner_text())
        page.wait_for_function("() => document.querySelector('.ways-state').textContent.includes('is ready')")
        page.locator("#stage").focus()
        page.keyboard.press("c")
        page.wait_for_function("() => document.getElementById('marks-note')?.textContent.includes('records in sight')")
        drawn = "(c) => c.getContext('2d').getImageData(0, 0, c.width, c.height).data.some((v, k) => k % 4 === 3 && v > 0)"
        self.assertTrue(page.locator("#marks").evaluate(drawn))
        page.keyboard.type("gp")
        page.wait_for_selector("#plan .cache-marks circle")
        page.keyboard.press("Escape")
        page.keyboard.press("c")
        self.assertFalse(page.locator("#marks").is_visible())
        page.keyboard.type("uh")
        page.wait_for_function("() => document.getElementById('hatch-note')?.textContent.includes('no cache served')")
        page.click("text=Caches >> nth=0")
        page.wait_for_selector("td.state:has-text('fresh')")
        row = page.locator("tr[data-shot='slipway']").first
        row.locator("button:has-text('Lock')").click()
        self.assertIn("locked", page.locator("tr[data-shot='slipway'] th").first.inner_text())
        self.assertTrue(page.locator("button:has-text('Delete')").first.is_disabled())
        page.locator("button:has-text('Unlock')").first.click()
        page.locator("button:has-text('Delete')").first.click()
        page.click("text=Restore it")
        page.wait_for_selector("tr[data-shot='slipway']")


if __name__ == "__main__":
    unittest.main()
