"""The renderer against closed forms, for every attribute of a light and every way of bounced light: `make bench-truth`."""

import math
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from scipy.integrate import dblquad

from sivrel.core.render.film import film_beauty, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Light, Mesh, Profile, Scene, Shaping, Surface, Texture
from sivrel.core.scene.texels import texels_of
from tests.core.test_light_schema import BENT, tube
from tests.core.test_mesh_lights import ball, lit_by_facing
from tests.scenes import box_inside, floor, lambert, looking_down, mesh, quad

SEEDS = range(300, 308)
DOWN = np.eye(3)
Row = tuple[str, float, float, float]


def _mean(scene: Scene, height: float = 0.2, size: int = 16, half_width: float = 1e-6, **settings: object) -> tuple[float, float]:
    """Mean light in green of a white floor under the origin, and its standard error over seeds."""
    camera = looking_down(height, half_width=half_width)
    recipe = with_values(Recipe(), {key.replace("__", "."): value for key, value in settings.items()})
    means = []
    for seed in SEEDS:
        frame, tiles = Frame(size, size, seed=seed), {}
        ready = prepare(replace(scene, cameras=[camera]), recipe, frame=Frame(seed=seed))
        render_tiles(ready.arrays, camera, recipe, frame, tiles.__setitem__, threads=2)
        means.append(film_beauty(assemble(frame, film_columns(ready.arrays.slots), tiles))[..., 1].mean(dtype=float))
    return float(np.mean(means)), float(np.std(means, ddof=1) / math.sqrt(len(means)))


def _lit(light: Light, **settings: object) -> tuple[float, float]:
    return _mean(Scene("floor", [floor()], [lambert(1.0)], [light]), gi__seen="off", sampling__max=64, **settings)


def _under(triangles: np.ndarray, aimed: bool, surface: Surface | None = None, **settings: object) -> tuple[float, float]:
    lamp = replace(mesh(triangles, 1), name="lamp", aimed=aimed)
    scene = Scene("lamp", [floor(), lamp], [lambert(1.0), surface or lambert(0.0, (1.0,) * 3)])
    return _mean(scene, gi__seen="off", **{"sampling__max": 64 if aimed else 2048, **settings})


def _square(half: float, height: float) -> np.ndarray:
    a, b, c, d = (-half, -half, height), (-half, half, height), (half, half, height), (half, -half, height)
    return np.array([(a, b, c), (a, c, d)])


def lights() -> Iterator[Row]:
    """Direct light of each shape and attribute on a white floor."""
    square = lit_by_facing(_square(0.5, 1.0))
    rect = Light("l", "rect", (1.0,) * 3, (0.0, 0.0, 1.0), DOWN)
    yield "rect", square, *_lit(rect)
    yield "rect, intensity 3, exposure 2, colour 0.5", square * 6.0, *_lit(replace(rect, intensity=3.0, exposure=2.0, color=(0.5,) * 3))
    yield "rect 2 x 0.5 m, normalized", _rect(2.0, 0.5) / 1.0, *_lit(replace(rect, width=2.0, height=0.5, normalize=True))
    texels = np.zeros((64, 64, 4), np.float32)
    texels[:32, :32] = 4.0
    quarter = lit_by_facing(np.array([[(0, 0, 1), (0, 0.5, 1), (0.5, 0.5, 1)], [(0, 0, 1), (0.5, 0.5, 1), (0.5, 0, 1)]], float))
    yield "rect with a picture", 4.0 * quarter, *_lit(replace(rect, picture=Texture(texels_of(texels), ("clamp", "clamp"))))
    disk = math.sin(math.atan(0.5)) ** 2
    yield "disk", disk, *_lit(Light("l", "disk", (1.0,) * 3, (0.0, 0.0, 1.0), DOWN))
    yield "sphere", 0.3**2, *_lit(Light("l", "sphere", (1.0,) * 3, (0.0, 0.0, 1.0), radius=0.3))
    egg = ball(150, 0.3, (0, 0, 0)) @ BENT.T + (0.3, 0.1, 1.0)
    yield "sphere, stretched and sheared", lit_by_facing(egg), *_lit(Light("l", "sphere", (1.0,) * 3, (0.3, 0.1, 1.0), radius=0.3, stretch=BENT))
    for name, bend in (("cylinder", np.eye(3)), ("cylinder, stretched and sheared", BENT)):
        side = lit_by_facing(tube(0.2, 1.2, (0.3, 0.1, 1.0), bend))
        yield name, side, *_lit(Light("l", "cylinder", (1.0,) * 3, (0.3, 0.1, 1.0), radius=0.2, length=1.2, stretch=bend))
    point = Light("l", "point", (math.pi,) * 3, (0.0, 0.0, 1.0), DOWN)
    yield "point", 1.0, *_lit(point)
    up = np.diag([1.0, -1.0, -1.0])
    for cone in (40.0, 120.0):
        yield f"point, cone {cone:.0f}°, seen on its axis", 1.0, *_lit(replace(point, shaping=Shaping(cone_angle=cone)))
        yield f"point, cone {cone:.0f}°, seen from behind", 0.0, *_lit(replace(point, frame=up, shaping=Shaping(cone_angle=cone)))
    slant = np.array([[math.cos(0.5), 0.0, -math.sin(0.5)], [0.0, 1.0, 0.0], [math.sin(0.5), 0.0, math.cos(0.5)]])
    yield "point, focus 4, 29° off", math.cos(0.5) ** 4, *_lit(replace(point, frame=slant, shaping=Shaping(focus=4.0)))
    profile = Profile(np.array([0.0, 90.0]), np.array([0.0, 360.0]), np.array([[1.0, 0.0]] * 2))
    off = math.degrees(0.5)
    yield "point, profile, 29° off", 1.0 - off / 90.0, *_lit(replace(point, frame=slant, shaping=Shaping(profile=profile)))
    half = Shaping(profile=profile, profile_scale=0.5)
    yield "point, profile at scale 0.5, 29° off", 1.0 - off / 45.0, *_lit(replace(point, frame=slant, shaping=half))
    for angle in (0.0, 10.0, 180.0, 270.0):
        seen = math.sin(math.radians(min(angle, 180.0)) / 2.0) ** 2 if angle else 1.0 / math.pi
        yield f"sun, {angle:.0f}° across", seen, *_lit(Light("l", "sun", (1.0,) * 3, angle=angle))
    yield "sky", 1.0, *_lit(Light("l", "dome", (1.0,) * 3))


def _rect(width: float, height: float) -> float:
    """Radiance of a white floor a metre under the middle of a rect of radiance 1, by integration."""
    return float(dblquad(lambda y, x: 1.0 / (x * x + y * y + 1.0) ** 2, -width / 2, width / 2, -height / 2, height / 2)[0]) / math.pi


def mesh_lights() -> Iterator[Row]:
    """Balls and squares of triangles by Lambert's formula for polygons, aimed at and met by chance."""
    for rings in (5, 16, 159):
        triangles = ball(rings, 0.2, (0.3, 0.0, 1.0))
        expected = lit_by_facing(triangles)
        yield f"ball of {len(triangles)} triangles, aimed at", expected, *_under(triangles, True)
        yield f"ball of {len(triangles)} triangles, by chance", expected, *_under(triangles, False)
    triangles = ball(16, 0.2, (0.3, 0.0, 1.0))
    for offset in (1e-6, 1e-4, 1e-3):
        yield f"ball, ray offset {offset:g} m", lit_by_facing(triangles), *_under(triangles, True, limits__ray_offset=offset)
    square = _square(0.5, 1.0)
    cut = replace(lambert(0.0, (1.0,) * 3), opacity=0.25)
    for aimed in (True, False):
        yield f"square, three quarters cut out, {'aimed at' if aimed else 'by chance'}", 0.25 * lit_by_facing(square), *_under(square, aimed, cut)


WAYS = {
    "brute force": {"gi__seen": "brute_force"},
    "irradiance cache": {"gi__seen": "irradiance_cache", "irradiance_cache__rays": 1024},
    "irradiance cache over photons": {"gi__seen": "irradiance_cache", "gi__beyond": "photon_map"},
    "irradiance cache over cells": {"gi__seen": "irradiance_cache", "gi__beyond": "radiance_cache"},
    "photon map": {"gi__seen": "photon_map"},
    "photon map, looked up at once": {"gi__seen": "photon_map", "photon_map__final_gather_rays": 0},
    "photons beyond": {"gi__beyond": "photon_map"},
    "radiance cache": {"gi__seen": "radiance_cache", "radiance_cache__cell": 0.1},
    "radiance cache beyond": {"gi__beyond": "radiance_cache"},
    "bake": {"gi__seen": "baked"},
    "bake, looked up at once": {"gi__seen": "baked", "baked__final_gather_rays": 0},
}
DEEP = {"limits__diffuse_bounces": 32, "limits__total": 64, "photon_map__bounces": 32, "baked__converged": 0.99, "sampling__max": 16}


def bounced() -> Iterator[Row]:
    """A closed box that glows, and two wide plates of which one does: geometric series, for every way."""
    box: list[Mesh] = [box_inside()]
    a, h = 40.0, 1.0
    plates = [quad((-a, -a, 0), (a, -a, 0), (a, a, 0), (-a, a, 0)), quad((-a, -a, h), (-a, a, h), (a, a, h), (a, -a, h), 1)]
    for name, way in WAYS.items():
        scene = Scene("box", box, [lambert(0.6, (0.25,) * 3)], [])
        yield f"closed box, {name}", 0.25 / 0.4, *_mean(scene, 0.5, 24, half_width=0.5, **{**DEEP, **way})
    for name, way in WAYS.items():
        if "bake" not in name:  # 80 m of plate by the metre: not what bakes are for
            scene = Scene("plates", plates, [lambert(0.7), lambert(0.5, (1.0,) * 3)], [])
            yield f"parallel plates, {name}", 0.7 / (1.0 - 0.35), *_mean(scene, 0.5, 24, half_width=0.2, **{**DEEP, **way})
    for bounces in (1, 2, 4):
        for name in ("brute force", "radiance cache"):
            expected = 0.25 * sum(0.6**k for k in range(bounces + 2))
            scene, settings = Scene("box", box, [lambert(0.6, (0.25,) * 3)], []), {**DEEP, **WAYS[name], "limits__diffuse_bounces": bounces}
            yield f"closed box, {bounces} bounces, {name}", expected, *_mean(scene, 0.5, 24, half_width=0.5, **settings)


def truth() -> str:
    """A table of what each row should give, what it gives over eight seeds, and by how many standard errors they differ."""
    lines = ["", "| row | closed form | rendered | standard error | off by | in standard errors |", "|---|---|---|---|---|---|"]
    for part in (lights, mesh_lights, bounced):
        for name, expected, found, error in part():
            off = f"{100.0 * (found / expected - 1.0):+.2f} %" if expected else f"{found:.2g}"
            floor_of_rounding = 2e-5 * abs(expected)
            of_error = abs(found - expected) / max(error, floor_of_rounding, 1e-12)
            lines.append(f"| {name} | {expected:.5f} | {found:.5f} | {error:.5f} | {off} | {of_error:.1f} |")
            print(lines[-1], flush=True)
    return "\n".join(lines)
