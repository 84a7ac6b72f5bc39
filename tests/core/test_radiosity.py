"""Baked light: form factors and radiosity systems in closed form, the mesh, convergence, scale, and what refining does."""

import unittest
from dataclasses import replace

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.gi.elements import LEAF, cluster, element_at, halve, split_to, whole_triangles
from sivrel.core.gi.radiosity import gloss_photons, share_arrived, solve, solve_finer
from sivrel.core.gi.ways import SEEN as WAYS
from sivrel.core.pack.geometry import pack_scene
from sivrel.core.render.frame import Frame
from sivrel.core.render.preparation import Preparation
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene
from sivrel.core.task import Task
from tests.scenes import box_inside, floor, lambert, looking_down, mesh, quad

CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)
FACING, BESIDE = 0.1998, 0.2000
"""Form factors of unit squares that face each other at distance one, and that share an edge (Howell, configurations C-11 and C-14)."""


def job_for(scene: Scene, **settings) -> Preparation:
    recipe = with_values(Recipe(), {"gi.seen": "baked", "baked.converged": 0.9999, **{f"baked.{key}": value for key, value in settings.items()}})
    scene = replace(scene, cameras=[CAMERA])
    ready = prepare(scene, with_values(recipe, {"gi.seen": "off"}))
    return Preparation(scene, ready.arrays, recipe, CAMERA, Frame(16, 16))


def baked(scene: Scene, longest: float = 9.0, **settings):
    """(mesh, solution) of a scene whose elements are no longer than that."""
    job = job_for(scene, **settings)
    mesh = split_to(job.arrays, longest)
    return mesh, solve(job, mesh, 0.0, 0, gloss_photons(job, job.recipe.of("baked")), job.recipe.of("baked"), lambda share: None)


def ball_inside(rows: int, columns: int):
    """A sphere of radius 1 about the origin, facing inwards."""
    polar, around = np.linspace(0.0, np.pi, rows + 1), np.linspace(0.0, 2.0 * np.pi, columns + 1)
    at = np.stack(
        [np.sin(polar)[:, None] * np.cos(around), np.sin(polar)[:, None] * np.sin(around), np.cos(polar)[:, None] * np.ones_like(around)], 2
    )
    triangles = []
    for i in range(rows):
        for j in range(columns):
            a, b, c, d = at[i, j], at[i + 1, j], at[i + 1, j + 1], at[i, j + 1]
            triangles += ([(a, c, b)] if i < rows - 1 else []) + ([(a, d, c)] if i > 0 else [])
    return mesh(triangles)


def over(solution, mesh, triangles, values) -> np.ndarray:
    """Mean over the front sides of the elements of some triangles, by area."""
    chosen = np.isin(mesh.triangle, triangles)
    fronts = 2 * solution.patches[chosen].astype(int)
    return np.average(values[fronts], axis=0, weights=mesh.areas()[chosen])


class ClosedForms(unittest.TestCase):
    def squares(self, glow, albedo):
        low = quad((0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), 0)
        high = quad((0, 0, 1), (0, 1, 1), (1, 1, 1), (1, 0, 1), 1)
        return Scene("squares", [low, high], [lambert(albedo, (glow,) * 3), lambert(albedo)], [])

    def test_two_squares_are_solved_exactly(self):
        """B2 = albedo F (E1 + B1), B1 = albedo F B2, the glow E1 = pi L not among them."""
        mesh, solution = baked(self.squares(1.0, 0.7), 0.4, samples=64, shots=400_000)
        f, a, e = FACING, 0.7, np.pi
        b2 = a * f * e / (1.0 - a * a * f * f)
        direct, bounced = over(solution, mesh, [2, 3], solution.direct), over(solution, mesh, [0, 1], solution.bounced)
        np.testing.assert_allclose(direct, f * e, rtol=0.02)
        np.testing.assert_allclose(bounced, f * b2, rtol=0.02)

    def test_three_zones_of_a_sphere_are_solved_exactly(self):
        """The integrating sphere: every spot sees a zone as large as its share of the area, so all get the same light."""
        albedos, glows = np.array([0.8, 0.5, 0.3]), np.array([0.4, 0.0, 1.0])
        sphere = ball_inside(24, 48)
        middles = sphere.vertices.mean(axis=1)[:, 2]
        sphere.surfaces[:] = np.digitize(middles, (-0.3, 0.5))
        surfaces = [lambert(a, (g,) * 3) for a, g in zip(albedos, glows, strict=True)]
        mesh, solution = baked(Scene("sphere", [sphere], surfaces, []), 9.0, samples=64, shots=400_000)
        areas = mesh.areas()
        shares = np.array([areas[sphere.surfaces == k].sum() for k in range(3)]) / areas.sum()
        direct = np.pi * (glows * shares).sum()
        whole = direct / (1.0 - (albedos * shares).sum())
        for k in range(3):
            triangles = np.flatnonzero(sphere.surfaces == k)
            np.testing.assert_allclose(over(solution, mesh, triangles, solution.direct), direct, rtol=0.03)
            np.testing.assert_allclose(over(solution, mesh, triangles, solution.bounced), whole - direct, rtol=0.03)

    def test_the_faces_of_a_box_see_each_other_as_form_factors_say(self):
        box = box_inside(0.5)
        box.surfaces[:2] = 1  # one face glows
        mesh, solution = baked(Scene("box", [box], [lambert(0.5), lambert(0.5, (1.0,) * 3)], []), 0.3, samples=256)
        self.assertAlmostEqual(float(over(solution, mesh, [2, 3], solution.direct)[0]), np.pi * FACING, delta=0.04)
        for face in range(2, 6):
            self.assertAlmostEqual(float(over(solution, mesh, [2 * face, 2 * face + 1], solution.direct)[0]), np.pi * BESIDE, delta=0.04)

    def test_a_closed_box_that_glows_is_its_series_at_every_quality(self):
        """Every side gets pi L albedo / (1 - albedo) bounced; its spread falls as the root of the rays, as chance does."""
        errors = []
        for shots in (20_000, 80_000, 320_000, 1_280_000):
            _, solution = baked(Scene("grey", [box_inside()], [lambert(0.6, (0.25,) * 3)], []), 0.3, shots=shots)
            fronts = solution.bounced[0::2, 1]
            self.assertAlmostEqual(float(fronts.mean()), np.pi * 0.25 * 0.6 / 0.4, delta=0.02)
            errors.append(float(fronts.std()))
        # The least round is of 65536 rays, so the first step falls less: the fit begins at the second.
        slope = np.polyfit(np.log([80_000, 320_000, 1_280_000]), np.log(errors[1:]), 1)[0]
        self.assertAlmostEqual(slope, -0.5, delta=0.15)


class Mesh(unittest.TestCase):
    def test_halving_keeps_area_and_every_point_finds_its_element(self):
        rng = np.random.default_rng(3)
        arrays = pack_scene(Scene("m", [floor(1.0), quad((0, 0, 1), (3, 0, 1), (3, 0.2, 1.3), (0, 0.2, 1))], [lambert(0.5)], []))
        mesh = split_to(arrays, 0.37)
        self.assertLessEqual(float(mesh.longest().max()), 0.37)
        self.assertAlmostEqual(float(mesh.areas().sum()), float(whole_triangles(arrays).areas().sum()), places=9)
        for _ in range(2):
            mesh = halve(mesh, rng.random(len(mesh.triangle)) < 0.3)
        self.assertEqual(sorted(mesh.element[mesh.split == LEAF]), list(range(len(mesh.triangle))))
        for e in rng.integers(0, len(mesh.triangle), 200):
            w = rng.dirichlet((1.0, 1.0, 1.0))
            inside = w @ mesh.weights[e]
            found, u, v = element_at(mesh.split, mesh.child, mesh.element, mesh.triangle[e], inside[1], inside[2])
            self.assertEqual(found, e)
            np.testing.assert_allclose(sorted((u, v, 1.0 - u - v)), sorted(w), atol=1e-9)

    def test_small_triangles_that_lie_together_share_a_patch(self):
        tiles = [quad((x, y, 0), (x + 0.05, y, 0), (x + 0.05, y + 0.05, 0), (x, y + 0.05, 0)) for x in np.arange(0, 0.4, 0.05) for y in (0.0, 0.05)]
        merged = tiles[0].changed(vertices=np.concatenate([t.vertices for t in tiles]), normals=np.concatenate([t.normals for t in tiles]),
                         uvs=np.concatenate([t.uvs for t in tiles]), surfaces=np.zeros(2 * len(tiles), np.uint32))  # fmt: skip
        arrays = pack_scene(Scene("t", [merged, floor(2.0)], [lambert(0.5)], []))
        patches, count = cluster(arrays, whole_triangles(arrays), 0.2, 99)
        self.assertEqual(len(patches), 34)
        self.assertLessEqual(count, 8)

    def test_nine_tenths_of_the_area_are_judged(self):
        self.assertAlmostEqual(share_arrived(np.array([0.5, 0.1, 0.02]), np.ones(3), np.array([0.05, 0.5, 0.45])), 0.1)
        self.assertEqual(share_arrived(np.zeros(2), np.zeros(2), np.ones(2)), 0.0)

    def test_light_that_changes_fast_is_split_and_an_object_can_have_its_own_passes(self):
        lamp = Light("lamp", "sphere", (90.0,) * 3, (0.0, 0.0, -0.8), radius=0.05)
        scene = replace(Scene("spot", [box_inside()], [lambert(0.5)], [lamp]), cameras=[CAMERA])
        given = {"gi.seen": "baked", "baked.max_edge": 0.5, "baked.shots": 50_000}

        def elements(values, refine=None) -> int:
            changed = replace(scene, meshes=[replace(scene.meshes[0], refine=refine)])
            return prepare(changed, with_values(Recipe(), {**given, **values})).ways[0].count

        plain, once = elements({"baked.refine": 0}), elements({"baked.refine": 1})
        self.assertGreater(once, plain + 10)
        self.assertLess(once, 4 * plain)
        self.assertEqual(elements({"baked.refine": 1}, refine=0), plain)
        self.assertEqual(elements({"baked.refine": 0}, refine=1), once)

    def test_progress_runs_from_none_to_all_and_each_stage_says_what_it_did(self):
        lamp = Light("lamp", "sphere", (90.0,) * 3, (0.0, 0.0, -0.8), radius=0.05)
        scene = replace(Scene("spot", [box_inside()], [lambert(0.8)], [lamp]), cameras=[CAMERA])
        notes = {}
        for passes in (1, 2):
            heard = []
            given = {"gi.seen": "baked", "baked.max_edge": 0.5, "baked.shots": 70_000, "baked.refine": passes, "baked.contrast": 0.1}
            ready = prepare(scene, with_values(Recipe(), given), task=Task(lambda what, share, result, heard=heard: heard.append(share)))
            self.assertEqual((min(heard) >= 0.0, max(heard) <= 1.0), (True, True), heard)
            self.assertEqual(heard, sorted(heard))
            notes[passes] = ready.ways[0].notes
        self.assertEqual((notes[1]["refined"], notes[2]["refined"], notes[2]["rounds"]), (1, 2, notes[1]["rounds"]))
        self.assertEqual(notes[2]["rays"] - notes[1]["rays"], 70_000, "a second pass costs a round, not a solution")
        self.assertGreater(notes[2]["chance"], notes[2]["chance_solved"])
        self.assertIn("Refined in 2 passes", WAYS["baked"].says(notes[2]))

    def test_parts_of_elements_get_what_a_whole_solution_gives_them(self):
        lamp = Light("lamp", "sphere", (90.0,) * 3, (0.0, 0.0, -0.8), radius=0.05)
        job = job_for(Scene("spot", [box_inside()], [lambert(0.5)], [lamp]), shots=200_000, samples=256)
        wanted, none = job.recipe.of("baked"), np.zeros((0, 16))
        coarse = split_to(job.arrays, 0.8)
        before = solve(job, coarse, 0.0, len(coarse.split), none, wanted, lambda share: None)
        chosen = coarse.triangle < 4
        fine = halve(coarse, chosen)
        parents = np.concatenate([np.flatnonzero(~chosen), np.repeat(np.flatnonzero(chosen), 2)])
        finer = solve_finer(job, fine, 0.0, len(coarse.split), parents, before, none, wanted)
        whole = solve(job, fine, 0.0, len(coarse.split), none, wanted, lambda share: None)
        fronts = 2 * finer.patches.astype(int)
        np.testing.assert_array_equal(finer.patches, whole.patches)
        np.testing.assert_allclose(finer.bounced[fronts].mean(), whole.bounced[fronts].mean(), rtol=0.02)
        np.testing.assert_allclose(finer.bounced[fronts], whole.bounced[fronts], rtol=0.25)
        new = fronts[np.isin(fine.triangle, range(4))]
        np.testing.assert_allclose(finer.direct[new].mean(), whole.direct[new].mean(), rtol=0.1)
        self.assertGreater(float(np.abs(finer.direct[new] - whole.direct[new]).max()), 0.0)  # looked at anew, by fewer looks

    def test_a_wrong_scale_is_reported(self):
        scene = replace(Scene("far", [floor(4000.0)], [lambert(0.5)], [Light("sun", "sun", (1.0,) * 3)]), cameras=[CAMERA])
        for edge, part in ((0.5, "set baked.max_edge to"), (9999.0, "more than the whole scene")):
            with self.assertRaisesRegex(InputError, part):
                prepare(scene, with_values(Recipe(), {"gi.seen": "baked", "baked.max_edge": edge}))


if __name__ == "__main__":
    unittest.main()
