"""Displaces subdivided surfaces along their normals (Cook 1984, "Shade Trees", section 5, as the input `displacement` of UsdPreviewSurface)."""

import numpy as np

from .indexed import IndexedTriangles, indexed
from .model import Surface, Texture
from .texels import Texels

TOGETHER = 1e3
"""Corners of a point whose normals agree to a thousandth are one smooth corner, also after displacing."""


def is_displaced(surface: Surface) -> bool:
    return surface.displacement != 0.0 or surface.displacement_map is not None


def displaced(
    geometry: IndexedTriangles, points: np.ndarray, worn: np.ndarray, surfaces: list[Surface], unit: float
) -> IndexedTriangles:  # fmt: skip
    """Triangles after the displacement of their surfaces. points: int64 [n, 3], the point that each corner
    belongs to; worn: the surface of each triangle; unit: metres of one unit of displacement. Each point moves as one, by the mean over its corners,
    along its mean normal, so that neither a crease nor a seam of coordinates opens."""
    vertices, normals, uvs = geometry.each_vertices, geometry.each_normals, geometry.each_uvs
    amounts = np.zeros(points.shape)
    for number in np.unique(worn).tolist():
        surface = surfaces[number]
        if is_displaced(surface):
            mine = worn == number
            use = surface.displacement_map
            amounts[mine] = surface.displacement if use is None else looked_up(use.texture, use.channel, uvs[mine])
    if not amounts.any():
        return geometry
    flat, count = points.reshape(-1), int(points.max()) + 1
    shares = np.bincount(flat, minlength=count)
    amount = np.bincount(flat, amounts.reshape(-1), count) / np.maximum(shares, 1)
    along = np.stack([np.bincount(flat, normals[..., c].reshape(-1), count) for c in range(3)], axis=1)
    along = along / np.maximum(np.linalg.norm(along, axis=1, keepdims=True), 1e-30)
    moved = vertices.astype(float) + (along * (amount * unit)[:, None])[points]
    # New normals: of the faces around each smooth corner, by area, on the side of the old ones.
    facets = np.cross(moved[:, 1] - moved[:, 0], moved[:, 2] - moved[:, 0])
    facets *= np.where(np.einsum("nc,nc->n", facets, normals.sum(axis=1)) < 0.0, -1.0, 1.0)[:, None]
    key = np.concatenate([points.reshape(-1, 1), np.round(normals.reshape(-1, 3) * TOGETHER).astype(np.int64)], axis=1)
    _, corner = np.unique(key, axis=0, return_inverse=True)
    corner = corner.reshape(-1)
    turned = np.stack([np.bincount(corner, np.repeat(facets[:, c], 3)) for c in range(3)], axis=1)
    turned = turned / np.maximum(np.linalg.norm(turned, axis=1, keepdims=True), 1e-30)
    return indexed(moved, turned[corner], uvs)


def looked_up(texture: Texture, channel: int, uvs: np.ndarray) -> np.ndarray:
    """One channel of a texture at coordinates [..., 2], bilinear, as `textures.look_up` finds it for a hit at the finest level."""
    st = uvs.astype(float) @ texture.transform[:, :2].T + texture.transform[:, 2]
    if isinstance(texture.texels, Texels):
        found = _between(texture.texels, channel, st, texture.wrap)
    else:
        found = np.zeros(st.shape[:-1])
        for place, tile in texture.texels.tiles.items():
            inside = (np.floor(st) == place).all(axis=-1)
            found[inside] = _between(tile, channel, st[inside] - place, ("clamp", "clamp"))
    return found * texture.scale[channel] + texture.bias[channel]


def _between(texels: Texels, channel: int, st: np.ndarray, wrap: tuple[str, str]) -> np.ndarray:
    """Bilinear values of one channel at coordinates [..., 2] of the image."""
    values = texels.plane(channel)
    height, width = values.shape
    x, y = st[..., 0] * width - 0.5, (1.0 - st[..., 1]) * height - 0.5
    found = np.zeros(x.shape)
    i, j = np.floor(x).astype(np.int64), np.floor(y).astype(np.int64)
    for di in (0, 1):
        for dj in (0, 1):
            column, beside = _wrapped(i + di, width, wrap[0])
            row, above = _wrapped(j + dj, height, wrap[1])
            weight = np.where(di, x - i, 1.0 - (x - i)) * np.where(dj, y - j, 1.0 - (y - j))
            found += np.where(beside | above, 0.0, values[row, column] * weight)
    return found


def _wrapped(i: np.ndarray, n: int, wrap: str) -> tuple[np.ndarray, np.ndarray]:
    """Indices of texels, and where there is none, so that the texture is black."""
    if wrap == "clamp":
        return np.clip(i, 0, n - 1), np.zeros(i.shape, bool)
    if wrap == "mirror":
        j = i % (2 * n)
        return np.where(j < n, j, 2 * n - 1 - j), np.zeros(i.shape, bool)
    return i % n, (i < 0) | (i >= n) if wrap == "black" else np.zeros(i.shape, bool)
