"""Hands and eyes on the bench: numbers, history, several proofs at once, explanations, the guide, small windows, print; in Chromium."""

from axe_playwright_python.sync_playwright import Axe

from tests.browser.test_bench import BrowserTest, poll_seldom


class Comfort(BrowserTest):
    def type(self, keys: str) -> None:
        self.page.locator("#stage").focus()
        self.page.keyboard.type(keys)

    def value(self, name: str) -> float:
        return float(self.page.input_value(f"[name='{name}']"))

    def test_numbers_step_by_ratio_and_go_back_by_a_double_click(self):
        page = self.page
        self.open("keepers-kitchen")
        self.set("sampling.max", "1000")
        field = page.locator("[name='sampling.max']")
        for _ in range(8):
            field.press("ArrowUp")
        self.assertAlmostEqual(self.value("sampling.max"), 2000, delta=60)
        field.press("Shift+ArrowDown")
        self.assertAlmostEqual(self.value("sampling.max"), 1000, delta=40)
        field.hover()
        page.mouse.wheel(0, -100)
        self.wait("Number(sivrel.recipe.field('sampling.max').value) > 1050")
        small = page.locator("[name='limits.diffuse_bounces']")
        small.focus()
        small.press("ArrowUp")
        self.assertEqual(self.value("limits.diffuse_bounces"), 9)
        field.dblclick()
        self.assertEqual(self.value("sampling.max"), 64)
        page.keyboard.press("Escape")
        # Lights' numbers do the same.
        page.keyboard.press("l")
        page.click("[data-open-light='Flame']")
        radius = page.locator("[data-edit='light.Flame.radius']")
        was = float(radius.input_value())
        radius.focus()
        radius.press("Shift+ArrowUp")
        self.assertAlmostEqual(float(page.evaluate("sivrel.recipe.edits['light.Flame.radius']")), 2 * was, delta=0.02 * was)

    def test_every_step_is_in_the_history(self):
        page = self.page
        self.open("slipway")
        self.assertFalse(page.locator("#history").is_visible())
        for name, value in (("sampling.max", "4"), ("shadows.rays", "3"), ("limits.total", "20")):
            self.set(name, value)
            page.locator(f"[name='{name}']").blur()
        page.click("#history summary")
        steps = page.locator("#history li button").all_inner_texts()
        self.assertEqual(len(steps), 4)
        self.assertIn("shadow rays 1 → 3", steps[2])
        page.locator("#history li button").nth(1).click()
        self.assertEqual((self.value("sampling.max"), self.value("shadows.rays")), (4, 1))
        self.assertEqual(page.locator("#history [aria-current]").inner_text(), steps[1])
        page.keyboard.press("Escape")
        page.keyboard.press("Control+Shift+z")
        self.assertEqual(self.value("shadows.rays"), 3)

    def test_settings_are_copied_to_another_shot(self):
        page = self.page
        self.open("keepers-kitchen")
        self.set("limits.diffuse_bounces", "11")
        page.locator("[name='limits.diffuse_bounces']").blur()
        self.type("mc")
        self.assertIn("settings copied", page.locator("#slip").inner_text())
        self.open("slipway")
        self.type("mv")
        self.assertIn("Pasted", page.locator("#slip").inner_text())
        self.assertEqual(self.value("limits.diffuse_bounces"), 11)
        page.keyboard.press("Control+z")
        self.assertNotEqual(self.value("limits.diffuse_bounces"), 11)

    def test_several_proofs_at_once(self):
        page = self.page
        self.open("slipway")
        numbers = [int(card.get_attribute("data-proof")) for card in page.locator(".card").all()[:2]]
        for number in numbers:
            page.click(f".card[data-proof='{number}'] .choose", modifiers=["Control"])
        self.assertIn("2 selected", page.locator("#selected").inner_text())
        self.assertNotIn(page.evaluate("sivrel.chosen.a.id"), numbers)  # selecting puts nothing on the plate
        page.click("#selected [data-lineage=starAll]")
        for number in numbers:
            page.wait_for_selector(f".card[data-proof='{number}'][data-starred]")
        page.click("#selected [data-lineage=removeAll]")
        self.wait(f'!document.querySelector(\'.card[data-proof="{numbers[0]}"], .card[data-proof="{numbers[1]}"]\')')
        page.click("#slip button")
        for number in numbers:
            page.wait_for_selector(f".card[data-proof='{number}']")
        for number in numbers:
            page.click(f".card[data-proof='{number}'] .choose", modifiers=["Control"])
        page.click("#selected [data-lineage=compare]")
        page.wait_for_url("**/compare?proofs=*")
        self.assertEqual(page.locator(".small-plate").count(), 2)

    def test_a_setting_explains_itself_on_this_picture(self):
        page = self.page
        self.open("keepers-kitchen")
        page.locator("[name='sampling.max']").focus()
        page.wait_for_selector("#about:visible svg")
        info = page.locator("#about").inner_text()
        self.assertIn("Four times the samples halve the grain", info)
        self.assertIn("In this picture camera rays takes", info)
        self.assertRegex(info, r"Proof \d+: 64 → 256 took")
        page.locator("#stage").focus()
        self.assertFalse(page.locator("#about").is_visible())

    def test_a_new_user_is_led_once_and_can_leave(self):
        page = self.page
        self.open("slipway")
        self.assertIn("1 of 5", page.locator("#guide").inner_text())
        for name, value in (("sampling.max", "2"), ("width", "64"), ("height", "36")):
            self.set(name, value)
        self.prove()
        self.wait("document.getElementById('guide').innerText.includes('2 of 5')")
        self.set("limits.diffuse_bounces", "1")
        self.prove()
        self.wait("document.getElementById('guide').innerText.includes('3 of 5')")
        self.assertTrue(page.locator("[data-do=wipe].pointed").is_visible())
        self.type("w")
        self.wait("document.getElementById('guide').innerText.includes('4 of 5')")
        page.click("[data-guide=end]")
        self.assertFalse(page.locator("#guide").is_visible())
        page.reload()
        self.wait("sivrel.plate.pictures[0]?.finished")
        self.assertFalse(page.locator("#guide").is_visible())
        self.type("gg")
        self.assertIn("1 of 5", page.locator("#guide").inner_text())


class Small(BrowserTest):
    def test_at_twice_the_size_everything_is_reached(self):
        """200 % zoom of 1280 x 800 is a window of 640 x 400."""
        page = self.page
        page.set_viewport_size({"width": 640, "height": 400})
        self.open("slipway")
        self.assertGreater(page.locator("#stage").bounding_box()["width"], 600)
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 640)
        for selector in ("#prove", "[name='sampling.max']", ".card[data-chosen=a]", "#leaf-findings", "#next-do"):
            page.locator(selector).scroll_into_view_if_needed()
            box = page.locator(selector).bounding_box()
            self.assertGreaterEqual(box["x"], 0, selector)
            self.assertLessEqual(box["x"] + box["width"], 641, selector)
        page.locator("#stage").focus()
        page.keyboard.type("gk")
        sheet = page.locator("#keys").bounding_box()
        self.assertLessEqual(sheet["width"], 640)
        page.keyboard.press("Escape")
        for paper in ("light", "dark"):
            page.evaluate(f"document.documentElement.dataset.paper = '{paper}'")
            found = Axe().run(page).response["violations"]
            self.assertEqual([(one["id"], one["nodes"][0]["html"][:100]) for one in found if one["impact"] in ("serious", "critical")], [])

    def test_the_theme_follows_the_system_until_one_is_chosen(self):
        page = self.page
        page.emulate_media(color_scheme="dark")
        self.open("slipway")
        paper = "document.documentElement.dataset.paper"
        self.assertEqual(page.evaluate(paper), "dark")
        page.emulate_media(color_scheme="light")
        self.wait(f"{paper} === 'light'")
        page.locator("#stage").focus()
        page.keyboard.type("ut")
        self.assertEqual(page.evaluate(paper), "dark")
        page.emulate_media(color_scheme="light", media="print")
        self.assertGreater(page.locator("#stage").bounding_box()["height"], 200)
        self.assertFalse(page.locator(".tools").is_visible())


class Touch(BrowserTest):
    """Fingers, on a tablet: nothing here uses a mouse or a keyboard."""

    def setUp(self):
        super().setUp()
        context = self.browser.new_context(viewport={"width": 1180, "height": 820}, has_touch=True, is_mobile=False)
        self.addCleanup(context.close)
        self.page = context.new_page()
        poll_seldom(self.page)
        self.page.set_default_timeout(60_000)
        self.page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.fingers = context.new_cdp_session(self.page)

    def touch(self, kind: str, *points: tuple[float, float]) -> None:
        at = [{"x": x, "y": y, "id": k} for k, (x, y) in enumerate(points)]
        self.fingers.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": at})

    def drag(self, *paths: tuple[tuple[float, float], tuple[float, float]]) -> None:
        """Fingers go down together, move in steps, and are lifted."""
        self.touch("touchStart", *(first for first, _ in paths))
        for k in range(1, 5):
            self.touch("touchMove", *((a[0] + (b[0] - a[0]) * k / 4, a[1] + (b[1] - a[1]) * k / 4) for a, b in paths))
        self.touch("touchEnd")
        # The page is given time to hear of it: events of fingers come with its frames.
        self.page.evaluate("() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")

    def test_two_fingers_zoom_one_moves_and_taps_do_the_rest(self):
        page = self.page
        self.open("slipway")
        box = page.locator("#stage").bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        before = page.evaluate("sivrel.plate.zoom")
        self.drag(((x - 50, y), (x - 150, y)), ((x + 50, y), (x + 150, y)))
        self.wait(f"sivrel.plate.zoom > {2.0 * before}")
        zoom = page.evaluate("sivrel.plate.zoom")
        self.assertAlmostEqual(zoom, 3.0 * before, delta=0.5 * before)
        left = page.evaluate("sivrel.plate.place()[0]")
        self.drag(((x, y), (x + 80, y + 20)))
        self.wait(f"sivrel.plate.place()[0] > {left + 60}")
        self.assertAlmostEqual(page.evaluate("sivrel.plate.place()[0]") - left, 80, delta=12)
        # A tool of the row, a region drawn by a finger, a card, the palette and an action of it.
        page.locator("[data-do=region]").first.tap()
        page.wait_for_selector("#stage.region")
        self.drag(((x - 60, y - 40), (x + 60, y + 40)))
        self.wait("sivrel.recipe.field('region').value.split(',').length === 4")
        page.locator(".card[data-proof='14']").tap()
        self.wait("sivrel.chosen.a.id === 14 && sivrel.plate.pictures[0].finished")
        page.locator("[data-palette-open]").first.tap()
        page.fill("#palette-field", "difference")
        page.locator("#palette-list [role=option]").first.tap()
        self.wait("sivrel.plate.mode !== 0 && !document.getElementById('palette').open")
