"""Taking shots in: demo shots with the proofs that ship with them, and files that a user uploads."""

import functools
import json
import re
import shutil
import sqlite3
from pathlib import Path

import numpy as np

from ..core.errors import InputError
from ..core.formats.exr import read_exr
from ..core.formats.scenes import read_scene
from ..core.scene.model import Scene
from ..demo.shots import SHOTS, DemoShot
from ..store import files, proofs, shots
from .finishing import make_thumbnail


def _facts(scene: Scene) -> tuple[list[dict], int, list[str], list[dict]]:
    return [{"name": c.name, "exposure": c.exposure} for c in scene.cameras], scene.triangle_count(), scene.notes, light_facts(scene)


def light_facts(scene: Scene) -> list[dict]:
    """What the pages need of each light, as edits would say it, and of each mesh that glows."""
    facts = []
    for light in scene.lights:
        shape, at = light.shaping, np.asarray(light.position, float)
        towards = at - light.frame[2]
        facts.append(
            {
                "name": light.name, "kind": light.kind, "intensity": light.intensity, "exposure": light.exposure, "color": list(light.color),
                "temperature": light.temperature or 0.0, "normalize": light.normalize, "at": at.tolist(), "towards": towards.tolist(),
                "width": light.width, "height": light.height, "radius": light.radius, "length": light.length, "angle": light.angle,
                "cone_angle": shape.cone_angle, "cone_softness": shape.cone_softness, "focus": shape.focus,
                "profile": "the file's" if shape.profile else "",
                "panorama": "the file's" if light.panorama else "", "rotation": light.rotation, "diffuse": light.diffuse, "specular": light.specular,
                "link": _link(light.lit), "shadow_link": _link(light.shadowing), "shadows.way": light.shadow.way or "", "mesh": False,
            }
        )  # fmt: skip
    for mesh in scene.meshes:
        glow = [s for s in np.unique(mesh.surfaces) if max(scene.surfaces[s].emission) > 0.0 or scene.surfaces[s].emission_map]
        if glow:
            count = int(np.isin(mesh.surfaces, glow).sum())
            facts.append({"name": mesh.name, "kind": "mesh", "mesh": True, "aimed": mesh.aimed, "triangles": count})
    return facts


def _link(members: frozenset[str] | None) -> str:
    return "all" if members is None else ", ".join(sorted(members)[:20])


def add_demo_shots(db: sqlite3.Connection, data: Path) -> None:
    """Bring the demo shots in, with their proofs where the shot has none yet."""
    for demo in SHOTS:
        if not demo.path.is_file():
            continue
        known = shots.find(db, demo.name)
        shot = known if known and known.path == demo.path and known.lights else None
        if shot is None:
            shot = shots.add(db, demo.name, demo.title, demo.about, demo.path, *_facts(read_scene(demo.path)))
        if not proofs.of_shot(db, shot.id):
            _add_shipped_proofs(db, data, demo, shot.id)


def _add_shipped_proofs(db: sqlite3.Connection, data: Path, demo: DemoShot, shot_id: int) -> None:
    listing = demo.proofs / "proofs.json"
    if not listing.is_file():
        return
    numbers: dict[str, int] = {}
    for entry in json.loads(listing.read_text()):
        picture = read_exr(demo.proofs / entry["file"])
        assert picture.recipe is not None and picture.camera is not None
        parent = numbers.get(entry["parent"]) if entry["parent"] else None
        number = proofs.add(db, shot_id, parent, picture.recipe, picture.camera, picture.frame, entry["note"], picture.edits)
        digest = files.keep(files.pictures(data), ".exr", functools.partial(shutil.copyfile, demo.proofs / entry["file"]))
        make_thumbnail(data, digest, picture, entry["exposure"])
        proofs.finish(
            db, number, digest, entry["seconds"], entry["noise"], entry["light"], entry["dropped"], entry["made_on"],
            found={**entry.get("found", {}), "passes": list(picture.passes)},
        )  # fmt: skip
        numbers[entry["file"]] = number


def slug_of(name: str) -> str:
    """A name for addresses: lower-case letters, digits and dashes."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "shot"


def add_uploaded_shot(db: sqlite3.Connection, folder: Path, main: str) -> shots.Shot:
    """Bring in the scene file `main` of the folder that an upload was unpacked to. Raises InputError."""
    path = folder / main
    scene = read_scene(path, confine_to=folder)
    slug, taken = slug_of(path.stem), 1
    while shots.find(db, slug):
        taken += 1
        slug = f"{slug_of(path.stem)}-{taken}"
    return shots.add(db, slug, path.stem, "", path, *_facts(scene), confined=True)


def check_upload_names(names: list[str]) -> str:
    """The one scene file among uploaded names. Raises InputError."""
    scenes = [n for n in names if Path(n).suffix.lower() in (".usda", ".usdc", ".usdz", ".usd")]
    if not scenes:
        raise InputError("None of the files is a scene; choose a .usda, .usdc or .usdz file, and its textures with it.")
    return scenes[0]
