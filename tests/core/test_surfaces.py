"""The surface model by itself: reciprocity, densities, the albedo table, textures."""

import unittest

import numpy as np

from sivrel.core.pack.geometry import pack_scene
from sivrel.core.scene.model import Scene, Surface, Texture, TextureUse
from sivrel.core.scene.texels import texels_of
from sivrel.core.scene.textures import FINEST, look_up
from sivrel.core.surfaces import albedo
from sivrel.core.surfaces.preview import Look, evaluate, sample_direction, scattering_at
from tests.scenes import floor

CASES = [(r, m) for r in (0.2, 0.5, 1.0) for m in (0.0, 0.6, 1.0)]


def model(base, roughness, metallic, cos_o, ior=1.5):
    return scattering_at(Look(base, roughness, metallic, ior, False, (0.0, 0.0, 0.0), 0.0, 0.0), 0.0, 0.0, 0.0, cos_o)


def direction(theta: float, phi: float) -> tuple[float, float, float]:
    return float(np.sin(theta) * np.cos(phi)), float(np.sin(theta) * np.sin(phi)), float(np.cos(theta))


class Scattering(unittest.TestCase):
    def test_is_reciprocal(self):
        a, b = direction(0.3, 0.2), direction(1.2, 2.1)
        for roughness, metallic in CASES:
            base = (0.8, 0.4, 0.1)
            there, _ = evaluate(model(base, roughness, metallic, a[2]), a, b)
            back, _ = evaluate(model(base, roughness, metallic, b[2]), b, a)
            np.testing.assert_allclose(np.array(there) / b[2], np.array(back) / a[2], rtol=1e-9)

    def test_density_is_that_of_the_samples(self):
        """The density integrates to the share of samples that are scattered, and weighs their mean direction right."""
        rng = np.random.default_rng(3)
        wo = direction(0.9, 0.0)
        n = 200
        cos, phi = (np.arange(n) + 0.5) / n, (np.arange(2 * n) + 0.5) / (2 * n) * 2 * np.pi
        for roughness, metallic in CASES:
            s = model((0.8, 0.4, 0.1), roughness, metallic, wo[2])
            total = mean = 0.0
            for c in cos:
                row = [evaluate(s, wo, direction(float(np.arccos(c)), float(p)))[1] for p in phi]
                total += sum(row)
                mean += c * sum(row)
            weight = 2 * np.pi / (n * 2 * n)
            samples = [sample_direction(s, wo, *rng.random(3))[0] for _ in range(20000)]
            kept = np.array([w[2] for w in samples if w[2] > 0.0])
            self.assertAlmostEqual(total * weight, len(kept) / len(samples), delta=0.012)
            self.assertAlmostEqual(mean * weight, kept.sum() / len(samples), delta=0.012)

    def test_shipped_albedo_table_is_what_its_script_computes(self):
        coarse = albedo.make_table(size=7, quadrature=160)
        for i in range(7):
            for j in range(1, 7):
                # Nodes of the coarse table, looked up in the shipped one.
                a, b = albedo.directional_albedo((j / 6) ** 2, i / 6)
                np.testing.assert_allclose((a, b), coarse[i, j], atol=6e-3)


class Textures(unittest.TestCase):
    def arrays(self, **more):
        texels = np.zeros((2, 4, 4), np.float32)
        texels[..., 0] = [[0, 1, 2, 3], [4, 5, 6, 7]]
        use = TextureUse(Texture(texels_of(texels), **more))
        return pack_scene(Scene("t", [floor()], [Surface(base_color_map=use)]))

    def value(self, arrays, u, v):
        return look_up(arrays, 0, 0, u, v, FINEST)

    def test_texel_middles_and_between(self):
        arrays = self.arrays()
        self.assertAlmostEqual(self.value(arrays, 0.125, 0.75), 0.0)  # v goes up: the top row is first
        self.assertAlmostEqual(self.value(arrays, 0.375, 0.25), 5.0)
        self.assertAlmostEqual(self.value(arrays, 0.25, 0.5), 2.5)

    def test_wraps(self):
        self.assertAlmostEqual(self.value(self.arrays(wrap=("repeat", "repeat")), 1.125, 0.75), 0.0)
        self.assertAlmostEqual(self.value(self.arrays(wrap=("clamp", "clamp")), 1.125, 0.75), 3.0)
        self.assertAlmostEqual(self.value(self.arrays(wrap=("mirror", "clamp")), 1.125, 0.75), 3.0)
        self.assertAlmostEqual(self.value(self.arrays(wrap=("black", "black")), 1.5, 0.75), 0.0)

    def test_scale_bias_and_transform(self):
        arrays = self.arrays(scale=(2.0, 1, 1, 1), bias=(0.5, 0, 0, 0), transform=np.array([[2.0, 0, 0], [0, 1, 0]]))
        self.assertAlmostEqual(self.value(arrays, 0.1875, 0.75), 2.5)


if __name__ == "__main__":
    unittest.main()
