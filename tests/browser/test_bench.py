"""The whole loop in Chromium, over the real program with its worker."""

import functools
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from playwright.sync_api import Page, TimeoutError, sync_playwright

CHROMIUM = shutil.which("chromium")
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip
POLL = 150
PATIENCE = 900_000  # milliseconds; the first render may wait for the compiler, on a busy machine


def poll_seldom(page: Page) -> None:
    """Let a page look a few times a second for what is waited for. At every frame, as is the default, it takes a third of a core for drawing frames
    in which nothing has changed."""
    page.wait_for_function = functools.partial(page.wait_for_function, polling=POLL)  # type: ignore[method-assign]


class Program:
    """`sivrel demo` on a free port."""

    def __init__(self, data: Path) -> None:
        self.data = data
        self.start()

    def start(self, port: int = 0) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "-m", "sivrel", "demo", "--port", str(port), "--data", str(self.data)], stderr=subprocess.PIPE, text=True
        )
        for line in self.process.stderr:
            found = re.search(r"http://\S+:\d+/", line)
            if found:
                self.address = found[0]
                break
        # Keep the pipe empty, or the program would come to wait for it.
        self.drain = subprocess.Popen(["cat"], stdin=self.process.stderr, stdout=subprocess.DEVNULL)

    def stop(self, how: int = signal.SIGTERM) -> None:
        self.process.send_signal(how)
        self.process.wait(timeout=20)
        self.process.stderr.close()
        self.drain.wait(timeout=20)


class BrowserTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        if CHROMIUM is None:
            raise unittest.SkipTest("there is no Chromium; `make test` installs it")
        cls.folder = tempfile.TemporaryDirectory()
        cls.program = Program(Path(cls.folder.name))
        cls.playwright = sync_playwright().start()
        cls.browser = cls.playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)

    @classmethod
    def tearDownClass(cls):
        cls.browser.close()
        cls.playwright.stop()
        cls.program.stop()
        cls.folder.cleanup()

    def setUp(self):
        self.page = self.browser.new_page(viewport={"width": 1280, "height": 800})
        self.page.set_default_timeout(PATIENCE)
        poll_seldom(self.page)
        self.errors: list[str] = []
        self.page.on("pageerror", lambda error: self.errors.append(str(error)))
        self.page.on("request", lambda request: self.outside(request.url))
        self.failed: list[str] = []
        self.page.on("requestfailed", lambda request: self.failed.append(f"{request.url} {request.failure}"))
        self.page.on("response", lambda answer: answer.status >= 400 and self.failed.append(f"{answer.url} {answer.status}"))
        self.addCleanup(self.page.close)

    def outside(self, url: str) -> None:
        if not url.startswith((self.program.address, "data:", "blob:")):
            self.errors.append(f"the page asked for {url}")

    def tearDown(self):
        self.assertEqual(self.errors, [])

    def open(self, shot: str = "slipway") -> None:
        """Open a shot at one of the proofs that ship with it (deep, bow, glass), whatever other tests have proven since."""
        number = {"keepers-kitchen": 9, "slipway": 18, "lamp-room": 21}[shot]
        self.page.goto(f"{self.program.address}shots/{shot}?proof={number}")
        self.wait(f"sivrel.plate.pictures[0]?.finished && sivrel.chosen.a.id === {number}")

    def wait(self, condition: str):
        try:
            return self.page.wait_for_function(f"() => window.sivrel && ({condition})", timeout=PATIENCE)
        except TimeoutError as late:
            raise AssertionError(f"{condition} did not come true. The page then: {self.state()}") from late

    def state(self) -> str:
        """What the page shows, for the message of a failure."""
        said = self.page.evaluate("""() => ({
            proof: window.sivrel?.chosen.a?.id, state: window.sivrel?.chosen.a?.state, picture: window.sivrel?.chosen.a?.picture,
            plate: window.sivrel?.plate.pictures.map((one) => one && [one.id, one.pass, one.finished]), moments: window.sivrel?.moments.shown,
            progress: document.getElementById("progress-text")?.textContent, slip: document.getElementById("slip")?.textContent,
            status: document.querySelector(".status")?.textContent })""")
        return f"{self.page.url} {said} {self.errors} {self.failed}"

    def pixel(self, x: int, y: int) -> list[int]:
        """Colour of the drawn plate at a pixel of the frame."""
        return self.page.evaluate(
            """async ([x, y]) => {
                const { plate } = sivrel;
                plate.draw();
                await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
                const [left, top] = plate.place();
                const gl = plate.painter.gl, bytes = new Uint8Array(4);
                const at = [left + (x + 0.5) * plate.zoom, plate.canvas.height - 1 - (top + (y + 0.5) * plate.zoom)];
                gl.readPixels(...at, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, bytes);
                return [...bytes];
            }""",
            [x, y],
        )

    def set(self, name: str, value: str) -> None:
        self.page.fill(f"[name='{name}']", value)

    def prove(self) -> int:
        """Press the key; the number of the proof that is then on the plate."""
        before = self.page.evaluate("sivrel.chosen.a?.id ?? 0")
        self.page.locator("#stage").focus()
        self.page.keyboard.press("Enter")
        self.wait(f"sivrel.chosen.a?.id > {before}")
        return self.page.evaluate("sivrel.chosen.a.id")


class Loop(BrowserTest):
    def test_open_render_cancel_change_render_compare(self):
        page = self.page
        page.goto(self.program.address)
        self.assertEqual(page.locator(".shots li").count(), 5)  # four shots, and what is opened
        page.click(".shots >> text=Slipway")  # the status may say “reading Slipway”
        self.wait("sivrel.plate.pictures[0]?.finished")
        self.assertGreaterEqual(page.locator(".card").count(), 6)

        # A long render: tiles arrive; cancel; it says how far it came.
        self.set("sampling.max", "20000")
        self.set("width", "256")
        self.set("height", "144")
        long = self.prove()
        page.wait_for_selector("#progress:not([hidden])")
        self.wait("/tiles/.test(document.getElementById('progress-text').textContent)")
        page.locator("#stage").focus()
        page.keyboard.press("Escape")
        self.wait("/cancelled at/.test(document.getElementById('progress-text').textContent)")
        page.wait_for_selector(f".card[data-proof='{long}'][data-state='cancelled']")

        # A quick one, tile by tile, to its end.
        self.set("sampling.max", "4")
        first = self.prove()
        self.wait("sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished")
        self.assertNotIn("changed", page.locator("[name='sampling.max']").get_attribute("class") or "")

        # One unproven change is red, and is named on the card.
        page.select_option("[name='gi.seen']", "off")
        self.assertIn("changed", page.locator("[name='gi.seen']").get_attribute("class"))
        self.assertFalse(page.locator("[name='limits.diffuse_bounces']").is_visible(), "what is not in use is not shown")
        self.assertIn("1 change", page.locator("#changes").inner_text())
        second = self.prove()
        self.wait("sivrel.chosen.a.picture && sivrel.plate.pictures[0].finished && sivrel.plate.pictures[1]")
        self.assertEqual(page.evaluate("sivrel.chosen.b.id"), first)
        self.assertIn("brute force → nothing", page.locator(f".card[data-proof='{second}']").inner_text())
        for slot in "ab":
            self.assertRegex(page.locator(f"#caption-{slot}").inner_text(), r"\d s ")
        self.wait("document.getElementById('verdict').textContent.includes('visible difference')")

        # Flip while held, wipe, difference: read off the plate itself. Both are drafts, which are shown filtered.
        self.wait("sivrel.plate.pictures[0]?.pass === 'filtered' && sivrel.plate.pictures[1]?.pass === 'filtered'")
        spot = page.evaluate(
            """() => { const [a, b] = sivrel.plate.pictures;
              for (let y = 140; y > 8; y--) for (let x = 8; x < 248; x++) {
                const p = a.read(x, y), q = b.read(x, y);
                if (Math.abs(p[1] - q[1]) > 0.3 && Math.min(p[1], q[1]) < 0.3) return [x, y]; }
              return null; }"""
        )
        self.assertIsNotNone(spot)
        x, y = spot
        mine = self.pixel(x, y)
        page.locator("#stage").focus()
        page.keyboard.down("f")
        other = self.pixel(x, y)
        page.keyboard.up("f")
        self.assertNotEqual(mine, other)
        self.assertEqual(self.pixel(x, y), mine)
        page.keyboard.press("w")
        page.evaluate("sivrel.plate.wipe = 0")
        self.assertEqual(self.pixel(x, y), other)
        page.evaluate("sivrel.plate.wipe = 1")
        self.assertEqual(self.pixel(x, y), mine)
        page.keyboard.press("d")
        difference = self.pixel(x, y)
        self.assertGreater(max(abs(c - 128) for c in difference[:3]), 20)
        page.keyboard.press("Escape")
        self.assertEqual(self.pixel(x, y), mine)

    def test_exposure_zoom_and_readout(self):
        self.open()
        page = self.page
        self.wait("sivrel.plate.pictures[0].pass === 'filtered'")
        before = self.pixel(240, 200)
        page.locator("#stage").focus()
        for _ in range(6):
            page.keyboard.press("6")
        brighter = self.pixel(240, 200)
        self.assertGreater(sum(brighter[:3]), sum(before[:3]))
        page.keyboard.press("5")
        self.assertEqual(self.pixel(240, 200), before)
        for _ in range(6):
            page.keyboard.press("3")
        self.assertIn("%", page.locator("#zoom").inner_text())
        self.assertGreater(page.evaluate("sivrel.plate.zoom"), 8)
        box = page.locator("#stage").bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        self.wait("document.getElementById('probe').textContent.includes('lum')")
        at = page.evaluate("sivrel.plate.probe.map(Math.floor)")
        linear = page.evaluate("([x, y]) => sivrel.plate.pictures[0].read(x, y).map((v) => v.toPrecision(3)).join(' ')", at)
        self.assertIn(f"{at[0]},{at[1]}", page.locator("#probe").inner_text())
        self.assertIn(f"A {linear}", page.locator("#probe").inner_text())

    def test_region_by_dragging(self):
        self.open()
        page = self.page
        page.locator("#stage").focus()
        page.keyboard.press("r")
        corners = page.evaluate("(() => { const [l, t, w, h] = sivrel.plate.place(); return [l + w / 4, t + h / 4, l + w / 2, t + h / 2]; })()")
        box = page.locator("#stage").bounding_box()
        page.mouse.move(box["x"] + corners[0], box["y"] + corners[1])
        page.mouse.down()
        page.mouse.move(box["x"] + corners[2], box["y"] + corners[3], steps=4)
        page.mouse.up()
        region = [int(v) for v in page.input_value("[name='region']").split(",")]
        width, height = (int(page.input_value(f"[name='{name}']")) for name in ("width", "height"))
        for got, expected in zip(region, (width / 4, height / 4, width / 2, height / 2), strict=True):
            self.assertAlmostEqual(got, expected, delta=2)
        self.set("sampling.max", "1")
        self.prove()
        self.wait("sivrel.chosen.a.picture")
        self.assertEqual(page.evaluate("sivrel.chosen.a.window"), region)

    def test_bad_input_loses_nothing(self):
        self.open()
        page = self.page
        self.set("sampling.max", "0")
        self.set("limits.diffuse_bounces", "7")
        page.click("#prove")
        page.wait_for_selector("#problem .problem")
        self.assertIn("from 1 to 65536", page.locator("#problem").inner_text())
        self.assertEqual(page.input_value("[name='limits.diffuse_bounces']"), "7")
        self.assertEqual(page.input_value("[name='sampling.max']"), "0")

    def test_keys_sheet_and_theme(self):
        self.open()
        page = self.page
        page.locator("#stage").focus()
        page.keyboard.type("gk")
        self.assertTrue(page.locator("#keys").is_visible())
        page.keyboard.press("Escape")
        before = self.pixel(3, 3)
        page.keyboard.type("ut")
        self.assertEqual(page.evaluate("document.documentElement.dataset.paper"), "dark")
        self.assertEqual(self.pixel(3, 3), before, "the picture does not change with the paper")

    def test_without_webgl_the_server_draws(self):
        page = self.page
        page.add_init_script(
            """const get = HTMLCanvasElement.prototype.getContext;
            HTMLCanvasElement.prototype.getContext = function (kind, ...rest) {
              return kind === "webgl2" ? null : get.call(this, kind, ...rest); };"""
        )
        self.open()
        middle = """(() => { const { canvas, painter } = sivrel.plate;
          return [...painter.context.getImageData(canvas.width / 2, canvas.height / 2, 1, 1).data].slice(0, 3).join(); })()"""
        self.wait(f"{middle} !== '118,118,118' && {middle} !== '0,0,0'")
        before = page.evaluate(middle)
        page.locator("#stage").focus()
        for _ in range(6):
            page.keyboard.press("6")
        self.wait(f"{middle} !== '{before}'")

    def test_the_settings_of_a_way_are_shown_where_it_is_in_use(self):
        page = self.page
        self.open()
        count = page.locator("[name='photon_map.count']")
        self.assertFalse(count.is_visible())
        page.select_option("[name='gi.beyond']", "photon_map")
        self.assertTrue(count.is_visible())
        self.assertFalse(page.locator("[name='photon_map.final_gather_rays']").is_visible())
        page.select_option("[name='gi.seen']", "photon_map")
        self.assertTrue(page.locator("[name='photon_map.final_gather_rays']").is_visible())
        self.assertFalse(page.locator("[name='gi.beyond']").is_visible())
        page.select_option("[name='gi.seen']", "ambient")
        self.assertTrue(page.locator("[name='ambient.level']").is_visible())
        self.assertFalse(page.locator("legend", has_text="How photons serve").is_visible())


class Restart(BrowserTest):
    def test_killed_in_the_middle_the_job_goes_on(self):
        self.open("keepers-kitchen")
        page = self.page
        self.set("sampling.max", "64")
        self.set("width", "240")
        self.set("height", "135")
        number = self.prove()
        self.wait("/^[3-9]|^\\d\\d/.test(document.getElementById('progress-text').textContent)")
        self.program.stop(signal.SIGKILL)
        port = int(self.program.address.rstrip("/").rsplit(":", 1)[1])
        time.sleep(1.0)
        self.program.process = subprocess.Popen(
            [sys.executable, "-m", "sivrel", "demo", "--port", str(port), "--data", str(self.program.data)], stderr=subprocess.PIPE, text=True
        )
        self.program.drain = subprocess.Popen(["cat"], stdin=self.program.process.stderr, stdout=subprocess.DEVNULL)
        # The page that stayed open goes on watching by itself.
        self.wait("sivrel.chosen.a.picture")
        self.assertEqual(page.evaluate("sivrel.chosen.a.id"), number)


if __name__ == "__main__":
    unittest.main()
