"""Real scale: rooms, objects of known size and the camera's height show whether the units are right."""

import re

import numpy as np

from .finding import Mend, SceneFinding, point, short
from .look import Look

KNOWN = {
    "door": (1.7, 2.6, 1), "chair": (0.7, 1.2, 1), "table": (0.4, 1.1, 1), "mug": (0.07, 0.14, 1), "cup": (0.05, 0.14, 1), "bottle": (0.15, 0.4, 1),
    "bed": (0.3, 1.3, 1), "sofa": (0.6, 1.2, 1), "stair": (0.5, 6.0, 1), "book": (0.1, 0.4, 3), "lamp": (0.15, 2.2, 1), "bench": (0.35, 1.2, 1),
}  # fmt: skip
"""Metres of height (axis 1), or of the longest side (3), of objects by a word in their name: Neufert, "Architects' Data", for furniture."""
ROOM = (1.8, 14.0)
"""Common heights from floor to ceiling in metres; a hall has more, a cupboard less."""
TYPICAL_ROOM, TYPICAL_EYE = 2.6, 1.5
EYE = (0.05, 60.0)
FACTORS = (0.001, 0.01, 0.0254, 0.1, 0.3048, 1.0 / 3.28084, 3.28084, 10.0, 39.3701, 100.0, 1000.0)
"""Scale factors of wrong units: millimetres, centimetres, inches, feet, and their inverses."""
LAMP, TYPICAL_LAMP = (0.005, 12.0), 0.4
"""Sizes of lamps and windows in metres."""
OFF = 2.2
"""A factor closer to one than this may be intended."""


def check(look: Look) -> list[SceneFinding]:
    signs: list[tuple[str, float]] = []  # what was measured, and the factor that would make it usual
    up = np.array([[0.0, 1.0, 0.0], [0.0, -1.0, 0.0]])
    some = look.air[:64]
    above, below = (look.cast(some, np.repeat(d[None], len(some), axis=0))[1] for d in up)
    both = (above < 1e29) & (below < 1e29)
    if look.inside and both.mean() > 0.5:
        height = float(np.percentile((above + below)[both], 80.0))
        if not ROOM[0] <= height <= ROOM[1]:
            signs.append((f"the room is {_metres(height)} high", TYPICAL_ROOM / height))
        else:
            signs.append((f"the room is {_metres(height)} high", 1.0))
    if below[0] < 1e29:
        eye = float(below[0])
        signs.append((f"the camera is {_metres(eye)} above the floor", 1.0 if EYE[0] <= eye <= EYE[1] else TYPICAL_EYE / eye))
    signs += _named(look) + _lamps(look)
    if not signs:
        return []
    factor = float(10.0 ** np.median([np.log10(f) for _, f in signs]))
    strong = sum(abs(np.log10(f)) > np.log10(OFF) for _, f in signs)
    if max(factor, 1.0 / factor) < OFF or strong < min(2, len(signs)):
        return []
    snapped = min(FACTORS, key=lambda f: abs(np.log10(f / factor)))
    low, high = look.scene.bounds()
    said = [words for words, f in signs if abs(np.log10(f)) > np.log10(OFF)]
    return [
        SceneFinding(
            "scale",
            f"The scene is not to scale: {'; '.join(said[:3])}.",
            "Every radius, spacing and offset is in metres: photons blur or find nothing, cache records are too far apart or too close, a bake "
            "makes too few patches or millions, and lamps fall off over the wrong distance.",
            harm=0.85,
            at=point(look.eye),
            box=(point(low), point(high)),
            evidence={"factor": round(factor, 5), "signs": {words: round(f, 4) for words, f in signs}},
            mends=[Mend(f"Scale everything by {snapped:.4g}.", {"scene.whole.scale": float(f"{snapped:.6g}")})],
        )
    ]


def _lamps(look: Look) -> list[tuple[str, float]]:
    """A sign if area lights have a size that no lamp or window has."""
    sizes = {"rect": lambda x: max(x.width, x.height), "disk": lambda x: max(x.width, x.height), "sphere": lambda x: 2.0 * x.radius}
    found = [(light.name, float(sizes[light.kind](light))) for light in look.lights if light.kind in sizes]
    if not found:
        return []
    name, size = sorted(found, key=lambda one: one[1])[len(found) // 2]
    return [(f"the light {short(name)} is {_metres(size)} across", 1.0 if LAMP[0] <= size <= LAMP[1] else TYPICAL_LAMP / size)]


def _named(look: Look) -> list[tuple[str, float]]:
    signs = []
    sizes: dict[str, list[np.ndarray]] = {}
    for mesh in look.meshes:
        parts = [part for part in mesh.name.split("/") if part]
        for depth, part in enumerate(parts):
            word = re.sub(r"[^a-z]", "", part.lower())
            kind = next((k for k in KNOWN if word == k or word.startswith(k) and word[len(k) :] in ("s", "near", "far", "left", "right")), None)
            if kind:
                sizes.setdefault("/".join(parts[: depth + 1]) + f"|{kind}", []).append(mesh.vertices.reshape(-1, 3))
                break
    for key, clouds in sizes.items():
        name, kind = key.split("|")
        cloud = np.concatenate(clouds)
        low, high, axis = KNOWN[kind]
        spans = np.ptp(cloud, axis=0)
        size = float(spans.max() if axis == 3 else spans[axis])
        if size > 0.0:
            # Several objects under one name make it larger, so only extreme sizes count.
            fits = low * 0.5 <= size <= high * 3.0
            signs.append((f"{short(name)} is {_metres(size)} {'long' if axis == 3 else 'high'}", 1.0 if fits else float(np.sqrt(low * high)) / size))
    return signs[:12]


def _metres(size: float) -> str:
    return f"{size:.2g} m" if size < 10.0 else f"{size:,.0f} m"
