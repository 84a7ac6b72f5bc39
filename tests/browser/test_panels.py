"""The panels about the plate, the keys of other keyboards, and the line that proposes the next step, in Chromium."""

from tests.browser.test_bench import BrowserTest

COVERED = """() => { const [, , w, h] = sivrel.plate.place(), stage = document.getElementById('stage').getBoundingClientRect();
  return [w * h, stage.width * stage.height].map((one) => one / innerWidth / innerHeight); }"""


class Panels(BrowserTest):
    def type(self, keys: str) -> None:
        self.page.locator("#stage").focus()
        self.page.keyboard.type(keys)

    def covered(self) -> tuple[float, float]:
        """The shares of the window that the picture and the plate cover."""
        self.page.wait_for_timeout(150)
        return tuple(self.page.evaluate(COVERED))

    def test_the_picture_is_the_largest_thing(self):
        self.open("keepers-kitchen")
        self.assertGreaterEqual(self.covered()[0], 0.55)
        self.type("o")
        picture, plate = self.covered()
        self.assertGreaterEqual(plate, 0.95)
        self.assertGreaterEqual(picture, 0.895)  # of a window of 16:10, a picture of 16:9 covers nine tenths at most
        self.type("o")
        self.assertGreaterEqual(self.covered()[0], 0.55)
        self.page.set_viewport_size({"width": 1920, "height": 1080})
        self.assertGreaterEqual(self.covered()[0], 0.55)

    def test_panels_fold_and_resize_and_stay_so(self):
        page = self.page
        self.open("slipway")
        before = self.covered()[1]
        self.type("ur")
        self.assertFalse(page.locator("section.recipe").is_visible())
        self.assertGreater(self.covered()[1], before)
        self.type("uf")
        self.assertGreater(page.locator(".lineage").bounding_box()["height"], 600)
        split = page.locator("#split-lineage")
        width = page.locator(".lineage").bounding_box()["width"]
        box = split.bounding_box()
        page.mouse.move(box["x"] + 2, box["y"] + 200)
        page.mouse.down()
        page.mouse.move(box["x"] + 62, box["y"] + 200, steps=3)
        page.mouse.up()
        self.assertAlmostEqual(page.locator(".lineage").bounding_box()["width"], width + 60, delta=2)
        split.focus()
        page.keyboard.press("ArrowLeft")
        self.assertAlmostEqual(page.locator(".lineage").bounding_box()["width"], width + 44, delta=2)
        page.reload()
        self.wait("sivrel.plate.pictures[0]?.finished")
        self.assertFalse(page.locator("section.recipe").is_visible())
        self.assertAlmostEqual(page.locator(".lineage").bounding_box()["width"], width + 44, delta=2)
        split.dblclick()
        self.assertAlmostEqual(page.locator(".lineage").bounding_box()["width"], width, delta=2)
        self.type("l")  # what a key opens in a panel that is away brings it back
        page.wait_for_selector("#lights:visible")
        self.type("ul")
        self.assertFalse(page.locator(".lineage").is_visible())
        page.click("[data-do=lineagePanel]")
        self.assertTrue(page.locator(".lineage").is_visible())

    def test_the_whole_text_of_a_card_on_hover_and_on_focus(self):
        page = self.page
        self.open("keepers-kitchen")
        card = page.locator(".card[data-note]").first
        note = card.get_attribute("data-note")
        card.hover()
        self.assertIn(note, page.locator("#card-more").inner_text())
        page.mouse.move(600, 300)
        self.assertFalse(page.locator("#card-more").is_visible())
        card.locator(".choose").focus()
        self.assertIn(note, page.locator("#card-more").inner_text())

    def test_the_ledger_is_a_strip_that_opens(self):
        self.open("keepers-kitchen")
        strip = self.page.locator("#ledger").bounding_box()["height"]
        self.assertLess(strip, 24)
        self.type("ug")
        self.assertGreater(self.page.locator("#ledger").bounding_box()["height"], 1.7 * strip)


class Layouts(BrowserTest):
    def press(self, key: str, code: str, **held: bool) -> None:
        """A key of another layout: what it types, and where it is."""
        self.page.evaluate(
            """([key, code, held]) => document.getElementById('stage').dispatchEvent(
              new KeyboardEvent('keydown', { key, code, bubbles: true, cancelable: true, ...held }))""",
            [key, code, held],
        )

    def test_french_german_and_greek_keyboards(self):
        page = self.page
        self.open("slipway")
        self.press("&", "Digit1")  # French, without Shift
        self.assertEqual(page.evaluate("sivrel.plate.zoom"), 1)
        self.press("à", "Digit0")
        self.assertGreater(page.evaluate("sivrel.plate.zoom"), 1)
        self.press("0", "Digit0", shiftKey=True)
        shown = page.input_value("#pass")
        self.press("a", "KeyQ")  # French: A is where Q is elsewhere
        self.assertNotEqual(page.input_value("#pass"), shown)
        self.press("z", "KeyY")  # German: Z enlarges, wherever it is
        self.assertIn("Drag a region first", page.locator("#slip").inner_text())
        view = page.input_value("#view")
        self.press("ω", "KeyV")  # Greek
        self.assertNotEqual(page.input_value("#view"), view)
        self.press("Dead", "BracketLeft")  # a dead key does nothing
        self.press("§", "Digit3", shiftKey=True)
        self.assertFalse(page.locator("#chord").is_visible())

    def test_two_letters_and_what_may_follow_the_first(self):
        page = self.page
        self.open("slipway")
        page.locator("#stage").focus()
        page.keyboard.press("t")
        self.assertEqual(page.locator("#chord kbd").all_inner_texts(), ["L", "B", "M", "A"])
        page.keyboard.press("Escape")
        self.assertFalse(page.locator("#chord").is_visible())
        page.keyboard.press("w")  # is a command of its own again
        self.wait("sivrel.plate.mode === 2")
        page.keyboard.type("gk")
        page.keyboard.type("flaw")
        self.assertEqual(set(page.locator("#keys dl kbd:visible").all_inner_texts()), {"J F", "J J", "J B", "J P"})
        page.keyboard.press("Escape")
        page.keyboard.type("gc")
        page.wait_for_url("**/caches*")
        page.keyboard.type("gh")
        page.wait_for_url(self.program.address)


class Next(BrowserTest):
    def what(self) -> str:
        self.wait("document.querySelector('#next-do b')")
        return self.page.locator("#next").inner_text()

    def test_one_line_says_what_to_do_next_and_does_it(self):
        page = self.page
        self.open("slipway")
        self.wait("!document.getElementById('next').classList.contains('nothing')")
        for name, value in (("width", "64"), ("height", "36"), ("sampling.max", "2")):
            self.set(name, value)
        self.wait("document.querySelector('#next-do b')?.textContent === 'Prove them'")
        self.assertIn("3 changes are not proven yet", self.what())
        before = page.evaluate("sivrel.chosen.a.id")
        page.locator("#stage").focus()
        page.keyboard.press("y")
        self.wait(f"sivrel.chosen.a.id > {before} && sivrel.chosen.a.picture")
        self.wait("document.querySelector('#next-do b')?.textContent === 'Find what is wrong with it'")
        page.keyboard.press("y")
        self.wait("sivrel.findings.about && !sivrel.findings.going")
        self.wait("!document.getElementById('next').classList.contains('nothing')")
        proposed = page.evaluate("sivrel.next.step.does")
        self.assertIn(proposed, ("remedy", "double", "findings"))
        if proposed == "remedy":
            self.assertLessEqual(page.evaluate("sivrel.next.step.finding.remedies[sivrel.next.step.number].seconds ?? 0"), 120)
        page.click("#next summary")
        page.click("#next-off")
        self.assertFalse(page.locator("#next").is_visible())
        page.reload()
        self.wait("sivrel.plate.pictures[0]?.finished")
        self.assertFalse(page.locator("#next").is_visible())
        page.keyboard.type("un")
        self.assertTrue(page.locator("#next").is_visible())
