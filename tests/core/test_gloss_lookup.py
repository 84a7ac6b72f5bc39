"""Wide gloss that takes its light from a cache: even light stays even, and what it costs is measured without bias."""

import math
import unittest

import numpy as np

from sivrel.core.measure.meters import measure_meters
from sivrel.core.render.film import BOUNCED, GLOSS_LOOKED_UP, GLOSS_TRACED, INDIRECT, PARTS
from sivrel.core.scene.model import Light, Scene, Surface
from tests.scenes import box_inside, light, looking_down, render

CAMERA = looking_down(height=0.6, tilt=0.5, half_width=0.7)
CACHED = {"gi__seen": "irradiance_cache", "irradiance_cache__rays": 1024, "limits__diffuse_bounces": 12, "limits__reflections": 12}
LAMP = Light("lamp", "sphere", (30.0, 24.0, 18.0), (0.5, 0.2, 0.4), radius=0.1)


def room(roughness: float, **surface) -> Scene:
    lights = [] if surface else [LAMP]
    return Scene("room", [box_inside()], [Surface("painted", (0.5,) * 3, roughness=roughness, ior=1.5, **surface)], lights)


def rendered(roughness: float, seed: int, samples: int = 64, **values):
    return render(room(roughness), CAMERA, (24, 24), seed=seed, sampling__max=samples, **CACHED, **values)


class GlossLookup(unittest.TestCase):
    def test_in_an_evenly_glowing_room_it_changes_nothing(self):
        glowing = room(0.6, emission=(1.0,) * 3)
        given = {**CACHED, "limits__diffuse_bounces": 40, "limits__reflections": 40, "limits__total": 64, "sampling__max": 64}
        looked_up, traced = (light(render(glowing, CAMERA, (12, 12), gi__gloss=gloss, **given)) for gloss in ("looked_up", "traced"))
        np.testing.assert_allclose(looked_up[0], traced[0], rtol=0.015)

    def test_the_meter_says_what_it_adds(self):
        """Against renders in which all gloss is traced, on other random numbers."""
        films = {"looked_up": [rendered(0.5, seed) for seed in (1, 2, 3)], "traced": [rendered(0.5, seed, gi__gloss="traced") for seed in (4, 5, 6)]}
        means = {gloss: [float(film[..., INDIRECT : INDIRECT + 3].mean(dtype=float)) for film in made] for gloss, made in films.items()}
        meters = [measure_meters(film, ["box"], np.zeros(12, np.int64).__getitem__) for film in films["looked_up"]]
        total = np.mean([light(film)[0].mean() for film in films["looked_up"]])
        added = (np.mean(means["looked_up"]) - np.mean(means["traced"])) / total
        stated, error = np.mean([m["gloss_lookup"] for m in meters]), math.hypot(*(m["gloss_error"] for m in meters)) / 3.0
        spread = math.hypot(*(np.std(mean, ddof=1) / math.sqrt(3.0) for mean in means.values())) / total
        self.assertGreater(error, 0.0)
        self.assertLess(error, 0.02)
        self.assertAlmostEqual(stated, added, delta=3.0 * math.hypot(error, spread) + 0.002)

    def test_it_takes_the_grain_of_gloss(self):
        def grain(gloss: str) -> float:
            one, other = (rendered(0.5, seed, 8, gi__gloss=gloss)[..., PARTS + 3 : PARTS + 6] for seed in (1, 2))
            return float(np.mean((one - other) ** 2))

        self.assertLess(grain("looked_up"), 0.1 * grain("traced"))

    def test_its_light_is_gloss_among_the_passes(self):
        looked_up, traced = (np.mean([rendered(0.5, seed, gi__gloss=gloss)[..., BOUNCED : BOUNCED + 2] for seed in (1, 2)], axis=(0, 1, 2))
                             for gloss in ("looked_up", "traced"))  # fmt: skip
        np.testing.assert_allclose(looked_up, traced, rtol=0.25)

    def test_narrow_gloss_is_traced(self):
        film = rendered(0.3, 1, 8)
        self.assertEqual(float(np.abs(film[..., [GLOSS_TRACED, GLOSS_LOOKED_UP]]).max()), 0.0)
        self.assertGreater(float(rendered(0.5, 1, 8)[..., GLOSS_LOOKED_UP].mean()), 0.0)
