"""The command line: its contract."""

import contextlib
import io
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

import numpy as np
from PIL import Image

from sivrel.cli import main
from sivrel.core.pictures.exr import read_exr
from sivrel.core.render.recipe import Recipe, to_json, with_values
from tests.moving import write_usda


def sivrel(*arguments: str) -> subprocess.CompletedProcess:
    """The program in this process, so that its kernels are loaded once."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            code = main(list(arguments))
        except SystemExit as ended:
            code = ended.code
    return subprocess.CompletedProcess(arguments, code, out.getvalue(), err.getvalue())


def sivrel_apart(*arguments: str) -> subprocess.CompletedProcess:
    """The program in a process of its own, as other programs run it."""
    return subprocess.run([sys.executable, "-m", "sivrel", *arguments], capture_output=True, text=True, timeout=400)


class CommandLine(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def render(self, name: str, *arguments: str, shot="demo:keepers-kitchen", run=sivrel):
        out = self.folder / name
        done = run("render", shot, "-o", str(out), "--size", "96x54", "--set", "sampling.max=2", "--json", *arguments)
        self.assertEqual(done.returncode, 0, done.stderr)
        return json.loads(done.stdout), out

    def test_mattes_and_keys(self):
        out = self.folder / "mattes.exr"
        done = sivrel("mattes", "demo:slipway", "-o", str(out), "--by", "surface", "--rays", "4", "--size", "32x18", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        names = json.loads(done.stdout)["mattes"]
        self.assertGreater(len(names), 3)
        self.assertTrue(out.is_file())
        for wrong, says in ((("--rays", "5"), "do not make a square"), (("-o", "x.png"), "mattes are written as EXR")):
            done = sivrel("mattes", "demo:slipway", "-o", str(out), "--size", "32x18", *wrong)
            self.assertEqual(done.returncode, 2)
            self.assertIn(says.lower(), done.stderr.lower())
        (self.folder / "keys.json").write_text('{"wipe": "d"}')
        done = sivrel("keys", "--data", str(self.folder), "--json")
        result = json.loads(done.stdout)
        self.assertEqual(result["pages"]["bench"]["ladder"], ["t l"])
        self.assertIn("would be both", result["problems"][0])

    def test_frames_of_a_moving_shot(self):
        scene, out = write_usda(self.folder / "walk.usda", frames=5), self.folder / "out"
        out.mkdir()
        small = ("--size", "48x27", "--set", "sampling.max=4", "--json", "-o", str(out / "walk.####.exr"))
        done = sivrel(
            "sequence", str(scene), "--frames", "2-4", *small, "--png", str(out / "walk.##.png"), "--video", str(out / "walk.webm"), "--filter"
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        result = json.loads(done.stdout)
        self.assertEqual([row["frame"] for row in result["frames"]], [2.0, 3.0, 4.0])
        self.assertEqual([row["flicker"] is None for row in result["frames"]], [True, False, True])
        self.assertGreater(result["flicker"]["level"], 0.0)
        self.assertEqual(sorted(path.name for path in out.iterdir()),
                         ["walk.0002.exr", "walk.0003.exr", "walk.0004.exr", "walk.02.png", "walk.03.png", "walk.04.png", "walk.webm"])  # fmt: skip
        picture = read_exr(out / "walk.0003.exr")
        self.assertEqual(picture.frame.time, 3.0)
        self.assertTrue({"motion", "motion_back", "variance"} <= picture.passes.keys())
        self.assertFalse(any(name.startswith("light.") for name in picture.passes))

        # Frames that are there are kept; a frame of `render` is the same; another recipe renders them again.
        before = (out / "walk.0003.exr").stat().st_mtime_ns
        again = json.loads(sivrel("sequence", str(scene), "--frames", "2-5", *small).stdout)
        self.assertEqual([row["kept"] for row in again["frames"]], [True, True, True, False])
        self.assertEqual((out / "walk.0003.exr").stat().st_mtime_ns, before)
        self.render("one.exr", "--frame", "3", "--size", "48x27", "--set", "sampling.max=4", shot=str(scene))
        np.testing.assert_array_equal(read_exr(self.folder / "one.exr").beauty, picture.beauty)

        # Frames whose caches are shared with others are kept with these others only.
        named = "gi.seen=irradiance_cache", "irradiance_cache.rays=16", "motion.caches=shared", "motion.keys=2", "motion.blur=on"
        shared = [*small, *(part for setting in named for part in ("--set", setting))]
        for frames, kept in (("2-3", [False, False]), ("2-3", [True, True]), ("2-4", [False, False, False])):
            result = json.loads(sivrel("sequence", str(scene), "--frames", frames, *shared).stdout)
            self.assertEqual([row["kept"] for row in result["frames"]], kept)
        self.assertEqual(read_exr(out / "walk.0003.exr").through, "2-4")

        for arguments, says in (
            (("--frames", "4-9"), "frames 1 to 5"), (("--frames", "2-3", "-o", str(out / "same.exr")), "need a name with #"),
            (("--video", str(out / "film.mp4")), "WebM"), (("--per-degree", "1"), "viewing distance"),
        ):  # fmt: skip
            wrong = sivrel("sequence", str(scene), *small, *arguments)
            self.assertEqual((wrong.returncode, wrong.stdout), (2, ""), arguments)
            self.assertIn(says, wrong.stderr)
        self.assertIn("stands still", sivrel("sequence", "demo:slipway", *small).stderr)

    def test_ladder_budget_match_and_advise_keep_to_the_contract(self):
        small = ("demo:slipway", "--size", "64x36", "--set", "sampling.max=4", "--json")
        done = sivrel("ladder", *small, "--vary", "sampling.max=2,8", "--region", "10,6,42,30", "--seconds", "10")
        self.assertEqual(done.returncode, 0, done.stderr)
        result = json.loads(done.stdout)
        self.assertEqual([r["values"]["sampling.max"] for r in result["rungs"]], [2, 8])
        self.assertLess(result["rungs"][1]["error"]["noise"], result["rungs"][0]["error"]["noise"])
        done = sivrel("match", *small, "--ways", "brute_force,off", "--seconds", "2")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual({e["name"] for e in json.loads(done.stdout)["entrants"]}, {"brute_force", "off"})
        done = sivrel("budget", *small, "--seconds", "3")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("plans", json.loads(done.stdout))
        done = sivrel("advise", *small[:-1], "--seconds", "10")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("Final still", done.stdout)
        for wrong in (
            ("ladder", "demo:slipway", "--vary", "gi.seen"),
            ("ladder", "demo:slipway", "--vary", "sampling.max=4"),
            ("budget", "demo:slipway"),
            ("budget", "demo:slipway", "--seconds", "9", "--noise", "2"),
            ("match", "demo:slipway", "--ways", "brute_force"),
            ("advise", "demo:slipway", "--seconds", "0"),
        ):
            refused = sivrel(*wrong)
            self.assertEqual(refused.returncode, 2, wrong)
            self.assertEqual(len(refused.stderr.strip().splitlines()), 1, refused.stderr)

    def test_diagnose_says_what_is_wrong_and_what_cures_it(self):
        done = sivrel("diagnose", "demo:slipway", "--size", "96x54", "--set", "sampling.max=4", "--seconds", "5", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        result = json.loads(done.stdout)
        grain = next(f for f in result["findings"] if f["kind"] == "grain")
        self.assertTrue(grain["remedies"])
        self.assertEqual(grain["cause_key"].split(" ")[0], "source")
        self.assertIn("trying causes", done.stderr)
        self.assertLess(result["first"], 5.0)
        for wrong in (("demo:slipway", "--seconds", "0"), ("nothing.exr",), (__file__,)):
            refused = sivrel("diagnose", *wrong)
            self.assertEqual((refused.returncode, refused.stdout), (2, ""), wrong)
            self.assertEqual(refused.stderr.count("\n"), 1)

    def test_diagnose_judges_a_picture_from_elsewhere(self):
        pixels = np.random.default_rng(1).normal(110.0, 25.0, (90, 160, 3)).clip(0, 255).astype(np.uint8)
        path = self.folder / "elsewhere.png"
        Image.fromarray(pixels).save(path)
        result = json.loads(sivrel("diagnose", str(path), "--json").stdout)
        self.assertTrue(result["outside"])
        self.assertEqual(result["findings"][0]["kind"], "grain")
        self.assertTrue(result["findings"][0]["weak"])
        words = sivrel("diagnose", str(path)).stdout
        self.assertIn("judged from the picture only", words)
        self.assertIn("? Render once", words)

    def test_render_says_everything_in_one_object(self):
        result, out = self.render("k.exr", "--set", "limits.diffuse_bounces=2", "--seed", "7")
        self.assertEqual((result["size"], result["seed"], result["complete"], result["recipe"]["sampling.max"]), ([96, 54], 7, True, 2))
        picture = read_exr(out)
        self.assertEqual(picture.recipe, with_values(Recipe(), {"sampling.max": 2, "limits.diffuse_bounces": 2}))
        self.assertEqual((picture.shot, picture.camera, picture.frame.seed), ("keepers-kitchen", "table", 7))

    def test_survey_finds_mends_and_export_writes_them(self):
        done = sivrel("survey", "demo:keepers-kitchen", "--set", "gi.seen=photon_map", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        result = json.loads(done.stdout)
        worst = result["findings"][0]
        self.assertEqual((worst["kind"], worst["severity"]), ("sheet", "spoils the picture"))
        self.assertEqual(len(worst["at"]), 3)
        self.assertTrue(worst["evidence"] and worst["why"])
        self.assertEqual(len(result["checks"]), len(result["seconds"]))
        sets = [part for key, value in worst["mends"][0]["edits"].items() for part in ("--set", f"{key}={value}")]
        out = self.folder / "mended.glb"
        written = json.loads(sivrel("export", "demo:keepers-kitchen", "-o", str(out), *sets, "--json").stdout)
        self.assertGreater(written["triangles"], result["triangles"])
        self.assertEqual(out.read_bytes()[:4], b"glTF")
        self.assertIn("which glTF can't express", " ".join(written["left_out"]))
        for arguments, part in (
            (("survey", "nothing.usda"), "There is no scene file"),
            (("export", "demo:slipway", "-o", str(self.folder / "a.usda")), "a.glb"),
        ):
            bad = sivrel(*arguments)
            self.assertEqual(bad.returncode, 2, bad.stderr)
            self.assertIn(part, bad.stderr.splitlines()[-1])
            self.assertNotIn("Traceback", bad.stderr)

    def test_warm_compiles_everything_and_refuses_what_is_no_archive(self):
        done = sivrel("warm", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        result = json.loads(done.stdout)
        self.assertTrue(any(Path(result["folder"]).glob("trace_paths-*.kernel")))
        self.assertEqual((result["imported"], result["exported"], result["archive"]), (0, 0, None))
        (self.folder / "bad.zip").write_bytes(b"PK")
        for arguments in (("--import", str(self.folder / "bad.zip")), ("--export", str(self.folder / "kernels.tar"))):
            done = sivrel("warm", *arguments)
            self.assertEqual((done.returncode, len(done.stderr.splitlines())), (2, 1), done.stderr)

    def test_caches_are_kept_listed_used_again_and_refused(self):
        kept = self.folder / "caches"
        given = ("--set", "gi.seen=photon_map", "--set", "photon_map.count=2000", "--caches", str(kept))
        first, _ = self.render("a.exr", *given, shot="demo:slipway")
        note = first["meters"]["ways"][0]
        self.assertEqual((note["made"], note["kind"]), (True, "photon map"))
        again, _ = self.render("b.exr", *given, "--camera", first["camera"], "--seed", "0", shot="demo:slipway")
        self.assertFalse(again["meters"]["ways"][0]["made"])
        (row,) = json.loads(sivrel("caches", str(kept), "--lock", note["digest"][:8], "--json").stdout)["caches"]
        self.assertEqual((row["cache"], row["locked"], row["of"]), (note["digest"], True, "slipway"))
        out = self.folder / "out.cache"
        self.assertEqual(sivrel("caches", str(kept), "--export", row["cache"], str(out)).returncode, 0)
        out.write_bytes(out.read_bytes()[:-4])
        for arguments, part in (
            (("--delete", row["cache"]), "is locked"),
            (("--import", str(out)), "is damaged"),
            (("--keep", "zz"), "No caches begin with"),
        ):
            done = sivrel("caches", str(kept), *arguments)
            self.assertEqual((done.returncode, part in done.stderr), (2, True), done.stderr)

    def test_two_runs_and_any_threads_give_the_same_bytes(self):
        runs = ((sivrel_apart, ()), (sivrel, ()), (sivrel, ("--threads", "1")), (sivrel, ("--threads", "2")))
        pictures = [self.render(f"{n}.exr", *more, run=run)[1].read_bytes() for n, (run, more) in enumerate(runs)]
        self.assertEqual(len(set(pictures)), 1)

    def test_recipe_file_camera_and_region(self):
        (self.folder / "r.json").write_text(to_json(with_values(Recipe(), {"gi.seen": "off"})))
        result, out = self.render("r.exr", "--recipe", str(self.folder / "r.json"), "--camera", "stove", "--region", "10,10,50,40")
        self.assertEqual((result["recipe"]["gi.seen"], result["camera"]), ("off", "stove"))
        self.assertEqual(read_exr(out).beauty.shape, (30, 40, 4))

    def test_a_time_limit_leaves_a_whole_picture(self):
        result, out = self.render("t.exr", "--time-limit", "0.001", "--set", "sampling.max=4000")
        samples = read_exr(out).passes["samples"]
        self.assertEqual((samples.min(), result["meters"]["samples"]), (samples.max(), samples.max()))
        self.assertLess(samples.max(), 4000)

    def test_finish_a_picture(self):
        _, out = self.render("f.exr", "--set", "limits.diffuse_bounces=1", shot="demo:lamp-room")
        png = self.folder / "f.png"
        done = sivrel("finish", str(out), "-o", str(png), "--set", "finish.exposure=measured", "--set", "contrast=1.2", "--filter", "--json")
        self.assertEqual(done.returncode, 0, done.stderr)
        result = json.loads(done.stdout)
        self.assertEqual((result["finish"]["contrast"], result["filtered"]), (1.2, True))
        self.assertEqual(Image.open(png).size, (96, 54))
        for name in ("f.jpg", "f.tif"):
            self.assertEqual(sivrel("finish", str(out), "-o", str(self.folder / name)).returncode, 0)
            self.assertEqual(Image.open(self.folder / name).size, (96, 54))
        kept = self.folder / "kept.exr"
        self.assertEqual(sivrel("finish", str(out), "-o", str(kept), "--filter").returncode, 0)
        before, after = read_exr(out), read_exr(kept)
        np.testing.assert_array_equal(before.beauty, after.beauty)
        self.assertEqual({"filtered", "smeared"} - set(after.passes), set())
        for arguments, part in (
            ((str(out), "-o", str(self.folder / "f.webp")), "use .png, .jpg or .tif"),
            ((str(out), "-o", str(png), "--set", "finish.contrast=9"), "from 0.5 to 2"),
            ((str(self.folder / "none.exr"), "-o", str(png)), "no picture"),
        ):
            done = sivrel("finish", *arguments)
            self.assertEqual(done.returncode, 2)
            self.assertIn(part, done.stderr)

    def test_the_shell_completes_commands_and_options(self):
        for words, count, wanted in (("sivrel com", "1", "compare"), ("sivrel render --time", "2", "--time-limit")):
            environment = {**os.environ, "COMP_WORDS": words, "COMP_CWORD": count, "_SIVREL_COMPLETE": "bash_complete"}
            code = "from sivrel.cli import main; main([])"
            done = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True)
            self.assertIn(wanted, done.stdout, done.stderr)

    def test_stand_ins_are_reported(self):
        result, _ = self.render("s.exr", "--set", "surfaces.stand_ins=costly", "--set", "object.Chair.stand_in=on", shot="demo:lamp-room")
        self.assertGreater(result["meters"]["stand_ins"], 8)

    def test_lights_by_name_and_their_passes(self):
        result, out = self.render("l.exr", "--set", "light.Flame.solo=on", "--set", "light.Flame.shadows.rays=4", "--set", "gi.seen=off")
        self.assertEqual(result["edits"], {"light.Flame.shadows.rays": 4, "light.Flame.solo": True})
        names = [light["name"] for light in result["lights"]]
        self.assertEqual(names, ["Flame", "bounced light", "gloss", "camera rays", "cross terms", "measuring"])
        picture = read_exr(out)
        self.assertEqual(picture.edits.flat(), result["edits"])
        np.testing.assert_allclose(picture.passes["light.Flame"], picture.passes["direct"], rtol=1e-5)
        self.assertTrue((picture.passes["shadow.Flame"] <= 1.0).all())
        mapped, other = self.render("m.exr", "--set", "light.WindowSky.shadows.way=depth_map", "--set", "light.WindowSky.shadows.resolution=64")
        self.assertEqual([(note["light"], note["resolution"]) for note in mapped["depth_maps"]], [("WindowSky", 64)])
        self.assertIn("texels", read_exr(other).passes)
        parts = sum(plane for name, plane in read_exr(other).passes.items() if name.startswith("light."))
        np.testing.assert_allclose(parts, read_exr(other).passes["direct"], rtol=1e-4, atol=1e-6)

    def test_layer_and_every_edit_documented(self):
        out = self.folder / "e.usda"
        result = json.loads(sivrel("layer", "demo:slipway", "-o", str(out), "--set", "light.NoonSun.angle=4", "--json").stdout)
        self.assertEqual((result["edits"], result["left_out"]), ({"light.NoonSun.angle": 4.0}, []))
        self.assertIn("inputs:angle = 4", out.read_text())
        edits = json.loads(sivrel("recipes", "--json").stdout)["edits"]
        self.assertIn("shadows.resolution", edits["light"])
        wrong = sivrel("render", "demo:slipway", "-o", str(self.folder / "x.exr"), "--set", "light.NoonSn.angle=4")
        self.assertEqual(wrong.returncode, 2)
        self.assertIn("Did you mean “NoonSun”?", wrong.stderr)

    def test_compare_and_recipes(self):
        _, a = self.render("a.exr")
        _, b = self.render("b.exr", "--set", "gi.seen=off")
        result = json.loads(sivrel("compare", str(a), str(b), "--json").stdout)
        self.assertEqual(result["changed"], [["gi.seen", "brute_force", "off"]])
        self.assertLess(result["mean_light"], 1.0)
        self.assertTrue(result["verdict"].endswith(".") and result["places"][0]["name"], result)
        self.assertIn(result["verdict"], sivrel("compare", str(a), str(b)).stdout)
        listed = json.loads(sivrel("recipes", "--json").stdout)
        self.assertEqual(listed["keys"]["sampling.max"]["maximum"], 65536)
        self.assertEqual(listed["starting"]["exterior"]["values"]["limits.diffuse_bounces"], 3)

    def test_a_starting_recipe_and_a_moved_camera(self):
        moved = ("--set", "camera.low.at=3,1,6", "--set", "camera.low.towards=0,1,0", "--camera", "low")
        result, out = self.render("m.exr", "--recipe", "exterior", *moved, shot="demo:slipway")
        self.assertEqual((result["camera"], result["recipe"]["limits.diffuse_bounces"], result["edits"]["camera.low.at"]), ("low", 3, "3,1,6"))
        self.assertEqual(read_exr(out).camera, "low")

    def test_wrong_use_is_one_sentence_and_exit_2(self):
        scene = self.folder / "not.usda"
        scene.write_text("nonsense")
        ok = ("-o", str(self.folder / "x.exr"))
        apart = sivrel_apart("render", "demo:none", *ok)
        self.assertEqual((apart.returncode, apart.stdout, len(apart.stderr.splitlines())), (2, "", 1))
        for arguments in (
            (),
            ("fly",),
            ("render", "demo:none", *ok),
            ("render", "missing.usda", *ok),
            ("render", str(scene), *ok),
            ("render", "demo:slipway"),
            ("render", "demo:slipway", "-o", "x.png"),
            ("render", "demo:slipway", "-o", "/no/where/x.exr"),
            ("render", "demo:slipway", *ok, "--set", "sampling.maxi=4"),
            ("render", "demo:slipway", *ok, "--set", "sampling.max"),
            ("render", "demo:slipway", *ok, "--size", "big"),
            ("render", "demo:slipway", *ok, "--region", "1,2,3"),
            ("render", "demo:slipway", *ok, "--camera", "none"),
            ("render", "demo:slipway", *ok, "--recipe", "none"),
            ("render", "demo:slipway", *ok, "--threads", "0"),
            ("compare", str(scene), str(scene)),
            ("serve", "--port", "99999"),
        ):
            with self.subTest(arguments=arguments):
                done = sivrel(*arguments)
                self.assertEqual(done.returncode, 2)
                self.assertEqual(done.stdout, "")
                self.assertEqual(len(done.stderr.strip().splitlines()), 1, done.stderr)
                self.assertTrue(done.stderr.startswith("sivrel: "))
        self.assertFalse((self.folder / "x.exr").exists())

    def test_interrupted_is_130_and_leaves_nothing_half_written(self):
        out = self.folder / "long.exr"
        arguments = ["render", "demo:slipway", "-o", str(out), "--set", "sampling.max=20000"]
        running = subprocess.Popen([sys.executable, "-m", "sivrel", *arguments], stderr=subprocess.PIPE, text=True)
        self.addCleanup(running.stderr.close)
        for line in running.stderr:
            if line.startswith("rendering"):
                break
        time.sleep(0.5)
        running.send_signal(signal.SIGINT)
        self.assertEqual(running.wait(timeout=60), 130)
        self.assertEqual(list(self.folder.iterdir()), [])


if __name__ == "__main__":
    unittest.main()
