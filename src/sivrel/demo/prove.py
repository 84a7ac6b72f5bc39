"""Makes the proofs that ship with the demo shots: `python -m sivrel.demo.prove [--all] [NAME]...`.

They fill the lineage before the first kernel is compiled. Times are those of the machine that made them, and say so.
"""

import functools
import json
import os
import sys
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from ..core.edits.edits import Edits, apart, with_edits
from ..core.formats.scenes import read_scene
from ..core.pictures.exr import read_exr, write_exr
from ..core.render.frame import Frame
from ..core.render.prepare import prepare
from ..core.render.recipe import Recipe, with_values
from ..core.render.through_time import Moving
from ..core.render.warmup import warm_up
from ..core.rendered import render_prepared
from ..core.scene.model import Scene
from ..core.sequence.frames import parse_frames
from ..core.sequence.judge import Judge, Judged
from ..core.sequence.render import Sequence
from .shots import SHOTS, DemoShot

# Name: parent, settings and edits against it, camera (None: the first), note.
STEPS: dict[str, tuple[Any, ...]] = {
    "keepers-kitchen": (
        ("direct", None, {"gi.seen": "off", "sampling.max": 8}, None, "lights alone, to judge their balance"),
        ("flame-alone", "direct", {"light.Flame.solo": "on"}, None, "the lamp alone, to judge its shadows"),
        ("flame-rays", "flame-alone", {"light.Flame.shadows.rays": 8}, None, ""),
        ("flame-linked", "flame-rays", {"light.Flame.link": "-Room"}, None, "linked away from the room's walls"),
        ("bounced", "direct", {"gi.seen": "brute_force"}, None, ""),
        ("both-ends", "bounced", {"bidirectional.on": "yes"}, None, "paths from both ends: much less grain"),
        ("finer", "both-ends", {"sampling.max": 64}, None, ""),
        ("one-bounce", "finer", {"limits.diffuse_bounces": 1}, None, "too dim under the table"),
        ("deep", "finer", {"limits.diffuse_bounces": 8}, None, ""),
        ("fine", "deep", {"sampling.max": 256}, None, "the look to match"),
    ),
    "slipway": (
        ("direct", None, {"gi.seen": "off", "sampling.max": 8}, None, "sun and sky alone"),
        ("hazy", "direct", {"light.NoonSun.angle": 6}, None, "a larger sun: softer shadows"),
        ("steps", "direct", {"light.NoonSun.shadows.way": "depth_map"}, None, "steps: its texels are larger than pixels"),
        ("fitted", "steps", {"light.NoonSun.shadows.fit": "view"}, None, "the remedy"),
        ("bounced", "direct", {"gi.seen": "brute_force"}, None, "bounced light hardly matters here"),
        ("one-bounce", "bounced", {"limits.diffuse_bounces": 1}, None, ""),
        ("finer", "one-bounce", {"sampling.max": 64}, None, ""),
        ("bow", "finer", {}, "bow", ""),
        ("fine", "finer", {"sampling.max": 256}, None, "the look to match"),
    ),
    "lamp-room": (
        ("black", None, {"limits.refractions": 2, "limits.reflections": 8}, None, "glass is black: the paths end in it"),
        ("glass", "black", {"limits.refractions": 16}, None, "now it shows; and it sparkles"),
        ("clamped", "glass", {"limits.indirect_clamp": 1}, None, "the sparkle is gone, and light with it"),
        ("stand-ins", "glass", {"surfaces.stand_ins": "costly"}, None, "plain stand-ins, to light by"),
        (
            "caustics",
            "glass",
            {"bidirectional.on": "yes", "caustics.on": "yes", "caustics.count": 30_000},
            None,
            "photons find the light through the lens",
        ),
        ("parts", "caustics", {"sampling.max": 64, "ambient.samples": 1}, None, "its light in parts"),
        ("prisms", "parts", {}, "prisms", ""),
        ("fine", "parts", {"sampling.max": 128}, None, "the look to match"),
    ),
}
STEPS["stairwell"] = (
    ("lanterns", None, {"gi.seen": "off", "sampling.max": 8}, None, "lights alone: all 47 at every point"),
    ("chosen", "lanterns", {"lights.seen": "chosen"}, None, "four lights a point, chosen by importance"),
    ("bounced", "chosen", {"gi.seen": "brute_force", "sampling.max": 16}, None, "a dark room: bounced light is all grain"),
    ("both-ends", "bounced", {"bidirectional.on": "yes"}, None, ""),
    ("cached", "chosen", {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "sampling.max": 32}, None, "clean; does it flicker?"),
)
# Name: settings, and what it shows.
_CACHED = {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "lights.seen": "chosen", "sampling.max": 8, "irradiance_cache.rays": 128}
SEQUENCES: dict[str, tuple[tuple[str, dict[str, Any], str], ...]] = {
    "stairwell": (
        ("grain", {"gi.seen": "brute_force", "lights.seen": "chosen", "sampling.max": 8}, "Brute force: grain boils"),
        ("records", _CACHED, "Records made for each frame"),
        ("shared", {**_CACHED, "motion.caches": "shared"}, "Records shared by all frames"),
    ),
}
SEQUENCE_FRAMES, SEQUENCE_SIZE = "61-72", (192, 108)
"""Of the sequences that ship: half a second, small."""
WITH_LIGHTS = ("direct", "steps", "fitted")
"""Proofs that ship with the passes of each light."""
GUIDES = ("albedo", "normal", "guide_albedo", "guide_normal")
SHIPPED = ("beauty", "direct", "indirect", "emission", "depth", "texels", *GUIDES)
FOR_THE_FILTER = ("beauty", "indirect", "emission", "position", "depth", "object", "variance", "samples", *GUIDES)
BY_SCATTERING = ("beauty", "indirect", "emission", "diffuse", "gloss", "glass", "occlusion", "fireflies", *GUIDES)
"""Passes that ship, from which the noise filter can take the grain; those of the proofs on which it also says what it smeared; and those of proofs
that show the parts of the light. What is measured from the others is in the listing."""
FILTERED = ("bounced", "both-ends", "glass", "caustics")
IN_PARTS = ("parts",)


def prove(shot: DemoShot, everything: bool = False) -> None:
    """Render the steps of a shot that its pictures do not show yet, or all of them, and write the listing."""
    scene = read_scene(shot.path)
    listed = shot.proofs / "proofs.json"
    before = {entry["file"]: entry for entry in json.loads(listed.read_text())} if listed.is_file() and not everything else {}
    shot.proofs.mkdir(parents=True, exist_ok=True)
    recipes: dict[str | None, tuple[Recipe, Edits]] = {None: (Recipe(), Edits())}
    listing = []
    for name, parent, values, camera_name, note in STEPS[shot.name]:
        own, laid = apart(values)
        recipe, edits = with_values(recipes[parent][0], own), with_edits(recipes[parent][1], laid)
        recipes[name] = recipe, edits
        path = shot.proofs / f"{name}.exr"
        known = before.get(path.name)
        if known and _shows(path, recipe, edits, scene.camera(camera_name).name):
            entry = known
        else:
            entry = _render(shot, scene, recipe, edits, camera_name, path)
            print(f"{shot.name} {name}: {entry['seconds']:.1f} s")
        listing.append({**entry, "file": path.name, "parent": f"{parent}.exr" if parent else None, "note": note})
    for path in shot.proofs.glob("*.exr"):
        if path.stem not in recipes:
            path.unlink()
    listed.write_text(json.dumps(listing, indent=1) + "\n")


def _scene_at(path: Path, time_code: float) -> Scene:
    return read_scene(path, frame=time_code)


def prove_sequences(demo: DemoShot) -> None:
    """Render the sequences of a moving shot, and write each with its frames filtered through time, and the flicker of both."""
    for name, values, title in SEQUENCES.get(demo.name, ()):
        folder = demo.sequences / name
        folder.mkdir(parents=True, exist_ok=True)
        path, chosen = demo.path, parse_frames(SEQUENCE_FRAMES)
        moving = Moving(functools.partial(_scene_at, path), chosen, f"{demo.name} {path.stat().st_size}")
        frames = Sequence(moving, with_values(Recipe(), values), Edits(), None, Frame(*SEQUENCE_SIZE), name=demo.name)
        judges, rows = (Judge(), Judge(filtered=True)), dict[float, dict[str, Any]]()
        for time_code in frames.frames:
            begun = time.monotonic()
            made = frames.render(time_code)
            rows[time_code] = {
                "frame": time_code, "seconds": round(time.monotonic() - begun, 3), "noise": made.noise.level if made.noise is not None else None,
                "light": made.mean_light, "dropped": made.dropped, "flicker": None, "in_time": None, "file": f"{time_code:04.0f}.exr",
            }  # fmt: skip
            for judge in judges:
                _keep_judged(folder, rows, judge.filtered, judge.add(made.picture))
            picture = replace(made.picture, passes={key: made.picture.passes[key] for key in ("beauty", "emission")})
            write_exr(folder / f"{time_code:04.0f}.exr", picture, half=True)
        for judge in judges:
            _keep_judged(folder, rows, judge.filtered, judge.finish())
        about = {"title": title, "rate": 24.0, "made_on": f"a machine with {os.cpu_count()} cores", "frames": list(rows.values())}
        (folder / "sequence.json").write_text(json.dumps(about, indent=1) + "\n")
        levels = [row["flicker"]["level"] for row in rows.values() if row["flicker"]]
        print(f"{demo.name} {name}: {sum(row['seconds'] for row in rows.values()):.0f} s, flicker {sum(levels) / len(levels):.2f}")


def _keep_judged(folder: Path, rows: dict[float, dict[str, Any]], filtered: bool, judged: Iterator[Judged]) -> None:
    """Note the flicker of frames, and keep its maps, and what the filter through time made of them."""
    for one in judged:
        kept = {"image": one.image.astype(np.float16)} if filtered else {}
        if one.flicker is not None:
            rows[one.time]["in_time" if filtered else "flicker"] = one.flicker.as_dict()
            kept["seen"] = np.round(one.flicker.seen, 1).astype(np.float16)
        if kept:
            np.savez_compressed(folder / f"{one.time:04.0f}{'-in-time' if filtered else ''}.npz", **kept)  # type: ignore[arg-type]


def _shows(path: Path, recipe: Recipe, edits: Edits, camera: str) -> bool:
    """Whether a picture is there and was made from exactly these."""
    if not path.is_file():
        return False
    picture = read_exr(path)
    return (picture.recipe, picture.edits, picture.camera) == (recipe, edits, camera)


def _render(shot: DemoShot, scene: Scene, recipe: Recipe, edits: Edits, camera: str | None, path: Path) -> dict[str, Any]:
    frame, begun = Frame(), time.monotonic()
    ready = prepare(scene, recipe, edits, camera, frame=frame)
    made = render_prepared(ready, recipe, frame, shot.name, edits)
    assert made is not None  # nobody cancels it
    seconds, picture, measured = time.monotonic() - begun, made.picture, made.measured
    shipped = FOR_THE_FILTER if path.stem in FILTERED else BY_SCATTERING if path.stem in IN_PARTS else SHIPPED
    for name in list(picture.passes):
        if name not in shipped and not (path.stem in WITH_LIGHTS and name.startswith(("light.", "shadow."))):
            picture.passes.pop(name)
    write_exr(path, picture, half=True)
    return {
        "seconds": round(seconds, 3),
        "noise": made.noise.level if made.noise is not None else None,
        "light": made.mean_light,
        "dropped": made.dropped,
        "exposure": ready.camera.exposure,
        "made_on": f"a machine with {os.cpu_count()} cores",
        "found": measured,
    }


if __name__ == "__main__":
    warm_up()
    names = [name for name in sys.argv[1:] if name != "--all"]
    for demo in SHOTS:
        if not names or demo.name in names:
            prove(demo, "--all" in sys.argv)
            if "--all" in sys.argv or not demo.sequences.is_dir():
                prove_sequences(demo)
