"""The survey against rooms with planted faults and their clean twins, and on the demo shots; each mend against the fault that it mends."""

import json
import types
import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.prepare import Prepared, prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.survey.finding import SceneFinding
from sivrel.core.survey.look import Look
from sivrel.core.survey.plan import cut_lines, inside_cut, plan_and_elevation
from sivrel.core.survey.standpoint import seen_from
from sivrel.core.survey.survey import CHECKS, survey
from sivrel.core.task import Task
from sivrel.demo.shots import find_shot
from tests import rooms

DIRECT = with_values(Recipe(), {"gi.seen": "off"})
PLANTED = {"keepers-kitchen": {"sheet", "gap"}, "slipway": set(), "lamp-room": set()}
ELSEWHERE = {"one object"}
"""Kinds whose mend takes what is found apart, which has another name then."""


def ready_of(room: rooms.Room, edits: Edits | None = None) -> Prepared:
    return prepare(room.scene, DIRECT, edits)


class ANewCheck(unittest.TestCase):
    def test_it_is_one_module_and_one_line(self):
        toy = types.ModuleType("toy")
        at = (1.0, 2.0, 3.0)
        toy.check = lambda look: [SceneFinding("toy", "A ball rolls.", "It is never where it was.", 0.9, at, (at, at), ["/Room/Ball"])]
        with mock.patch.dict(CHECKS, {"toys that roll": toy}):
            found = survey(ready_of(rooms.room(401)))
        self.assertEqual([(f.kind, f.severity) for f in found.findings], [("toy", "spoils the picture")])
        result = json.loads(json.dumps(found.as_dict()))
        self.assertEqual((result["findings"][0]["title"], result["seconds"].keys()), ("A ball rolls.", set(result["checks"]) | {"toys that roll"}))


class PlantedFaults(unittest.TestCase):
    def test_each_is_found_and_its_first_mend_mends_it(self):
        for number, plant in enumerate(rooms.FAULTS):
            with self.subTest(plant.__name__):
                room = rooms.room(300 + number)
                kind, name = plant(room)
                recipe = with_values(Recipe(), room.values)
                module = next(m for m in CHECKS.values() if m.__name__.endswith(module_of(kind)))

                def found_with(edits: Edits, room=room, recipe=recipe, module=module, kind=kind, name=name) -> list:
                    return [f for f in module.check(Look(ready_of(room, edits), recipe)) if f.kind == kind and (name is None or name in f.objects)]

                edits = Edits()
                found = found_with(edits)
                self.assertTrue(found)
                self.assertTrue(found[0].why and found[0].mends and 0.0 < found[0].harm <= 1.0)
                json.dumps(found[0].as_dict())
                for _ in range(3):  # a long joint may be found piece by piece
                    for one in found:
                        edits = with_edits(edits, one.mends[0].edits)
                    found = found_with(edits) if edits.flat() else found
                    if not found:
                        break
                if kind not in ELSEWHERE and edits.flat():
                    self.assertEqual([f.title for f in found], [])

    def test_a_clean_twin_has_none(self):
        for seed in (401, 402):
            room = rooms.room(seed)
            rooms.shaped_light_is_no_fault(room)
            for values in ({}, {"gi.seen": "baked"}):
                said = survey(ready_of(room), with_values(Recipe(), values)).findings
                self.assertEqual([f.title for f in said], [])

    def test_a_blocker_behind_it_ends_a_sheet_too(self):
        room = rooms.room(303)
        _, name = rooms.sheet(room)
        sheet = next(f for f in survey(ready_of(room)).findings if f.kind == "sheet")
        self.assertEqual(len(sheet.mends), 2)
        blocked = survey(ready_of(room, with_edits(Edits(), sheet.mends[1].edits))).findings
        self.assertNotIn("sheet", [f.kind for f in blocked], name)

    def test_sheets_of_a_room_whose_window_is_in_view_and_all_mended_in_one_act(self):
        room = rooms.room(305)
        width, height, depth = room.size
        for name, corners in {
            "North": [(-0.1, -0.02, 0), (width + 0.1, -0.02, 0), (width + 0.1, height + 0.02, 0), (-0.1, height + 0.02, 0)],
            "East": [(0, -0.02, depth + 0.1), (0, -0.02, -0.1), (0, height + 0.02, -0.1), (0, height + 0.02, depth + 0.1)],
        }.items():
            a, b, c, d = np.array(corners)
            room.put(rooms.made(f"/Room/{name}", np.array([(a, b, c), (a, c, d)]), rooms.WALLS))
        ground = np.array([(-60.0, -0.5, -60.0), (-60.0, -0.5, 60.0), (60.0, -0.5, 60.0), (60.0, -0.5, -60.0)])
        room.put(rooms.made("/Ground", ground[[[0, 1, 2], [0, 2, 3]]], rooms.FLOOR))
        room.scene.cameras[:] = [rooms.looking_at("Eye", (0.5, 1.5, depth * 0.5), (width, 1.2, depth * 0.35))]
        found = [f for f in survey(ready_of(room)).findings if f.kind == "sheet"]
        self.assertEqual({f.objects[0] for f in found}, {"/Room/North", "/Room/East"})
        every = next(mend for mend in found[0].mends if mend.words.startswith("Make all 2 sheets"))
        self.assertEqual(set(every.edits), {"object./Room/North.thickness", "object./Room/East.thickness"})
        after = survey(ready_of(room, with_edits(Edits(), every.edits))).findings
        self.assertNotIn("sheet", [f.kind for f in after])

    def test_a_room_is_as_bright_as_its_bounced_light_makes_it(self):
        """The dark side of a wall is lit by what bounces: no ratio of thousands in a room with a window and a lamp."""
        room = rooms.room(303)
        rooms.sheet(room)
        for light in room.scene.lights:
            if light.kind not in ("sun", "dome"):
                room.light(light.name, on=False)
        found = next(f for f in survey(ready_of(room)).findings if f.kind == "sheet")
        times = found.evidence["outside_over_inside"]
        self.assertTrue(2.0 < times < 300.0, times)
        self.assertRegex(found.title, r"about [0-9.,]+ times")

    def test_glass_that_is_not_quite_closed(self):
        room = rooms.room(305)
        room.scene.surfaces.append(replace(room.scene.surfaces[rooms.WOOD], name="Glass", opacity=0.0, see_through="solid"))
        ball = rooms.ball("/Room/Ball", room.mesh("/Room/Ball").vertices.reshape(-1, 3).mean(axis=0), 0.13, len(room.scene.surfaces) - 1, 12)
        room.put(ball)
        self.assertEqual([f.title for f in survey(ready_of(room)).findings if f.kind == "hole"], [])
        room.put(rooms.made(ball.name, np.delete(ball.vertices, [100, 101], axis=0), len(room.scene.surfaces) - 1))
        found = [f for f in survey(ready_of(room)).findings if f.kind == "hole"]
        self.assertEqual([f.objects for f in found], [["/Room/Ball"]])
        self.assertIn("solid glass", found[0].title)

    def test_light_of_glow_alone_is_light(self):
        room = rooms.room(306)
        room.scene.lights.clear()
        room.scene.surfaces.append(replace(room.scene.surfaces[rooms.GLOW], name="Filament", emission=(4000.0, 3000.0, 2000.0)))
        room.put(rooms.ball("/Room/Bulb", (room.size[0] * 0.3, 1.9, room.size[2] * 0.3), 0.004, len(room.scene.surfaces) - 1, 6))
        kinds = [f.kind for f in survey(ready_of(room)).findings]
        self.assertNotIn("no light", kinds)
        self.assertIn("small glow", kinds)
        room.scene.meshes[:] = [mesh for mesh in room.scene.meshes if mesh.name != "/Room/Bulb"]
        self.assertIn("no light", [f.kind for f in survey(ready_of(room)).findings])

    def test_slats_and_cupboards_are_no_faults(self):
        room = rooms.room(403)
        rooms.blind_is_no_fault(room)
        rooms.niche(room)
        self.assertEqual([f.title for f in survey(ready_of(room)).findings if f.kind in ("gap", "sheet")], [])

    def test_a_gap_is_measured(self):
        room = rooms.room(77)
        low, high = room.slabs["North"]
        room.put(rooms.box("/Room/North", low, high - [0.0, 0.02 + 0.025, 0.0], rooms.WALLS))
        gap = next(f for f in survey(ready_of(room)).findings if f.kind == "gap")
        self.assertAlmostEqual(gap.evidence["width_m"], 0.025, delta=0.004)
        self.assertGreater(gap.evidence["length_m"], 1.0)
        self.assertAlmostEqual(gap.at[1], room.size[1] - 0.0125, delta=0.02)
        self.assertEqual(len(gap.path), 3)


def module_of(kind: str) -> str:
    """The module that a kind of finding comes from."""
    return {
        "scale": "units", "outlier": "outliers", "sheet": "sheets", "gap": "gaps", "mixed faces": "facing", "inside out": "facing",
        "glows away": "facing", "hole": "holes", "too dense": "density", "slivers": "density", "huge polygons": "polygons", "one object": "polygons",
        "light inside": "idle_lights", "light behind": "idle_lights", "light turned away": "idle_lights", "idle light": "idle_lights",
        "idle lights": "idle_lights", "many lights": "idle_lights",
        "dome blocked": "idle_lights", "two suns": "suns", "small glow": "glow", "too bright a surface": "albedo",
        "camera inside": "camera", "camera sees nothing": "camera", "camera too near": "camera", "exposure": "camera",
    }.get(kind, kind)  # fmt: skip


class DemoShots(unittest.TestCase):
    def test_only_what_was_planted_is_found(self):
        for name, planted in PLANTED.items():
            with self.subTest(name):
                said = survey(prepare(read_scene(find_shot(f"demo:{name}")), DIRECT)).findings
                self.assertEqual({f.kind for f in said}, planted)
                for finding in said:
                    self.assertIn("NorthWall", " ".join(finding.objects))

    def test_it_says_the_same_each_time_and_can_be_stopped(self):
        ready = ready_of(rooms.room(9))
        result = []

        def hear(what, share, found):
            result.append(what)
            if len(result) == 4:
                task.cancel.set()

        task = Task(hear)
        stopped = survey(ready, None, task)
        self.assertEqual(len(stopped.seconds), 3)
        a, b = (Look(ready, Recipe()) for _ in range(2))
        np.testing.assert_array_equal(a.air, b.air)


class Drawings(unittest.TestCase):
    def test_a_cut_through_a_box_is_its_outline_and_its_inside(self):
        box = rooms.box("/B", (1.0, 0.0, 2.0), (3.0, 1.0, 5.0), 0)
        lines, triangles = cut_lines(box.vertices, np.array([0.0, 0.4, 0.0]), np.array([0.0, 1.0, 0.0]))
        self.assertEqual(set(triangles.tolist()), {0, 1, 2, 3, 8, 9, 10, 11} if len(set(triangles.tolist())) == 8 else set(triangles.tolist()))
        self.assertAlmostEqual(float(np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum()), 10.0, places=5)
        flat = lines[:, :, [0, 2]]
        inside = inside_cut(flat, (60, 40), (0.1, 0.1))
        self.assertAlmostEqual(inside.sum() * 0.01, 6.0, delta=0.05)
        self.assertTrue(inside[30, 20] and not inside[30, 5])

    def test_the_plan_is_cut_where_it_is_asked(self):
        room = rooms.room(12)
        ready = ready_of(room)
        low, _ = plan_and_elevation(ready.scene, ready.arrays, ready.camera, 0.3)
        high, _ = plan_and_elevation(ready.scene, ready.arrays, ready.camera, 1.3)
        self.assertAlmostEqual(low.centre[1], 0.3, places=6)
        # Below the table's top its four legs are cut; above it none.
        self.assertGreater(len(low.lines), len(high.lines))

    def test_what_a_place_sees(self):
        room = rooms.room(12)
        look = Look(ready_of(room), Recipe())
        w, h, d = room.size
        result = seen_from(look, np.array([w / 2.0, h / 2.0, d * 0.75]))
        outline = np.array(result["outline"])
        self.assertLess(result["open"], 0.1)
        self.assertLess(outline[:, 0].min(), 0.06)
        self.assertEqual(result["inside"], None)
        lamp = next(light for light in result["lights"] if light["name"] == "Panel")
        self.assertAlmostEqual(lamp["brings"], lamp["unhindered"], delta=0.05 * lamp["unhindered"])
        self.assertEqual(seen_from(look, np.array([w / 2.0, -0.1, d / 2.0]))["inside"], "/Room/Floor")


if __name__ == "__main__":
    unittest.main()
