"""The verdict on two pictures, held to pairs of known change and to pairs that differ by their seeds alone: `python -m bench verdict`."""

import sys
from collections.abc import Callable, Iterator
from dataclasses import replace

from sivrel.core.measure.verdict import Verdict, judge
from sivrel.core.pictures.exr import Picture
from sivrel.core.render.frame import Frame
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.rendered import render_prepared
from sivrel.core.scene.model import Scene, Surface
from tests.rooms import METAL, Room, ball, room

SIZE = (256, 144)
ROOMS, FRESH = range(700, 705), range(840, 845)
"""Seeds of the rooms for tuning, and those that are reported on."""
GLASS = 6
GRAINS = (16, 48)
"""Samples a pixel, in turn."""


def picture(scene: Scene, values: dict, seed: int) -> Picture:
    """A render of a scene by a recipe of these values."""
    recipe, frame = with_values(Recipe(), values), Frame(*SIZE, seed=seed)
    made = render_prepared(prepare(scene, recipe, frame=frame), recipe, frame, "room")
    assert made is not None
    return made.picture


def furnished(seed: int) -> Room:
    """A room with a ball of chrome and one of glass that hang side by side before the camera, each over some 2 % of the picture."""
    made = room(seed)
    made.scene.surfaces.append(Surface("Glass", (1.0, 1.0, 1.0), roughness=0.0, opacity=0.0, see_through="solid"))
    made.scene.surfaces[METAL] = replace(made.scene.surfaces[METAL], roughness=0.05)
    right, _, back, eye = made.scene.cameras[0].to_world.T
    for name, surface, side in (("/Room/Ball", METAL, -0.35), ("/Room/Lens", GLASS, 0.35)):
        made.put(ball(name, eye - 2.0 * back + side * right, 0.2, surface, 24))
    return made


def _orange(made: Room) -> None:
    """Turn the panel orange at the luminance that it has."""
    made.light("Panel", color=(1.9, 0.8, 0.33))


def _matte(number: int, roughness: float) -> Callable[[Room], None]:
    def change(made: Room) -> None:
        made.scene.surfaces[number] = replace(made.scene.surfaces[number], roughness=roughness)

    return change


def _tinted(number: int) -> Callable[[Room], None]:
    def change(made: Room) -> None:
        red, green, blue = made.scene.surfaces[number].base_color
        made.scene.surfaces[number] = replace(made.scene.surfaces[number], base_color=(red * 1.2, green, blue * 0.8))

    return change


def _moved(name: str, by: tuple[float, float, float]) -> Callable[[Room], None]:
    def change(made: Room) -> None:
        mesh = made.mesh(name)
        made.put(mesh.changed(vertices=(mesh.vertices + by).astype("float32")))

    return change


def _without(name: str) -> Callable[[Room], None]:
    def change(made: Room) -> None:
        made.scene.meshes[:] = [mesh for mesh in made.scene.meshes if mesh.name != name]

    return change


CHANGES: dict[str, tuple[Callable[[Room], None], dict]] = {
    "panel orange, as bright": (_orange, {}),
    "chrome made matte": (_matte(METAL, 0.6), {}),
    "glass made rough": (_matte(GLASS, 0.5), {}),
    "panel off": (lambda made: made.light("Panel", intensity=0.0), {}),
    "boards tinted": (_tinted(1), {}),
    "walls tinted": (_tinted(0), {}),
    "chest moved 25 cm": (_moved("/Room/Chest", (0.25, 0.0, 0.0)), {}),
    "lens taken away": (_without("/Room/Lens"), {}),
    "one bounce": (lambda made: None, {"limits.diffuse_bounces": 1}),
    "light 30 % down": (lambda made: [made.light(one.name, intensity=one.intensity * 0.7) for one in made.scene.lights], {}),
    "ambient light": (lambda made: None, {"gi.seen": "ambient"}),
    "exposed one stop up": (lambda made: [made.light(one.name, intensity=one.intensity * 2.0) for one in made.scene.lights], {}),
}
RECIPES: dict[str, dict] = {
    "brute force": {}, "brute force, few samples": {"sampling.max": 8}, "a noise target": {"sampling.noise_target": 12.0, "sampling.max": 128},
    "irradiance cache": {"gi.seen": "irradiance_cache", "irradiance_cache.rays": 128}, "photon map": {"gi.seen": "photon_map"},
    "photon map at once": {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0}, "radiance cache": {"gi.seen": "radiance_cache"},
    "radiance cache beyond": {"gi.beyond": "radiance_cache"}, "bake, gathered": {"gi.seen": "baked"},
    "bake at once": {"gi.seen": "baked", "baked.final_gather_rays": 0},
    "caustic photons": {"caustics.on": "yes"}, "depth maps": {"shadows.way": "depth_map"},
}  # fmt: skip


def _is_same(verdict: Verdict) -> bool:
    return all(place.grain for place in verdict.places)


def changed_pairs(seeds: range) -> Iterator[tuple[str, Verdict]]:
    """Pairs that a viewer tells apart when they are clean, with other seeds."""
    for seed in seeds:
        for k, (name, (change, values)) in enumerate(CHANGES.items()):
            before, after = furnished(seed), furnished(seed)
            change(after)
            samples = {"sampling.max": GRAINS[(k + seed) % 2]}
            yield (
                f"{name}, room {seed}, {samples['sampling.max']} samples",
                judge(picture(before.scene, samples, seed), picture(after.scene, {**samples, **values}, seed + 5000)),
            )


def same_pairs(seeds: range) -> Iterator[tuple[str, Verdict]]:
    """Pairs whose seeds differ, and nothing else."""
    for seed in seeds:
        for name, values in RECIPES.items():
            made = furnished(seed)
            recipe = {"sampling.max": 24, **values}
            yield f"{name}, room {seed}", judge(picture(made.scene, recipe, seed), picture(made.scene, recipe, seed + 5000))


def verdict(seeds: range = FRESH) -> str:
    """How many pairs are judged wrongly, of each sort."""
    wrong: list[list[str]] = [[], []]
    counts = [0, 0]
    for sort, pairs in enumerate((changed_pairs(seeds), same_pairs(seeds))):
        for name, found in pairs:
            counts[sort] += 1
            if _is_same(found) == (sort == 0):
                wrong[sort].append(name)
                print(f"  {'false same' if sort == 0 else 'false change'}: {name}: {found.sentence}", file=sys.stderr, flush=True)
    return f"{len(wrong[0])} of {counts[0]} changes called grain or unseen, {len(wrong[1])} of {counts[1]} pairs of seeds called changed"
