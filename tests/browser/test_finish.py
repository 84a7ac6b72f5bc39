"""Finishing and the noise filter in Chromium: what is seen is what is saved."""

import base64

import numpy as np
from PIL import Image

from tests.browser.test_bench import BrowserTest

SLIDE = """([name, value]) => {
    const field = document.querySelector(`#finish [name=${name}]`);
    field.value = value;
    field.dispatchEvent(new Event("input", { bubbles: true }));
}"""
GRAIN = """(slot) => {
    const picture = sivrel.plate.pictures[slot];
    let sum = 0;
    for (let x = 20; x < 220; x++) sum += Math.abs(picture.read(x, 240)[1] - picture.read(x + 1, 240)[1]);
    return sum;
}"""


class Finish(BrowserTest):
    def shown(self) -> np.ndarray:
        """The plate's drawn pixels, uint8 [rows, columns, 3], one for each pixel of the frame."""
        flat = self.page.evaluate(
            """async () => {
                const { plate } = sivrel;
                plate.zoomTo(1); plate.centre = [0.5, 0.5]; plate.draw();
                await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
                const [left, top, width, height] = plate.place(), gl = plate.painter.gl;
                const bytes = new Uint8Array(width * height * 4);
                gl.readPixels(left, plate.canvas.height - top - height, width, height, gl.RGBA, gl.UNSIGNED_BYTE, bytes);
                let text = "";
                for (let i = 0; i < bytes.length; i += 4096) text += String.fromCharCode(...bytes.subarray(i, i + 4096));
                return [width, height, btoa(text)];
            }"""
        )
        width, height, coded = flat
        return np.frombuffer(base64.b64decode(coded), np.uint8).reshape(height, width, 4)[::-1, :, :3]

    def slide(self, **values: float) -> None:
        for name, value in values.items():
            self.page.evaluate(SLIDE, [name, value])
        self.page.wait_for_timeout(300)

    def test_the_saved_png_is_what_is_seen_within_one_level(self):
        page = self.page
        self.open("lamp-room")
        self.wait("sivrel.plate.pictures[0].pass === 'filtered'")
        page.keyboard.press("e")
        for values in (
            {},
            {"temperature": 4300, "tint": 0.2, "highlights": 0.6, "shadows": 0.7, "contrast": 1.2, "saturation": 1.3, "sharpening": 0.5},
        ):
            self.slide(**values)
            with page.expect_download() as saved:
                page.click("[data-finish=save]")
            self.assertRegex(saved.value.suggested_filename, r"^lamp-room-proof-21(-filtered)?\.png$")
            png = np.asarray(Image.open(saved.value.path()).convert("RGB")).astype(int)
            seen = self.shown().astype(int)
            self.assertEqual(seen.shape, png.shape)
            self.assertLessEqual(int(np.abs(seen - png).max()), 1)
            self.assertGreater(float(seen.std()), 10.0)

    def test_finishing_is_kept_measured_and_taken_back(self):
        page = self.page
        self.open("lamp-room")
        page.keyboard.press("e")
        with page.expect_response(lambda answer: answer.url.endswith("/finish")):
            self.slide(contrast=1.4)
        self.open("lamp-room")
        self.wait("sivrel.plate.finish.contrast === 1.4")
        page.keyboard.press("e")
        page.click("[data-finish=plain]")
        self.assertEqual(page.evaluate("sivrel.plate.finish.contrast"), 1)
        before = page.evaluate("sivrel.plate.exposure")
        page.keyboard.press("9")
        self.wait(f"sivrel.plate.exposure !== {before}")
        page.wait_for_timeout(1200)

    def test_filtered_beside_unfiltered(self):
        page = self.page
        self.open("lamp-room")
        page.evaluate("localStorage.setItem('sivrel:filter-drafts', 'no')")
        self.open("lamp-room")
        page.keyboard.press("n")
        self.wait("sivrel.plate.pictures[0]?.pass === 'filtered' && sivrel.plate.pictures[1]?.pass === 'beauty' && sivrel.chosen.b?.unfiltered")
        self.assertIn("unfiltered", page.locator("#caption-b").text_content())
        self.wait("/smeared|removed only noise/.test(document.getElementById('filter-note').textContent)")
        self.assertLess(page.evaluate(GRAIN, 0), 0.8 * page.evaluate(GRAIN, 1))
        page.keyboard.press("n")
        self.wait("document.getElementById('pass').value === 'beauty' && !sivrel.chosen.b?.unfiltered")

    def test_drafts_are_shown_filtered_if_wanted(self):
        page = self.page
        self.open("lamp-room")
        page.keyboard.press("e")
        page.check("#filter-drafts")
        self.wait("document.getElementById('pass').value === 'filtered' && sivrel.plate.pictures[0]?.pass === 'filtered'")
        self.wait("document.getElementById('filter-note').textContent.includes('Filtered by')")
        page.locator("#filter-drafts").blur()
        page.keyboard.press("n")
        self.wait("document.getElementById('pass').value === 'beauty' && sivrel.plate.pictures[0]?.pass === 'beauty'")
        self.open("lamp-room")
        self.wait("sivrel.plate.pictures[0]?.pass === 'filtered'")
        page.keyboard.press("e")
        page.uncheck("#filter-drafts")

    def test_a_running_render_is_seen_filtered_or_as_it_is(self):
        page = self.page
        self.open("keepers-kitchen")
        self.set("sampling.max", "200")
        self.prove()
        seen = "!sivrel.chosen.a.picture && sivrel.plate.pictures[0].halves.some((half) => half > 0)"
        self.wait(f"document.getElementById('caption-a').textContent.includes('filtered') && {seen}")
        self.assertFalse(page.evaluate("sivrel.plate.pictures[0].known.some((known) => known)"), "no tile is drawn over what is filtered")
        page.keyboard.press("n")
        self.wait("sivrel.plate.pictures[0].known.some((known) => known)")
        self.assertNotIn("filtered", page.locator("#caption-a").text_content())
        page.keyboard.press("n")
        self.wait(f"document.getElementById('caption-a').textContent.includes('filtered') && {seen}")
        page.keyboard.press("Escape")
        self.wait("document.getElementById('progress-text').textContent.includes('cancelled')")

    def test_a_source_of_the_ledger_shows_its_pass_and_setting(self):
        page = self.page
        self.open("lamp-room")
        page.locator(".bar button", has_text="bounced").first.click()
        self.wait("document.getElementById('pass').value === 'indirect'")
        self.assertEqual(page.evaluate("document.activeElement.name"), "sampling.gi_rays")
