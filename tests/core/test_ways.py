"""Every way of finding bounced light: against closed forms and brute force, the same bytes on any threads, and declared in one place."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import numpy as np

from sivrel.core.errors import InputError
from sivrel.core.gi.photon_map import MOST_GATHERED, irradiance_at
from sivrel.core.gi.tree import DEEPEST
from sivrel.core.gi.ways import BEYOND, PLACES, PREPARING, SEEN, WAYS
from sivrel.core.render.film import ASKED, DIRECT, INDIRECT, SERVED
from sivrel.core.render.frame import Frame
from sivrel.core.render.preparation import Preparation
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.scene.model import Light, Scene, Surface
from sivrel.core.trace.traverse import make_stack
from tests.scenes import NOWHERE, box_inside, floor, lambert, looking_down, quad, render, sky

ROOT = Path(__file__).parents[2]
GLOWING = Scene("glowing", [box_inside()], [lambert(0.6, (0.25,) * 3)], [])
CAMERA = looking_down(height=0.5, tilt=0.4, half_width=0.8)
LAMP = Light("lamp", "sphere", (30.0, 20.0, 10.0), (0.3, 0.2, 0.4), radius=0.1)
WALL = quad((-1, 0.2, -1), (1, 0.2, -1), (1, 0.2, 0.3), (-1, 0.2, 0.3))
ROOM = Scene("room", [box_inside(), WALL], [lambert((0.7, 0.5, 0.4))], [LAMP])
DEEP = {"limits__diffuse_bounces": 32, "photon_map__bounces": 32, "sampling__max": 64, "photon_map__count": 60_000}
DEEP |= {"baked__converged": 0.99, "baked__shots": 100_000, "baked__refine": 0}
COMBINATIONS = [
    {"gi__seen": "irradiance_cache"},
    {"gi__seen": "irradiance_cache", "gi__beyond": "photon_map"},
    {"gi__seen": "irradiance_cache", "gi__beyond": "radiance_cache"},
    {"gi__seen": "irradiance_cache", "gi__beyond": "baked"},
    {"gi__seen": "photon_map"},
    {"gi__seen": "photon_map", "photon_map__final_gather_rays": 0},
    {"gi__seen": "radiance_cache"},
    {"gi__seen": "baked"},
    {"gi__seen": "baked", "baked__final_gather_rays": 0, "baked__max_edge": 0.2},
    {"gi__beyond": "photon_map"},
    {"gi__beyond": "radiance_cache"},
    {"gi__beyond": "baked"},
]


def mean(film: np.ndarray, column: int = INDIRECT) -> np.ndarray:
    return film[..., column : column + 3].reshape(-1, 3).astype(float).mean(axis=0)


class Agreement(unittest.TestCase):
    def test_a_closed_box_that_glows_is_its_series(self):
        """Indirect light is the glow times albedo² / (1 - albedo): what is reflected at least twice, seen through no other."""
        indirect = 0.25 * 0.6**2 / (1.0 - 0.6)
        for settings in COMBINATIONS[::2]:  # each way once; the others differ in what lies beyond
            with self.subTest(**settings):
                film = render(GLOWING, CAMERA, (24, 24), **DEEP, **settings)
                # Two standard errors of the coarsest of them, photons gathered by eighty: 3 %.
                np.testing.assert_allclose(mean(film), indirect, rtol=0.03)

    def test_bounces_are_counted_as_brute_force_counts_them(self):
        """Of a box that glows 0.25 with albedo 0.6: the first n terms of the series, at what is seen."""
        for bounces in (1, 2, 4):
            indirect = 0.25 * sum(0.6**k for k in range(2, bounces + 2))
            for seen in ("brute_force", "radiance_cache"):
                with self.subTest(bounces=bounces, seen=seen):
                    settings = {**DEEP, "limits__diffuse_bounces": bounces, "sampling__max": 256, "radiance_cache__cell": 0.1}
                    film = render(GLOWING, CAMERA, (24, 24), gi__seen=seen, **settings)
                    np.testing.assert_allclose(mean(film), indirect, rtol=0.02)

    def test_a_room_with_a_lamp_agrees_with_brute_force(self):
        truth = render(ROOM, CAMERA, (32, 32), **{**DEEP, "sampling__max": 1024})
        place = truth[..., INDIRECT : INDIRECT + 3].mean(axis=2)
        for settings in COMBINATIONS:
            with self.subTest(**settings):
                film = render(ROOM, CAMERA, (32, 32), **DEEP, **settings)
                np.testing.assert_allclose(mean(film), mean(truth), rtol=0.05)
                np.testing.assert_allclose(mean(film, DIRECT), mean(truth, DIRECT), rtol=0.02)
                # Place by place, over four by four pixels, where single samples hardly count: no blotch, no leak past the wall.
                blocks = [light.reshape(8, 4, 8, 4).mean(axis=(1, 3)) for light in (film[..., INDIRECT : INDIRECT + 3].mean(axis=2), place)]
                self.assertLess(float(np.sqrt(np.mean((blocks[0] / blocks[1] - 1.0) ** 2))), 0.15)

    def test_gloss_and_metal_on_the_way_are_not_forgotten(self):
        """A varnished dark room with a metal wall: much of what bounces has been thrown by gloss."""
        wall = quad((-0.98, -0.9, -0.9), (-0.98, 0.9, -0.9), (-0.98, 0.9, 0.9), (-0.98, -0.9, 0.9), 1)
        surfaces = [Surface("varnish", (0.25, 0.2, 0.15), roughness=0.3), Surface("brass", (0.9, 0.7, 0.4), metallic=1.0, roughness=0.4)]
        scene = Scene("varnished", [box_inside(), wall], surfaces, [LAMP])
        deep = {**DEEP, "limits__reflections": 32}
        truth = mean(render(scene, CAMERA, (24, 24), **{**deep, "sampling__max": 1024}))
        for settings in ({"gi__beyond": key} for key in ("photon_map", "radiance_cache", "baked")):
            with self.subTest(**settings):
                np.testing.assert_allclose(mean(render(scene, CAMERA, (24, 24), **deep, **settings)), truth, rtol=0.06)

    def test_light_met_by_chance_is_not_grainier_under_a_cache(self):
        """On weak gloss in the open, where a cache has looked up what the base scatters, the sky that a ray meets is whole all the same."""
        shiny = Surface("wood", (0.4, 0.3, 0.2), roughness=0.6)
        scene = Scene("open", [floor(2.0), quad((-0.5, 0.3, -2), (-0.5, 0.3, 2), (0, 0.3, 2), (0, 0.3, -2))], [shiny], [sky()])
        noise = {}
        for seen in ("brute_force", "radiance_cache"):
            films = [render(scene, CAMERA, (48, 48), sampling__max=16, gi__seen=seen, seed=seed)[..., DIRECT] for seed in (1, 2)]
            self.assertAlmostEqual(float(films[0].mean()), float(films[1].mean()), delta=0.02)
            noise[seen] = float(np.std(films[0] - films[1]))
        self.assertLess(noise["radiance_cache"], 1.3 * noise["brute_force"])

    def test_the_check_states_what_a_long_render_finds(self):
        """What the proof says of its own bias is right within the errors that it states."""
        truth = mean(render(ROOM, CAMERA, (32, 32), **{**DEEP, "sampling__max": 512}))
        for settings in ({"gi.seen": "irradiance_cache"}, {"gi.seen": "photon_map", "photon_map.final_gather_rays": 0, "photon_map.radius": 0.5}):
            with self.subTest(**settings):
                given = {key.replace("__", "."): value for key, value in DEEP.items()}
                scene = Scene("room", ROOM.meshes, ROOM.surfaces, ROOM.lights, cameras=[CAMERA])
                check = prepare(scene, with_values(Recipe(), {**given, **settings}), frame=Frame(32, 32)).ways[-1].check
                film = render(ROOM, CAMERA, (32, 32), **DEEP, **{key.replace(".", "__"): value for key, value in settings.items()})
                off = mean(film).sum() / truth.sum() - 1.0
                self.assertLess(abs(check["mean"] - off), 4.0 * check["mean_error"] + 0.03)

    def test_the_same_bytes_on_one_and_two_threads(self):
        for settings in ({"gi__seen": key} for key, way in SEEN.items() if way.make):
            with self.subTest(**settings):
                films = [render(ROOM, CAMERA, (24, 16), threads=n, sampling__max=4, photon_map__count=20_000, **settings) for n in (1, 2)]
                np.testing.assert_array_equal(films[0][..., :6], films[1][..., :6])

    def test_what_a_cache_leaves_to_paths_is_not_counted_twice(self):
        """Near corners paths are traced instead: the light is the same as brute force's, however far that reaches."""
        truth = mean(render(ROOM, CAMERA, (32, 32), **{**DEEP, "sampling__max": 512}))
        for way, settings in (("irradiance_cache", {}), ("photon_map", {"photon_map__final_gather_rays": 4}), ("radiance_cache", {})):
            with self.subTest(way=way):
                film = render(ROOM, CAMERA, (32, 32), **DEEP, gi__seen=way, **{f"{way}__corner_distance": 0.6}, **settings)
                np.testing.assert_allclose(mean(film), truth, rtol=0.06)

    def test_where_a_cache_serves_is_counted(self):
        film = render(ROOM, CAMERA, (24, 24), sampling__max=4, gi__seen="irradiance_cache", irradiance_cache__corner_distance=0.2)
        served = film[..., SERVED] / np.maximum(film[..., ASKED], 1e-9)
        self.assertGreater(float(served.max()), 0.9)
        self.assertLess(float(served.min()), 0.1)


class Rates(unittest.TestCase):
    """Within a box that glows evenly all light is the same: what single places differ by is chance, and falls as its source says."""

    def served(self, values: dict):
        scene = Scene("glowing", GLOWING.meshes, GLOWING.surfaces, [], cameras=[CAMERA])
        recipe = with_values(Recipe(), {**{key.replace("__", "."): value for key, value in DEEP.items()}, **values})
        return prepare(scene, recipe, frame=Frame(48, 48)).arrays.prepared[PLACES[values["gi.seen"]]]

    def test_photons_within_a_fixed_radius_clear_as_the_root_of_their_number(self):
        at = np.stack([*np.random.default_rng(5).uniform(-0.7, 0.7, (2, 300)), np.full(300, -1.0)], axis=1)
        spreads = []
        for count in (20_000, 80_000, 320_000):
            map_ = self.served({"gi.seen": "photon_map", "photon_map.count": count, "photon_map.radius": 0.12, "photon_map.gather": 512})
            near = np.zeros((MOST_GATHERED + 2 * DEEPEST, 4))
            found = [irradiance_at(NOWHERE, make_stack(), map_.points, map_.axes, near, tuple(p), (0.0, 0.0, 1.0), 512, 0.12, 0.5)[1] for p in at]
            self.assertAlmostEqual(float(np.mean(found)), np.pi * 0.25 * 0.6 / 0.4, delta=0.06)
            spreads.append(float(np.std(found)))
        self.assertAlmostEqual(float(np.polyfit(np.log([20, 80, 320]), np.log(spreads), 1)[0]), -0.5, delta=0.15)

    def test_cells_clear_as_the_root_of_their_paths(self):
        spreads = []
        for paths in (4.0, 16.0, 64.0):
            cells = self.served({"gi.seen": "radiance_cache", "radiance_cache.paths": paths, "radiance_cache.cell": 0.5})
            values, count = cells.values[:, 1], cells.values[:, 6]
            full = count > 4.0 * paths  # cells that the faces cut through have few, and stay out of the fit
            spreads.append(float(np.std(values[full])))
        self.assertAlmostEqual(float(np.polyfit(np.log([4, 16, 64]), np.log(spreads), 1)[0]), -0.5, delta=0.2)

    def test_what_is_prepared_is_the_same_on_any_number_of_threads(self):
        scene = Scene("room", ROOM.meshes, ROOM.surfaces, ROOM.lights, cameras=[CAMERA])
        values = {"photon_map.count": 5000, "baked.shots": 70_000, "baked.max_edge": 0.5, "irradiance_cache.rays": 64, "caustics.count": 2000}
        for key, way in PREPARING.items():
            recipe = with_values(Recipe(), {**values, "gi.seen": key if key in SEEN else "off"})
            made = []
            for threads in (1, 3):
                ready = prepare(scene, with_values(recipe, {"gi.seen": "off"}))
                job = Preparation(scene, ready.arrays, recipe, CAMERA, Frame(24, 24))
                job.threads = threads
                made.append(way.make(job, recipe.of(key))[0])
            with self.subTest(key):
                for name, array in made[0].items():
                    np.testing.assert_array_equal(array, made[1][name])


class Places(unittest.TestCase):
    def test_what_can_not_be_chosen_is_refused_with_the_reason(self):
        for way in WAYS:
            if not way.beyond:
                self.assertGreater(len(way.elsewhere), 10)
                with self.assertRaisesRegex(InputError, way.elsewhere[:12]):
                    with_values(Recipe(), {"gi.beyond": way.key})
        self.assertIn("photon_map", BEYOND)


TOY = '''"""A toy: light from above, as much as is set."""

from typing import NamedTuple

from ..kernel import kernel
from ..settings import Group, setting
from ..suspect import Suspect
from .way import INDIRECT, Way


class ToySettings(Group):
    level: float = setting(0.5, "toy level", "Above shines {}.", "More is brighter, and no truer.", needs={"gi.seen": ["toy"]}, ge=0.0, le=9.0)


class Toy(NamedTuple):
    level: float


@kernel
def _lookup(prepared, scene, memory, spot):
    return (prepared.level, prepared.level, prepared.level), INDIRECT


WAY = Way(
    key="toy", code=77, title="a toy", seen=True, beyond=True, does="Shines from above.", costs="Everything else.", question="How the toy shines",
    settings=ToySettings, kind="toy", nothing=Toy(0.0), makes=lambda wanted, recipe: wanted.level, depends=("geometry",),
    make=lambda job, wanted: ({}, {}), serve=lambda job, wanted, arrays, notes: Toy(wanted.level), lookup=_lookup,
    points=lambda arrays: (1, "toys"), interpolates=True, pilots={"toy": 1.0}, small={"level": 0.1},
    suspects=lambda own, recipe, flaw, where, radii: [Suspect("toy level", "the toy shines", {"toy.level": 0.0}, prior=9.0, cure="Dim the toy.")],
)
'''
VEIL = '''"""A toy: half of the light passes whatever stands in its way."""

from ..kernel import kernel
from .traced import traced_share
from .way import ShadowWay


@kernel
def _share(scene, stack, i, p, d, distance, target):
    share = traced_share(scene, stack, i, p, d, distance, target)
    return 0.5 + 0.5 * share[0], 0.5 + 0.5 * share[1], 0.5 + 0.5 * share[2]


WAY = ShadowWay("veil", 78, "a veil", "Lets half of the light pass.", "Walls leak.", share=_share, approximates=True)
'''
TOY_SETTING = '    toys: int = setting(3, "toys", "Up to {} toys.", "More toys, more fun.", ge=0, le=9)'
FLOW = """
import json
import sivrel
shot, view = sivrel.open("demo:slipway"), {"size": (64, 36)}
recipe = {"gi.seen": "toy", "toy.level": 2.0, "sampling.max": 8}
picture = shot.render(recipe, **view)
diagnosed = shot.diagnose(picture, seconds=6.0)
matched = shot.match(["toy", "off"], seconds=2.0, **view)
advised = shot.advise(seconds=5.0, **view)
veiled = shot.render({"shadows.way": "veil", "gi.seen": "off", "sampling.max": 8}, **view)
lit = {way: shot.render({"shadows.way": way, "gi.seen": "off", "sampling.max": 8}, **view).mean_light for way in ("off", "veil", "traced")}
print(json.dumps({
    "lit": lit,
    "by_veil": sorted({trial.suspect for finding in shot.diagnose(veiled, seconds=6.0).findings for trial in finding.trials}),
    "on_one": shot.render({"light.NoonSun.shadows.way": "veil", "sampling.max": 1}, **view).mean_light,
    "matched_veils": [entrant.candidate.name for entrant in shot.match(["off+veil", "off"], seconds=1.0, **view).entrants],
    "caches": [note["way"] for note in picture.measured["meters"]["ways"]],
    "tried": sorted({trial.suspect for finding in diagnosed.findings for trial in finding.trials}),
    "matched": sorted(entrant.candidate.name for entrant in matched.entrants),
    "advised": sorted([way.name for _, way in advised.ways] + [name for name, _, _ in advised.untried]),
    "surveyed": [finding.kind for finding in shot.survey(recipe).findings],
}))
"""
PAGE = """
import tempfile
from pathlib import Path
from sivrel.store import database
from sivrel.work.intake import add_demo_shots
from sivrel.web.app import create_app
with tempfile.TemporaryDirectory() as folder:
    data = Path(folder)
    add_demo_shots(database.create(data), data)
    print(create_app(data).test_client().get("/shots/slipway").text)
"""


class OneModuleOneLine(unittest.TestCase):
    def test_toy_ways_and_a_toy_setting_go_through_the_whole_program(self):
        with tempfile.TemporaryDirectory() as folder:
            shutil.copytree(ROOT / "src", Path(folder) / "src", ignore=shutil.ignore_patterns("__pycache__", "*.egg-info"))
            gi = Path(folder) / "src" / "sivrel" / "core" / "gi"
            (gi / "toy.py").write_text(TOY)
            table = (gi / "ways.py").read_text()
            (gi / "ways.py").write_text(table.replace("    baked.WAY,\n", "    baked.WAY, __import__('sivrel.core.gi.toy').core.gi.toy.WAY,\n"))
            shadows = gi.parent / "shadows"
            (shadows / "veil.py").write_text(VEIL)
            table = (shadows / "ways.py").read_text()
            (shadows / "ways.py").write_text(table.replace("from . import depth_map, off, traced", "from . import depth_map, off, traced, veil")
                                             .replace("off.WAY)", "off.WAY, veil.WAY)"))  # fmt: skip
            groups = gi.parent / "render" / "groups.py"
            groups.write_text(groups.read_text().replace("class LimitSettings(Group):", f"class LimitSettings(Group):\n{TOY_SETTING}\n", 1))
            env = {**os.environ, "PYTHONPATH": str(Path(folder) / "src")}

            def run(*arguments: str) -> subprocess.CompletedProcess:
                return subprocess.run([sys.executable, *arguments], env=env, capture_output=True, text=True, timeout=1800)

            result = json.loads(run("-m", "sivrel.cli", "recipes", "--json").stdout)
            self.assertIn("toy", result["keys"]["gi.seen"]["choices"])
            self.assertEqual(result["keys"]["toy.level"]["maximum"], 9.0)
            self.assertIn("veil", result["keys"]["shadows.way"]["choices"])
            self.assertEqual(result["keys"]["limits.toys"]["default"], 3)
            reference = run("-m", "sivrel.core.render.recipe_docs").stdout
            for key in ("`toy.level`", "`limits.toys`", "half of the light pass"):
                self.assertIn(key, reference)
            refused = run("-m", "sivrel.cli", "render", "demo:slipway", "-o", f"{folder}/a.exr", "--set", "toy.level=12")
            self.assertEqual((refused.returncode, "give a number from 0 to 9" in refused.stderr), (2, True), refused.stderr)
            page = run("-c", PAGE).stdout
            for name in ("toy.level", "limits.toys"):
                self.assertIn(f'name="{name}"', page)
            self.assertIn("a veil", page)
            self.assertIn("How the toy shines", page)
            flow = run("-c", FLOW)
            self.assertEqual(flow.returncode, 0, flow.stderr[-2000:])
            went = json.loads(flow.stdout)
            self.assertEqual((went["caches"], went["matched"]), (["toy"], ["off", "toy"]))
            self.assertIn("toy level", went["tried"])
            self.assertIn("toy", went["advised"])
            self.assertLess(went["lit"]["traced"], went["lit"]["veil"])
            self.assertAlmostEqual(went["lit"]["veil"], (went["lit"]["traced"] + went["lit"]["off"]) / 2.0, delta=0.02 * went["lit"]["off"])
            self.assertIn("veil", went["by_veil"])
            self.assertIn("off+veil", went["matched_veils"])
            self.assertGreater(went["on_one"], 0.0)


if __name__ == "__main__":
    unittest.main()
