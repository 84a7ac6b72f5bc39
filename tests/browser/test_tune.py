"""Ladder, budget, match and advice in Chromium, by the keys an artist would press; and what they offer, proven."""

import unittest

from axe_playwright_python.sync_playwright import Axe

from tests.browser.test_bench import BrowserTest


class Tune(BrowserTest):
    def small(self) -> int:
        """A small proof of the slipway, finished."""
        self.open("slipway")
        for name, value in (("width", "120"), ("height", "68"), ("sampling.max", "4")):
            self.set(name, value)
        self.prove()
        self.wait("sivrel.chosen.a?.picture && sivrel.plate.pictures[0]?.finished && sivrel.chosen.a.width === 120")
        return self.page.evaluate("() => sivrel.chosen.a.id")

    def run_it(self, **fields: str) -> None:
        page = self.page
        for name, value in fields.items():
            page.fill(f"#asked [name='{name}']", value)
        page.locator("h1.here").click()
        page.keyboard.press("Enter")
        page.wait_for_function("() => !document.getElementById('going').hidden")
        page.wait_for_function("() => document.getElementById('going').hidden")
        self.assertEqual(page.locator("#problem").inner_text(), "")
        problems = [v for v in Axe().run(page).response["violations"] if v["impact"] in ("serious", "critical")]
        self.assertEqual(problems, [])

    def test_the_four_on_one_proof(self):
        proof, page = self.small(), self.page
        # A ladder of the number that was last in hand.
        page.locator("#recipe [name='sampling.max']").focus()
        page.locator("#stage").focus()
        page.keyboard.type("tl")
        page.wait_for_url("**/ladder?*")
        self.assertEqual(page.locator("#asked [name='key']").input_value(), "sampling.max")
        self.run_it(values="1, 4, 16", seconds="30", region="30,20,90,54")
        self.assertEqual(page.locator(".rungs .look").count(), 3)
        self.assertGreater(page.locator(".charts svg").count(), 1)
        first = page.locator("#viewer img").get_attribute("src")
        page.keyboard.press("ArrowLeft")
        self.assertNotEqual(page.locator("#viewer img").get_attribute("src"), first)
        page.keyboard.down("f")
        self.assertIn("the next one", page.locator("#viewer figcaption").inner_text())
        page.keyboard.up("f")
        # A mistake is said, and what was typed stays.
        page.fill("#asked [name='values']", "4, lots")
        page.locator("#asked button.ink").click()
        page.wait_for_function("() => document.getElementById('problem').textContent.includes('numbers by commas')")
        self.assertEqual(page.locator("#asked [name='values']").input_value(), "4, lots")

        page.locator("h1.here").click()
        page.keyboard.type("tb")
        page.wait_for_url("**/budget*")
        self.run_it(seconds="4")
        self.assertIn("noise", page.locator("#says").inner_text())
        page.keyboard.type("tm")
        page.wait_for_url("**/match*")
        page.evaluate("() => document.querySelectorAll('.ways input').forEach((one) => (one.checked = false))")
        page.check("[value='brute_force']")
        page.check("[value='irradiance_cache']")
        self.run_it(seconds="3", region="")
        self.assertIn("is best", page.locator("#says").inner_text())
        page.keyboard.type("ta")
        page.wait_for_url("**/advice*")
        self.run_it(seconds="6")
        self.assertGreaterEqual(page.locator(".tried tbody tr").count(), 2)
        self.assertEqual(page.locator(".advised article").count(), 3)
        self.assertIn("outside", page.locator(".facts").inner_text())
        # What is advised becomes a proof with one key; it says afterwards how long it took.
        page.keyboard.press("p")
        page.wait_for_url("**/shots/slipway?*")
        self.wait(f"sivrel.chosen.a?.id !== {proof} && sivrel.chosen.a.picture")
        page.goto(f"{self.program.address}proofs/{proof}/advice")
        self.assertIn("advice: Final still", page.locator("#part").inner_text())

    def test_a_match_is_called_off_and_what_came_stays(self):
        self.small()
        page = self.page
        page.locator("#stage").focus()
        page.keyboard.type("tm")
        page.wait_for_url("**/match*")
        page.fill("#asked [name='seconds']", "30")
        page.fill("#asked [name='region']", "")
        page.locator("h1.here").click()
        page.keyboard.press("Enter")
        page.wait_for_function("() => document.querySelectorAll('.ranks tbody tr').length > 1")
        page.keyboard.press("Escape")
        page.wait_for_function("() => document.getElementById('going').hidden")
        page.wait_for_function("() => document.querySelector('#part').textContent.includes('cancelled')")


del BrowserTest


if __name__ == "__main__":
    unittest.main()
