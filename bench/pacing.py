"""How evenly the plate moves in Chromium: times between the pictures while it is panned, wiped and finished. Without a graphics
processor Chromium paints with the processor, which is what is measured on such a machine."""

import shutil
import statistics

from playwright.sync_api import sync_playwright

from .pages import SHOT, site

SIZES = ((480, 270), (1280, 720), (1920, 1080), (3840, 2160))
FRAMES = 40
"""Pictures of each movement."""
DROPPED = 1.5
"""Times the screen's own interval from which a picture is late."""
ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--use-angle=swiftshader", "--enable-unsafe-swiftshader"]
LOAD = """async ([width, height]) => {
  const { Picture } = await import('/static/js/plate.js');
  const { plate } = sivrel, window = [0, 0, width, height], names = ['a', 'b'];
  for (const slot of [0, 1]) {
    const halves = new Uint16Array(width * height * 4);
    for (let k = 0; k < halves.length; k++) halves[k] = k % 4 === 3 ? 0x3c00 : 0x3000 + ((k * 2654435761 + slot * 977) >>> 22);
    plate.setPicture(slot, new Picture({ width, height, window, halves, digest: names[slot] }));
  }
  plate.mode = 0;
  plate.fit();
}"""
MOVE = """async ([what, frames]) => {
  const { plate } = sivrel, times = [];
  const acts = {
    nothing: () => {},
    pan: (k) => plate.move(k % 60 < 30 ? 3 : -3, k % 40 < 20 ? 2 : -2),
    wipe: (k) => ((plate.mode = 2), (plate.wipe = 0.5 + 0.4 * Math.sin(k / 9)), plate.draw()),
    finish: (k) => ((plate.finish = { ...plate.finish, white: [1 + 0.1 * Math.sin(k / 9), 0, 0, 0, 1, 0, 0, 0, 1], shadows: 0.5 }), plate.draw()),
  };
  if (what === 'pan') plate.zoomTo(1.5 * plate.zoom);
  for (let k = 0; k < frames; k++) {
    times.push(await new Promise((on) => requestAnimationFrame(on)));
    acts[what](k);
  }
  return times.slice(1).map((time, k) => time - times[k]);
}"""


def pacing() -> str:
    """Median and 95th percentile of the time between two pictures of the plate at 1280 x 800, in ms, and the share that came late."""
    lines = []
    with site() as at, sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{at.address}/shots/{SHOT}")
        page.wait_for_function("() => window.sivrel?.plate.pictures[0]?.finished")
        page.wait_for_timeout(2000)
        base = statistics.median(page.evaluate(MOVE, ["nothing", FRAMES]))
        for width, height in SIZES:
            page.evaluate(LOAD, [width, height])
            page.wait_for_timeout(500)
            for what in ("pan", "wipe", "finish"):
                times = sorted(page.evaluate(MOVE, [what, FRAMES]))
                late = sum(time > DROPPED * base for time in times) / len(times)
                lines.append(f"{what} {width}x{height}: {statistics.median(times):.0f} / {times[int(0.95 * len(times))]:.0f} ms, {late:.0%} late")
        browser.close()
    return f"screen {base:.1f} ms; " + "; ".join(lines)
