"""Textures made by script: linear colours [n, n, 3] that repeat at their edges, one metre a side unless said."""

import numpy as np

SIZE = 512


def _fbm(seed: int, base: tuple[int, int] = (4, 4), octaves: int = 6, gain: float = 0.5) -> np.ndarray:
    """Repeating smooth noise [SIZE, SIZE] in about [-1, 1], `base` cells along rows and columns."""
    rng = np.random.default_rng(seed)
    y, x = np.meshgrid(np.arange(SIZE) / SIZE, np.arange(SIZE) / SIZE, indexing="ij")
    total, weight, norm = np.zeros((SIZE, SIZE)), 1.0, 0.0
    for octave in range(octaves):
        rows, columns = base[0] << octave, base[1] << octave
        if max(rows, columns) > SIZE // 2:
            break
        lattice = rng.uniform(-1.0, 1.0, (rows, columns))
        py, px = y * rows, x * columns
        i, j = py.astype(int), px.astype(int)
        fy, fx = py - i, px - j
        fy, fx = fy * fy * (3 - 2 * fy), fx * fx * (3 - 2 * fx)
        i1, j1 = (i + 1) % rows, (j + 1) % columns
        top = lattice[i, j] * (1 - fx) + lattice[i, j1] * fx
        bottom = lattice[i1, j] * (1 - fx) + lattice[i1, j1] * fx
        total += weight * (top * (1 - fy) + bottom * fy)
        norm += weight
        weight *= gain
    return total / norm * 1.7


def _blend(a, b, t: np.ndarray) -> np.ndarray:
    t = np.clip(t, 0.0, 1.0)[..., None]
    return np.array(a) * (1.0 - t) + np.array(b) * t


def whitewash(seed: int, white=(0.78, 0.76, 0.71), stain=(0.58, 0.53, 0.44)) -> np.ndarray:
    """Limewash brushed over stone: broad clouds, brush strokes and a few stains."""
    clouds, strokes = _fbm(seed, (3, 3)), _fbm(seed + 1, (48, 5), 3)
    stains = np.clip(_fbm(seed + 2, (2, 3), 5) * 1.6 - 0.55, 0.0, 1.0)
    return _blend(white, stain, 0.16 + 0.13 * clouds + 0.07 * strokes + 0.5 * stains)


def wood(seed: int, light=(0.42, 0.27, 0.15), dark=(0.16, 0.085, 0.042), wear: float = 0.0) -> np.ndarray:
    """Grain along u: stretched rings with pores, and worn pale patches."""
    warp = _fbm(seed, (3, 2), 4)
    v = np.linspace(0.0, 1.0, SIZE, endpoint=False)[:, None]
    rings = 0.5 + 0.5 * np.sin(2.0 * np.pi * (v * 14.0 + 1.1 * warp))
    pores = _fbm(seed + 1, (128, 4), 2)
    tone = 0.25 + 0.4 * rings**2 + 0.22 * pores + 0.2 * _fbm(seed + 2, (5, 2), 3)
    picture = _blend(light, dark, tone)
    pale = np.clip(_fbm(seed + 3, (3, 4), 5) + wear - 0.6, 0.0, 1.0)
    return _blend(picture.reshape(-1, 3), (0.47, 0.42, 0.35), pale.reshape(-1) * 0.8).reshape(SIZE, SIZE, 3)


def checked_cloth(seed: int, ground=(0.72, 0.68, 0.60), line=(0.10, 0.17, 0.30), checks: int = 6) -> np.ndarray:
    """A woven check: bands both ways that darken where they cross, with threads."""
    t = np.arange(SIZE) / SIZE * checks % 1.0
    band = ((t > 0.30) & (t < 0.58)).astype(float) + 0.55 * ((t > 0.68) & (t < 0.74))
    threads = 0.08 * np.sin(2.0 * np.pi * np.arange(SIZE) / 4.0)
    cover = 0.5 * (band[:, None] + band[None, :]) + threads[:, None] * 0.5 + threads[None, :] * 0.5
    return _blend(ground, line, cover + 0.08 * _fbm(seed, (8, 8)))


def stone(seed: int, light=(0.42, 0.40, 0.37), dark=(0.15, 0.145, 0.14), moss=(0.13, 0.16, 0.06)) -> np.ndarray:
    """Granite with lichen in its hollows."""
    clouds, grains = _fbm(seed, (4, 4)), _fbm(seed + 1, (96, 96), 2)
    green = np.clip(_fbm(seed + 2, (5, 5)) * 1.4 - 0.45, 0.0, 1.0)
    picture = _blend(light, dark, 0.42 + 0.35 * clouds + 0.28 * grains)
    return _blend(picture.reshape(-1, 3), moss, green.reshape(-1) * 0.7).reshape(SIZE, SIZE, 3)


def paint(seed: int, colour, under=(0.36, 0.29, 0.20), worn: float = 0.0) -> np.ndarray:
    """Paint on wood that has come off in places."""
    chips = np.clip(_fbm(seed, (6, 3), 6, 0.62) * 2.6 - 1.55 + worn, 0.0, 1.0)
    shade = 1.0 + 0.12 * _fbm(seed + 1, (4, 4))[..., None]
    return _blend(np.zeros(3), under, chips) + (1.0 - chips)[..., None] * np.array(colour) * shade


def iron(seed: int) -> np.ndarray:
    """Blackened iron with a little rust."""
    rust = np.clip(_fbm(seed, (5, 5), 6) * 1.7 - 0.75, 0.0, 1.0)
    return _blend((0.035, 0.034, 0.036), (0.16, 0.075, 0.035), rust)


def weave(seed: int, colour=(0.55, 0.43, 0.27)) -> np.ndarray:
    """Basketwork and rope fibre."""
    y, x = np.meshgrid(np.arange(SIZE), np.arange(SIZE), indexing="ij")
    fibres = 0.5 + 0.5 * np.sin(2.0 * np.pi * (x + y) / 16.0)
    return _blend(colour, np.array(colour) * 0.45, 0.4 * fibres + 0.25 + 0.25 * _fbm(seed, (16, 16), 4))


def tread_plate(size: int = 256) -> np.ndarray:
    """Heights [size, size] of a chequered iron plate: short raised bars, crosswise in turn."""
    v, u = np.meshgrid(np.linspace(0, 4, size, endpoint=False), np.linspace(0, 4, size, endpoint=False), indexing="ij")
    height = np.zeros((size, size))
    for turn in (0, 1):
        a, b = (u + v) / 2 + turn * 0.5, (u - v) / 2 + turn * 0.5
        if turn:
            a, b = b, a
        da, db = np.mod(a, 1.0) - 0.5, np.mod(b, 1.0) - 0.5
        height = np.maximum(height, np.clip(1.6 - np.hypot(da / 0.34, db / 0.1), 0.0, 1.0) ** 0.7)
    return 2.4 * height
