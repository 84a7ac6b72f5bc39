"""Rendering a frame: its tiles are spread over threads, with progress, cancel and resume."""

import math
from dataclasses import dataclass

import numpy as np

from ..errors import InputError
from ..gi.brute_force import BRUTE_FORCE
from ..gi.ways import BEYOND, SEEN, lookup_address
from ..machine import memory_free
from ..scene.arrays import SceneArrays
from ..scene.model import LAST_TIME, Camera
from .film import TILE, TRIANGLE
from .integrator import PathSettings
from .memory import make_memory
from .recipe import Recipe
from .tile import EYE_FLOOR, MIDDLE_GREY, Sampling

MOST_PIXELS = 1 << 28
MOST_SIDE = 1 << 15
SEED_STEP = 0x9E3779B1
"""Seeds of the samples of neighbouring frames are this far apart."""
LEAST_PAIRS, MOST_PAIRS, WANTED_PAIRS = 1 / 32, 0.25, 20000


@dataclass(frozen=True)
class Frame:
    """What to render of a shot: size of the whole frame, the region (x0, y0, x1, y1) in its pixels, the seed, and the time code of a moving
    shot, None for its first frame or for one that stands still."""

    width: int = 480
    height: int = 270
    region: tuple[int, int, int, int] | None = None
    seed: int = 0
    time: float | None = None

    def __post_init__(self) -> None:
        if not (1 <= self.width <= MOST_SIDE and 1 <= self.height <= MOST_SIDE):
            raise InputError(f"The size {self.width}x{self.height} can't be rendered; give 1 to {MOST_SIDE} pixels a side.")
        if not 0 <= self.seed < 1 << 32:
            raise InputError(f"The seed {self.seed} can't be used; give a whole number from 0 to {(1 << 32) - 1}.")
        if self.time is not None and not abs(self.time) <= LAST_TIME:  # also false for not-a-number
            raise InputError(f"There is no frame {self.time:g}; give a number of the shot's range.")
        if self.region is not None:
            x0, y0, x1, y1 = self.region
            if not (0 <= x0 < x1 <= self.width and 0 <= y0 < y1 <= self.height):
                raise InputError(
                    f"The region {x0},{y0},{x1},{y1} does not lie in the {self.width}x{self.height} frame; "
                    "give X0,Y0,X1,Y1 in its pixels, from the top left."
                )

    @property
    def window(self) -> tuple[int, int, int, int]:
        """The region, or the whole frame."""
        return self.region or (0, 0, self.width, self.height)

    @property
    def pixels(self) -> int:
        """Number of pixels that are rendered."""
        x0, y0, x1, y1 = self.window
        return (x1 - x0) * (y1 - y0)

    def tiles(self) -> list[tuple[int, int, int, int]]:
        """The window cut into tiles (x0, y0, x1, y1), those nearest its middle first."""
        x0, y0, x1, y1 = self.window
        cells = [(x, y, min(x + TILE, x1), min(y + TILE, y1)) for y in range(y0, y1, TILE) for x in range(x0, x1, TILE)]
        mx, my = (x0 + x1) / 2, (y0 + y1) / 2
        return sorted(cells, key=lambda t: math.hypot((t[0] + t[2]) / 2 - mx, (t[1] + t[3]) / 2 - my))


def seed_of_samples(recipe: Recipe, frame: Frame) -> int:
    """The seed of a frame's samples: another for each time code, unless the recipe holds the grain. Caches always take the frame's own, so that
    they change no more than the scene does."""
    if frame.time is None or recipe.motion.grain == "held":
        return frame.seed
    return (frame.seed + SEED_STEP * round(1000.0 * frame.time)) % (1 << 32)


def pair_share(recipe: Recipe, frame: Frame) -> float:
    """Share of the samples that are paired (traced twice) for the ledger; enough that even a small region has some."""
    return min(MOST_PAIRS, max(LEAST_PAIRS, WANTED_PAIRS / (frame.pixels * recipe.sampling.max)))


def occlusion_rays(recipe: Recipe) -> int:
    """Occlusion rays: those of the pass, and at least one where ambient light is occluded."""
    needed = 1 if recipe.gi.seen == "ambient" and recipe.ambient.occlusion > 0.0 else 0
    return max(recipe.ambient.samples, needed)


def path_settings(recipe: Recipe, scene: SceneArrays, frame: Frame) -> PathSettings:
    """The recipe as the kernels read it. A way that takes no other way beyond is used there too; a final gather is brute force at what is
    seen, over that way beyond."""
    way, gi_rays = SEEN[recipe.gi.seen], recipe.sampling.gi_rays
    seen, beyond = way.code, BEYOND[recipe.gi.beyond].code if way.asks_beyond else way.code
    at_seen, at_beyond, caustics = way.key, recipe.gi.beyond if way.asks_beyond else way.key, recipe.of("caustics").on == "yes"
    rays, memory = recipe.final_gather_rays(way.key), make_memory(1)
    if rays:
        seen, at_seen, gi_rays = BRUTE_FORCE, "brute_force", rays
    return PathSettings(
        seen,
        beyond,
        recipe.limits.diffuse_bounces,
        recipe.limits.reflections,
        recipe.limits.refractions,
        recipe.limits.total,
        recipe.limits.indirect_clamp,
        recipe.limits.ray_offset or scene.offset,
        recipe.lights.seen == "all",
        recipe.lights.draws,
        gi_rays,
        recipe.sampling.glossy_rays,
        occlusion_rays(recipe),
        min(recipe.ambient.near, recipe.ambient.reach),
        recipe.ambient.reach,
        recipe.ambient.contrast,
        recipe.ambient.level,
        recipe.ambient.occlusion,
        recipe.ambient.on_direct if recipe.ambient.samples else 0.0,
        caustics,
        pair_share(recipe, frame),
        lookup_address(at_seen, scene, memory),
        lookup_address(at_beyond, scene, memory),
        lookup_address("caustics", scene, memory) if caustics else 0,
        lookup_address("bidirectional", scene, memory) if recipe.of("bidirectional").on == "yes" and not rays else 0,
        recipe.surfaces.filtering,
        recipe.gi.gloss == "looked_up",
        recipe.sampling.forks / 100.0,
    )


def sampling_of(recipe: Recipe, camera: Camera) -> Sampling:
    """The recipe's samples as the kernels read them; noise is judged at the camera's exposure."""
    wanted = recipe.sampling
    by_eye = wanted.noise_terms == "eye"
    floor = (EYE_FLOOR if by_eye else MIDDLE_GREY) / 2.0**camera.exposure
    return Sampling(min(wanted.min, wanted.max), wanted.max, wanted.noise_target / 100.0, floor, 1.0 if by_eye else 0.0, wanted.stop == "gain")


def empty_film(frame: Frame, columns: int) -> np.ndarray:
    """A black film of the window that sees nothing, float32 [rows, columns of pixels, columns]. Raises InputError where there is no memory for it."""
    x0, y0, x1, y1 = frame.window
    check_memory(frame, columns)
    film = np.zeros((y1 - y0, x1 - x0, columns), np.float32)
    film[..., TRIANGLE : TRIANGLE + 1] = -1.0  # films of fewer columns have none
    return film


def check_memory(frame: Frame, columns: int) -> None:
    """Raise InputError if free memory can't hold a film of the window and its picture."""
    x0, y0, x1, y1 = frame.window
    needed, free = 2 * 4 * columns * frame.pixels, memory_free()
    if needed > free:
        raise InputError(
            f"A picture of {x1 - x0} x {y1 - y0} pixels takes about {needed / 2**30:.0f} GB, and {free / 2**30:.0f} GB of memory are free; "
            "render it smaller, or in regions."
        )


def paste(film: np.ndarray, frame: Frame, box: tuple[int, int, int, int], tile: np.ndarray) -> None:
    """Copy a tile of `frame` into the window's film at its `box`."""
    left, top = frame.window[:2]
    x0, y0, x1, y1 = box
    film[y0 - top : y1 - top, x0 - left : x1 - left] = tile


def assemble(frame: Frame, columns: int, tiles: dict[int, np.ndarray]) -> np.ndarray:
    """Film of the whole window, float32 [rows, columns of pixels, columns], from its finished tiles; the rest is black and sees nothing."""
    film = empty_film(frame, columns)
    for index, box in enumerate(frame.tiles()):
        if index in tiles:
            paste(film, frame, box, tiles[index])
    return film
