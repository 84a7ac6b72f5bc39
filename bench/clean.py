"""How soon a picture is clean: brute force with bidirectional paths and the light guide at equal error, and the noise filter over a draft."""

import os
import time

import flip_evaluator
import numpy as np

from sivrel.core.caches import CacheFolder
from sivrel.core.finish.finishing import Finish, finished
from sivrel.core.formats.scenes import read_scene
from sivrel.core.guide.regions import SHARE
from sivrel.core.render.edge_filter import edge_filtered
from sivrel.core.render.film import film_beauty, film_columns
from sivrel.core.render.filter import filter_noise
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.passes import film_passes
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.render.warmup import warm_up
from sivrel.core.scene.arrays import GUIDE
from sivrel.core.scene.model import Camera, Light, Mesh, Scene, Surface
from sivrel.core.vector import LUMINANCE
from sivrel.demo.shots import find_shot

SMALL, DRAFT = (120, 68), (480, 270)
SHOTS = {"keepers-kitchen": {}, "slipway": {}, "lamp-room": {"limits.refractions": 16, "limits.reflections": 8}}
DARK_ROOM = "dark room"
DARK, MOST = 0.05, 2.0
"""Luminance, relative to the mean, below which errors are judged against it; the largest relative error of a pixel that counts."""


class _Shot:
    def __init__(self, name: str) -> None:
        self.scene, self.values = (
            (_dark_room(), {"lights.seen": "chosen"}) if name == DARK_ROOM else (read_scene(find_shot(f"demo:{name}")), SHOTS[name])
        )
        self.geometry = prepare(self.scene, Recipe()).geometry

    def film(self, size, seed: int, change=None, **values):
        """(processor seconds to prepare, and to render, film, arrays); `change` is made to the guide."""
        recipe = with_values(Recipe(), {**self.values, **{key.replace("__", "."): value for key, value in values.items()}})
        frame, tiles = Frame(*size, seed=seed), {}
        begun = time.process_time()
        ready = prepare(self.scene, recipe, geometry=self.geometry, frame=frame, caches=CacheFolder())
        arrays = ready.arrays
        if change is not None:
            arrays = arrays._replace(prepared=(change(arrays.prepared[GUIDE]), *arrays.prepared[GUIDE + 1 :]))
        made = time.process_time()
        render_tiles(arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1)
        return made - begun, time.process_time() - made, assemble(frame, film_columns(arrays.slots), tiles), arrays


def _dark_room() -> Scene:
    """A tall, dark hall with landings, lit by 48 small lanterns above and below them."""
    random, shapes = np.random.default_rng(11), [((-3, -3, 0), (3, 3, 12))]
    shapes += [((-3 + 1.5 * (k % 3), -3, 1.5 + 1.5 * k), (-0.5 + 1.5 * (k % 3), 3, 1.6 + 1.5 * k)) for k in range(6)]
    meshes = [_block(f"block {k}", *shape, inside=k == 0) for k, shape in enumerate(shapes)]
    places = np.column_stack([random.uniform(-2.8, 2.8, (48, 2)), random.uniform(0.3, 11.5, 48)])
    lanterns = [Light(f"lantern {k}", "sphere", (30.0,) * 3, tuple(map(float, p)), radius=0.03) for k, p in enumerate(places)]
    camera = Camera("up", np.array([[1.0, 0, 0, 0], [0, 0.3, -0.954, -2.8], [0, 0.954, 0.3, 0.8]]), 0.7)
    return Scene("dark room", meshes, [Surface("stone", (0.2, 0.18, 0.16), 0.7)], lanterns, [camera])


def _block(name: str, low, high, inside: bool) -> Mesh:
    """A box, seen from outside or from inside."""
    corners = np.array([[(low, high)[bit >> axis & 1][axis] for axis in range(3)] for bit in range(8)], np.float32)
    sides = np.array([(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (2, 6, 7, 3), (0, 4, 6, 2), (1, 3, 7, 5)])
    order = np.concatenate([sides[:, [0, 1, 2]], sides[:, [0, 2, 3]]])
    triangles = corners[order if not inside else order[:, ::-1]]
    normals = np.cross(triangles[:, 1] - triangles[:, 0], triangles[:, 2] - triangles[:, 0])
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    flat = np.repeat(normals[:, None], 3, axis=1).astype(np.float32)
    return Mesh.of(name, triangles, flat, np.zeros((12, 3, 2), np.float32), np.zeros(12, np.uint32))


def _undirected(guide):
    regions = guide.regions.copy()
    regions[:, SHARE] = 0.0
    return guide._replace(regions=regions)


CONNECTED, GUIDED = {"bidirectional__on": "yes"}, {"guiding__on": "yes"}
KINDS = {
    "bidirectional": (None, CONNECTED),
    "guided": (None, GUIDED),
    "both": (None, CONNECTED | GUIDED),
    "both without the guide's directions": (_undirected, CONNECTED | GUIDED),
    "both without its lights": (lambda guide: guide._replace(choices=guide.choices[:0]), CONNECTED | GUIDED),
}
"""Bidirectional paths and the light guide, whole and with parts left out."""


def clean() -> str:
    """Processor time of plain brute force over that with bidirectional paths and the guide, at equal error: 64 samples, three seeds. The making of
    light paths and guide is reported apart: it is a large share of so small a picture.

    Error: mean square of the luminance relative to the reference's (plus 5 % of the mean), each pixel counted up to two; as the product with two
    references of 2048 samples, so that their own noise drops out.
    """
    warm_up()
    result = []
    for name in (*SHOTS, DARK_ROOM):
        shot = _Shot(name)
        long = [film_beauty(shot.film(SMALL, seed, sampling__max=2048)[2]) @ LUMINANCE for seed in (7, 8)]
        scale = (long[0] + long[1]) / 2.0
        scale = scale + DARK * scale.mean()

        def measured(change=None, shot=shot, long=long, scale=scale, **values) -> tuple[float, float, float]:
            made, rendered, errors = [], [], []
            for seed in (1, 2, 3):
                before, seconds, film, _ = shot.film(SMALL, seed, change, sampling__max=64, **values)
                off = [np.clip((film_beauty(film) @ LUMINANCE - one) / scale, -MOST, MOST) for one in long]
                errors.append(float(np.mean(off[0] * off[1])))
                made.append(before)
                rendered.append(seconds)
            return float(np.median(made)), float(np.median(rendered)), float(np.mean(errors))

        before, plain, error = measured()
        words = []
        for kind, (change, values) in KINDS.items():
            made, seconds, less = measured(change, **values)
            words.append(
                f"{kind} error² {less / error:.3f}, {plain * error / (seconds * less):.2f} times as fast, "
                f"{(plain + before) * error / ((seconds + made) * less):.2f} with making"
            )
        result.append(f"{name}: {'; '.join(words)}")
    return "\n  ".join(result)


CACHED = {"gi__seen": "irradiance_cache", "gi__beyond": "radiance_cache"}
CACHED_KINDS = {
    "cached, 16 samples": CACHED | {"sampling__max": 16},
    "the same, gloss traced": CACHED | {"sampling__max": 16, "gi__gloss": "traced"},
    "cached, 16 samples of 4 glossy rays": CACHED | {"sampling__max": 16, "sampling__glossy_rays": 4},
    "cached, 64 samples": CACHED | {"sampling__max": 64},
    "brute force, both, 16 samples": CONNECTED | GUIDED | {"sampling__max": 16},
    "brute force, both, 64 samples": CONNECTED | GUIDED | {"sampling__max": 64},
}


def cached() -> str:
    """The kitchen at 160x90 by an irradiance cache over a radiance cache, and by brute force with bidirectional paths and the guide: processor
    seconds to prepare and to render, and the error squared as in `clean`, against two references of 1024 samples; three seeds."""
    warm_up()
    shot, size, result = _Shot("keepers-kitchen"), (160, 90), []
    long = [film_beauty(shot.film(size, seed, sampling__max=1024, **CONNECTED, **GUIDED)[2]) @ LUMINANCE for seed in (7, 8)]
    scale = (long[0] + long[1]) / 2.0
    scale = scale + DARK * scale.mean()
    for kind, values in CACHED_KINDS.items():
        rows = []
        for seed in (1, 2, 3):
            made, seconds, film, _ = shot.film(size, seed, **values)
            off = [np.clip((film_beauty(film) @ LUMINANCE - one) / scale, -MOST, MOST) for one in long]
            rows.append((made, seconds, float(np.mean(off[0] * off[1]))))
        made, seconds, error = np.median(rows, axis=0)
        result.append(f"{kind}: prepared in {made:.1f} s, rendered in {seconds:.1f} s, error² {error:.4f}")
    return "\n  ".join(result)


def against(image: np.ndarray, reference: np.ndarray, exposure: float) -> str:
    """How far a picture looks, and is, from a reference."""
    shown = [np.clip(finished(one.astype(np.float32), Finish(exposure=exposure)), 0, 1).astype(np.float32) for one in (reference, image)]
    visible = flip_evaluator.evaluate(*shown, "LDR", applyMagma=False, computeMeanError=True, parameters={"ppd": 67.0})[1]
    bright = reference @ LUMINANCE
    off = (image @ LUMINANCE - bright) / (bright + DARK * bright.mean())
    return f"FLIP {float(np.asarray(visible)):.3f}, error {float(np.sqrt(np.mean(np.minimum(off**2, MOST**2)))):.3f}"


def filtered() -> str:
    """The kitchen's draft of 8 samples at 480x270: processor seconds, visible difference and error of the picture as it is, filtered, and by the
    edge-aware filter, against 512 samples of both, filtered."""
    warm_up()
    shot, exposure = _Shot("keepers-kitchen"), read_scene(find_shot("demo:keepers-kitchen")).camera().exposure

    def passes(seed: int, **values):
        made, seconds, film, arrays = shot.film(DRAFT, seed, **values)
        return made + seconds, film_passes(film, [], arrays)

    reference = filter_noise(passes(9, sampling__max=512, **CONNECTED, **GUIDED)[1]).image
    result = []
    for kind, values in {"plain": {}, "bidirectional": CONNECTED, "guided": GUIDED, "both": CONNECTED | GUIDED}.items():
        seconds, found = passes(1, sampling__max=8, **values)
        filter_noise(found)
        begun = time.perf_counter()
        made = filter_noise(found)
        took = time.perf_counter() - begun
        images = {"as it is": found["beauty"][..., :3], f"by {made.by} in {took:.2f} s": made.image, "by the edge-aware filter": edge_filtered(found)}
        result.append(
            f"{kind}: rendered in {seconds:.1f} s of the processor; "
            + "; ".join(f"{what}: {against(image, reference, exposure)}" for what, image in images.items())
        )
    return "\n  ".join(result)


def filter_error() -> str:
    """The error that the filter states over its true error, for thirty renders of 160x90: three shots, 4 to 64 samples, two seeds, against 2048
    samples of bidirectional paths. Pixels with emission are left out, as the filter does; each counts up to one."""
    warm_up()
    ratios, result = [], []
    for name in SHOTS:
        shot = _Shot(name)
        reference = film_beauty(shot.film((160, 90), 7, sampling__max=2048, **CONNECTED)[2]) @ LUMINANCE
        scale, row = reference + DARK * reference.mean(), []
        for samples in (4, 8, 16, 32, 64):
            for seed in (1, 2):
                *_, film, arrays = shot.film((160, 90), seed, sampling__max=samples)
                passes = film_passes(film, [], arrays)
                made = filter_noise(passes)
                dark = passes["emission"] @ LUMINANCE <= 0.01 * (passes["beauty"][..., :3] @ LUMINANCE)
                off = np.where(dark, (made.image @ LUMINANCE - reference) / scale, 0.0)
                row.append(made.level / float(np.sqrt(np.mean(np.minimum(off**2, 1.0)))))
        result.append(f"{name} " + " ".join(f"{(a + b) / 2:.2f}" for a, b in zip(row[::2], row[1::2], strict=True)))
        ratios += row
    low, middle, high = np.quantile(ratios, (0.25, 0.5, 0.75))
    return f"median {middle:.2f} ({low:.2f} to {high:.2f}), off by {np.median(np.abs(np.array(ratios) - 1)):.0%} in the median; " + "; ".join(result)
