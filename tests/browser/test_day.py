"""A day at the bench in Chromium: region, enlarging, renders of the moment, pins, compare, queue, recipes, cameras, keys alone."""

import json
import re
import time

from axe_playwright_python.sync_playwright import Axe

from tests.browser.test_bench import BrowserTest


class Day(BrowserTest):
    def drag(self, x0: float, y0: float, x1: float, y1: float) -> None:
        """Drag over the stage, in shares of its size."""
        box = self.page.locator("#stage").bounding_box()
        at = lambda x, y: (box["x"] + x * box["width"], box["y"] + y * box["height"])  # noqa: E731
        self.page.mouse.move(*at(x0, y0))
        self.page.mouse.down()
        self.page.mouse.move(*at((x0 + x1) / 2, (y0 + y1) / 2))
        self.page.mouse.move(*at(x1, y1))
        self.page.mouse.up()

    def key(self, name: str) -> None:
        """Press a key, or two letters one after the other."""
        self.page.locator("#stage").focus()
        for part in name.split(" "):
            self.page.keyboard.press(part)

    def region(self) -> list[int]:
        return self.page.evaluate("sivrel.recipe.region()")

    def small(self) -> None:
        """Few pixels and samples, so that proofs are done at once."""
        for name, value in (("sampling.max", "2"), ("width", "96"), ("height", "54")):
            self.set(name, value)

    def done(self, number: int) -> None:
        self.wait(f"sivrel.chosen.a.id === {number} && sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished")

    def test_a_region_is_enlarged_proven_and_taken_back(self):
        self.open()
        self.small()
        self.key("z")
        self.assertIn("Drag a region first", self.page.locator("#slip").inner_text())
        self.key("r")
        self.drag(0.3, 0.3, 0.55, 0.55)
        before = self.region()
        self.key("z")
        x0, y0, x1, y1 = self.region()
        self.assertAlmostEqual(x1 - x0, 96, delta=4)
        number = self.prove()
        self.done(number)
        window = self.page.evaluate("sivrel.plate.pictures[0].window")
        self.assertEqual(window, [x0, y0, x1, y1])
        self.key("z")
        for a, b in zip(self.region(), before, strict=True):
            self.assertAlmostEqual(a, b, delta=1)
        self.key("m h")
        self.assertEqual(self.page.evaluate("sivrel.recipe.size()"), [48, 27])
        self.key("m d")
        self.assertEqual(self.page.evaluate("sivrel.recipe.size()"), [96, 54])

    def test_a_dragged_number_is_seen_at_once_and_proven_or_let_go(self):
        self.open()
        self.set("sampling.max", "8")
        self.key("r")
        self.drag(0.4, 0.4, 0.6, 0.6)
        field = self.page.locator("[name='limits.diffuse_bounces']")
        field.scroll_into_view_if_needed()
        was, box = int(field.input_value()), field.bounding_box()
        self.page.mouse.move(box["x"] + 5, box["y"] + 10)
        self.page.mouse.down()
        for step in (8, 16, 24):
            self.page.mouse.move(box["x"] + 5 + step, box["y"] + 10)
        self.assertEqual(int(field.input_value()), was + 2)
        self.wait("sivrel.moments.shown && sivrel.moments.samples >= 8")
        self.page.mouse.up()
        result = self.page.locator("#moment").inner_text()
        self.assertIn("8 of 8 samples, filtered; not kept", result)
        seen = self.page.evaluate("Array.from(sivrel.plate.pictures[0].halves.slice(0, 4000)).filter((h) => h > 0).length")
        self.assertGreater(seen, 2000)
        self.key("Escape")
        self.wait("!sivrel.moments.shown && sivrel.plate.pictures[0].digest")
        self.assertTrue(self.page.locator("#moment").is_hidden())
        self.assertEqual(int(field.input_value()), was + 2, "what was dragged stays in the recipe")
        self.key("h")
        self.wait("sivrel.moments.samples >= 1")
        number = self.prove()
        self.done(number)
        self.assertIn("diffuse bounces", self.page.locator(f".card[data-proof='{number}']").inner_text())

    def test_pins_are_set_read_on_all_proofs_named_and_taken_out(self):
        self.open()
        self.key("ArrowUp")  # to a proof whose view the others share
        self.wait("sivrel.chosen.a.id === 17 && sivrel.plate.pictures[0].finished")
        self.key("i")
        self.drag(0.5, 0.5, 0.5, 0.5)
        self.wait("sivrel.pins.pins.length === 1 && sivrel.pins.pins[0].unread === 0")
        self.key("i")
        self.drag(0.3, 0.6, 0.45, 0.7)
        self.wait("sivrel.pins.pins.length === 2 && sivrel.pins.pins.every((pin) => pin.unread === 0)")
        self.assertGreaterEqual(self.page.locator(".pin circle").count(), 12)
        self.page.locator(".pin input").first.fill("keel")
        self.page.keyboard.press("Tab")
        self.page.click("#leaf-recipe")
        self.small()
        number = self.prove()
        self.done(number)
        self.page.click("#leaf-pins")
        self.wait(f"sivrel.pins.pins[0].readings.some((reading) => reading.proof === {number} && reading.luminance > 0)")
        self.assertEqual(self.page.locator(".pin input").first.input_value(), "keel")
        self.assertEqual(self.page.locator(".pin-mark").count(), 2)
        for left in (1, 0):
            self.page.locator(".pin .remove").first.click()
            self.wait(f"sivrel.pins.pins.length === {left}")

    def test_two_proofs_side_by_side_with_a_verdict(self):
        self.open()
        self.page.locator(".card .with").first.dispatch_event("click")
        self.wait("sivrel.plate.pictures[1]?.finished")
        self.key("b")
        self.page.wait_for_url("**/compare?proofs=*")
        self.wait("sivrel.places?.every(({ plate }) => plate.pictures[0]?.finished)")
        self.page.wait_for_function("() => /picture|Nobody/.test(document.querySelectorAll('.verdict')[1].textContent)")
        self.wait("sivrel.places.every(({ plate }) => plate.pictures[0]?.pass === 'filtered')")
        self.page.uncheck("#filter-drafts")
        self.wait("sivrel.places.every(({ plate }) => plate.pictures[0]?.pass === 'beauty')")
        self.page.locator(".stage").first.hover()
        self.page.mouse.wheel(0, -240)
        self.wait("Math.abs(sivrel.places[0].plate.zoom - sivrel.places[1].plate.zoom) < 1e-6 && !sivrel.places[1].plate.fitted")
        self.page.keyboard.press("y")
        self.wait("sivrel.shown() === 'visible' && sivrel.places[1].plate.pictures[0].digest === null")
        self.page.keyboard.press("w")
        self.wait("sivrel.places[1].plate.mode === 2")
        self.page.locator(".stage").nth(1).hover(position={"x": 30, "y": 100})
        self.wait("sivrel.places[1].plate.wipe < 0.45")
        self.page.keyboard.press("d")
        self.wait("sivrel.places[1].plate.mode === 3")
        self.page.keyboard.press("n")
        self.assertIn("Where time and noise went", self.page.locator(".tables").inner_text())
        self.page.keyboard.press("Escape")
        self.page.wait_for_url(re.compile(r"/shots/slipway\?proof="))

    def test_the_queue_is_held_put_in_order_and_let_go(self):
        self.open()
        self.small()
        self.key("g q")
        self.page.click("[data-queue-all]")
        self.page.wait_for_selector("text=Resume all")
        self.page.keyboard.press("Escape")
        first = self.prove()
        self.set("seed", "7")
        second = self.prove()
        self.wait("/held/.test(document.getElementById('progress-text').textContent)")
        self.key("g q")
        order = lambda: [int(n) for n in self.page.eval_on_selector_all(".queue li", "lines => lines.map((line) => line.dataset.proof)")]  # noqa: E731
        self.page.wait_for_selector(f".queue li[data-proof='{second}']")
        self.assertEqual(order(), [first, second])
        self.page.click(f".queue li[data-proof='{second}'] [data-queue='move=-1']")
        self.page.wait_for_function(f"() => document.querySelector('.queue li').dataset.proof === '{second}'")
        self.page.click("[data-queue-all]")
        self.page.wait_for_selector("text=The queue is empty")
        self.assertRegex(self.page.locator("#queue-sheet").inner_text(), r"Forecasts were \d+ % off")
        self.page.keyboard.press("Escape")
        self.done(second)

    def test_a_recipe_is_kept_carried_out_changed_and_carried_in(self):
        self.open()
        self.set("sampling.max", "12")
        self.page.click("#keep-recipe")
        self.page.fill("#recipe-sheet [name=recipe_name]", "Noon draft")
        self.page.fill("#recipe-sheet [name=reason]", "quick look at the planks")
        self.page.click("#recipe-sheet .ink")
        self.wait("[...document.querySelectorAll('#start-from option')].some((option) => option.textContent === 'Noon draft')")
        self.page.select_option("#start-from", label="Exterior")
        self.wait("sivrel.recipe.field('limits.diffuse_bounces').value === '3'")
        self.page.goto(f"{self.program.address}recipes")
        with self.page.expect_download() as saved:
            self.page.click("li:has-text('Noon draft') a:has-text('Export')")
        result = json.loads(saved.value.path().read_text())
        self.assertEqual((result["name"], result["sampling"]["max"]), ("Noon draft", 12))
        again = json.dumps({**result, "name": "Noon draft, finer", "sampling": {**result["sampling"], "max": 24}}).encode()
        for content in (saved.value.path().read_bytes(), again):
            self.page.set_input_files("#file", {"name": "it.json", "mimeType": "application/json", "buffer": content})
            self.page.click(".import .ink")
            self.page.wait_for_load_state()
            if content != again:
                self.assertIn("already a recipe", self.page.locator(".problem").inner_text())
        self.assertEqual(self.page.locator("li:has-text('Noon draft, finer')").count(), 1)

    def test_the_camera_is_moved_kept_and_proven(self):
        self.open()
        self.small()
        self.key("k")
        self.wait("sivrel.mover.on && sivrel.mover.at")
        self.drag(0.5, 0.5, 0.42, 0.5)
        self.wait("sivrel.moments.samples > 0")
        self.assertRegex(self.page.evaluate("Object.keys(sivrel.recipe.edits).join()"), r"camera\.\w+\.at")
        self.page.keyboard.press("ArrowUp")
        self.page.click("[data-do=keep]")
        self.page.fill("#camera-sheet [name=name]", "low")
        self.page.click("#camera-sheet .ink")
        self.wait("sivrel.recipe.field('camera').value === 'low'")
        self.key("k")
        number = self.prove()
        self.done(number)
        self.assertIn("low", self.page.locator(f".card[data-proof='{number}']").inner_text())

    def test_the_main_loop_by_keys_alone(self):
        self.open()
        page, press = self.page, self.page.keyboard.press
        page.locator("[name='sampling.max']").focus()
        press("Control+a")
        page.keyboard.type("3")
        press("Tab")
        for name, value in (("width", "96"), ("height", "54")):
            page.locator(f"[name='{name}']").focus()
            press("Control+a")
            page.keyboard.type(value)
        press("Escape")
        self.assertIn("3 changes", page.locator("#changes").inner_text())
        page.keyboard.type("mo")
        self.wait("sivrel.chosen.a?.picture && sivrel.chosen.a.width === 96 && sivrel.chosen.b?.picture")
        number = page.evaluate("sivrel.chosen.a.id")
        page.keyboard.type("ms")
        page.wait_for_selector(f".card[data-proof='{number}'][data-starred]")
        page.keyboard.type("mn")
        page.keyboard.type("small one")
        press("Enter")
        page.wait_for_selector(f".card[data-proof='{number}'] b:has-text('small one')")
        page.locator("#stage").focus()
        page.keyboard.type("mf")
        page.keyboard.type("small one and starred")
        self.wait("document.querySelectorAll('.card').length === 1")
        press("Escape")
        self.wait("document.querySelectorAll('.card').length > 3")
        page.locator("#stage").focus()
        press("p")
        self.wait("sivrel.plate.pictures[1]?.finished")
        press("ArrowUp")
        self.wait(f"sivrel.chosen.a.id !== {number}")
        press("ArrowDown")
        self.wait(f"sivrel.chosen.a.id === {number}")
        press("Delete")
        self.wait(f"!document.querySelector('.card[data-proof=\"{number}\"]')")
        page.locator("#slip button").focus()
        press("Enter")
        page.wait_for_selector(f".card[data-proof='{number}']")

    def test_nothing_serious_for_those_who_do_not_see_or_point(self):
        axe = Axe()
        self.open("keepers-kitchen")
        proofs = self.page.evaluate("`${sivrel.chosen.b.id},${sivrel.chosen.a.id}`")
        addresses = ["", "shots/keepers-kitchen", f"shots/keepers-kitchen/compare?proofs={proofs}", "recipes", "caches"]
        for address in addresses:
            for paper in ("light", "dark"):
                with self.subTest(address, paper=paper):
                    self.page.goto(self.program.address + address)
                    self.page.evaluate(f"document.documentElement.dataset.paper = '{paper}'")
                    self.page.wait_for_timeout(600)
                    found = axe.run(self.page).response["violations"]
                    serious = [(one["id"], one["nodes"][0]["html"][:120]) for one in found if one["impact"] in ("serious", "critical")]
                    self.assertEqual(serious, [])


class Lost(BrowserTest):
    def test_when_the_server_goes_the_page_says_so_keeps_what_was_typed_and_goes_on(self):
        self.open()
        self.set("sampling.max", "3")
        self.set("width", "96")
        self.set("height", "54")
        port = int(re.search(r":(\d+)/", self.program.address)[1])
        self.program.stop()
        self.page.wait_for_selector("#lost:not([hidden])")
        self.page.locator("#stage").focus()
        self.page.keyboard.press("Enter")
        self.page.wait_for_selector("#problem:has-text('Nothing is lost')")
        self.program.start(port)
        self.page.wait_for_selector("#lost", state="hidden")
        self.assertEqual(self.page.locator("[name='sampling.max']").input_value(), "3")
        time.sleep(0.5)
        number = self.prove()
        self.wait(f"sivrel.chosen.a.id === {number} && sivrel.chosen.a.picture")
        self.errors = [error for error in self.errors if "fetch" not in error.lower()]
