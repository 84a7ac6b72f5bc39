"""Facts about a shot that decide between ways of finding light, measured in a few seconds with pilot paths and rays."""

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..diagnose.finding import cleared
from ..diagnose.leaks import sheet_suspects
from ..diagnose.trial_renderer import TrialRenderer
from ..diagnose.truth import DEEP
from ..measure.ledger import measure_ledger
from ..measure.noise import LUMINANCE, relative_weights
from ..pack.lights import GLOW
from ..render.film import BETWEEN, BOUNCED, DIRECT, INDIRECT, WITHIN
from ..render.frame import Frame
from ..render.recipe import Recipe, with_values
from ..render.tile import EYE_FLOOR
from ..scene.model import Scene
from ..scene.placed_mesh import moves
from ..work_time import work_time
from .blocks import weights_of
from .pilots import SAMPLES, SEEDS, SMALL, Known, Pilot, curve_of, fly
from .render import Taken, scattered, take
from .sources import sources_of

PIXELS, SIDE = 4096, 4
"""Pixels of the pilots, and the side of their blocks: many small ones, since errors of caches are in few places."""
PLAIN = {"sampling.gi_rays": 1, "sampling.glossy_rays": 1}
EFFORT = 0.3
"""Share of a survey's rays used to search for thin walls."""
SPIKES = 0.01
"""Share of the noisiest pixels whose part of the total noise shows how rare its paths are."""
RAYS, SPOTS = 32, 400
MOST_OF_LIGHT = 0.95
GLOSSY, SHINY, SPIKY = 0.1, 0.02, 0.5
"""Shares of light by gloss and through glass from which they matter; share of variance in the noisiest pixels that indicates rare paths."""
MANY_LIGHTS = 12
DEEPEST, DARKER = 24, 0.2
"""Most diffuse bounces advised, and the share of remaining light at which they end."""
FIRST, DEEPER = 1, 4
"""Diffuse bounces after which the remaining light is measured."""


@dataclass(frozen=True)
class Motion:
    """What moves in a shot, as far as its file shows."""

    camera: bool = False
    objects: bool = False
    lights: bool = False


def motion_between(now: Scene, later: Scene, camera: str | None) -> Motion:
    """What differs between two frames of a shot. A camera that is not in the file does not move."""
    one, other = (next((c.to_world for c in scene.cameras if camera in (None, c.name)), None) for scene in (now, later))
    moved = one is not None and other is not None and not np.allclose(one, other, atol=1e-6)
    objects = len(now.meshes) != len(later.meshes) or any(moves(a, b, 1e-5) for a, b in zip(now.meshes, later.meshes, strict=False))
    lights = len(now.lights) != len(later.lights) or any(
        (a.intensity, a.color, a.position) != (b.intensity, b.color, b.position) or not np.allclose(a.frame, b.frame)
        for a, b in zip(now.lights, later.lights, strict=False)
    )
    return Motion(moved, objects, lights)


@dataclass
class Facts:
    """Shares from 0 to 1 unless noted.

    indirect: of the light; gloss, glass: of the light, first scattered so; open: of the rays from visible points that leave the scene; inside:
    whether the camera looks into a closed space; bounces: diffuse ones until 1 % of the light is left; kept: share of light that each keeps
    noise: of the variance of a sample, by `bounced light`, `gloss and glass`, `lights`, `camera rays`; bound: largest factor by which time falls at
    equal noise if bounced light were known everywhere; spikes: of the variance, in the noisiest hundredth of the pixels
    dark: of the picture below what the eye can tell from black; lights: that are on, and how many give 95 % of the direct light; glow: of the direct
    light that is only found by chance; thin: sheets without thickness between bright and dark
    rate: seconds of a whole frame with one brute-force sample per pixel; curve: of its noise, as in Pilot; ways: results of
    those that were tried; untried: names of the others, each with the reason
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
    curve: list[tuple[float, float]] = field(default_factory=list)
    pixels: int = SMALL
    seconds: float = 0.0
    ways: list[Pilot] = field(default_factory=list)
    untried: dict[str, str] = field(default_factory=dict)

    @property
    def plain(self) -> Pilot:
        """Brute force's pilot."""
        return next((pilot for pilot in self.ways if pilot.name == "brute_force"), Pilot("brute_force", self.rate, self.curve))

    @property
    def pace(self) -> float:
        """Seconds of a small frame with one sample a pixel."""
        return self.rate * SMALL / self.pixels

    @property
    def sparkles(self) -> bool:
        """Whether caustics may cause the noise."""
        return self.glass > SHINY and self.spikes > SPIKY

    @property
    def many_lights(self) -> bool:
        """Whether there are so many lights that choosing some by importance pays."""
        return self.lights >= MANY_LIGHTS and (self.lights_that_matter * 3 > self.lights or self.lights > 4 * MANY_LIGHTS)

    def settled(self) -> dict[str, Any]:
        """Values that a recipe for this shot needs with any way of bounced light, by key."""
        # A hundredth of all light is a large part in the dark corners.
        more = np.log(DARKER) / np.log(self.kept) if self.kept > 0.0 else 1.0
        found: dict[str, Any] = {"limits.diffuse_bounces": int(np.clip(np.ceil(self.bounces + more), 1, DEEPEST))}
        if self.gloss > GLOSSY:
            found["limits.reflections"] = 16
        if self.glass > SHINY:
            found |= {"limits.refractions": 16, "limits.reflections": max(8, found.get("limits.reflections", 0))}
        if self.lights >= MANY_LIGHTS:
            found["lights.seen"] = "chosen" if self.many_lights else "all"
        return found

    def as_dict(self) -> dict[str, Any]:
        return cleared({**self.__dict__, "motion": self.motion.__dict__, "ways": [way.as_dict() for way in self.ways]})


def measure_facts(
    renderer: TrialRenderer, frame: Frame, exposure: float, motion: Motion | None = None, *, seconds: float = 12.0
) -> Facts:  # fmt: skip
    """Measure the facts of a shot for a frame that may take that many seconds. The renderer's task receives each step with the facts so far.
    Raises Cancelled."""
    begun = work_time()
    facts = Facts(motion=motion or Motion(), pixels=frame.width * frame.height)
    ready, recipe = renderer.truth()
    recipe = with_values(recipe, {**DEEP, "gi.seen": "brute_force", "sampling.max": SAMPLES, "sampling.gi_rays": 2, "sampling.glossy_rays": 2})
    blocks = scattered(frame, PIXELS, frame.seed, side=SIDE)
    pilot = take(ready, recipe, blocks, renderer.task)
    weights = weights_of(ready, recipe, blocks, renderer.task)
    plain, facts.rate, facts.curve = curve_of(renderer, ready, with_values(recipe, PLAIN), blocks, weights)
    deep = plain[0]
    # With the same random numbers paths are identical up to the limit, so the remaining light is visible in spite of noise.
    left = []
    for bounces in (FIRST, DEEPER):
        limited = with_values(recipe, {**PLAIN, "sampling.max": round(deep.samples), "limits.diffuse_bounces": bounces})
        one = take(ready, limited, replace(blocks, seed=SEEDS[0]), renderer.task)
        left.append(max(deep.mean(deep.lights) - one.mean(one.lights), 0.0))
    _of_light(facts, pilot, left)
    _of_noise(facts, renderer, recipe, pilot)
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
    look = renderer.look(EFFORT)
    facts.inside = look.inside
    if len(look.seen):
        some = np.linspace(0, len(look.seen) - 1, min(SPOTS, len(look.seen))).astype(int)
        d = look.about(look.seen_normals[some], RAYS)
        at = np.repeat(look.seen_at[some] + look.seen_normals[some] * look.offset, RAYS, axis=0)
        facts.open = float((look.cast(at, d.reshape(-1, 3))[0] < 0).mean())
    if look.inside:
        facts.thin = [suspect.key.removeprefix("sheet ") for suspect in sheet_suspects(look)]
    fly(renderer, blocks, facts, Known(plain, weights), seconds)
    facts.seconds = work_time() - begun
    return facts


def _mean(taken: Taken, column: int) -> float:
    return taken.mean([film[..., column].astype(float) for film in taken.films])


def _light(taken: Taken, column: int) -> float:
    return taken.mean([film[..., column : column + 3].astype(float) @ LUMINANCE for film in taken.films])


def _of_light(facts: Facts, pilot: Taken, left: list[float]) -> None:
    direct, indirect = _light(pilot, DIRECT), _light(pilot, INDIRECT)
    whole = max(direct + indirect, 1e-12)
    facts.indirect = indirect / whole
    facts.gloss, facts.glass = _mean(pilot, BOUNCED + 1) / whole, _mean(pilot, BOUNCED + 2) / whole
    # After a few bounces, the remaining light falls by a constant factor per bounce.
    first, deeper = left
    facts.kept = float(np.clip((deeper / first) ** (1.0 / (DEEPER - FIRST)) if first > 0.0 and deeper > 0.0 else 0.0, 0.0, 0.98))
    share = deeper / whole
    if share <= 0.01 or facts.kept <= 0.0:
        earlier = [b for b in range(FIRST, DEEPER + 1) if first / whole * facts.kept ** (b - FIRST) <= 0.01]
        facts.bounces = earlier[0] if earlier else DEEPER
    else:
        facts.bounces = int(np.ceil(DEEPER + np.log(0.01 / share) / np.log(facts.kept)))


def _of_noise(facts: Facts, renderer: TrialRenderer, recipe: Recipe, pilot: Taken) -> None:
    variance, cost, sources = sources_of(renderer, recipe, pilot)
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
