"""Two whole scenes at small size: an orchard of placed trees, and a loft of curves, subdivided cages and textures."""

import tempfile
import unittest
from pathlib import Path

import numpy as np

import sivrel
from sivrel.core.scene.placed_mesh import PlacedMesh
from tests.loft import write_loft
from tests.orchard import KINDS, write_orchard

DRAFT = {"sampling.min": 16, "sampling.max": 16, "gi.seen": "brute_force"}


class Assemblies(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)

    def test_an_orchard_is_the_same_with_shared_and_with_copied_trees(self) -> None:
        write_orchard(self.folder / "orchard.usdc", 12, detail=0.1)
        shot = sivrel.open(self.folder / "orchard.usdc")
        placed = [mesh for mesh in shot.scene.meshes if isinstance(mesh, PlacedMesh)]
        self.assertEqual((len(placed), len({id(mesh.shape) for mesh in placed})), (12 * 3, KINDS * 3))
        shared, copied = (shot.render({**DRAFT, "surfaces.copied": most}, size=(96, 54)) for most in (0, 10_000_000))
        self.assertEqual(len(shared.ready.arrays.bvh.placements.first), 36)
        one, other = (picture.picture.passes["beauty"][..., :3] for picture in (shared, copied))
        self.assertAlmostEqual(float(one.mean() / other.mean()), 1.0, delta=0.003)
        trees = [k for k, name in enumerate(shared.picture.objects) if "/Trees/" in name]
        self.assertGreater(float(np.isin(shared.picture.passes["object"], trees).mean()), 0.03)

    def test_a_loft_shows_its_net_its_rope_and_round_floats(self) -> None:
        write_loft(self.folder / "loft.usda", meshes=14, floats=6)
        shot = sivrel.open(self.folder / "loft.usda")
        self.assertEqual(shot.notes, [])
        picture = shot.render({**DRAFT, "sampling.max": 32}, size=(192, 108))
        names = np.array(picture.picture.objects)
        seen = names[np.unique(picture.picture.passes["object"]).astype(int)]
        for name in ("/Loft/Net/Falling", "/Loft/Net/Crossing", "/Loft/Rope/Loop", "/Loft/Floor"):
            self.assertIn(name, seen)
        floats = [mesh for mesh in picture.ready.scene.meshes if "/Floats/" in mesh.name]
        self.assertGreater(min(mesh.count for mesh in floats), 12 * 16)
        cost = picture.measured["meters"]["geometry"]
        self.assertEqual(cost["from_cages"], sum(mesh.count for mesh in floats))
        self.assertEqual((cost["placements"], cost["triangles"]), (0, picture.ready.scene.triangle_count()))
        boards = picture.picture.passes["albedo"][picture.picture.passes["object"][..., 0] == names.tolist().index("/Loft/Floor")]
        self.assertGreater(float(boards.std(axis=0).min()), 0.02)  # the texture shows

    def test_a_survey_says_where_subdivision_stays_coarse(self) -> None:
        write_loft(self.folder / "coarse.usda", meshes=8, floats=14)
        shot = sivrel.open(self.folder / "coarse.usda")

        def coarse(**values):
            found = shot.survey({key.replace("__", "."): value for key, value in values.items()}).findings
            return [finding for finding in found if finding.kind == "coarse surface"]

        self.assertEqual(coarse(surfaces__subdivide_levels=7), [])
        (limited,) = coarse(surfaces__subdivide_levels=1)
        self.assertTrue(all("/Floats/" in name for name in limited.objects))
        self.assertRegex(limited.title, r"^Float\d+ and \d+ more are subdivided by at most 1 step: edges are up to \d+ px")
        (as_cages,) = coarse(surfaces__subdivide=0.0)
        self.assertIn("are rendered as cages", as_cages.title)
        self.assertAlmostEqual(as_cages.evidence["edge_px"], 2.0 * limited.evidence["edge_px"], delta=0.2)


if __name__ == "__main__":
    unittest.main()
