"""Moving shots in Chromium: frames rendered, played, judged; a cache that flickers is found, its cause named, and the shared one cures it."""

from pathlib import Path

from axe_playwright_python.sync_playwright import Axe

from tests.browser.test_bench import BrowserTest
from tests.moving import write_usda


class Sequences(BrowserTest):
    def new(self, **fields: str) -> int:
        """Render a sequence with the form, to its end; its number."""
        page = self.page
        before = page.evaluate("sivrel.reels[0]?.state.id ?? 0")
        page.click("#leaf-new")
        for name, value in fields.items():
            field = page.locator(f"#new-form [name='{name}']")
            field.select_option(value) if field.evaluate("one => one.tagName") == "SELECT" else field.fill(value)
        page.click("#new-form button.ink")
        self.wait(f"sivrel.reels[0]?.state.id > {before}")
        return page.evaluate("sivrel.reels[0].state.id")

    def level(self, number: int) -> float:
        self.wait(f"sivrel.reels[0].state.id === {number} && sivrel.reels[0].frames.slice(1, -1).every((one) => one.flicker)")
        return self.page.evaluate("sivrel.reels[0].state.flicker.level")

    def no_axe_problems(self) -> None:
        problems = [v for v in Axe().run(self.page).response["violations"] if v["impact"] in ("serious", "critical")]
        self.assertEqual(problems, [])

    def test_a_cache_made_for_each_frame_is_found_and_the_shared_one_cures_it(self):
        page = self.page
        scene = write_usda(Path(self.folder.name) / "walk.usda", frames=6)
        page.goto(self.program.address)
        page.fill("[name=path]", str(scene))
        page.press("[name=path]", "Enter")
        page.wait_for_url("**/shots/walk*")
        page.click("#to-sequences")
        page.wait_for_url("**/sequences*")
        self.assertIn("No frames are rendered yet", page.locator(".lineage").inner_text())
        recipe = page.evaluate(
            """async () => {
                const values = { "gi.seen": "irradiance_cache", "irradiance_cache.rays": "16", "shadows.rays": "4", "sampling.max": "24" };
                const body = new URLSearchParams({ recipe_name: "Few rays", reason: "", ...values });
                const headers = { "X-CSRFToken": document.querySelector("meta[name=csrf]").content };
                return (await (await fetch("/recipes", { method: "POST", headers, body })).json()).id;
            }"""
        )
        page.reload()
        self.wait("sivrel.reels")
        fields = {"frames": "1-6", "from": f"own:{recipe}", "width": "96", "height": "54"}
        first = self.new(**fields)
        each = self.level(first)
        self.assertGreater(each, 3.0)
        self.assertIn("its flicker is strong", page.locator("#says").inner_text())
        self.no_axe_problems()

        # Played from memory, frame by frame, and only a range.
        self.wait("sivrel.reels[0].loaded[0] === 6")
        page.locator("#stage").focus()
        page.keyboard.press(" ")
        self.wait("sivrel.clock.playing")
        page.keyboard.press(" ")
        page.keyboard.press("Home")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("i")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("o")
        self.assertEqual(page.evaluate("sivrel.clock.range"), [1, 3])
        page.keyboard.press("j")
        self.assertEqual(page.evaluate("sivrel.clock.time"), page.evaluate("sivrel.reels[0].state.flicker.worst"))
        self.assertGreater(page.locator("#places-marks .found").count(), 0)
        page.keyboard.press("m")
        self.wait("sivrel.plate.pictures[0].pass === 'flicker'")
        page.keyboard.press("m")
        self.wait("sivrel.plate.pictures[0].pass === 'beauty'")

        # Its cause is proven, and the remedy rendered beside it.
        page.click("[data-do=cause]")
        self.wait("document.querySelector('#cause .suspects')")
        self.assertIn("irradiance cache made anew for each frame confirmed", page.locator("#cause .suspects li").first.inner_text())
        page.locator("#cause .remedies li", has_text="share the caches").get_by_role("button").click()
        self.wait(f"sivrel.reels[0].state.id > {first} && sivrel.reels[1]?.state.id === {first}")
        cured = self.level(page.evaluate("sivrel.reels[0].state.id"))
        self.assertLess(cured, 0.5 * each)
        self.assertRegex(page.locator("#promise").inner_text(), r"Where it was worst, flicker .* (as|better than|less than) promised")
        page.locator("#stage").focus()
        page.keyboard.press("w")
        self.wait("sivrel.plate.mode === 2 && sivrel.plate.pictures[1]")
        self.no_axe_problems()

        # Filtered through time, and written as a film.
        page.keyboard.press("n")
        self.wait("sivrel.plate.pictures[0].pass === 'in_time'")
        self.assertLess(page.evaluate("sivrel.reels[0].state.in_time.level"), cured)
        page.click("#leaf-out")
        page.check("#out-filtered")
        with page.expect_download() as loaded:
            page.click("[data-export=webm]")
        self.assertTrue(loaded.value.suggested_filename.endswith(".webm"))
        self.assertGreater(Path(loaded.value.path()).stat().st_size, 1000)

        # Predicted without rendering the frames.
        page.click("#leaf-new")
        page.click("[data-do=predict]")
        self.wait("/times what is just seen|would flicker/.test(document.getElementById('predicted').textContent)")
        # A mistake is said, and what was typed stays.
        page.fill("#new-form [name=frames]", "5-99")
        page.click("#new-form button.ink")
        self.wait("document.getElementById('problem').textContent.includes('frames 1 to 6')")
        self.assertEqual(page.locator("#new-form [name=frames]").input_value(), "5-99")
