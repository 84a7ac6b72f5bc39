"""The palette of the bench in Chromium: everything is found by plain words, with the keyboard alone."""

import re

from axe_playwright_python.sync_playwright import Axe

from sivrel.web.keys.own import keys_of
from tests.browser.test_bench import BrowserTest


class Palette(BrowserTest):
    def typed(self, words: str) -> list[str]:
        """Open the palette and type; what it finds."""
        if not self.page.evaluate("document.getElementById('palette').open"):
            self.page.locator("#stage").focus()
            self.page.keyboard.press(" ")
        self.page.fill("#palette-field", words)
        return self.page.evaluate("[...document.querySelectorAll('#palette-list [role=option] .title')].map((one) => one.textContent)")

    def test_everything_is_found_by_plain_words(self):
        self.open("slipway")
        everything = self.typed("")
        titles = {one.says[0].upper() + one.says[1:] for one in keys_of("bench").commands if one.name != "palette" and not one.held}
        self.assertTrue(titles <= set(everything))
        for kind in ("Actions", "Settings", "Lights", "Proofs", "Pages"):
            self.assertIn(kind, self.page.locator("#palette-list .kind").all_inner_texts())
        problems = [v for v in Axe().run(self.page).response["violations"] if v["impact"] in ("serious", "critical")]
        self.assertEqual(problems, [])
        asked = []
        self.page.on("request", lambda request: asked.append(f"{request.url} {request.post_data}"))
        for words, first in (
            ("rename", "Name and note"), ("denoise", "Filter the noise of this proof"), ("shadow rays", "shadow rays"),
            ("SHADOW RASY", "shadow rays"),
            ("dark mode", "Light or dark theme"), ("difuse bounces", "diffuse bounces"), ("trash", "Delete"), ("recipes", "Recipes"),
            ("proof 18", "Proof 18"), ("what is wrong scene", "Survey: what is wrong with the scene"), ("100 %", "Pixel for pixel"),
        ):  # fmt: skip
            with self.subTest(words):
                self.assertTrue(self.typed(words)[0].startswith(first), self.typed(words)[:3])
        self.assertEqual(
            [url for url in asked if not re.search("/status.json|/questions/", url)], []
        )  # nothing is sent but what the page asks anyway
        self.assertEqual(self.typed("zzzz"), [])
        self.assertTrue(self.page.locator("#palette-none").is_visible())
        self.page.keyboard.press("Enter")  # takes nothing
        self.assertTrue(self.page.evaluate("document.getElementById('palette').open"))

    def test_arrows_and_enter_do_it(self):
        page = self.page
        self.open("slipway")
        self.typed("shadow rays")
        page.keyboard.press("Enter")
        self.assertEqual(page.evaluate("document.activeElement.name"), "shadows.rays")
        page.keyboard.press("Escape")
        self.typed("rename")
        page.keyboard.press("Enter")
        self.wait("document.activeElement?.name === 'name'")
        page.keyboard.press("Escape")
        found = self.typed("difference")
        page.keyboard.press("ArrowDown")
        self.assertEqual(page.locator("#palette-list [aria-selected=true] .title").inner_text(), found[1])
        self.assertEqual(page.get_attribute("#palette-field", "aria-activedescendant"), "palette-1")
        page.keyboard.press("ArrowUp")
        page.keyboard.press("Enter")
        self.wait("sivrel.plate.mode === 3")
        number = page.evaluate("Number([...document.querySelectorAll('.card')].find((one) => !one.dataset.chosen).dataset.proof)")
        self.typed(f"proof {number}")
        page.keyboard.press("Enter")
        self.wait(f"sivrel.chosen.a.id === {number}")
        self.typed("recipes")
        page.keyboard.press("Escape")
        self.wait("!document.getElementById('palette').open")
        # A button keeps its own space.
        page.locator("#leaf-findings").focus()
        page.keyboard.press(" ")
        self.wait("!document.getElementById('findings').hidden")
        self.assertFalse(page.evaluate("document.getElementById('palette').open"))
        # With the mouse, and to another page.
        page.click("[data-palette-open]")
        page.fill("#palette-field", "caches")
        page.locator("#palette-list").get_by_text("Caches", exact=True).click()
        page.wait_for_url("**/caches*")
