"""A panorama with a sun in it, together with a sun light: two shadows unless they agree."""

from typing import Any

import numpy as np

from ..lights.panorama import direction_of
from ..scene.model import Light
from .finding import Mend, SceneFinding, point, short
from .look import Look

SUN_SHARE = 0.12
"""Share of a panorama's light within WIDE of its brightest point, above which that is a sun (or a window, or a lamp)."""
WIDE, AGREE = 4.0, 3.0
"""Degrees."""


def check(look: Look) -> list[SceneFinding]:
    lights = look.lights
    suns = [light for light in lights if light.kind == "sun"]
    found = []
    for dome in lights:
        if dome.kind != "dome" or dome.picture is None:
            continue
        bright = brightest(dome.picture.image.linear(), dome.picture.scale)
        if bright is None:
            continue
        c, s = np.cos(np.radians(dome.rotation)), np.sin(np.radians(dome.rotation))
        d, share = bright
        d = np.array([c * d[0] + s * d[2], d[1], c * d[2] - s * d[0]]) @ dome.frame
        for sun in suns:
            angle = float(np.degrees(np.arccos(np.clip(d @ sun.frame[2], -1.0, 1.0))))
            if angle > AGREE:
                found.append(_finding(look, dome, sun, d, angle, share))
    return found


def brightest(texels: np.ndarray, scale: Any) -> tuple[np.ndarray, float] | None:
    """Direction, in the picture's frame, of the brightest place of a latitude-longitude panorama, and the share of all light that comes from
    near it; None where it is no more than a bright patch of sky."""
    light = np.maximum(texels[..., :3].astype(float) * np.asarray(scale[:3]), 0.0) @ (0.2126, 0.7152, 0.0722)
    rows, columns = light.shape
    solid = np.sin(np.pi * (np.arange(rows) + 0.5) / rows)[:, None]
    v, u = np.unravel_index(int((light).argmax()), light.shape)
    d = np.array(direction_of((u + 0.5) / columns, (v + 0.5) / rows))
    longitude, latitude = np.pi * (1.0 - 2.0 * (np.arange(columns) + 0.5) / columns), np.pi * (0.5 - (np.arange(rows) + 0.5) / rows)
    cos = np.sin(latitude)[:, None] * d[1] + np.cos(latitude)[:, None] * (np.sin(longitude) * d[0] + np.cos(longitude) * d[2])[None]
    near = cos > np.cos(np.radians(WIDE))
    total = float((light * solid).sum())
    share = float((light * solid)[near].sum()) / total if total > 0.0 else 0.0
    return (d, share) if share > SUN_SHARE else None


def _finding(look: Look, dome: Light, sun: Light, d: np.ndarray, angle: float, share: float) -> SceneFinding:
    at = np.asarray(sun.position, float)
    towards = at - d
    return SceneFinding(
        "two suns", f"The sun in {short(dome.name)}'s panorama and {short(sun.name)} are {angle:.0f}° apart.",
        "Everything casts two shadows, and is lit twice.", harm=0.6, at=point(look.eye), box=(point(look.eye), point(look.eye)),
        objects=[dome.name, sun.name], evidence={"degrees_apart": round(angle, 2), "share_of_panorama": round(share, 3)},
        mends=[
            Mend("Turn the light to where the panorama's sun is.", {
                f"light.{sun.name}.at": ",".join(f"{v:.4f}" for v in at), f"light.{sun.name}.towards": ",".join(f"{v:.4f}" for v in towards),
            }),
            Mend("Turn the light off and keep the panorama's sun.", {f"light.{sun.name}.on": False}),
        ],
    )  # fmt: skip
