"""The noise filter: a finished picture with its grain taken off, guided by its own passes. It never replaces the picture.

Open Image Denoise does it, a trained network that ships with its weights (package pyoidn); where that does not run, the edge-aware filter of
edge_filter.py. Direct and bounced light are filtered apart and put together again, and guides are filtered first. What comes out is not part of the
promise of the same bytes everywhere; the unfiltered picture is.
"""

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.ndimage import uniform_filter

from ..errors import InputError
from ..scene.arrays import SceneArrays
from . import film as columns
from .edge_filter import LUMINANCE, edge_filtered
from .passes import FILTERED, film_passes
from .passes import LIGHT as LIGHT_PASS

LEARNED, EDGE_AWARE = "Open Image Denoise", "the edge-aware filter"
LOOK_AT, MOST_MEAN, MOST_SPREAD = 7, 4.0, 1.5
"""Side of the window in which residuals are checked; the most that noise explains of their mean, in standard errors, and of
their spread, in standard deviations."""
SMEARED = 1.0
AROUND = 9
"""Side of the window over which the squared error of the filter is averaged."""
LARGE = 300_000
"""Pixels of a picture above which light is filtered by the balanced network, which takes 0.4 of the time of the best one."""
GLOWING, DARK, MOST_ERROR = 0.01, 0.05, 1.0
"""Share of emission from which a pixel is left out of the error; luminance, relative to the mean, below which errors are judged against it; the
largest relative error of a pixel that counts."""


@dataclass(frozen=True)
class Filtered:
    """image: linear colour float32 [rows, columns, 3]; smear: float32 [rows, columns], how much was removed, in units
    of the most that noise explains; smeared: share of the picture where that is more than SMEARED; both None where the picture's variance was not
    kept; by: the filter's name.

    error: float32 [rows, columns], standard error of the filtered luminance, and level, its root mean square relative to that (see `error_of`); None
    where the picture has no halves, or by the edge-aware filter. halves: luminance of the two halves of the samples, each
    filtered alone, without emission."""

    image: np.ndarray
    smear: np.ndarray | None
    smeared: float | None
    by: str
    error: np.ndarray | None = None
    level: float | None = None
    halves: tuple[np.ndarray, np.ndarray] | None = None


@functools.cache
def learned_filter() -> Any:
    """The package of the learned filter, or None where it does not run."""
    try:
        import pyoidn

        with pyoidn.Device() as device:
            device.commit()
            return pyoidn if device.get_error() is None else None
    except Exception:  # noqa: BLE001 (a wheel for another machine fails in many ways)
        return None


def filter_noise(passes: dict[str, np.ndarray], learned: bool = True) -> Filtered:
    """The beauty of `passes` (as core.render.passes names them) filtered; visible emission stays as it is. Without `learned`, by the edge-aware
    filter. Raises InputError where a guiding pass is missing."""
    try:
        return _filter_noise(passes, learned)
    except KeyError as error:
        raise _lacks(error) from None


def _filter_noise(passes: dict[str, np.ndarray], learned: bool) -> Filtered:
    beauty = passes["beauty"][..., :3].astype(np.float32)
    error, level, halves, by = None, None, None, EDGE_AWARE
    if not learned or learned_filter() is None:
        image = edge_filtered(passes)
    else:
        guides, by = _guides(passes), LEARNED
        image = _by_parts(passes, beauty, guides)
        halves = _filtered_halves(passes, beauty, guides) if "half" in passes else None
        if halves is not None:
            error, level = error_of(halves, passes, image)
    smear = None
    if "variance" in passes:
        smear = _smear(beauty, image, np.where(np.isfinite(passes["variance"]), passes["variance"], 0.0))
    return Filtered(image, smear, float((smear > SMEARED).mean()) if smear is not None else None, by, error, level, halves)


LIGHT, ALBEDO, NORMAL, PARTS = slice(0, 3), slice(3, 6), slice(6, 9), 9
"""Columns of `parts_of`, and their number."""


def parts_of(film: np.ndarray) -> np.ndarray:
    """What `filter_quickly` needs of film pixels [rows, columns, film columns]: all light, albedo, normal, float32 [rows, columns, PARTS]."""
    return np.concatenate([columns.film_beauty(film), *columns.guides_in(film)], axis=2).astype(np.float32)


def filter_quickly(parts: np.ndarray) -> np.ndarray:
    """The light of `parts_of` filtered in one run, with guides as grainy as they are, float32 [rows, columns, 3]: for a look while more is rendered.
    Where the learned filter does not run, the light as it is."""
    if learned_filter() is None:
        return parts[..., LIGHT]
    guides = {"albedo": np.clip(parts[..., ALBEDO], 0.0, 1.0), "normal": np.clip(parts[..., NORMAL], -1.0, 1.0)}
    return _light(parts[..., LIGHT], guides, clean=False, fast=True)


def filter_film(film: np.ndarray, arrays: SceneArrays, light: np.ndarray | None = None) -> np.ndarray:
    """The picture of a film [rows, columns, film columns] filtered, float32 [rows, columns, 3]; or other `light` of the same view by its guides."""
    passes = film_passes(film, [], arrays)
    passes.pop("half", None)
    if light is not None:
        passes["beauty"] = light.astype(np.float32)
        passes.pop("indirect")
    return filter_noise(passes).image


def filter_passes(passes: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Passes for compositing without grain, float32 [rows, columns, 3]: filtered.direct, filtered.indirect, and filtered.light.NAME, whose sum is
    filtered.direct as light.NAME add up to direct. Empty where the learned filter does not run. Raises InputError where a guiding pass is missing."""
    if learned_filter() is None:
        return {}
    try:
        guides, emission = _guides(passes), passes["emission"].astype(np.float32)
        direct, indirect = emission + _light(passes["direct"] - emission, guides), _light(passes["indirect"], guides)
    except KeyError as error:
        raise _lacks(error) from None
    lights = {name: _light(plane, guides) for name, plane in passes.items() if name.startswith(LIGHT_PASS)}
    whole = sum(lights.values(), np.zeros_like(direct))
    # Each is filtered alone, so that their sum differs a little from what is known of it.
    exact = np.where(whole > 0.0, direct / np.maximum(whole, 1e-20), 0.0)
    found = {"direct": direct, "indirect": indirect, **{name: plane * exact for name, plane in lights.items()}}
    return {FILTERED + name: plane for name, plane in found.items()}


def _lacks(error: KeyError) -> InputError:
    return InputError(f"The picture lacks the pass {error}, which the noise filter needs; render it again with all of its passes.")


def _guides(passes: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Albedo and normal, also of what is seen in mirrors and through glass, filtered by themselves: their edges are grainy too, where pixels see two
    surfaces."""
    albedo = np.clip(passes.get("guide_albedo", passes["albedo"])[..., :3], 0.0, 1.0).astype(np.float32)
    normal = np.clip(passes.get("guide_normal", passes["normal"])[..., :3], -1.0, 1.0).astype(np.float32)
    return {"albedo": _run({"albedo": albedo}, fast=True), "normal": _run({"normal": normal}, fast=True)}


def _run(images: dict[str, np.ndarray], clean: bool = True, fast: bool = False) -> np.ndarray:
    """One run of the learned filter. images: what to filter first, then its guides, float32 [rows, columns, 3]; clean: whether guides lack grain;
    fast: by the smallest network, which guides lose nothing by (docs/benchmarks.md)."""
    oidn, first = learned_filter(), next(iter(images.values()))
    result = np.empty_like(first, order="C")
    kept = {name: np.ascontiguousarray(image) for name, image in images.items()}
    with oidn.Device() as device:
        device.commit()
        with oidn.Filter(device, oidn.OIDN_FILTER_TYPE_RT) as one:
            for name, image in kept.items():
                one.set_image(name, image, oidn.OIDN_FORMAT_FLOAT3)
            one.set_image("output", result, oidn.OIDN_FORMAT_FLOAT3)
            best = oidn.OIDN_QUALITY_BALANCED if first[..., 0].size > LARGE else oidn.OIDN_QUALITY_HIGH
            one.set_quality(oidn.OIDN_QUALITY_FAST if fast else best)
            if "color" in images:
                one.set_bool("hdr", True)
                one.set_bool("cleanAux", clean and len(images) > 1)
            one.commit()
            one.execute()
        problem = device.get_error()
    if problem is not None:
        raise RuntimeError(f"The noise filter failed: {problem}")
    return result


def _light(image: np.ndarray, guides: dict[str, np.ndarray], clean: bool = True, fast: bool = False) -> np.ndarray:
    """Light filtered; what is not finite or negative counts as black."""
    sound = np.where(np.isfinite(image), np.maximum(image, 0.0), 0.0).astype(np.float32)
    return np.maximum(_run({"color": sound, **guides}, clean, fast), 0.0)


def _by_parts(passes: dict[str, np.ndarray], beauty: np.ndarray, guides: dict[str, np.ndarray]) -> np.ndarray:
    """The picture: light straight from the lights and bounced light filtered apart, so that the grain of one does not blur the other."""
    emission = passes["emission"].astype(np.float32)
    if "indirect" not in passes:
        return emission + _light(beauty - emission, guides)
    return emission + _light(beauty - passes["indirect"] - emission, guides) + _light(passes["indirect"], guides)


def _filtered_halves(
    passes: dict[str, np.ndarray], beauty: np.ndarray, guides: dict[str, np.ndarray]
) -> tuple[np.ndarray, np.ndarray] | None:  # fmt: skip
    """Luminance of the two halves of the samples, each filtered alone, without emission. None where a pixel has no halves."""
    half, number, samples = passes["half"][..., :3].astype(np.float64), passes["half"][..., 3:], passes["samples"][..., :1]
    if not (number > 0).all() or not (samples > number).all():
        return None
    other = (samples * beauty - number * half) / (samples - number)
    first, second = (_light(part - passes["emission"], guides) @ LUMINANCE for part in (half, other))
    return first, second


def error_of(halves: tuple[np.ndarray, np.ndarray], passes: dict[str, np.ndarray], image: np.ndarray) -> tuple[np.ndarray, float]:
    """(standard error of the filtered luminance, its root mean square relative to the light), by how much the two filtered halves of the samples
    differ (after Rousselle, Knaus & Zwicker 2012, "Adaptive Rendering with Non-Local Means Filtering", section 5).

    A half has twice the variance of the whole, and the whole has the filter's bias besides: taken as alike, the squared difference of the halves over
    two is the squared error. How far that holds is measured in docs/benchmarks.md. What both halves get wrong alike is not seen.
    """
    # Emission is not filtered, and differs from half to half where an edge of it crosses the pixel.
    plain = (passes["emission"] @ LUMINANCE) <= GLOWING * (passes["beauty"][..., :3] @ LUMINANCE)
    squares = np.where(plain, 0.5 * (halves[0] - halves[1]) ** 2, 0.0)
    error = np.sqrt(np.maximum(uniform_filter(squares, AROUND, mode="reflect"), 0.0)).astype(np.float32)
    seen = (image @ LUMINANCE).astype(np.float64)
    relative = squares / (seen + DARK * float(seen.mean()) + 1e-9) ** 2
    return error, float(np.sqrt(np.minimum(relative, MOST_ERROR**2).mean()))


def _smear(beauty: np.ndarray, image: np.ndarray, variance: np.ndarray) -> np.ndarray:
    """Where the filter removed more than noise: noise averages out over a window, and is as large as measured."""
    residual = ((image - beauty) @ LUMINANCE).astype(np.float64)
    mean_variance = ((np.sqrt(np.maximum(variance, 0.0)) @ LUMINANCE) ** 2).astype(np.float64)
    floor = 0.01 * float(np.abs(image @ LUMINANCE).mean()) + 1e-9
    mean = np.abs(uniform_filter(residual, LOOK_AT, mode="reflect"))
    spread, error = (np.sqrt(np.maximum(uniform_filter(plane, LOOK_AT, mode="reflect"), 0.0)) for plane in (residual * residual, mean_variance))
    return np.maximum(mean / (MOST_MEAN * error / LOOK_AT + floor), spread / (MOST_SPREAD * error + floor)).astype(np.float32)
