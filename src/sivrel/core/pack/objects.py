"""Shared by packing geometry and packing lights: which meshes are packed, which rays can hit them, and the pool of textures."""

import numpy as np

from ..scene.arrays import (
    BIAS,
    BY_BOUNCED,
    BY_CAMERA,
    BY_SHADOW,
    HEIGHT,
    SCALE,
    TEXEL_START,
    TEXTURE_COLUMNS,
    TRANSFORM,
    WIDTH,
    WRAP_S,
    WRAP_T,
    WRAPS,
)
from ..scene.model import Mesh, Scene, Texture, TextureUse


def packed_meshes(scene: Scene) -> list[Mesh]:
    """The meshes that are packed, in the order in which `object_of` counts them."""
    return [mesh for mesh in scene.meshes if mesh.count]


def object_flags(meshes: list[Mesh]) -> np.ndarray:
    """int64 [meshes]: which rays can hit each mesh."""
    return np.array([BY_CAMERA * m.seen_by_camera + BY_SHADOW * m.casts_shadows + BY_BOUNCED * m.seen_by_bounced for m in meshes], np.int64)


class TexturePool:
    """Collects textures, each once, after `used` texels and `first` textures that are already packed."""

    def __init__(self, used: int = 0, first: int = 0) -> None:
        self.rows: list[np.ndarray] = []
        self.texels: list[np.ndarray] = []
        self._known: dict[int, int] = {}
        self._used, self._first = used, first

    def reference(self, use: TextureUse | None) -> tuple[float, float]:
        if use is None:
            return -1.0, 0.0
        texture = use.texture
        if id(texture) not in self._known:
            self._known[id(texture)] = self._first + len(self.rows)
            self.rows.append(self._row(texture))
        return float(self._known[id(texture)]), float(use.channel)

    def _row(self, texture: Texture) -> np.ndarray:
        height, width = texture.texels.shape[:2]
        row = np.zeros(TEXTURE_COLUMNS)
        row[[TEXEL_START, WIDTH, HEIGHT]] = self._used, width, height
        row[[WRAP_S, WRAP_T]] = [WRAPS[w] for w in texture.wrap]
        row[SCALE : SCALE + 4], row[BIAS : BIAS + 4] = texture.scale, texture.bias
        row[TRANSFORM : TRANSFORM + 6] = texture.transform.reshape(-1)
        self.texels.append(np.ascontiguousarray(texture.texels, np.float32).reshape(-1, 4))
        self._used += width * height
        return row
