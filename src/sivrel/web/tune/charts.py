"""Charts as SVG: lines over logarithmic axes, each identified by its mark and a name at its end, so that none needs colour."""

import math
from collections.abc import Sequence
from dataclasses import dataclass

from markupsafe import Markup, escape

LEFT, RIGHT, TOP, BOTTOM = 58, 186, 14, 40
LEAST_SPAN = 1.5
"""Least ratio of an axis' end to its start."""
DASHES = ("", "6 3", "2 3", "8 3 2 3", "12 4", "1 4", "4 4 1 4", "10 2 2 2", "3 6", "7 7")
NAME_HEIGHT = 14.0


@dataclass(frozen=True)
class Line:
    """A series. points: measured, with marks; curve: fitted; band: its low and high side, each (x, y); bold: highlighted."""

    name: str
    points: Sequence[tuple[float, float]]
    curve: Sequence[tuple[float, float]] = ()
    band: Sequence[tuple[float, float, float]] = ()
    bold: bool = False


@dataclass(frozen=True)
class Chart:
    """title; what x and y are, with unit; lines; upright: a marked x, and its label; percent: y is a share."""

    title: str
    x: str
    y: str
    lines: Sequence[Line]
    upright: tuple[float, str] | None = None
    percent: bool = False
    width: int = 676
    height: int = 300


def svg(chart: Chart) -> Markup:
    """The chart; an empty text if it has no two positive points."""
    points = [p for line in chart.lines for p in line.points if p[0] > 0.0 and p[1] > 0.0]
    if len(points) < 2:
        return Markup("")
    drawn = points + [p for line in chart.lines for p in line.curve if p[0] > 0.0 and p[1] > 0.0]
    x_axis = _Axis([p[0] for p in drawn] + ([chart.upright[0]] if chart.upright else []), LEFT, chart.width - RIGHT)
    y_axis = _Axis([p[1] for p in drawn], chart.height - BOTTOM, TOP)
    parts = [
        f'<svg class="logchart" viewBox="0 0 {chart.width} {chart.height}" role="img" aria-label="{escape(chart.title)}">',
        f"<title>{escape(chart.title)}</title>",
    ]
    for value in y_axis.ticks():
        at = y_axis.at(value)
        text = f"{value * 100:g} %" if chart.percent else f"{value:g}"
        parts.append(
            f'<path class="grid" d="M{LEFT} {at:.1f}H{chart.width - RIGHT}"/>'
            f'<text class="tick" x="{LEFT - 6}" y="{at + 4:.1f}" text-anchor="end">{text}</text>'
        )
    for value in x_axis.ticks():
        at = x_axis.at(value)
        parts.append(
            f'<path class="grid" d="M{at:.1f} {TOP}V{chart.height - BOTTOM}"/>'
            f'<text class="tick" x="{at:.1f}" y="{chart.height - BOTTOM + 15}" text-anchor="middle">{value:g}</text>'
        )
    parts.append(f'<text class="axis" x="{(LEFT + chart.width - RIGHT) / 2}" y="{chart.height - 6}" text-anchor="middle">{escape(chart.x)}</text>')
    parts.append(
        f'<text class="axis" transform="translate(13 {(TOP + chart.height - BOTTOM) / 2}) rotate(-90)" text-anchor="middle">{escape(chart.y)}</text>'
    )
    if chart.upright:
        at = x_axis.at(chart.upright[0])
        parts.append(
            f'<path class="upright" d="M{at:.1f} {TOP}V{chart.height - BOTTOM}"/>'
            f'<text class="named" x="{at + 4:.1f}" y="{TOP + 10}">{escape(chart.upright[1])}</text>'
        )
    ends = []
    for k, line in enumerate(chart.lines):
        way, end = _line(line, k, x_axis, y_axis)
        parts.append(way)
        if end is not None:
            ends.append((end, k, line))
    parts += _names(ends, chart)
    parts.append("</svg>")
    return Markup("".join(parts))


class _Axis:
    """A logarithmic axis from `start` to `end` in the picture."""

    def __init__(self, values: list[float], start: float, end: float) -> None:
        low, high = min(v for v in values if v > 0.0), max(values)
        if high / low < LEAST_SPAN:
            low, high = low / LEAST_SPAN, high * LEAST_SPAN
        pad = (high / low) ** 0.04
        self.low, self.high, self.start, self.end = math.log(low / pad), math.log(high * pad), start, end

    def at(self, value: float) -> float:
        share = (math.log(max(value, 1e-12)) - self.low) / (self.high - self.low)
        return self.start + min(max(share, -0.05), 1.05) * (self.end - self.start)

    def ticks(self) -> list[float]:
        """Ticks: 1, 2 and 5 of each decade if there is room, else powers of ten only."""
        tens = range(math.floor(self.low / math.log(10.0)) - 1, math.ceil(self.high / math.log(10.0)) + 1)
        found: list[float] = []
        for steps in ((1,), (1, 3), (1, 2, 5), (1, 1.5, 2, 3, 5, 7)):
            tried = [float(f"{s * 10.0**k:.3g}") for k in tens for s in steps if self.low <= math.log(s * 10.0**k) <= self.high]
            if len(tried) > abs(self.end - self.start) / 34.0 and len(found) >= 2:
                break
            found = tried
            if len(found) >= 5:
                break
        return found


def _line(line: Line, k: int, x_axis: _Axis, y_axis: _Axis) -> tuple[str, tuple[float, float] | None]:
    placed = [(x_axis.at(x), y_axis.at(y)) for x, y in line.points if x > 0.0 and y > 0.0]
    if not placed:
        return "", None
    parts = []
    if line.band:
        upper = [(x_axis.at(x), y_axis.at(high)) for x, _, high in line.band]
        lower = [(x_axis.at(x), y_axis.at(max(low, 1e-12))) for x, low, _ in reversed(line.band)]
        parts.append(f'<path class="band" d="{_path(upper + lower)}Z"/>')
    way = [(x_axis.at(x), y_axis.at(y)) for x, y in line.curve] or placed
    if len(way) > 1:
        dash = f' stroke-dasharray="{DASHES[k % len(DASHES)]}"' if DASHES[k % len(DASHES)] else ""
        parts.append(f'<path class="curve{" bold" if line.bold else ""}" d="{_path(way)}"{dash}/>')
    parts += [_mark(k, x, y, line.bold) for x, y in placed]
    return "".join(parts), way[-1]


def _path(points: list[tuple[float, float]]) -> str:
    return "M" + "L".join(f"{x:.1f} {y:.1f}" for x, y in points)


def _mark(k: int, x: float, y: float, bold: bool) -> str:
    """A different mark for each line: round, square, upright and lying triangle, diamond, cross; filled if highlighted."""
    r, kind = 4.0, k % 6
    css = f'class="mark{" bold" if bold else ""}"'
    if kind == 0:
        return f'<circle {css} cx="{x:.1f}" cy="{y:.1f}" r="{r}"/>'
    shapes = {
        1: [(-r, -r), (r, -r), (r, r), (-r, r)], 2: [(0, -r - 1), (r + 1, r), (-r - 1, r)], 3: [(0, r + 1), (r + 1, -r), (-r - 1, -r)],
        4: [(0, -r - 2), (r + 2, 0), (0, r + 2), (-r - 2, 0)], 5: [(-r, -r), (0, -1), (r, -r), (1, 0), (r, r), (0, 1), (-r, r), (-1, 0)],
    }  # fmt: skip
    return f'<path {css} d="{_path([(x + a, y + b) for a, b in shapes[kind]])}Z"/>'


def _names(ends: list[tuple[tuple[float, float], int, Line]], chart: Chart) -> list[str]:
    """Names in a column at the right, each as near to its line's end as possible, with its mark."""
    placed: list[float] = []
    parts: list[str] = []
    ends = sorted(ends, key=lambda end: end[0][1])
    for (_, y), _, _ in ends:
        at = max(y, placed[-1] + NAME_HEIGHT) if placed else max(y, TOP + 4.0)
        placed.append(at)
    over = (placed[-1] if placed else 0.0) - (chart.height - BOTTOM + 8.0)
    for ((x, y), k, line), at in zip(ends, placed, strict=True):
        at -= max(over, 0.0)
        left = chart.width - RIGHT + 16
        parts.append(f'<path class="lead" d="M{x + 6:.1f} {y:.1f}L{left - 8} {at:.1f}"/>{_mark(k, left, at, line.bold)}')
        parts.append(f'<text class="named{" bold" if line.bold else ""}" x="{left + 9}" y="{at + 4:.1f}">{escape(line.name)}</text>')
    return parts
