"""How soon a picture is clean: brute force with and without the light guide at equal error, and the noise filter over a draft."""

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
from sivrel.core.render.frame import Frame, assemble, render_tiles
from sivrel.core.render.passes import film_passes
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.warmup import warm_up
from sivrel.core.scene.arrays import GUIDE
from sivrel.demo.shots import find_shot

LUMINANCE = np.array([0.2126, 0.7152, 0.0722])
SMALL, DRAFT = (120, 68), (480, 270)
SHOTS = {"keepers-kitchen": {}, "slipway": {}, "lamp-room": {"limits.refractions": 16, "limits.reflections": 8}}
DARK, MOST = 0.05, 2.0
"""Luminance, relative to the mean, below which errors are judged against it; the largest relative error of a pixel that counts."""


class _Shot:
    def __init__(self, name: str) -> None:
        self.scene, self.values = read_scene(find_shot(f"demo:{name}")), SHOTS[name]
        self.geometry = prepare(self.scene, Recipe()).geometry

    def film(self, size, seed: int, change=None, **values):
        """(processor seconds to prepare and render, film, arrays); `change` is made to the guide."""
        recipe = with_values(Recipe(), {**self.values, **{key.replace("__", "."): value for key, value in values.items()}})
        frame, tiles = Frame(*size, seed=seed), {}
        begun = time.process_time()
        ready = prepare(self.scene, recipe, geometry=self.geometry, frame=frame, caches=CacheFolder())
        arrays = ready.arrays
        if change is not None:
            arrays = arrays._replace(prepared=(change(arrays.prepared[GUIDE]), *arrays.prepared[GUIDE + 1 :]))
        render_tiles(arrays, ready.camera, recipe, frame, tiles.__setitem__, threads=os.cpu_count() or 1)
        return time.process_time() - begun, assemble(frame, film_columns(arrays.slots), tiles), arrays


def _undirected(guide):
    regions = guide.regions.copy()
    regions[:, SHARE] = 0.0
    return guide._replace(regions=regions)


GUIDES = {
    "guided": None,
    "without directions": _undirected,
    "without lights": lambda guide: guide._replace(choices=guide.choices[:0]),
    "without either": lambda guide: _undirected(guide)._replace(choices=guide.choices[:0]),
}
"""The light guide, whole and with parts left out; what is left in the end is thinning by what is expected."""


def clean() -> str:
    """Processor time of brute force without the guide over that with it, at equal error, its making included: 64 samples, three seeds.

    Error: mean square of the luminance relative to the reference's (plus 5 % of the mean), each pixel counted up to two; as the product with two
    references of 2048 samples, so that their own noise drops out.
    """
    warm_up()
    result = []
    for name in SHOTS:
        shot = _Shot(name)
        long = [film_beauty(shot.film(SMALL, seed, sampling__max=2048)[1]) @ LUMINANCE for seed in (7, 8)]
        scale = (long[0] + long[1]) / 2.0
        scale = scale + DARK * scale.mean()

        def cost(change=None, shot=shot, long=long, scale=scale, **values) -> tuple[float, float]:
            costs, errors = [], []
            for seed in (1, 2, 3):
                seconds, film, _ = shot.film(SMALL, seed, change, sampling__max=64, **values)
                off = [np.clip((film_beauty(film) @ LUMINANCE - one) / scale, -MOST, MOST) for one in long]
                errors.append(float(np.mean(off[0] * off[1])))
                costs.append(seconds)
            return float(np.mean(errors)) * float(np.median(costs)), float(np.mean(errors))

        plain, error = cost()
        words = []
        for words_of, change in GUIDES.items():
            guided, less = cost(change, guiding__on="yes")
            words.append(f"{words_of} {plain / guided:.2f} times as fast (error² {less / error:.2f})")
        result.append(f"{name}: {', '.join(words)}")
    return "\n  ".join(result)


def filtered() -> str:
    """The kitchen's draft of 8 samples at 480x270: processor seconds, visible difference and error of the picture as it is, filtered, and by the
    edge-aware filter, against 512 samples with the guide, filtered."""
    warm_up()
    shot, exposure = _Shot("keepers-kitchen"), read_scene(find_shot("demo:keepers-kitchen")).camera().exposure

    def passes(seed: int, **values):
        seconds, film, arrays = shot.film(DRAFT, seed, **values)
        return seconds, film_passes(film, [], arrays)

    reference = filter_noise(passes(9, sampling__max=512, guiding__on="yes")[1]).image

    def against(image: np.ndarray) -> str:
        shown = [np.clip(finished(one.astype(np.float32), Finish(exposure=exposure)), 0, 1).astype(np.float32) for one in (reference, image)]
        visible = flip_evaluator.evaluate(*shown, "LDR", applyMagma=False, computeMeanError=True, parameters={"ppd": 67.0})[1]
        bright = reference @ LUMINANCE
        off = (image @ LUMINANCE - bright) / (bright + DARK * bright.mean())
        return f"FLIP {float(np.asarray(visible)):.3f}, error {float(np.sqrt(np.mean(np.minimum(off**2, MOST**2)))):.3f}"

    result = []
    for on in ("no", "yes"):
        seconds, found = passes(1, sampling__max=8, guiding__on=on)
        filter_noise(found)
        begun = time.perf_counter()
        made = filter_noise(found)
        took = time.perf_counter() - begun
        kinds = {"as it is": found["beauty"][..., :3], f"by {made.by} in {took:.2f} s": made.image, "by the edge-aware filter": edge_filtered(found)}
        result.append(
            f"guide {on}: rendered in {seconds:.1f} s of the processor; " + "; ".join(f"{kind}: {against(image)}" for kind, image in kinds.items())
        )
    return "\n  ".join(result)


def filter_error() -> str:
    """The error that the filter states over its true error, for thirty renders of 160x90: three shots, 4 to 64 samples, two seeds, against 2048
    samples of brute force. Pixels with emission are left out, as the filter does; each counts up to one."""
    warm_up()
    ratios, result = [], []
    for name in SHOTS:
        shot = _Shot(name)
        reference = film_beauty(shot.film((160, 90), 7, sampling__max=2048)[1]) @ LUMINANCE
        scale, row = reference + DARK * reference.mean(), []
        for samples in (4, 8, 16, 32, 64):
            for seed in (1, 2):
                _, film, arrays = shot.film((160, 90), seed, sampling__max=samples)
                passes = film_passes(film, [], arrays)
                made = filter_noise(passes)
                dark = passes["emission"] @ LUMINANCE <= 0.01 * (passes["beauty"][..., :3] @ LUMINANCE)
                off = np.where(dark, (made.image @ LUMINANCE - reference) / scale, 0.0)
                row.append(made.level / float(np.sqrt(np.mean(np.minimum(off**2, 1.0)))))
        result.append(f"{name} " + " ".join(f"{(a + b) / 2:.2f}" for a, b in zip(row[::2], row[1::2], strict=True)))
        ratios += row
    low, middle, high = np.quantile(ratios, (0.25, 0.5, 0.75))
    return f"median {middle:.2f} ({low:.2f} to {high:.2f}), off by {np.median(np.abs(np.array(ratios) - 1)):.0%} in the median; " + "; ".join(result)
