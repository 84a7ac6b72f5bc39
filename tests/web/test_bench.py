"""What the bench does over HTTP: naming, thinning, one change at a time, pins, recipes, cameras, sheets, compare; no worker runs here."""

import io
import json
import re
from html import unescape
from pathlib import Path

from markupsafe import escape
from PIL import Image

from sivrel import web
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.stored import RECIPE
from sivrel.store import files, jobs, moments, pins, proofs, recipes, shots, tunings
from sivrel.web.keys.own import keys_of
from sivrel.web.shots.disk import on_disk
from tests.web.test_web import WebTest


class BenchTest(WebTest):
    def post(self, address: str, status: int = 200, **fields):
        files = fields.pop("files", {})
        answer = self.client.post(address, data={"csrf_token": self.token(), **fields, **files}, headers={"HX-Request": "true"})
        self.assertEqual(answer.status_code, status, answer.text[:300])
        return answer

    def of(self, slug: str) -> list[proofs.Proof]:
        return proofs.of_shot(self.db, shots.find(self.db, slug).id)


class Forecasts(BenchTest):
    def form(self, **changes) -> dict[str, str]:
        page = self.client.get("/shots/slipway/recipe").text
        fields = dict(re.findall(r'<input name="([a-z_.]+)" value="([^"]*)"', page))
        for name, inside in re.findall(r'<select name="([a-z_.]+)"(.*?)</select>', page, re.DOTALL):
            chosen = re.search(r'value="([^"]*)" selected', inside) or re.search(r"<option selected>([^<]*)", inside)
            fields[name] = chosen.group(1) if chosen else ""
        return {**fields, "edits": "{}", **{key.replace("__", "."): value for key, value in changes.items()}}

    def rendered(self, seconds: float, preparing: float, **values) -> None:
        """A proof of the form as it stands, with a render that took so long."""
        form = self.form(**values)
        self.post("/shots/slipway/prove", **form)
        job = jobs.of_proof(self.db, self.of("slipway")[-1].id)
        jobs.progress(self.db, job.id, job.tiles_total, seconds + preparing, seconds)
        jobs.end(self.db, job.id, "done")

    def test_what_a_render_will_take_stands_beside_the_button_with_its_band(self):
        none = self.post("/shots/slipway/forecast", **self.form()).json
        self.assertEqual((none["says"], "first proof" in none["why"]), ("", True))
        for _ in range(6):
            self.rendered(10.0, 2.0, sampling__max="8")
        result = self.post("/shots/slipway/forecast", **self.form(sampling__max="16")).json
        self.assertIn("about 22 s (2", result["says"])
        self.assertIn("four in five", result["why"])
        self.assertIn("0 % off in the median", result["why"])
        self.assertEqual(self.post("/shots/slipway/forecast", **self.form(sampling__seconds="30")).json["says"][:10], "about 32 s")
        self.assertIn("Forecasts were 0 % off", self.client.get("/queue").text)

    def test_a_wrong_number_is_refused_in_a_sentence(self):
        self.assertIn("sampling.max", self.post("/shots/slipway/forecast", 422, **self.form(sampling__max="-3")).text)


class Lineage(BenchTest):
    def test_a_name_a_note_and_a_star_stand_on_the_card_and_are_found(self):
        proof = self.of("slipway")[2]
        self.post(f"/proofs/{proof.id}/name", 204, name="Low tide", note="wetter stones")
        self.assertTrue(self.post(f"/proofs/{proof.id}/star").json["starred"])
        cards = self.client.get("/shots/slipway/lineage?find=low tide and starred").text
        self.assertEqual(cards.count('class="card'), 1)
        self.assertIn("<b>Low tide</b>", cards)
        self.assertIn("1 of 9 proofs", cards)
        self.assertFalse(self.post(f"/proofs/{proof.id}/star").json["starred"])
        self.assertIn("No proof matches", self.client.get("/shots/slipway/lineage?find=nothing like it").text)

    def test_putting_aside_taking_back_and_dropping(self):
        self.prove()
        proof = self.of("slipway")[-1]
        moment = self.post(f"/proofs/{proof.id}/delete").json["moment"]
        self.assertNotIn(proof.id, [p.id for p in self.of("slipway")])
        self.assertEqual(jobs.of_proof(self.db, proof.id).state, "cancelled")
        self.assertIn("1 deleted", self.client.get("/shots/slipway/lineage").text)
        self.post("/shots/slipway/restore", moment=moment)
        self.assertIn(proof.id, [p.id for p in self.of("slipway")])
        self.post(f"/proofs/{proof.id}/delete")
        self.post("/shots/slipway/empty")
        self.assertIsNone(proofs.get(self.db, proof.id))
        self.assertIn("nothing to restore", self.post("/shots/slipway/restore", 422).text)

    def test_nothing_of_a_picture_is_left_when_the_bin_is_emptied(self):
        proof = self.of("lamp-room")[-1]
        paths = files.all_of_picture(self.data, proof.picture)
        for path in paths:
            if not path.is_file():
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(b"made of it")
        self.post(f"/proofs/{proof.id}/delete")
        self.assertTrue(all(path.is_file() for path in paths))
        self.assertEqual(self.post("/shots/lamp-room/empty").json["count"], 1)
        left = [path for path in self.data.rglob("*") if proof.picture in path.name]
        self.assertEqual(left, [])

    def test_thinning_says_first_how_many(self):
        result = self.client.get("/shots/lamp-room/thin.json").json
        before = len(self.of("lamp-room"))
        self.assertEqual(result["of"], before)
        done = self.post("/shots/lamp-room/thin").json
        self.assertEqual(done["count"], result["count"])
        self.assertEqual(len(self.of("lamp-room")), before - result["count"])
        if done["count"]:
            self.post("/shots/lamp-room/restore", moment=done["moment"])
        self.assertEqual(len(self.of("lamp-room")), before)


class OneChange(BenchTest):
    def test_several_changes_become_a_chain_of_one_each(self):
        parent = self.of("slipway")[0]
        form = {key: str(value) for key, value in parent.recipe.flat().items()}
        form |= {"sampling.max": "3", "limits.diffuse_bounces": "2", "edits": json.dumps({"light.NoonSun.angle": "5"}), "width": "32", "height": "18"}
        form |= {"edits": json.dumps({**parent.edits.flat(), "light.NoonSun.angle": "5"})}
        self.prove(parent=str(parent.id), one_by_one="1", **form)
        chain = self.of("slipway")[-4:]
        self.assertEqual([p.parent_id for p in chain], [parent.id, chain[0].id, chain[1].id, chain[2].id])
        self.assertEqual([p.recipe.limits.diffuse_bounces for p in chain], [2, 2, 2, 2])
        self.assertEqual([p.recipe.sampling.max for p in chain], [parent.recipe.sampling.max, 3, 3, 3])
        self.assertEqual([p.edits.lights["NoonSun"].angle if "NoonSun" in p.edits.lights else None for p in chain][1:], [None, 5.0, 5.0])
        self.assertEqual([p.frame.width for p in chain], [parent.frame.width] * 3 + [32])


class Queue(BenchTest):
    def test_order_hold_and_giving_way(self):
        first, second = (self.newest(gives_way=give) for give in ("", "on"))
        page = self.client.get("/queue").text
        self.assertLess(page.index(f'data-proof="{first}"'), page.index(f'data-proof="{second}"'))
        self.assertIn("after others", page)
        self.post(f"/proofs/{second}/queue?gives_way=0")
        page = self.post(f"/proofs/{second}/queue?move=-1").text
        self.assertLess(page.index(f'data-proof="{second}"'), page.index(f'data-proof="{first}"'))
        self.assertIn("held", self.post(f"/proofs/{first}/queue?hold=1").text)
        self.assertIn("Resume all", self.post("/queue/hold").text)
        self.assertTrue(self.client.get("/status.json").json["worker"]["held"])
        self.post("/queue/hold?off")
        for number in (first, second):
            self.post(f"/proofs/{number}/queue?cancel")
        self.assertEqual(jobs.of_proof(self.db, first).state, "cancelled")

    def newest(self, gives_way: str) -> int:
        self.prove(**({"gives_way": gives_way} if gives_way else {}))
        number = self.of("slipway")[-1].id
        self.assertEqual(jobs.of_proof(self.db, number).gives_way, bool(gives_way))
        return number


class Pins(BenchTest):
    def test_set_named_read_and_taken_out(self):
        first = self.of("slipway")[0]
        number = self.post("/shots/slipway/pins", box="0.1,0.2,0.3,0.4", proof=first.id).json["id"]
        self.post(f"/pins/{number}", 204, name="bow")
        pins.keep_reading(self.db, number, first.id, {"luminance": 0.5, "noise": 0.1, "colour": [0.5, 0.5, 0.5], "visible": None})
        (pin,) = self.client.get("/shots/slipway/pins.json").json["pins"]
        self.assertEqual((pin["name"], pin["box"], pin["view"]), ("bow", [0.1, 0.2, 0.3, 0.4], first.view))
        self.assertEqual([reading["luminance"] for reading in pin["readings"]], [0.5])
        self.assertGreater(pin["unread"], 0)
        for wrong in ("here", "0.5,0,0.2,1", "0,0,2,1"):
            self.post("/shots/slipway/pins", 422, box=wrong, proof=first.id)
        self.assertIn("choose one first", self.post("/shots/slipway/pins", 422, box="0,0,0,0").text)
        self.assertIn("needs a name", self.post(f"/pins/{number}", 422, name=" ").text)
        self.post(f"/pins/{number}/remove", 204)
        self.assertEqual(self.client.get("/shots/slipway/pins.json").json["pins"], [])


class Recipes(BenchTest):
    def test_kept_started_from_compared_and_carried_out_and_in(self):
        form = {"sampling.max": "77", "gi.seen": "baked"}
        number = self.post("/recipes", recipe_name="Harbour dusk", reason="for the long shot", **form).json["id"]
        self.assertIn("already a recipe", self.post("/recipes", 422, recipe_name="Harbour dusk", **form).text)
        values = self.client.get(f"/recipes/own:{number}.json").json["values"]
        self.assertEqual((values["sampling.max"], values["gi.seen"]), ("77", "baked"))
        self.assertIn("Harbour dusk", self.client.get("/shots/slipway").text)
        page = self.client.get(f"/recipes?a=plain&b=own:{number}").text
        self.assertIn("samples <span", page.replace("\n", ""))
        self.assertIn(f"{Recipe().sampling.max} → 77", page)

        text = self.client.get(f"/recipes/own:{number}.json?download=1").data
        result = json.loads(text)
        self.assertEqual((result["name"], result["version"]), ("Harbour dusk", RECIPE.version))
        file = lambda content: {"file": (io.BytesIO(content), "it.json")}  # noqa: E731
        self.assertIn("already a recipe", self.post("/recipes/import", 422, files=file(text)).text)
        self.post("/recipes/import", 302, files=file(json.dumps({**result, "name": "Second"}).encode()))
        self.assertEqual(recipes.find(self.db, "Second").recipe, with_values(Recipe(), {"sampling.max": 77, "gi.seen": "baked"}))
        for wrong in (b"nonsense", b"[]", json.dumps({**result, "version": 99, "name": "x"}).encode()):
            self.assertIn('role="alert"', self.post("/recipes/import", 422, files=file(wrong)).text)
        self.post(f"/recipes/{number}/default", 302)
        self.assertEqual(recipes.default(self.db).sampling.max, 77)
        self.post(f"/recipes/{number}/delete", 302)
        self.assertEqual(self.client.get(f"/recipes/own:{number}.json").status_code, 404)

    def test_the_starting_recipes_are_all_there(self):
        page = self.client.get("/recipes").text
        for title in ("Quick mood draft", "Still interior", "Exterior", "Product with glass", "Moving shot"):
            self.assertIn(title, page)
        self.assertEqual(self.client.get("/recipes/start:exterior.json").json["values"]["limits.diffuse_bounces"], "3")


class Moments(BenchTest):
    def test_the_latest_wish_is_kept_and_bad_ones_are_a_sentence(self):
        form = {"gi.seen": "off", "sampling.max": "4", "camera": "landing", "width": "64", "height": "36", "region": "0,0,32,18", "seed": "0"}
        first = self.post("/shots/slipway/moment?client=0123abcd", **form).json["number"]
        second = self.post("/shots/slipway/moment?client=0123abcd", **{**form, "draft": "1"}).json["number"]
        self.assertFalse(moments.is_latest(self.db, first))
        taken = moments.take(self.db)
        self.assertEqual((taken.number, taken.body["region"]), (second, [0, 0, 32, 18]))
        self.assertEqual(json.loads(taken.body["recipe"])["limits"]["diffuse_bounces"], 2, "a draft takes short paths")
        self.assertEqual(self.client.get(f"/moments/0123abcd?number={second}&samples=-1").status_code, 204)
        self.assertIn("from 1 to", self.post("/shots/slipway/moment?client=0123abcd", 422, **{**form, "sampling.max": "0"}).text)
        self.post("/shots/slipway/moment?client=../../etc", 404, **form)


class Cameras(BenchTest):
    def test_a_view_is_kept_and_proven(self):
        edits = json.dumps({"camera.landing.at": "3,2,6", "camera.landing.towards": "0,1,0"})
        self.post("/shots/slipway/cameras", name="From the rocks", like="landing", edits=edits)
        self.assertIn("<option>From the rocks</option>", self.client.get("/shots/slipway").text)
        for name, sentence in (("landing", "already"), ("From the rocks", "already"), ("a.b", "no dot"), ("", "1 to 60")):
            self.assertIn(sentence, self.post("/shots/slipway/cameras", 422, name=name, like="landing", edits=edits).text)
        self.assertIn("has not moved", self.post("/shots/slipway/cameras", 422, name="x", like="landing", edits="{}").text)
        self.prove(camera="From the rocks")
        proof = self.of("slipway")[-1]
        self.assertEqual((proof.camera, proof.edits.cameras["From the rocks"].at), ("From the rocks", (3.0, 2.0, 6.0)))


class Compare(BenchTest):
    def test_the_page_sets_all_against_the_first(self):
        numbers = [proof.id for proof in self.of("keepers-kitchen")[:3]]
        page = self.client.get(f"/shots/keepers-kitchen/compare?proofs={','.join(map(str, numbers))}").text
        self.assertEqual(page.count('class="small-plate"'), 3)
        for words in ("Their settings", "Where time and noise went", "bounced light"):
            self.assertIn(words, page)
        # The lamp was soloed in the second, and had eight shadow rays besides in the third.
        solo, rays = (re.search(rf"{name}</th>(.*?)</tr>", page)[1] for name in ("Flame solo", "Flame shadow rays"))
        self.assertEqual(re.findall(r">([^<>]+)<", solo), ["–", "on", "on"])
        self.assertEqual(re.findall(r">([^<>]+)<", rays), ["–", "as A", "8"])
        self.assertIn("two to four", self.client.get(f"/shots/keepers-kitchen/compare?proofs={numbers[0]}").text)

    def test_the_difference_comes_with_a_verdict(self):
        a, b = (proof.picture for proof in self.of("keepers-kitchen")[3:5])
        result = self.client.get(f"/pictures/{a}/{b}/difference.json?exposure=1.7").json
        self.assertRegex(result["verdict"], "[A-Z].*[.]$")
        self.assertTrue(result["places"])
        self.assertEqual(self.client.get(f"/pictures/{a}/{b}/visible.half").headers["Content-Type"], "application/octet-stream")
        self.assertTrue(self.client.get(f"/pictures/{a}/{a}/difference.json").json["verdict"].startswith("No visible difference"))


class Sheets(BenchTest):
    def test_chosen_or_starred_proofs_as_png_and_pdf(self):
        numbers = ",".join(str(proof.id) for proof in self.of("slipway")[:3])
        sheet = Image.open(io.BytesIO(self.client.get(f"/shots/slipway/sheet.png?proofs={numbers}").data))
        self.assertGreater(sheet.width, 2 * 480)
        self.assertTrue(self.client.get(f"/shots/slipway/sheet.pdf?proofs={numbers}").data.startswith(b"%PDF"))
        self.assertIn("star some finished proofs", self.client.get("/shots/keepers-kitchen/sheet.png").text)
        self.assertIn("png or pdf", self.client.get("/shots/slipway/sheet.doc").text)


class Explained(BenchTest):
    def test_a_setting_says_what_was_measured_of_it_here(self):
        proof = next(one for one in self.of("keepers-kitchen") if one.parent_id and one.recipe.sampling.max == 256)
        info = self.client.get(f"/explain.json?key=sampling.max&proof={proof.id}").json
        self.assertEqual((info["name"], info["default"]), ("samples", "16"))
        self.assertIn("halve the grain", info["trades"])
        self.assertRegex(info["measured"][0], r"^In this picture camera rays takes \d.* % of the time and makes .* % of the noise\.$")
        self.assertTrue([words for words in info["measured"] if words.startswith(f"Proof {proof.id}: 64 → 256 took")])
        number = tunings.add(self.db, proof.id, "ladder", {"key": "sampling.max"})
        tunings.keep(self.db, number, {"take": {"sampling.max": 128}})
        info = self.client.get(f"/explain.json?key=sampling.max&proof={proof.id}").json
        self.assertIn(f"A ladder on proof {proof.id} found 128 enough.", info["measured"])

    def test_without_a_proof_it_says_what_it_trades_and_no_setting_is_not_found(self):
        self.assertEqual(self.client.get("/explain.json?key=gi.seen").json["measured"], [])
        self.assertEqual(self.client.get("/explain.json?key=gi.nothing").status_code, 404)


class ShotsPage(BenchTest):
    def test_a_cover_is_chosen_and_last_work_comes_first(self):
        first = self.of("slipway")[0]
        self.post(f"/proofs/{first.id}/cover", status=204)
        self.assertEqual(next(picture for shot, _, picture in shots.listed(self.db) if shot.slug == "slipway"), first.picture)
        self.client.get("/shots/lamp-room")
        page = self.client.get("/").text
        self.assertLess(page.index("/shots/lamp-room"), page.index("/shots/keepers-kitchen"))
        self.assertTrue(f"/thumbnails/{first.picture}.png" in page)

    def test_what_is_on_disk_is_counted(self):
        disk, sizes = on_disk(self.data, proofs.pictures_by_shot(self.db))
        files_of = [path for path in self.data.rglob("*") if path.is_file()]
        self.assertAlmostEqual(disk.pictures + disk.caches + disk.rest, sum(path.stat().st_size for path in files_of), delta=2e6)
        self.assertEqual(sum(sizes.values()), disk.pictures)
        slipway = shots.find(self.db, "slipway")
        self.assertGreater(sizes[slipway.id], files.picture_path(self.data, self.of("slipway")[0].picture).stat().st_size)


class Commands(WebTest):
    def test_one_declaration_makes_buttons_sheet_and_bindings(self):
        page = self.client.get("/shots/slipway").text
        scripts = Path(web.__file__).parent / "static" / "js"
        script = (scripts / "bench.js").read_text() + (scripts / "looking.js").read_text()
        for command in keys_of("bench").commands:
            for key in command.shown:
                self.assertIn(f"<kbd>{escape(key)}</kbd>", page)
            if command.label:
                self.assertIn(f'data-do="{command.name}"', page)
            if not command.by_page and not command.held:
                self.assertRegex(script, rf"\n +{command.name}[:,]", f"the bench does nothing for {command.name}")
        self.assertEqual(json.loads(unescape(re.search(r"data-keys='([^']*)'", page)[1])), keys_of("bench").listed())
        outside = keys_of("bench", outside=True).by_name
        self.assertNotIn("prove", outside)
        self.assertIn("wipe", outside)

    def test_own_keys_from_a_file(self):
        path = self.data / "keys.json"
        self.addCleanup(path.unlink)
        path.write_text('{"wipe": "j"}')
        self.assertTrue("begins &#39;j f&#39;" in self.client.get("/shots/slipway").text)
        path.write_text('{"wipe": "b", "compare": "w", "difference": ["d", "m z"]}')
        page = self.client.get("/shots/slipway").text
        self.assertTrue("wipe between the two (B)" in page)
        self.assertIn("<kbd>M Z</kbd>", page)
        path.write_text('{"wipe": "W", "nothing": "n", "star": "m k"}')
        page = self.client.get("/shots/slipway").text
        for sentence in ("no command &#39;nothing&#39;", "&#39;wipe&#39; needs a letter"):
            self.assertIn(sentence, page)
        self.assertIn("<kbd>M K</kbd>", page)  # what is right applies
        path.write_text("[")
        self.assertIn("keys.json cannot be read", self.client.get("/recipes").text)
