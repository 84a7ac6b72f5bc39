"""Cards that are placed in a shot: cut-outs that break up a light's pool, and soft dark patches as contact shadows
made by hand."""

import numpy as np

from .frames import upright_frame
from .model import Colour, Mesh, Surface, Texture, TextureUse
from .texels import texels_of

SIZE = 256
LIFT = 0.002
"""Distance in metres of a dark patch from the surface it lies on."""


def _grid() -> tuple[np.ndarray, np.ndarray]:
    at = (np.arange(SIZE) + 0.5) / SIZE
    u, v = np.meshgrid(at, at, indexing="xy")
    return u, v


def pattern_opacity(pattern: str, count: int) -> np.ndarray:
    """Opacity float32 [SIZE, SIZE] in [0, 1] of a card with `count` repeats."""
    u, v = _grid()
    if pattern == "slats":
        return (np.mod(v * count, 1.0) < 0.5).astype(np.float32)
    if pattern == "panes":
        bar = 0.5 - 0.44
        return ((np.abs(np.mod(u * count, 1.0) - 0.5) > 0.5 - bar) | (np.abs(np.mod(v * count, 1.0) - 0.5) > 0.5 - bar)).astype(np.float32)
    if pattern == "leaves":
        # Overlapping leaf shapes strewn by a fixed generator; about two thirds stay covered.
        rng = np.random.default_rng(17)
        covered = np.zeros((SIZE, SIZE), bool)
        length = 0.9 / count
        for x, y, turn, size in zip(*rng.random((4, 4 * count * count)), strict=True):
            c, s = np.cos(turn * 2.0 * np.pi), np.sin(turn * 2.0 * np.pi)
            du, dv = np.mod(u - x + 0.5, 1.0) - 0.5, np.mod(v - y + 0.5, 1.0) - 0.5
            a, b = (c * du + s * dv) / (length * (0.6 + 0.7 * size)), (c * dv - s * du) / (length * (0.6 + 0.7 * size))
            covered |= (np.abs(a) < 0.5) & (np.abs(b) < 0.24 * np.cos(np.pi * np.clip(a, -0.5, 0.5)))
        return covered.astype(np.float32)
    if pattern == "soft":
        r = np.minimum(1.0, 2.0 * np.hypot(u - 0.5, v - 0.5))
        return ((1.0 - r * r) ** 2).astype(np.float32)
    return np.ones((SIZE, SIZE), np.float32)


def make_card(
    name: str, pattern: str, at: Colour, towards: Colour | None, turn: float, width: float, height: float, count: int, opacity: float, surface: int,
    color: Colour | None = None,
) -> tuple[Mesh, Surface]:  # fmt: skip
    """The mesh and surface of a card; `surface` is the number that the surface will have. A “soft” patch casts no
    shadow, since it represents one. `turn` in degrees about the normal, sizes in metres."""
    soft = pattern == "soft"
    normal = np.array([0.0, 1.0, 0.0]) if towards is None else np.asarray(towards, float) - np.asarray(at, float)
    if np.linalg.norm(normal) < 1e-9:
        normal = np.array([0.0, 1.0, 0.0])
    x, y, z = upright_frame(normal)
    c, s = np.cos(np.radians(turn)), np.sin(np.radians(turn))
    across, up = (c * x + s * y) * width / 2.0, (c * y - s * x) * height / 2.0
    middle = np.asarray(at, float) + z * (LIFT if soft else 0.0)
    corners = np.array([middle - across - up, middle + across - up, middle + across + up, middle - across + up])
    uv = np.array([(0, 0), (1, 0), (1, 1), (0, 1)], np.float32)
    faces = np.array([(0, 1, 2), (0, 2, 3)])
    texels = np.ones((SIZE, SIZE, 4), np.float32)
    texels[..., 0] = pattern_opacity(pattern, count) * opacity
    look = Surface(name, color or ((0.0, 0.0, 0.0) if soft else (0.02, 0.02, 0.02)), ior=1.0)
    if pattern != "plain" or opacity < 1.0:  # fully opaque surfaces are not tested for opacity
        look.opacity_map = TextureUse(Texture(texels_of(texels), ("clamp", "clamp")))
    mesh = Mesh.of(
        name,
        corners[faces].astype(np.float32),
        np.broadcast_to(z, (2, 3, 3)).astype(np.float32),
        uv[faces],
        np.full(2, surface, np.uint32),
        casts_shadows=not soft,
    )
    return mesh, look
