"""Facts about a shot that decide between ways of finding light, measured in a few seconds by pilot paths and rays."""

import time
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..diagnose.finding import cleared
from ..diagnose.leaks import sheet_suspects
from ..diagnose.stand import Stand
from ..diagnose.truth import DEEP
from ..lights.pack import GLOW
from ..measure.ledger import measure_ledger, relative_weights
from ..measure.noise import LUMINANCE
from ..render.film import BETWEEN, BOUNCED, DIRECT, INDIRECT, WITHIN
from ..render.frame import Frame
from ..render.prepare import Prepared
from ..render.recipe import Recipe, with_values
from ..render.tile import EYE_FLOOR
from ..scene.model import Scene
from .blocks import noise_of
from .render import Scattered, Taken, scattered, take
from .sources import sources_of

PIXELS, SAMPLES, FEWER = 4096, 16, 4
"""Pixels of the pilots, samples a pixel of the main ones, and of those that tell how noise falls with samples."""
PLAIN = {"sampling.gi_rays": 1, "sampling.glossy_rays": 1}
EFFORT = 0.3
"""Share of a survey's rays that the look for thin things takes."""
SPIKES = 0.01
"""Share of the pixels, the noisiest, whose part in all the noise tells how rare what makes it is."""
RAYS, SPOTS = 32, 400
MOST_OF_LIGHT = 0.95
FIRST, DEEPER = 1, 4
"""Diffuse bounces after which the light that is left is measured."""


@dataclass(frozen=True)
class Motion:
    """What moves in a shot, as far as its file tells."""

    camera: bool = False
    objects: bool = False
    lights: bool = False


def motion_between(now: Scene, later: Scene, camera: str | None) -> Motion:
    """What differs between two frames of a shot. A camera that the file does not have was put up beside it, and stands still."""
    one, other = (next((c.to_world for c in scene.cameras if camera in (None, c.name)), None) for scene in (now, later))
    moved = one is not None and other is not None and not np.allclose(one, other, atol=1e-6)
    objects = len(now.meshes) != len(later.meshes) or any(
        a.vertices.shape != b.vertices.shape or not np.allclose(a.vertices, b.vertices, atol=1e-5)
        for a, b in zip(now.meshes, later.meshes, strict=False)
    )
    lights = len(now.lights) != len(later.lights) or any(
        (a.intensity, a.color, a.position) != (b.intensity, b.color, b.position) or not np.allclose(a.frame, b.frame)
        for a, b in zip(now.lights, later.lights, strict=False)
    )
    return Motion(moved, objects, lights)


@dataclass
class Facts:
    """Shares from 0 to 1 where nothing else is said.

    indirect: of the light; gloss, glass: of the light, first scattered so; open: of the rays from what is seen that leave the scene; inside: whether
    the camera looks into a closed space; bounces: diffuse ones until 1 % of the light is left, kept: share that each passes on
    noise: of the variance of a sample, by `bounced light`, `gloss and glass`, `lights`, `camera rays`; bound: times that time falls at equal noise if
    bounced light were known everywhere, at most; spikes: of the variance, in the noisiest hundredth of the pixels
    dark: of the picture below what the eye tells from black; lights: that are on, and how many bring 95 % of the direct light; glow: of the direct
    light that only chance finds; thin: sheets without thickness between bright and dark
    rate: seconds of a whole frame with one sample a pixel by brute force; grain: noise then at SAMPLES samples; falls: power of their number with
    which it does
    """

    indirect: float = 0.0
    gloss: float = 0.0
    glass: float = 0.0
    open: float = 0.0
    inside: bool = False
    bounces: int = 0
    kept: float = 0.0
    noise: dict[str, float] = field(default_factory=dict)
    bound: float = 1.0
    spikes: float = 0.0
    dark: float = 0.0
    lights: int = 0
    lights_that_matter: int = 0
    glow: float = 0.0
    thin: list[str] = field(default_factory=list)
    motion: Motion = Motion()
    rate: float = 0.0
    grain: float = 0.0
    falls: float = -0.5
    seconds: float = 0.0

    def as_dict(self) -> dict[str, Any]:
        return cleared({**self.__dict__, "motion": self.motion.__dict__})


def measure_facts(stand: Stand, frame: Frame, exposure: float, motion: Motion | None = None) -> Facts | None:
    """Measure the facts of a shot for a frame; None when cancelled."""
    begun = time.monotonic()
    facts = Facts(motion=motion or Motion())
    ready, recipe = stand.truth()
    recipe = with_values(recipe, {**DEEP, "gi.seen": "brute_force", "sampling.max": SAMPLES, "sampling.gi_rays": 2, "sampling.glossy_rays": 2})
    blocks = scattered(frame, PIXELS, frame.seed)
    pilot = take(ready, recipe, blocks, stand.cancel)
    if pilot is None:
        return None
    deep = _of_grain(facts, stand, ready, recipe, blocks, frame)
    if deep is None:
        return None
    # With the same random numbers paths are the same up to the limit, so that what is left shows through the noise.
    left = []
    for bounces in (FIRST, DEEPER):
        one = take(ready, with_values(recipe, {**PLAIN, "limits.diffuse_bounces": bounces}), replace(blocks, seed=1), stand.cancel)
        if one is None:
            return None
        left.append(max(deep.mean(deep.lights) - one.mean(one.lights), 0.0))
    _of_light(facts, pilot, left)
    _of_noise(facts, stand, recipe, pilot)
    rows = [
        row
        for row in measure_ledger(np.concatenate([f.reshape(-1, f.shape[-1]) for f in pilot.films])[None], ready.passes)
        if row.name in ready.passes
    ]
    shares = sorted((row.light for row in rows if row.name != GLOW), reverse=True)
    facts.glow = next((row.light for row in rows if row.name == GLOW), 0.0)
    facts.lights = len(shares)
    facts.lights_that_matter = int(np.searchsorted(np.cumsum(shares), MOST_OF_LIGHT * sum(shares)) + 1) if sum(shares) > 0.0 else 0
    facts.dark = pilot.mean([light * 2.0**exposure < EYE_FLOOR for light in pilot.lights])
    look = stand.look(EFFORT)
    facts.inside = look.inside
    if len(look.seen):
        some = np.linspace(0, len(look.seen) - 1, min(SPOTS, len(look.seen))).astype(int)
        d = look.about(look.seen_normals[some], RAYS)
        at = np.repeat(look.seen_at[some] + look.seen_normals[some] * look.offset, RAYS, axis=0)
        facts.open = float((look.cast(at, d.reshape(-1, 3))[0] < 0).mean())
    if look.inside:
        facts.thin = [suspect.key.removeprefix("sheet ") for suspect in sheet_suspects(look)]
    facts.seconds = time.monotonic() - begun
    return None if stand.cancel else facts


def _mean(taken: Taken, column: int) -> float:
    return taken.mean([film[..., column].astype(float) for film in taken.films])


def _light(taken: Taken, column: int) -> float:
    return taken.mean([film[..., column : column + 3].astype(float) @ LUMINANCE for film in taken.films])


def _of_light(facts: Facts, pilot: Taken, left: list[float]) -> None:
    direct, indirect = _light(pilot, DIRECT), _light(pilot, INDIRECT)
    whole = max(direct + indirect, 1e-12)
    facts.indirect = indirect / whole
    facts.gloss, facts.glass = _mean(pilot, BOUNCED + 1) / whole, _mean(pilot, BOUNCED + 2) / whole
    # What is left after some bounces falls by the same share with each: the scene's own, after a few.
    first, deeper = left
    facts.kept = float(np.clip((deeper / first) ** (1.0 / (DEEPER - FIRST)) if first > 0.0 and deeper > 0.0 else 0.0, 0.0, 0.98))
    share = deeper / whole
    if share <= 0.01 or facts.kept <= 0.0:
        earlier = [b for b in range(FIRST, DEEPER + 1) if first / whole * facts.kept ** (b - FIRST) <= 0.01]
        facts.bounces = earlier[0] if earlier else DEEPER
    else:
        facts.bounces = int(np.ceil(DEEPER + np.log(0.01 / share) / np.log(facts.kept)))


def _of_grain(facts: Facts, stand: Stand, ready: Prepared, recipe: Recipe, blocks: Scattered, frame: Frame) -> Taken | None:
    """What brute force leaves at some samples, and how it falls with more; one of its renders, of seed 1; None when cancelled."""
    noise, one = [], None
    for samples in (FEWER, SAMPLES):
        plain = with_values(recipe, {**PLAIN, "sampling.max": samples})
        one, other = (take(ready, plain, replace(blocks, seed=seed), stand.cancel) for seed in (1, 2))
        if one is None or other is None:
            return None
        noise.append(max(noise_of(one, other), 1e-6))
        facts.rate = min(one.seconds, other.seconds) / (samples * blocks.pixels) * frame.width * frame.height
    facts.grain = noise[-1]
    facts.falls = float(np.clip(np.log(noise[1] / noise[0]) / np.log(SAMPLES / FEWER), -0.5, 0.0))
    return one


def _of_noise(facts: Facts, stand: Stand, recipe: Recipe, pilot: Taken) -> None:
    variance, cost, sources = sources_of(stand, recipe, pilot)
    parts = {"camera rays": variance, "lights": 0.0, "bounced light": 0.0, "gloss and glass": 0.0}
    spent = dict.fromkeys(parts, 0.0) | {"camera rays": cost}
    for source in sources:
        name = "lights" if source.key.startswith("light.") else source.name
        parts[name] += source.variance / source.now
        spent[name] += source.cost * source.now
    whole = sum(parts.values())
    facts.noise = {name: value / whole for name, value in parts.items()}
    rest_variance, rest_cost = whole - parts["bounced light"], sum(spent.values()) - spent["bounced light"]
    facts.bound = float(whole * sum(spent.values()) / max(rest_variance * rest_cost, 1e-12))
    mean = pilot.mean(pilot.lights)
    of_pixels = np.concatenate(
        [
            relative_weights(light, mean) * (film[..., WITHIN] + film[..., BETWEEN]).reshape(-1)
            for light, film in zip(pilot.lights, pilot.films, strict=True)
        ]
    )
    worst = np.sort(of_pixels)[::-1]
    facts.spikes = float(worst[: max(1, int(SPIKES * len(worst)))].sum() / max(worst.sum(), 1e-12))
