"""A clinker-built rowing boat, bow towards +x, its keel at y = 0, 4.2 metres long."""

import numpy as np

from .parts import Part, box, curve, flipped, join, sheet, tube

Thing = dict[str, tuple[Part, str]]
LENGTH, BEAM, DEPTH = 4.2, 1.5, 0.56
STRAKES = 7
STATIONS = 42


def _half_beam(s: np.ndarray) -> np.ndarray:
    """Half the width at the sheer, by station s from stern 0 to bow 1."""
    return 0.5 * BEAM * np.clip(1.0 - np.abs((s - 0.42) / 0.6) ** 2.6, 0.0, 1.0) * np.where(s < 0.42, 1.0 - 0.28 * (1.0 - s / 0.42) ** 2, 1.0) + 0.012


def _section(s: np.ndarray, t: float) -> np.ndarray:
    """Points of the hull at girth t (0 keel, 1 sheer) for all stations, on the side z > 0."""
    x = (s - 0.5) * LENGTH + 0.16 * t * (s - 0.35)
    rise = 0.30 * np.clip((s - 0.62) / 0.38, 0, 1) ** 2 + 0.10 * np.clip((0.25 - s) / 0.25, 0, 1) ** 2
    keel = 0.34 * np.clip((s - 0.8) / 0.2, 0, 1) ** 2.4 + 0.05 * np.clip((0.2 - s) / 0.2, 0, 1) ** 2
    y = keel + (DEPTH + rise - keel) * t ** (1.35 - 0.35 * s)
    z = _half_beam(s) * np.sin(0.5 * np.pi * min(1.0, t * 1.02)) ** 0.85
    return np.stack([x, y, z], axis=1)


def _strakes(inside: bool) -> Part:
    """Planks that overlap: each one's lower edge stands out over the one below."""
    s = np.linspace(0.0, 1.0, STATIONS)
    parts = []
    for k in range(STRAKES):
        low, high = k / STRAKES, (k + 1.06) / STRAKES
        lines = []
        for j, t in enumerate(np.linspace(low, min(high, 1.0), 4)):
            line = _section(s, max(t, 1e-3))
            renderer = 0.014 * (1.0 - j / 3.0) if not inside else -0.014 - 0.004 * (j / 3.0)
            line = line + np.outer(np.ones(STATIONS), [0, 0, 1]) * renderer + np.outer(np.ones(STATIONS), [0, -0.3 * abs(renderer), 0])
            line[:, 2] = np.maximum(line[:, 2], 0.004)
            lines.append(line)
        if not inside:  # the edge that shows the plank's thickness
            lip = lines[0].copy()
            lip[:, 2] = np.maximum(lip[:, 2] - 0.014, 0.003)
            lines.insert(0, lip)
        side = sheet(np.array(lines))
        side = Part(side.points, side.faces, side.uvs + np.array([0.31 * k, 0.17 * k]))
        other = flipped(side.scaled(1, 1, -1))
        parts += [flipped(side), flipped(other)] if inside else [side, other]
    return join(*parts)


def boat() -> Thing:
    s = np.linspace(0.0, 1.0, STATIONS)
    sheer = _section(s, 1.0)
    outer = [tube(sheer * np.array([1, 1, k]) + np.array([0, 0.0, 0.006 * k]), 0.021, 8) for k in (-1, 1)]
    keel_line = _section(s, 1e-3) * np.array([1, 1, 0]) - np.array([0, 0.03, 0])
    keel = tube(keel_line, 0.032, 8)
    stem = tube(
        np.array([_section(np.array([1.0]), t)[0] * np.array([1, 1, 0]) + np.array([0.015, 0, 0]) for t in np.linspace(0.0, 1.08, 14)]), 0.03, 8
    )
    transom_side = np.array([_section(np.array([0.0]), t)[0] for t in np.linspace(1e-3, 1.0, 14)])
    transom = sheet(np.stack([transom_side, transom_side * np.array([1, 1, -1])]))
    transom = join(transom.moved(x=-0.012), flipped(transom.moved(x=0.012)))
    ribs = []
    for at in np.linspace(0.1, 0.9, 15):
        half = np.array([_section(np.array([at]), t)[0] for t in np.linspace(0.02, 0.97, 16)])
        half[:, 2] = np.maximum(half[:, 2] - 0.026, 0.0)
        ribs.append(tube(np.concatenate([half[::-1] * np.array([1, 1, -1]), half[1:]]), 0.011, 6))
    thwarts = []
    for at in (0.2, 0.42, 0.64):
        width = 2.0 * _half_beam(np.array([at]))[0] * 0.93
        thwarts.append(box(0.22, 0.026, float(width), 0.007, grain="z").moved((at - 0.5) * LENGTH + 0.02, 0.4, 0))
    floor = [box(1.9, 0.016, 0.1, 0.004, 1).moved(-0.25, 0.13, z) for z in (-0.24, -0.12, 0, 0.12, 0.24)]
    oar_blade = lambda sz: join(  # noqa: E731
        tube(np.array([(-1.35, 0, 0), (0.55, 0, 0)]), 0.021, 10),
        tube(
            curve([(0.5, 0, 0), (0.8, 0, 0), (1.25, 0, 0)], 14),
            np.array([0.021] + [0.03 + 0.05 * np.sin(np.pi * min(1, i / 12)) for i in range(12)] + [0.05]),
            12,
        ).scaled(1, 0.28, 1),
    ).moved(0.25, 0.445, 0.22 * sz)
    return {
        "Hull": (_strakes(False), "HullPaint"),
        "Inside": (join(_strakes(True), transom), "BoatWood"),
        "Keel": (join(keel, stem, *outer), "GunwalePaint"),
        "Ribs": (join(*ribs, *thwarts, *floor), "BoatWood"),
        "Oars": (join(oar_blade(-1).turned("y", 1.5), oar_blade(1).turned("y", -1.0)), "OarWood"),
    }
