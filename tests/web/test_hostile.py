"""Addresses and forms that no page would send: each gets an answer, and none a fault."""

import io
import json
import re
import threading
import unittest
from urllib.parse import quote

import numpy as np
import OpenEXR
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from sivrel.core.caches import Cache, to_bytes
from sivrel.core.gi.record_lookup import COLUMNS
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe
from sivrel.core.render.recipe import settings as recipe_settings
from sivrel.core.stored import RECIPE
from sivrel.store import database, findings, proofs, recipes, shots, tunings
from sivrel.web.app import create_app
from sivrel.web.numbers import finite_number, whole_number
from tests.work.test_looking_in import png_of

from .test_web import WebTest

NUMBERS = [
    "0",
    "1",
    "-1",
    "3",
    str(1 << 63),
    str((1 << 63) - 1),
    "9" * 400,
    "²",
    "١",
    "1e400",
    "nan",
    "inf",
    "-inf",
    "1_0",
    "0x10",
    "",
    " ",
    "1.5",
    "²³",
]
TEXTS = [
    "keepers-kitchen",
    "slipway",
    "nowhere",
    "a" * 300,
    "字" * 190,
    "..",
    "%2e%2e",
    "\u202e",
    "🂡",
    "a\tb",
    "' OR 1=1 --",
    "<b>",
    "{{7*7}}",
    "x" * 5000,
]
JSONS = [
    "{}", "[]", "null", "[" * 5000, '{"a":' * 5000, '{"light.Sun.exposure": NaN}', '{"light.Sun.exposure": 1e999}', '{"light.\\ud800.kind": "rect"}',
    '{"light.a.kind": "rect", "light.a.at": "nan,1,2"}', '{"camera.c.at": "1e300,0,0", "camera.c.towards": "0,0,0"}', '{"card.c.at": "inf,0,0"}',
    '{"object.\\u0000.out": true}', '{"scene.whole.scale": 1e308}', '{"light.a.b.c.d": 3}', '{"light..kind": "rect"}', '{"x": {"y": 1}}',
]  # fmt: skip
QUERIES = ["proof", "with", "proofs", "made", "key", "region", "seconds", "ways", "from", "pass", "exposure", "view", "number", "samples", "find",
           "flaw", "first", "count", "around", "move", "hold", "gives_way", "cancel", "a", "b", "off", "download", "camera", "client", "temperature",
           "tint", "contrast", "undo"]  # fmt: skip
FIELDS = ["parent", "proof", "camera", "width", "height", "region", "seed", "edits", "box", "name", "note", "reason", "recipe_name", "seconds",
          "noise", "key", "values", "key2", "values2", "per_degree", "ways", "offer", "remedy", "x", "y", "z", "height", "behind", "digest", "moment",
          "path",          "notes", "exposure", "contrast", "view", "sampling.max", "gi.seen", "shadows.rays", "limits.indirect_clamp"]  # fmt: skip
ANY = st.sampled_from([*NUMBERS, *TEXTS, *JSONS, "sampling.max", "0,0,1,1", "1,2,3", "nan,inf,1", "brute_force"]) | st.text(max_size=40)
QUIET = settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
LEFT_OUT = {"static", "access.door"}


class Hostile(WebTest):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        app = create_app(cls.data, hosts=frozenset({"localhost"}))
        app.config["WTF_CSRF_ENABLED"] = False
        cls.app, cls.rules = app, [rule for rule in app.url_map.iter_rules() if rule.endpoint not in LEFT_OUT]
        cls.hostile = app.test_client()

    def assertAnswered(self, answer, what: str) -> None:
        self.assertLess(answer.status_code, 500, f"{what}: {answer.data[:600]!r}")
        answer.close()

    def address(self, rule, value: str) -> str:
        """The address of a rule with `value` in every place, and one of the words that it takes where it names them."""
        return re.sub(r"<(any\((\w+)[^>]*|[^>]*)>", lambda found: found[2] or quote(value or "x", safe=""), rule.rule)


class Addresses(Hostile):
    def test_every_address_with_every_number_and_name(self):
        for rule in self.rules:
            if rule.arguments and "GET" in rule.methods:
                for value in [*NUMBERS, *TEXTS]:
                    address = self.address(rule, value)
                    self.assertAnswered(self.hostile.get(address), address)

    @QUIET
    @given(st.data())
    def test_queries(self, data):
        rule = data.draw(st.sampled_from([rule for rule in self.rules if "GET" in rule.methods]), label="rule")
        value = data.draw(st.sampled_from(["keepers-kitchen", "1", "3"]) | ANY, label="value")
        query = data.draw(st.dictionaries(st.sampled_from(QUERIES), ANY, max_size=5), label="query")
        address = self.address(rule, value)
        self.assertAnswered(self.hostile.get(address, query_string=query, headers={"HX-Request": "true"}), f"{address} {query}")


class Forms(Hostile):
    @settings(QUIET, max_examples=250)
    @given(st.data())
    def test_forms(self, data):
        rule = data.draw(st.sampled_from([rule for rule in self.rules if "POST" in rule.methods]), label="rule")
        value = data.draw(st.sampled_from(["keepers-kitchen", "slipway", "1", "3"]) | ANY, label="value")
        form = data.draw(st.dictionaries(st.sampled_from(FIELDS), ANY, max_size=8), label="form")
        query = data.draw(st.dictionaries(st.sampled_from(QUERIES), ANY, max_size=2), label="query")
        address = self.address(rule, value)
        self.assertAnswered(self.hostile.post(address, data=form, query_string=query), f"{address} {form} {query}")

    def test_every_setting_refuses_what_is_no_number_of_its_range(self):
        form = {"camera": "landing", "width": "64", "height": "36", "seed": "0"}
        for key in recipe_settings():
            for value in ("nan", "inf", "-inf", "1e400", "٣", "x" * 3000, "[]"):
                answer = self.hostile.post("/shots/slipway/prove", data={**form, key: value})
                self.assertEqual(answer.status_code, 422, f"{key} {value}")

    def test_forms_that_are_right_but_for_one_field(self):
        """Each form as its page sends it, with one field of it odd: what is checked last is reached."""
        proof = proofs.of_shot(self.db, shots.find(self.db, "slipway").id)[0].id
        forms = {
            f"/proofs/{proof}/ladder": {"key": "sampling.max", "values": "4,8", "seconds": "5", "per_degree": "67", "region": ""},
            f"/proofs/{proof}/budget": {"seconds": "5", "noise": "", "width": "64", "height": "36"},
            f"/proofs/{proof}/match": {"ways": "brute_force", "seconds": "5", "region": ""},
            f"/proofs/{proof}/advice": {"seconds": "5"},
            f"/proofs/{proof}/diagnose": {"seconds": "5"},
            f"/proofs/{proof}/queue?move=1": {},
            "/shots/slipway/pins": {"proof": str(proof), "box": "0.1,0.1,0.2,0.2", "name": "p"},
            "/shots/slipway/reach": {"x": "1", "y": "1", "width": "64", "height": "36", "proof": str(proof)},
            "/shots/slipway/standpoint": {"x": "1", "y": "1", "z": "1"},
            "/shots/slipway/section": {"height": "1", "behind": "1"},
            "/shots/slipway/survey/prove": {"proof": str(proof), "camera": "landing", "edits": "{}"},
            "/shots/slipway/moment?client=0123456789": {"camera": "landing", "width": "64", "height": "36", "seed": "0", "region": "0,0,9,9"},
            "/shots/slipway/ways": {"camera": "landing", "width": "64", "height": "36", "seed": "0"},
        }
        for address, form in forms.items():
            self.assertAnswered(self.hostile.post(address, data=form), address)
            for field in form:
                for value in [*NUMBERS, *TEXTS, "nan,inf,4", "1e300,4", "4,4,4", ",,,", "0,0,99999999999999999999,1"]:
                    self.assertAnswered(self.hostile.post(address, data={**form, field: value}), f"{address} {field}={value[:60]!r}")
        for move in ("1" + "0" * 20, "-" + "9" * 30, "nan"):
            self.assertAnswered(self.hostile.post(f"/proofs/{proof}/queue?move={move}"), move)

    def test_every_json_of_edits(self):
        for text in JSONS:
            for address in ("/shots/slipway/prove", "/shots/slipway/survey/words", "/shots/slipway/moment?client=0123456789", "/shots/slipway/layer"):
                form = {"camera": "landing", "width": "64", "height": "36", "seed": "0", "edits": text}
                self.assertAnswered(self.hostile.post(address, data=form), f"{address} {text[:60]}")

    def test_files(self):
        names = ["字" * 190 + ".usda", "../../x.usda", "a\0b.usda", ".usda", "con.obj", "x" * 300 + ".png"]
        bodies = [b"", b"\0" * 100, b"\x89PNG\r\n\x1a\n", b"[" * 10_000]
        given = [(name, b"#usda 1.0\n", "/shots") for name in names]
        given += [("a.usda", body, "/shots") for body in bodies[:2]] + [(name, body, "/shots") for name in ("a.exr", "a.png") for body in bodies[:3]]
        given += [(name, body, address) for name, address in (("a.json", "/recipes/import"), ("a.cache", "/caches")) for body in bodies]
        for name, body, address in given:
            form = {"files" if address == "/shots" else "file": (io.BytesIO(body), name), "seconds": "inf"}
            answer = self.hostile.post(address, data=form, content_type="multipart/form-data")
            self.assertEqual(answer.status_code, 422, f"{address} {name!r} {body[:10]!r} {answer.text[:300]}")
        self.assertEqual(list((self.data / "uploads").glob("*")), [])

    def test_paths(self):
        for path in ("~nobody/x.usda", "/" + "a" * 300 + "/x.usda", "/dev/zero", "relative.usda", "/proc/self/mem", "\0", "/tmp", "C:\\x.usda"):
            answer = self.hostile.post("/shots", data={"path": path})
            self.assertEqual(answer.status_code, 422, path)

    def test_more_files_than_a_form_may_have_are_not_called_too_large(self):
        many = {"files": [(io.BytesIO(b"x"), f"{k}.png") for k in range(1200)]}
        self.assertAnswered(self.hostile.post("/shots/slipway/pictures", data=many, content_type="multipart/form-data"), "1200 files")

    def test_an_exr_of_ours_with_a_broken_header(self):
        pixels = {name: np.zeros((20, 20), np.float32) for name in "RGB"}
        for broken in ({"sivrelRecipe": "{"}, {"sivrelRecipe": '{"version": 99}'}, {"sivrelRecipe": "{}", "sivrelShot": "[1]", "sivrelObjects": "7"}):
            path = self.data / "broken.exr"
            OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, **broken}, pixels).write(str(path))
            with open(path, "rb") as file:
                answer = self.hostile.post("/shots", data={"files": (file, "own.exr")}, content_type="multipart/form-data")
            self.assertIn(answer.status_code, (302, 422), answer.text[:300])

    def test_caches_that_are_none_or_hold_what_none_can(self):
        def cache(notes: dict, records: np.ndarray) -> bytes:
            return to_bytes(Cache("irradiance cache", "slipway", {"geometry": "ab"}, {"records": records}, notes))

        sound, records = {"seconds": 1.0, "count": 2, "unit": "records", "chance": 0.1}, np.ones((2, COLUMNS), np.float32)
        bodies = {
            "wrong seconds": cache({**sound, "seconds": "long"}, records), "wrong count": cache({**sound, "count": [1]}, records),
            "wrong parts": cache({**sound, "parts": {"light a": 3}}, records), "no notes": cache({}, records),
            "too large": cache(sound, records * np.float32(1e30)), "not numbers": cache(sound, records * np.float32(np.nan)),
            "too narrow": cache(sound, np.ones((2, 3), np.float32)), "no archive": cache(sound, records).split(b"\n")[0] + b"\nPK",
            "unknown": to_bytes(Cache("truth", "a", {}, {}, sound)),
        }  # fmt: skip
        for what, body in bodies.items():
            with self.subTest(what):
                form = {"file": (io.BytesIO(body), "a.cache")}
                answer = self.hostile.post("/caches", data=form, content_type="multipart/form-data")
                self.assertEqual(answer.status_code, 422, answer.text[:300])
                self.assertEqual(self.hostile.get("/caches").status_code, 200)
        good = {"file": (io.BytesIO(cache(sound, records)), "a.cache")}
        self.assertEqual(self.hostile.post("/caches", data=good, content_type="multipart/form-data").status_code, 302)
        self.assertIn("irradiance cache", self.hostile.get("/caches").text)
        self.assertEqual(len(list((self.data / "caches").glob("*.cache"))), 1)

    def test_a_small_file_that_claims_a_huge_picture(self):
        form = {"files": (io.BytesIO(png_of(8192, 8192)), "a.png")}
        answer = self.hostile.post("/shots", data=form, content_type="multipart/form-data")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("8192 x 8192 pixels; scale it down", answer.text)


class Numbers(unittest.TestCase):
    @QUIET
    @given(st.text(max_size=30) | st.sampled_from(NUMBERS))
    @example("²")
    @example(str(1 << 63))
    def test_whole_numbers_fit_the_database(self, text):
        try:
            value = whole_number(text)
        except ValueError:
            return
        self.assertLessEqual(abs(value), (1 << 63) - 1)
        self.assertEqual(value, int(text))

    @QUIET
    @given(st.text(max_size=30) | st.sampled_from(NUMBERS) | st.floats().map(repr))
    def test_numbers_are_finite(self, text):
        try:
            self.assertTrue(np.isfinite(finite_number(text)))
        except ValueError:
            pass


class Unreadable(WebTest):
    """Recipes and edits of another version, or damaged, take nothing else down."""

    def test_a_proof_that_cannot_be_read_is_a_card_that_says_so(self):
        shot = shots.find(self.db, "slipway")
        first, second, third = proofs.of_shot(self.db, shot.id)[:3]
        number = self.db.execute("INSERT INTO recipes (digest, body) VALUES ('other', '{\"version\": 99}')").lastrowid
        self.db.execute("UPDATE proofs SET recipe_id = ? WHERE id = ?", (number, second.id))
        self.db.execute(
            "UPDATE proofs SET edits = ?, meters = '{', region = '1,2' WHERE id = ?", ('{"lights": {"\\ud800": {"kind": "rect"}}}', third.id)
        )
        for address in ("/shots/slipway", "/shots/slipway/lineage", "/shots/slipway/lineage?find=rays > 1", f"/shots/slipway?proof={third.id}",
                        f"/proofs/{second.id}.json", f"/shots/slipway/compare?proofs={first.id},{second.id}", "/queue", f"/proofs/{second.id}/report",
                        f"/shots/slipway/recipe?proof={second.id}", "/shots/slipway/thin.json"):  # fmt: skip
            answer = self.client.get(address)
            self.assertEqual(answer.status_code, 200, f"{address} {answer.text[:300]}")
        page = self.client.get("/shots/slipway").text
        self.assertIn("How this proof was made can&#39;t be read", page)
        self.assertIn(f"versions up to {RECIPE.version}", page)
        self.assertEqual(self.prove(parent=str(second.id)).status_code, 200)

    def test_a_finding_of_a_newer_version_leaves_the_others(self):
        proof = proofs.of_shot(self.db, shots.find(self.db, "keepers-kitchen").id)[0]
        finding = {"key": "grain", "title": "Grain.", "remedies": [], "pictures": {}, "trials": []}
        findings.keep(self.db, proof.id, {"findings": [finding, {**finding, "key": "leak"}], "seconds": {}, "withdrawn": []})
        kept = findings.of_proof(self.db, proof.id)[1]
        self.db.execute("UPDATE findings SET body = json_set(body, '$.version', 99) WHERE id = ?", (kept[0].id,))
        outcome = self.client.get(f"/proofs/{proof.id}/findings.json").json
        self.assertEqual(len(outcome["findings"]), len(kept) - 1)
        self.assertIn("newer Sivrel", outcome["about"]["unreadable"][0])
        self.db.execute("UPDATE findings SET body = json_set(body, '$.version', 99)")
        self.assertIn("newer Sivrel", self.client.get(f"/proofs/{proof.id}/report").text)
        self.db.execute("UPDATE findings SET body = '{' WHERE id = ?", (kept[0].id,))
        self.assertIn("damaged", self.client.get(f"/proofs/{proof.id}/findings.json").json["about"]["unreadable"][0])

    def test_named_recipes_and_tunings(self):
        number = recipes.name(self.db, "Old one", "why", Recipe())
        self.db.execute("INSERT INTO recipes (digest, body) VALUES ('odd', '[]')")
        self.db.execute("UPDATE named_recipes SET recipe_id = last_insert_rowid() WHERE id = ?", (number,))
        self.assertIn("can&#39;t read this recipe", self.client.get("/recipes").text)
        proof = proofs.of_shot(self.db, shots.find(self.db, "keepers-kitchen").id)[0]
        tuning = tunings.add(self.db, proof.id, "ladder", {})
        self.db.execute("UPDATE tunings SET asked = '{', result = '[' WHERE id = ?", (tuning,))
        self.assertEqual(self.client.get(f"/proofs/{proof.id}/ladder").status_code, 200)


class TwoBrowsers(WebTest):
    def test_the_same_name_from_two_browsers(self):
        codes: list[int] = []
        app = create_app(self.data, hosts=frozenset({"localhost"}))
        app.config["WTF_CSRF_ENABLED"] = False

        def keep() -> None:
            codes.append(app.test_client().post("/recipes", data={"recipe_name": "Mine"}).status_code)

        threads = [threading.Thread(target=keep) for _ in range(8)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(sorted(codes), [200] + [422] * 7)


class Windows(WebTest):
    """A lineage of many proofs is shown in windows."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        shot = shots.find(cls.db, "slipway")
        first = proofs.of_shot(cls.db, shot.id)[0]
        cls.numbers = [first.id]
        with database.transaction(cls.db):
            for seed in range(400):
                number = proofs.add(cls.db, shot.id, cls.numbers[-1], Recipe(), "landing", Frame(seed=seed))
                proofs.finish(cls.db, number, first.picture, 1.0, 0.1, 0.2, 0)
                cls.numbers.append(number)

    def shown(self, address: str) -> list[int]:
        return [int(number) for number in re.findall(r'class="card [^>]*data-proof="(\d+)"', self.client.get(address).text)]

    def test_the_newest_is_shown_and_the_others_are_an_act_away(self):
        shown = self.shown("/shots/slipway")
        self.assertEqual(len(shown), 120)
        self.assertIn(self.numbers[-1], shown)
        text = self.client.get("/shots/slipway").text
        self.assertIn("more above", text)
        around = self.numbers[150]
        self.assertIn(around, self.shown(f"/shots/slipway?proof={around}"))
        self.assertEqual(len(self.shown("/shots/slipway/lineage?first=0&count=300")), 300)
        self.assertEqual(
            len(self.shown("/shots/slipway/lineage?first=999999&count=999999")), len(proofs.of_shot(self.db, shots.find(self.db, "slipway").id))
        )
        every = [n for first in range(0, 500, 120) for n in self.shown(f"/shots/slipway/lineage?first={first}&count=120")]
        self.assertEqual(set(every), {proof.id for proof in proofs.of_shot(self.db, shots.find(self.db, "slipway").id)})

    def test_search_looks_at_all(self):
        found = self.shown("/shots/slipway/lineage?find=seed = 7")
        self.assertEqual(len(found), 1)

    def test_a_long_search_is_cut_and_ends(self):
        for text in (" " * 6000, "<" * 6000, "a and " * 3000, "over " * 4000):
            self.assertEqual(self.client.get("/shots/slipway/lineage", query_string={"find": text}).status_code, 200)

    def test_pins_are_read_on_the_last_proofs_and_the_chosen_one(self):
        from sivrel.store import pins

        shot = shots.find(self.db, "slipway")
        pin = pins.add(self.db, shot.id, "p", (0.1, 0.1, 0.2, 0.2), "landing")
        for number in self.numbers[1:]:
            pins.keep_reading(self.db, pin, number, {"luminance": 0.5})
        old = self.numbers[3]
        outcome = json.loads(self.client.get(f"/shots/slipway/pins.json?proof={old}").text)["pins"][0]
        self.assertEqual([len(outcome["readings"]), outcome["readings"][0]["proof"]], [201, old])
        self.assertEqual(outcome["unread"], len(proofs.finished(self.db, shot.id)) - 400)


if __name__ == "__main__":
    unittest.main()
