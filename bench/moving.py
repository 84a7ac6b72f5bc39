"""Flicker of generated moving shots: whether it is found, its cause named first, and how well it is predicted; and shared caches against caches made
for each frame. Seeds below FIRST were used for tuning.
"""

import sys
from dataclasses import dataclass, field, replace

import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.edits.edits import Edits
from sivrel.core.formats.scenes import read_scene
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.through_time import Moving
from sivrel.core.render.warmup import warm_up
from sivrel.core.scene.model import Scene
from sivrel.core.sequence.cause import around, find_cause
from sivrel.core.sequence.judge import Judge, over_all
from sivrel.core.sequence.predict import predict
from sivrel.core.sequence.render import Sequence
from sivrel.core.sequence.trials import MotionTrials, boxes_of
from sivrel.core.work_time import work_time
from sivrel.demo.shots import find_shot
from tests import rooms

FIRST, SEEDS = 6000, 5
FRAMES, SIZE = tuple(float(k) for k in range(1, 6)), (96, 54)
SEEN = 1.0
KINDS = {
    "grain": {"sampling.max": 16},
    "caches": {"gi.seen": "irradiance_cache", "irradiance_cache.rays": 32, "sampling.max": 64, "shadows.rays": 4, "sampling.glossy_rays": 2},
    "depth_maps": {"gi.seen": "off", "shadows.way": "depth_map", "shadows.resolution": 24, "shadows.fit": "view", "sampling.max": 128},
    "light_choice": {"gi.seen": "off", "lights.seen": "chosen", "lights.draws": 1, "sampling.max": 64, "shadows.rays": 4},
}
"""What is planted: the cause, and settings that bring it out."""
CLEAN = {"gi.seen": "off", "sampling.max": 128}


@dataclass
class Score:
    planted: int = 0
    found: int = 0
    first: int = 0
    off: list[float] = field(default_factory=list)
    named: list[str] = field(default_factory=list)


def walk(seed: int, kind: str = "") -> Moving:
    """A room made by chance, passed by its camera at a slow pan. For depth maps, and to be clean, it stands open in the sun, whose map is fitted to
    the view and moves with it; for chosen lights it has many."""
    made = rooms.room(seed)
    if kind in ("depth_maps", "clean"):
        made.scene.meshes[:] = [mesh for mesh in made.scene.meshes if mesh.name != "/Room/Ceiling" and "/West/" not in mesh.name]
        made.scene.lights[:] = [light for light in made.scene.lights if light.kind == "sun"]
        rooms.exposed(made)
    if kind == "light_choice":
        rooms.many_lights(made)
    rng = np.random.default_rng(seed)
    camera, pan = made.scene.cameras[0], rng.uniform(0.01, 0.04)
    start, towards = camera.to_world[:, 3].copy(), camera.to_world[:, 3] - camera.to_world[:, 2] * 2.0

    def at(frame: float) -> Scene:
        by = np.array([pan * (frame - 3.0), 0.0, 0.0])
        return replace(made.scene, cameras=[rooms.looking_at("Eye", start + by, towards + 0.6 * by, exposure=camera.exposure)])

    return Moving(at, FRAMES, f"walk {kind} {seed}")


def sequence(moving: Moving, values: dict) -> Sequence:
    return Sequence(moving, with_values(Recipe(), values), Edits(), None, Frame(*SIZE), name="walk", caches=CacheFolder())


def run(kind: str, values: dict, seed: int, score: Score) -> None:
    moving = walk(seed, kind)
    shot = sequence(moving, values)
    judge, judged = Judge(), []
    for frame in FRAMES:
        judged += judge.add(shot.render(frame).picture)
    judged += judge.finish()
    judged_frames = [(one.time, one.flicker) for one in judged if one.flicker is not None]
    whole = over_all([(at, one.as_dict()) for at, one in judged_frames])
    assert whole is not None
    exposure, limits = moving.scene(1.0).cameras[0].exposure, {"first": FRAMES[0], "last": FRAMES[-1]}
    score.planted += kind != "clean" and whole["level"] >= SEEN
    first, tried = None, ""
    if whole["level"] >= SEEN:
        worst, flicker = max(judged_frames, key=lambda one: one[1].level)
        box = flicker.places[0].box if flicker.places else (0, 0, *SIZE)
        trials = MotionTrials(shot, worst, [around(box, *SIZE, 64)], rate=24.0, exposure=exposure, count=5, **limits)
        cause = find_cause(trials, 1.0)
        first = cause.first
        tried = ", ".join(f"{one.key} {one.share:.2f} ± {one.error:.2f}" for one in cause.suspects)
        score.found += first is not None
        score.first += first is not None and first.key == kind
        score.named.append(first.key if first is not None else "none")
        boxes = boxes_of(*SIZE, seed, 6, 24)
        predicted = predict(MotionTrials(shot, 3.0, boxes, rate=24.0, exposure=exposure, count=3, **limits))
        score.off.append(abs(predicted.level / whole["level"] - 1.0))
        tried += f", predicted {predicted.level:.2f}"
    print(
        f"  {kind} {seed}: level {whole['level']:.2f}, first {first.key if first else '–'} {first.share if first else 0.0:.2f}, {tried}", flush=True
    )


THROUGH = {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache", "irradiance_cache.rays": 256, "sampling.max": 16, "motion.keys": 4}
TRUTH = {"bidirectional.on": "yes", "sampling.max": 128}
WALK = 6


def through_kitchen() -> Moving:
    """The kitchen, through which the camera goes two centimetres a frame."""
    scene = read_scene(find_shot("demo:keepers-kitchen"))

    def at(frame: float) -> Scene:
        camera = scene.cameras[0]
        there = camera.to_world.copy()
        there[:, 3] -= 0.02 * frame * there[:, 2]
        return replace(scene, cameras=[replace(camera, to_world=there)])

    return Moving(at, tuple(float(k) for k in range(WALK)), "kitchen")


def up_the_stairwell() -> Moving:
    path = find_shot("demo:stairwell")
    return Moving(lambda frame: read_scene(path, frame=frame), tuple(float(k) for k in range(61, 61 + WALK)), "stairwell")


def shared() -> str:
    """Caches made for each frame, kept, blended and shared, on the stairwell and on a walk through the kitchen: seconds, error, flicker. Errors are
    those of the third frame against 128 samples of paths from both ends, each pixel relative to its brightness."""
    lines = ["shot          caches   s a frame  before  error  flicker"]
    for name, moving in (("stairwell", up_the_stairwell()), ("kitchen", through_kitchen())):
        of = Sequence(moving, with_values(Recipe(), TRUTH), Edits(), None, Frame(160, 90), name=name, caches=CacheFolder())
        middle = moving.frames[2]
        truth = of.render(middle).picture.beauty[..., :3]
        exposure = moving.scene(middle).cameras[0].exposure
        for how in ("each", "kept", "blended", "shared"):
            recipe = with_values(Recipe(), {**THROUGH, "motion.caches": how})
            shot = Sequence(moving, recipe, Edits(), None, Frame(160, 90), name=name, caches=CacheFolder())
            judge, judged_frames, seconds, error = Judge(), [], [], 0.0
            for frame in moving.frames:
                begun = work_time()
                picture = shot.render(frame).picture
                seconds.append(work_time() - begun)
                picture.exposure = exposure
                if frame == middle:
                    off = (picture.beauty[..., :3] - truth) / (truth + 0.1 * truth.mean())
                    error = float(np.sqrt(np.mean(np.minimum(off**2, 25.0))))
                judged_frames += [one for one in judge.add(picture) if one.flicker]
            level = float(np.mean([one.flicker.level for one in judged_frames if one.flicker]))
            later = float(np.mean(seconds[1:]))
            lines.append(f"{name:13} {how:8} {later:8.1f} {max(seconds[0] - later, 0.0):8.1f}  {error:5.3f}  {level:7.2f}")
            print(lines[-1], flush=True)
    return "\n".join(lines)


def flicker(seeds: range = range(FIRST, FIRST + SEEDS)) -> str:
    """Each kind of flicker on generated shots, and clean twins; then shared caches against those of each frame."""
    warm_up()
    scores = {kind: Score() for kind in (*KINDS, "clean")}
    for kind, values in (*KINDS.items(), ("clean", CLEAN)):
        for seed in seeds:
            run(kind, values, seed, scores[kind])
    lines = ["", "kind          planted found first  predicted off (median)"]
    for kind, score in scores.items():
        off = f"{np.median(score.off):.0%}" if score.off else "–"
        lines.append(f"{kind:13} {score.planted:7} {score.found:5} {score.first:5}  {off}")
    return "\n".join(lines)


if __name__ == "__main__":
    print(flicker(range(int(sys.argv[1]), int(sys.argv[1]) + 1) if len(sys.argv) > 1 else range(FIRST, FIRST + SEEDS)))
