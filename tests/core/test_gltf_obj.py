"""glTF and OBJ in, glTF and USD out: what is read, what is noted, that a scene comes back as it went, and that bad files end in one sentence."""

import json
import shutil
import struct
import subprocess
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Usd, UsdValidation

from sivrel.core.edits.apply_edits import apply_edits
from sivrel.core.edits.edits import Edits, with_edits
from sivrel.core.errors import InputError
from sivrel.core.formats.gltf import glb
from sivrel.core.formats.gltf_out import write_gltf
from sivrel.core.formats.scenes import read_scene
from sivrel.core.formats.usd_edits import write_layer
from sivrel.core.render.film import film_beauty, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.model import Light, Scene, Shaping, Surface, Texture, TextureUse
from sivrel.core.scene.placed_mesh import PlacedMesh
from sivrel.core.scene.texels import texels_of
from sivrel.demo.shots import find_shot
from tests.core.test_instances import sphere
from tests.rooms import ball, box, looking_at, made

ROOT = Path(__file__).parents[2]
VALIDATE = """
const validator = require('gltf-validator'), fs = require('fs');
validator.validateBytes(new Uint8Array(fs.readFileSync(process.argv[1]))).then((r) => console.log(JSON.stringify(r.issues)));
"""


class InAFolder(unittest.TestCase):
    def setUp(self):
        self.made = tempfile.TemporaryDirectory()
        self.addCleanup(self.made.cleanup)
        self.folder = Path(self.made.name)

    def write(self, name: str, contents) -> Path:
        path = self.folder / name
        path.write_bytes(contents if isinstance(contents, bytes) else contents.encode())
        return path


class Obj(InAFolder):
    def test_corners_are_read_in_every_way_of_writing_them(self):
        square = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nvn 0 0 1\n"
        for faces in ("f 1 2 3 4", "f 1/1 2/2 3/3 4/4", "f 1//1 2//1 3//1 4//1", "f 1/1/1 2/2/1 3/3/1 4/4/1", "f -4/-4/-1 -3/-3/-1 -2/-2/-1 -1/-1/-1",
                      "f 1 2/2 3//1 4/4/1", "# a note\nf 1 2 \\\n 3 4 # and one more"):  # fmt: skip
            with self.subTest(faces):
                scene = read_scene(self.write("a.obj", square + faces + "\n"))
                mesh = scene.meshes[0]
                self.assertEqual(len(mesh.vertices), 2)
                np.testing.assert_allclose(mesh.normals.reshape(-1, 3), np.tile([0.0, 0.0, 1.0], (6, 1)), atol=1e-6)
                if "/4" in faces and "2/2 3//1" not in faces:
                    np.testing.assert_allclose(mesh.uvs, mesh.vertices[..., :2], atol=1e-6)

    def test_groups_materials_and_pictures(self):
        Image.fromarray(np.full((2, 2, 3), 188, np.uint8)).save(self.folder / "my wood.png")
        self.write("m.mtl", "newmtl Wood\nKd 0.2 0.3 0.4\nmap_Kd -s 2 2 my wood.png\nnewmtl Glow\nKe 5 5 5\nPr 0.3\nPm 1\nmap_bump x.png\nTf 1 1 1\n")
        text = "mtllib m.mtl\no Table\nusemtl Wood\nv 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\ng top\nusemtl Glow\nf 1 2 4\nl 1 2\n"
        scene = read_scene(self.write("a.obj", text))
        self.assertEqual([m.name for m in scene.meshes], ["/Table", "/Table/top"])
        wood, glow = (scene.surfaces[int(m.surfaces[0])] for m in scene.meshes)
        self.assertAlmostEqual(float(wood.base_color_map.texture.image.linear()[0, 0, 0]), 0.5029, places=3)
        self.assertEqual(wood.base_color_map.texture.transform[0, 0], 2.0)
        self.assertEqual((glow.emission, glow.roughness, glow.metallic), ((5.0, 5.0, 5.0), 0.3, 1.0))
        notes = " ".join(scene.notes)
        for words in ("1 lines “l”", "map_bump", "Tf", "no unit"):
            self.assertIn(words, notes)

    def test_copies_that_are_written_out_share_their_shape(self):
        ball = sphere(12, 1.0)
        turn = np.array([[0.36, 0.48, -0.8], [-0.8, 0.6, 0.0], [0.48, 0.64, 0.6]])
        sheared = np.array([[2.0, 0.3, 0.0], [0.0, 0.5, 0.0], [0.0, 0.0, 1.0]])
        places = {
            "First": np.eye(3), "Turned": turn, "Sheared": turn @ sheared, "Mirrored": np.diag([1.0, 1.0, -1.0]), "Dented": np.eye(3),
            "Flat": np.diag([1.0, 1.0, 0.0]),
        }  # fmt: skip
        lines, count = [], 0
        for k, (name, matrix) in enumerate(places.items()):
            lines.append(f"o {name}")
            for face in ball:
                points = np.array(face) @ matrix.T + (3.0 * k, 1.0, 0.0)
                if name == "Dented" and face is ball[100]:
                    points[0] += 0.01
                lines += [f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in points]
                lines.append("f " + " ".join(str(count + j + 1) for j in range(len(face))))
                count += len(face)
        (self.folder / "balls.obj").write_text("\n".join(lines))
        scene = read_scene(self.folder / "balls.obj")
        meshes = {mesh.name.strip("/"): mesh for mesh in scene.meshes}
        self.assertEqual({name for name, mesh in meshes.items() if isinstance(mesh, PlacedMesh)}, {"First", "Turned", "Sheared"})
        self.assertIs(meshes["Turned"].shape, meshes["Sheared"].shape)
        for k, (name, matrix) in enumerate(places.items()):
            corner = np.array(ball[0]) @ matrix.T + (3.0 * k, 1.0, 0.0)
            np.testing.assert_allclose(meshes[name].vertices[0], corner[:3], atol=1e-5, err_msg=name)
            self.assertEqual(meshes[name].count, meshes["First"].count)

    def test_files_are_not_read_outside_its_folder(self):
        inside = self.folder / "in"
        inside.mkdir()
        self.write("secret.mtl", "newmtl M\nKd 1 0 0\n")
        (inside / "a.obj").write_text("mtllib ../secret.mtl\nusemtl M\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        scene = read_scene(inside / "a.obj")
        self.assertEqual(scene.surfaces[0].base_color, (0.5, 0.5, 0.5))
        self.assertIn("was not given", " ".join(scene.notes))


def box_of_things() -> Scene:
    """A scene of all that glTF can carry."""
    rng = np.random.default_rng(3)
    wood = Texture(texels_of(np.round(rng.random((4, 4, 3)) * 255.0).astype(np.uint8), "raw"), ("clamp", "mirror"))
    wood.transform = np.array([[0.0, -2.0, 0.3], [1.5, 0.0, 0.1]])
    surfaces = [
        Surface("Wood", base_color_map=TextureUse(wood), roughness=0.4), Surface("Steel", (0.9, 0.8, 0.7), 0.2, 1.0),
        Surface("Ember", (0.0, 0.0, 0.0), emission=(9.0, 4.0, 1.0)), Surface("Matt", (0.3, 0.4, 0.5), ior=1.0),
        Surface("Pane", (0.8, 0.9, 0.8), 0.0, opacity=0.0, see_through="pane", attenuation=(0.8, 0.9, 0.8)),
        Surface("Glass", (1.0, 1.0, 1.0), 0.0, ior=1.52, opacity=0.0, see_through="solid", attenuation=(0.5, 0.9, 0.7), attenuation_distance=0.2),
        Surface("Lacquer", (0.5, 0.1, 0.1), coat=0.7, coat_roughness=0.05),
    ]  # fmt: skip
    meshes = [box("/Room/Floor", (-3, -0.1, -3), (3, 0, 3), 3), ball("/Room/Ball", (0.5, 0.4, 0), 0.4, 1, 10),
              ball("/Room/Glass", (-0.6, 0.4, 0.6), 0.4, 5, 10),
              box("/Room/Crate", (-1.6, 0, -1), (-0.8, 0.8, -0.2), 0), box("/Room/Coal", (1.4, 0, 0.4), (1.6, 0.2, 0.6), 2),
              box("/Room/Tin", (0.2, 0, 1.2), (0.6, 0.3, 1.5), 6),
              replace(made("/Room/Pane", np.array([[(-2, 0, 1.6), (0, 0, 1.6), (0, 1, 1.6)]]), 4), double_sided=True)]  # fmt: skip
    meshes[3] = meshes[3].changed(uvs=rng.random(meshes[3].uvs.shape))
    lights = [Light("Sun", "sun", (2.0, 1.8, 1.6), frame=looking_at("", (1, 2, 1), (0, 0, 0)).to_world[:, :3].T),
              Light("Bulb", "point", (1.0, 0.9, 0.7), (0.0, 2.0, 0.0), intensity=3.0),
              Light("Spot", "point", (1.0, 1.0, 1.0), (0.0, 3.0, 1.0), looking_at("", (0, 3, 1), (0, 0, 0)).to_world[:, :3].T, 9.0,
                    shaping=Shaping(cone_angle=30.0, cone_softness=0.4))]  # fmt: skip
    return Scene("things", meshes, surfaces, lights, [looking_at("Eye", (0.5, 1.6, 4.0), (0, 0.3, 0))])


def picture(scene: Scene) -> np.ndarray:
    recipe, frame, tiles = with_values(Recipe(), {"sampling.max": 4, "limits.diffuse_bounces": 2}), Frame(48, 27), {}
    ready = prepare(scene, recipe)
    render_tiles(ready.arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=2)
    return film_beauty(assemble(frame, film_columns(ready.arrays.slots), tiles))


class Gltf(InAFolder):
    def test_a_scene_comes_back_as_it_went(self):
        scene = box_of_things()
        self.assertEqual(write_gltf(scene, self.folder / "a.glb"), [])
        again = read_scene(self.folder / "a.glb")
        self.assertEqual(again.notes, [])
        self.assertEqual([m.name for m in again.meshes], ["/" + m.name.strip("/").replace("/", "_") for m in scene.meshes])
        for old, new in zip(scene.meshes, again.meshes, strict=True):
            np.testing.assert_allclose(new.vertices, old.vertices, atol=1e-6)
            np.testing.assert_allclose(new.normals, old.normals, atol=1e-5)
            a, b = scene.surfaces[int(old.surfaces[0])], again.surfaces[int(new.surfaces[0])]
            for attribute in ("name", "see_through", "metallic"):
                self.assertEqual(getattr(a, attribute), getattr(b, attribute))
            for attribute in ("roughness", "ior", "opacity", "coat", "coat_roughness", "attenuation_distance", "emission", "attenuation"):
                if b.see_through != "cut_out" or "attenuation" not in attribute:
                    np.testing.assert_allclose(getattr(a, attribute), getattr(b, attribute), rtol=1e-6, err_msg=a.name + attribute)
        crate = again.surfaces[int(again.meshes[3].surfaces[0])].base_color_map.texture
        np.testing.assert_allclose(crate.transform, scene.surfaces[0].base_color_map.texture.transform, atol=1e-9)
        self.assertEqual(crate.wrap, ("clamp", "mirror"))
        a, b = picture(scene), picture(again)
        self.assertAlmostEqual(float(b.mean() / a.mean()), 1.0, delta=0.01)
        self.assertLess(float(np.median(np.abs(a - b))), 0.01 * float(a.mean()))

    @unittest.skipUnless(shutil.which("node") and (ROOT / "node_modules" / "gltf-validator").is_dir(), "needs Node and the validator (npm ci)")
    def test_what_is_written_passes_the_validator(self):
        demo = apply_edits(
            read_scene(find_shot("demo:lamp-room")), with_edits(Edits(), {"card.C.depth": "0.1", "object./LampRoom/Room.split": "facing"})
        )
        for number, scene in enumerate((box_of_things(), demo)):
            path = self.folder / f"{number}.glb"
            write_gltf(scene, path)
            said = subprocess.run(["node", "-e", VALIDATE, str(path)], cwd=ROOT, capture_output=True, text=True, check=True)
            issues = json.loads(said.stdout)
            self.assertEqual(issues["numErrors"], 0, issues["messages"][:3])

    def test_what_cannot_be_carried_is_said(self):
        scene = box_of_things()
        scene.lights.append(Light("Softbox", "rect"))
        scene.meshes[0] = replace(scene.meshes[0], casts_shadows=False)
        left = " ".join(write_gltf(scene, self.folder / "a.glb"))
        self.assertIn("Softbox is a rect", left)
        self.assertIn("casting no shadow", left)

    def parts(self, **more) -> dict:
        points = np.array([(0, 0, 0), (1, 0, 0), (0, 1, 0)], "<f4").tobytes()
        result = {
            "asset": {"version": "2.0"}, "buffers": [{"byteLength": 36}], "bufferViews": [{"buffer": 0, "byteLength": 36}],
            "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
            "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}], "nodes": [{"mesh": 0}],
        }  # fmt: skip
        self.points = points
        return {**result, **more}

    def test_nodes_strips_and_notes(self):
        result = self.parts(nodes=[{"children": [1], "scale": [2, 2, 2]}, {"mesh": 0, "translation": [1, 0, 0], "name": "A"}],
                          extensionsUsed=["KHR_materials_sheen"], animations=[{}])  # fmt: skip
        result["meshes"][0]["primitives"][0]["mode"] = 5
        result["meshes"][0]["primitives"].append({"attributes": {"POSITION": 0}, "mode": 1})
        scene = read_scene(self.write("a.glb", glb(result, self.points)))
        np.testing.assert_allclose(scene.meshes[0].vertices[0, 0], (2, 0, 0))
        notes = " ".join(scene.notes)
        for words in ("KHR_materials_sheen", "rest pose", "Points and lines"):
            self.assertIn(words, notes)

    def test_instances_are_placed(self):
        turns = np.array([(0, 0, 0, 32767), (0, 0, 23170, 23170)], "<i2").tobytes()  # none, and a quarter about z
        places, sizes = np.array([(5, 0, 0), (0, 7, 0)], "<f4").tobytes(), np.array([(1, 1, 1), (2, 2, 2)], "<f4").tobytes()

        def described(**attributes) -> dict:
            views = [(0, 36), (36, 24), (60, 16), (76, 24)]
            accessors = [(5126, 3, "VEC3"), (5126, 2, "VEC3"), (5122, 2, "VEC4"), (5126, 2, "VEC3")]
            node = {"mesh": 0, "name": "Tree", "translation": [0, 0, 1], "extensions": {"EXT_mesh_gpu_instancing": {"attributes": attributes}}}
            return self.parts(
                buffers=[{"byteLength": 100}], bufferViews=[{"buffer": 0, "byteOffset": at, "byteLength": size} for at, size in views],
                accessors=[{"bufferView": k, "componentType": kind, "count": count, "type": shape, "normalized": kind == 5122}
                           for k, (kind, count, shape) in enumerate(accessors)],
                nodes=[node], extensionsUsed=["EXT_mesh_gpu_instancing"],
            )  # fmt: skip

        whole = described(TRANSLATION=1, ROTATION=2, SCALE=3)
        scene = read_scene(self.write("a.glb", glb(whole, self.points + places + turns + sizes)))
        self.assertEqual([mesh.name for mesh in scene.meshes], ["/Tree/0", "/Tree/1"])
        np.testing.assert_allclose(scene.meshes[0].vertices[0], [(5, 0, 1), (6, 0, 1), (5, 1, 1)], atol=1e-5)
        np.testing.assert_allclose(scene.meshes[1].vertices[0], [(0, 7, 1), (0, 9, 1), (-2, 7, 1)], atol=1e-4)
        self.assertEqual(scene.notes, [])
        for wrong in ({"TRANSLATION": 0, "SCALE": 3}, {"TRANSLATION": 2}, {}, {"TRANSLATION": 9}, {"TRANSLATION": [1]}):
            with self.subTest(wrong), self.assertRaises(InputError):
                read_scene(self.write("a.glb", glb(described(**wrong), self.points + places + turns + sizes)))

    def test_bad_files_end_in_one_sentence(self):
        good = self.parts()
        deep = self.parts(nodes=[{"mesh": 0, "children": [1]}, {"children": [0]}], scenes=[{"nodes": [0]}])
        huge = self.parts(accessors=[{"bufferView": 0, "componentType": 5126, "count": 10**12, "type": "VEC3"}])
        empty = self.parts(accessors=[{"componentType": 5126, "count": 10**12, "type": "VEC3"}])
        beyond = self.parts(bufferViews=[{"buffer": 0, "byteOffset": 30, "byteLength": 36}])
        climbing = self.parts(buffers=[{"byteLength": 36, "uri": "../../../../etc/passwd"}])
        away = self.parts(buffers=[{"byteLength": 36, "uri": "https://example.invalid/a.bin"}])
        missing = self.parts(nodes=[{"mesh": 7}])
        files = [glb(result, self.points) for result in (deep, huge, empty, beyond, climbing, away, missing)]
        files += [glb(good, self.points)[:60], b"glTF" + struct.pack("<II", 2, 5), b"{", b'{"asset": {}}', b"\0" * 50, json.dumps([1]).encode()]
        for k, data in enumerate(files):
            with self.subTest(k), self.assertRaisesRegex(InputError, r"^[A-Z0-9a-z].*\.$"):
                read_scene(self.write("a.glb", data))

    def test_noise_in_a_file_is_read_or_refused(self):
        good = bytearray(glb(self.parts(), b"\0" * 12 + np.array([1, 0, 0, 0, 1, 0], "<f4").tobytes()))
        rng = np.random.default_rng(5)
        for _ in range(150):
            bad = good.copy()
            for at in rng.integers(0, len(bad), 4):
                bad[at] = rng.integers(0, 256)
            try:
                read_scene(self.write("a.glb", bytes(bad)))
            except InputError as error:
                self.assertNotIn("\n", str(error))


class UsdLayer(InAFolder):
    EDITS = {
        "object./Kitchen/Room/NorthWall.thickness": "0.25", "object./Kitchen/Loaf/Loaf.triangles": "0.4", "object./Kitchen/Room/Floor.split": "parts",
        "object./Kitchen/Bucket.out": "on", "card.Plug.at": "2.6,2.4,0", "card.Plug.depth": "0.06", "card.Plug.color": "0.5,0.4,0.3",
    }  # fmt: skip

    def test_mends_come_back_from_the_layer_and_it_passes_the_checker(self):
        path = find_shot("demo:keepers-kitchen")
        scene = read_scene(path)
        for more in ({}, {"scene.whole.scale": "0.5"}):
            edits = with_edits(Edits(), {**self.EDITS, **more})
            out = self.folder / "mends.usda"
            self.assertEqual(write_layer(path, edits, out, scene), [])
            edited, again = apply_edits(scene, edits), read_scene(out)
            self.assertEqual(again.triangle_count(), edited.triangle_count())
            np.testing.assert_allclose(again.bounds(), edited.bounds(), atol=1e-5)
            a, b = (np.sort(np.concatenate([m.vertices.mean(axis=1) @ (1.0, 7.0, 13.0) for m in s.meshes])) for s in (edited, again))
            np.testing.assert_allclose(a, b, atol=1e-4)
            context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
            self.assertEqual([error.GetMessage() for error in context.Validate(Usd.Stage.Open(str(out)))], [])

    def test_the_picture_is_the_same(self):
        path = find_shot("demo:keepers-kitchen")
        edits = with_edits(Edits(), {"object./Kitchen/Room/NorthWall.thickness": "0.25", "light.Flame.intensity": "3"})
        write_layer(path, edits, self.folder / "e.usda")
        a, b = picture(apply_edits(read_scene(path), edits)), picture(read_scene(self.folder / "e.usda"))
        np.testing.assert_allclose(a, b, atol=1e-4 * float(a.max()))


if __name__ == "__main__":
    unittest.main()
