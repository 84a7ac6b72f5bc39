"""Lights in Chromium: soloed, edited, dragged on the plan, asked about at a spot, undone."""

import unittest

from tests.browser.test_bench import BrowserTest


class Lights(BrowserTest):
    def small(self) -> None:
        for name, value in (("sampling.max", "4"), ("width", "160"), ("height", "90")):
            self.set(name, value)

    def edits(self) -> dict:
        return self.page.evaluate("sivrel.recipe.edits")

    def idle(self) -> None:
        """Until the worker has compiled: what is asked of it is answered then."""
        self.page.wait_for_function("() => fetch('/status.json').then((a) => a.json()).then((s) => s.worker.phase === 'idle')", polling=300)

    def test_solo_prove_and_compare(self):
        self.open("keepers-kitchen")
        page = self.page
        self.small()
        page.locator("#stage").focus()
        page.keyboard.press("l")
        page.click("[data-open-light='Flame']")
        page.wait_for_selector("[data-edit='light.Flame.radius']")
        page.locator("#stage").focus()
        page.keyboard.press("s")
        page.wait_for_selector("[data-toggle='light.Flame.solo'][aria-pressed=true]")
        self.assertEqual(self.edits(), {"light.Flame.solo": "on"})
        self.assertIn("4 changes", page.locator("#changes").inner_text())
        number = self.prove()
        self.wait("sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished")
        self.assertIn("Flame solo → on", page.locator(f".card[data-proof='{number}'] .said").inner_text().replace("  ", " "))
        # The passes of this proof are those of the one light.
        options = page.locator("#pass option").all_inner_texts()
        self.assertIn("light: Flame", options)
        self.assertNotIn("light: Sky", options)
        shares = page.locator(".light[data-name='Flame'] .share").first.inner_text()
        self.assertEqual(shares, "100")

    def test_edits_stand_in_red_and_are_undone(self):
        self.open("keepers-kitchen")
        page = self.page
        page.locator("#stage").focus()
        page.keyboard.press("l")
        page.click("[data-open-light='Flame']")
        field = page.locator("[data-edit='light.Flame.intensity']")
        field.fill("-4")
        self.assertIn("wrong", field.get_attribute("class"))
        field.fill("100")
        field.press("Tab")
        self.assertIn("changed", page.locator("[data-edit='light.Flame.intensity']").get_attribute("class"))
        self.assertEqual(page.locator("#edit-count").inner_text(), "1")
        page.locator("#stage").focus()
        page.keyboard.press("Control+z")
        self.assertEqual(self.edits(), {})
        self.wait("document.querySelector(\"[data-edit='light.Flame.intensity']\")?.value === '330'")
        page.keyboard.press("Control+Shift+z")
        self.assertEqual(self.edits(), {"light.Flame.intensity": "100"})

    def test_adding_a_light_and_taking_it_away(self):
        self.open()
        page = self.page
        page.locator("#stage").focus()
        page.keyboard.press("l")
        page.wait_for_selector("#add-kind")
        page.select_option("#add-kind", "card:leaves")
        page.fill("#add-name", "Tree")
        page.click("#add")
        box = page.locator("#stage").bounding_box()
        page.mouse.click(box["x"] + 0.5 * box["width"], box["y"] + 0.8 * box["height"])
        page.wait_for_selector("[data-edit='card.Tree.count']")
        self.assertEqual(self.edits()["card.Tree.pattern"], "leaves")
        self.assertLessEqual(set(self.edits()), {"card.Tree.pattern", "card.Tree.at", "card.Tree.towards"})
        page.click("[data-remove='card.Tree']")
        page.wait_for_selector("[data-edit='card.Tree.count']", state="detached")
        self.assertEqual(self.edits(), {})

    def test_a_lamp_is_put_where_the_picture_is_clicked(self):
        page = self.page
        self.open("keepers-kitchen")
        page.locator("#stage").focus()
        page.keyboard.press("l")
        page.select_option("#add-kind", "light:sphere")
        page.click("#add")
        self.assertTrue(page.locator("#placing").is_visible())
        self.assertEqual(page.evaluate("Object.keys(sivrel.recipe.edits).filter((key) => key.endsWith('.kind'))"), [])
        left, top, width, height = page.evaluate("sivrel.plate.place()")
        box = page.locator("#stage").bounding_box()
        page.mouse.click(box["x"] + left + width * 296 / 480, box["y"] + top + height * 189 / 270)
        self.wait("sivrel.recipe.edits['light.Sphere.at']")
        x, y, z = (float(v) for v in page.evaluate("sivrel.recipe.edits['light.Sphere.at']").split(","))
        self.assertGreater(y, 0.5)
        page.wait_for_selector("[data-edit='light.Sphere.at']")
        # A second one is called off; a sun is added at once, with its height and bearing.
        page.click("#add")
        page.locator("#stage").focus()
        page.keyboard.press("Escape")
        self.assertFalse(page.locator("#placing").is_visible())
        page.select_option("#add-kind", "light:sun")
        page.click("#add")
        page.wait_for_selector("[data-edit='light.Sun.elevation']")
        self.assertAlmostEqual(float(page.input_value("[data-edit='light.Sun.elevation']")), 53.1, delta=0.5)
        self.assertEqual(page.evaluate("sivrel.recipe.changedEdits().length"), 3)

    def test_plan_moves_a_light_and_a_spot_says_what_reaches_it(self):
        self.open("keepers-kitchen")
        page = self.page
        self.idle()
        page.locator("#stage").focus()
        page.keyboard.type("gp")
        grip = page.locator("#plan svg[data-view='0'] .lamp[data-light='Flame'] [data-part=body]")
        grip.wait_for()
        box = grip.bounding_box()
        x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 30, y, steps=3)
        page.mouse.up()
        at = [float(v) for v in self.edits()["light.Flame.at"].split(",")]
        self.assertAlmostEqual(at[1], 1.007, places=3)
        self.assertGreater(abs(at[0] - 2.52) + abs(at[2] - 1.66), 0.05)
        page.wait_for_selector("[data-edit='light.Flame.at'].changed")
        page.locator("#stage").focus()
        page.keyboard.type("gp")
        page.wait_for_selector("#plan", state="hidden")

        page.keyboard.press("q")
        stage, place = page.locator("#stage").bounding_box(), page.evaluate("sivrel.plate.place()")
        # A place on the table that sun and lamp reach.
        page.mouse.click(stage["x"] + place[0] + 296 / 480 * place[2], stage["y"] + place[1] + 189 / 270 * place[3])
        page.wait_for_selector("#reach li")
        self.assertIn("Reaching", page.locator("#reach").inner_text())
        self.assertIn("of the direct light", page.locator("#reach").inner_text())
        page.keyboard.press("Escape")
        page.wait_for_selector("#reach", state="hidden")

    def test_ledger_leads_to_the_source_and_limits_say_what_they_cost(self):
        self.open("keepers-kitchen")
        page = self.page
        self.small()
        self.set("limits.indirect_clamp", "0.5")
        self.set("limits.diffuse_bounces", "1")
        self.prove()
        self.wait("sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished")
        self.assertEqual(page.locator("#ledger .bar").count(), 2)
        meters = page.locator(".meters").inner_text()
        self.assertIn("The clamp at 0.5 removes", meters)
        self.assertIn("lies beyond 1 diffuse bounce ", meters)
        page.click("#ledger .bar:first-child button:has-text('Flame')")
        page.wait_for_selector("[data-edit='light.Flame.intensity']")
        self.assertEqual(page.input_value("#pass"), "light.Flame")
        page.click("#ledger .bar:first-child button:has-text('bounced')")
        self.wait("document.activeElement.name === 'sampling.gi_rays'")
        self.assertEqual(page.input_value("#pass"), "indirect")

    def test_hatching_and_a_map_to_look_at(self):
        self.open()
        page = self.page
        self.small()
        page.evaluate("sivrel.recipe.setEdits({'light.NoonSun.shadows.way': 'depth_map', 'light.NoonSun.shadows.resolution': '64'})")
        self.prove()
        self.wait("sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished")
        page.locator("#stage").focus()
        before = self.pixel(80, 80)
        page.keyboard.type("uh")
        self.wait("sivrel.plate.painter.hatched")
        seen = {tuple(self.pixel(80 + k, 80)) for k in range(6)}
        self.assertTrue(seen - {tuple(before)})
        page.keyboard.press("l")
        page.click("[data-open-light='NoonSun']")
        page.click("[data-map]")
        self.wait("document.querySelector('#map-sheet img').naturalWidth === 64")
        page.keyboard.press("Escape")


if __name__ == "__main__":
    unittest.main()
