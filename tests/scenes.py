"""Small scenes whose light is known, and what a render of them measures."""

from dataclasses import replace

import numpy as np

from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render import film as columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Camera, Light, Mesh, Scene, Surface


def lambert(albedo, emission=(0.0, 0.0, 0.0)) -> Surface:
    colour = (albedo,) * 3 if np.isscalar(albedo) else tuple(albedo)
    return Surface("lambert", colour, ior=1.0, emission=emission)


def mesh(triangles, surface: int = 0, double_sided: bool = False) -> Mesh:
    v = np.asarray(triangles, np.float32)
    n = np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
    n = n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)
    normals = np.repeat(n[:, None], 3, axis=1).astype(np.float32)
    uvs = np.zeros((len(v), 3, 2), np.float32)
    return Mesh.of("mesh", v, normals, uvs, np.full(len(v), surface, np.uint32), double_sided=double_sided)


def quad(a, b, c, d, surface: int = 0) -> Mesh:
    """Front where a, b, c, d run counter-clockwise."""
    return mesh([(a, b, c), (a, c, d)], surface)


def floor(half: float = 50.0, surface: int = 0) -> Mesh:
    """The plane z = 0, facing +z."""
    return quad((-half, -half, 0), (half, -half, 0), (half, half, 0), (-half, half, 0), surface)


def box_inside(half: float = 1.0, surface: int = 0) -> Mesh:
    """A closed box, facing inwards."""
    triangles = []
    for axis in range(3):
        for sign in (-1.0, 1.0):
            corners = []
            for a, b in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
                p = [0.0, 0.0, 0.0]
                p[axis], p[(axis + 1) % 3], p[(axis + 2) % 3] = sign * half, a * half, b * half
                corners.append(p)
            corners = corners[::-1] if sign > 0 else corners
            triangles += [corners[:3], [corners[0], corners[2], corners[3]]]
    return mesh(triangles, surface)


NOWHERE = pack_scene(Scene("nowhere", [quad((-1, -1, -1e3), (1, -1, -1e3), (1, 1, -1e3), (-1, 1, -1e3))], [lambert(0.0)]))
"""A scene as the kernels read it, with nothing near the origin."""


def sky(radiance: float = 1.0) -> Light:
    return Light("sky", "dome", (radiance,) * 3)


def looking_down(height: float = 1.0, tilt: float = 0.0, half_width: float = 1e-3, at=(0.0, 0.0)) -> Camera:
    """A narrow camera that looks at the floor point `at`, `tilt` radians off the vertical."""
    c, s = np.cos(tilt), np.sin(tilt)
    axes = np.array([[1, 0, 0, at[0]], [0, c, -s, at[1] - s * height], [0, s, c, c * height]])
    return Camera("down", axes, half_width)


def render(scene: Scene, camera: Camera, size=(16, 16), threads: int = 2, seed: int = 0, region=None, **settings) -> np.ndarray:
    """Film of a scene; settings are recipe keys with __ for the dot."""
    recipe = with_values(Recipe(), {key.replace("__", "."): value for key, value in settings.items()})
    ready = prepare(replace(scene, cameras=[camera]), recipe, frame=Frame(seed=seed))
    return film_of(ready, recipe, Frame(*size, region=region, seed=seed), threads)


def film_of(ready, recipe: Recipe, frame: Frame, threads: int = 2) -> np.ndarray:
    """Film of a prepared scene."""
    tiles: dict = {}
    render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=threads)
    return assemble(frame, columns.film_columns(ready.arrays.slots), tiles)


def light(film: np.ndarray, part: str = "beauty") -> tuple[np.ndarray, np.ndarray]:
    """Mean colour over the pixels and its standard error, from the spread of the pixels, which are independent."""
    direct = film[..., columns.DIRECT : columns.DIRECT + 3].astype(float)
    indirect = film[..., columns.INDIRECT : columns.INDIRECT + 3].astype(float)
    values = {"beauty": direct + indirect, "direct": direct, "indirect": indirect}[part].reshape(-1, 3)
    return values.mean(axis=0), values.std(axis=0, ddof=1) / np.sqrt(len(values))


def assert_agrees(test, film: np.ndarray, expected, part: str = "beauty", largest_error: float = 0.01) -> None:
    """The film's mean lies within three standard errors of `expected`, and that error is small enough to tell."""
    mean, error = light(film, part)
    expected = np.broadcast_to(np.asarray(expected, float), 3)
    rounding = 2e-6 * np.abs(expected) + 1e-9  # 32-bit geometry
    test.assertTrue((error <= largest_error * np.maximum(np.abs(expected), 1e-6) + rounding).all(), f"too noisy to tell: {mean} ± {error}")
    test.assertTrue((np.abs(mean - expected) <= 3.0 * error + rounding).all(), f"{mean} ± {error}, expected {expected}")
