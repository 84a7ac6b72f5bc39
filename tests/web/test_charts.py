"""Charts as SVG: where points land, what the axes say, and that names keep out of each other's way."""

import math
import re
import unittest
from xml.etree import ElementTree

from sivrel.web.tune.charts import BOTTOM, LEFT, NAME_HEIGHT, RIGHT, TOP, Chart, Line, svg

SVG_NUMBER = r"(-?[\d.]+)"


def drawn(*lines: Line, **how) -> ElementTree.Element:
    return ElementTree.fromstring(str(svg(Chart("Error over time", "seconds", "error", lines, **how))))


def of_class(tree: ElementTree.Element, tag: str, name: str) -> list[ElementTree.Element]:
    return [e for e in tree.iter(tag) if name in e.get("class", "").split()]


def circles(tree: ElementTree.Element) -> list[tuple[float, float]]:
    return [(float(e.get("cx")), float(e.get("cy"))) for e in tree.iter("circle")]


class ChartTest(unittest.TestCase):
    def test_equal_factors_are_equal_steps(self):
        tree = drawn(Line("brute force", [(1.0, 0.4), (2.0, 0.2), (4.0, 0.1), (8.0, 0.05)]))
        points = circles(tree)[:4]  # behind them the mark beside the name
        right = [b[0] - a[0] for a, b in zip(points, points[1:], strict=False)]
        down = [b[1] - a[1] for a, b in zip(points, points[1:], strict=False)]
        for steps in (right, down):
            self.assertGreater(min(steps), 0.0)
            self.assertLess(max(steps) - min(steps), 0.3)
        for x, y in points:
            self.assertTrue(LEFT <= x <= 676 - RIGHT and TOP <= y <= 300 - BOTTOM)

    def test_ticks_are_round_stand_at_their_values_and_leave_room(self):
        for low, high in ((0.013, 0.02), (0.5, 40.0), (1.0, 60000.0), (3.0, 3.2)):
            with self.subTest(low=low, high=high):
                tree = drawn(Line("one", [(low, 1.0), (high, 10.0)]))
                ticks = [(float(e.text), float(e.get("x"))) for e in of_class(tree, "text", "tick") if e.get("text-anchor") == "middle"]
                self.assertGreaterEqual(len(ticks), 2)
                for value, _ in ticks:
                    self.assertIn(round(value / 10.0 ** math.floor(math.log10(value) + 1e-9), 3), (1.0, 1.5, 2.0, 3.0, 5.0, 7.0))
                (x0, _), (x1, _) = circles(tree)[:2]
                scale = (x1 - x0) / math.log(high / low)
                for value, at in ticks:
                    self.assertAlmostEqual(at, x0 + scale * math.log(value / low), delta=1.0)
                places = sorted(at for _, at in ticks)
                self.assertGreater(min(b - a for a, b in zip(places, places[1:], strict=False)), 15.0)

    def test_shares_are_per_cent(self):
        ticks = [e.text for e in of_class(drawn(Line("one", [(1.0, 0.01), (2.0, 0.1)]), percent=True), "text", "tick")]
        self.assertIn("10 %", ticks)

    def test_names_stand_apart_however_close_the_lines_end(self):
        lines = [Line(f"way {k}", [(1.0, 0.1), (10.0, 0.0100 + 0.0001 * k)]) for k in range(9)]
        tree = drawn(*lines)
        names = of_class(tree, "text", "named")
        self.assertEqual(sorted(e.text for e in names), sorted(line.name for line in lines))
        heights = sorted(float(e.get("y")) for e in names)
        self.assertGreaterEqual(min(b - a for a, b in zip(heights, heights[1:], strict=False)), NAME_HEIGHT - 0.2)
        self.assertLessEqual(heights[-1], 300)

    def test_lines_are_distinguished_without_colour(self):
        tree = drawn(*[Line(f"way {k}", [(1.0, 0.1 * (k + 1)), (10.0, 0.01 * (k + 1))]) for k in range(6)])
        dashes = [e.get("stroke-dasharray") for e in of_class(tree, "path", "curve")]
        self.assertEqual(len(set(dashes)), 6)
        marks = [e for e in tree.iter() if "mark" in e.get("class", "").split()]
        # Three marks a line, two at its points and one at its name; each line has another shape.
        outlines = {re.sub(SVG_NUMBER, "n", e.get("d", "circle")) + str(len(e.get("d", ""))) for e in marks}
        self.assertEqual(len(marks), 18)
        self.assertGreaterEqual(len(outlines), 5)

    def test_a_band_lies_about_its_curve(self):
        curve = [(1.0, 0.1), (2.0, 0.07), (4.0, 0.05)]
        tree = drawn(Line("fit", curve, curve=curve, band=[(x, y / 1.3, y * 1.3) for x, y in curve]))
        band = of_class(tree, "path", "band")[0].get("d")
        around = [(float(x), float(y)) for x, y in re.findall(rf"{SVG_NUMBER} {SVG_NUMBER}", band)]
        middle = circles(tree)[:3]
        for k, (x, y) in enumerate(middle):
            self.assertAlmostEqual(around[k][0], x, delta=0.2)
            self.assertLess(around[k][1], y)  # its high side is further up
            self.assertGreater(around[-1 - k][1], y)

    def test_what_can_not_be_drawn_is_left_out(self):
        self.assertEqual(svg(Chart("t", "x", "y", [Line("one", [(1.0, 0.1)])])), "")
        self.assertEqual(svg(Chart("t", "x", "y", [Line("one", [(0.0, 0.1), (-1.0, 0.2), (3.0, 0.0)])])), "")
        tree = drawn(Line("one", [(0.0, 0.1), (1.0, 0.1), (2.0, 0.2)]), Line("nothing", []))
        self.assertEqual(len(circles(tree)), 3)

    def test_names_from_files_are_only_text(self):
        tree = drawn(Line("<b>&lamp", [(1.0, 0.1), (2.0, 0.2)]), upright=(1.5, "<i>enough"))
        self.assertIn("<b>&lamp", [e.text for e in of_class(tree, "text", "named")])
        at = float(of_class(tree, "text", "named")[0].get("x"))
        self.assertTrue(LEFT < at < 676 - RIGHT)


if __name__ == "__main__":
    unittest.main()
