"""Charts for ladder, budget and match, and the settings that can be varied."""

from typing import Any

import numpy as np
from markupsafe import Markup

from ...core.edits.edits import SETTINGS
from ...core.errors import InputError
from ...core.measure.noise import LUMINANCE
from ...core.pictures.exr import read_exr
from ...core.render.recipe import QUESTIONS, settings
from ...core.survey.finding import short
from ...core.tune.fits import Fit
from ...core.tune.varied import about
from ...store import files
from ...store.proofs import Proof
from ...store.tunings import Tuning
from ..database import data
from .charts import Chart, Line, svg

SHARE = 4
"""Share of a frame's sides of the automatic region."""
OF_LIGHTS = ("shadows.rays", "shadows.resolution", "shadows.filter", "shadows.bias", "intensity", "exposure", "angle", "radius")


def drawn_of(one: Tuning) -> dict[str, Markup]:
    """Charts of a result, by name."""
    return DRAWN[one.kind](one.result or {}) if one.kind in DRAWN else {}


def _ladder(result: dict[str, Any]) -> dict[str, Markup]:
    if len(result["varied"]) != 1 or result["varied"][0].get("taste"):
        return {}
    varied, done = result["varied"][0], [r for r in result["rungs"] if r["error"]]
    key, x = varied["key"], f"{varied['name']}{', ' + varied['unit'] if varied['unit'] else ''}"
    take = (result["take"][key], "enough") if result["take"] and result["take"][key] > 0 else None
    noise, total = ([(r["values"][key], r["error"][name]) for r in done] for name in ("noise", "total"))
    bias = [(r["values"][key], max(r["error"]["bias"], 1e-4)) for r in done if r["error"]["bias"] > r["error"]["bias_error"]]
    times = [(r["values"][key], r["frame_seconds"]) for r in done]
    fits = {name: Fit(**fit) for name, fit in result["fits"].items()}
    error_lines = [_fitted("noise", noise, fits.get("variance"), root=True), Line("bias", bias, bold=False), Line("both", total)]
    return {
        "error": svg(Chart("Error over the setting", x, "error", [line for line in error_lines if line.points], take, percent=True)),
        "time": svg(Chart("Time over the setting", x, "seconds a frame", [_fitted("time", times, fits.get("seconds"))], take)),
    }


def _fitted(name: str, points: list[tuple[float, float]], fit: Fit | None, root: bool = False) -> Line:
    """Measured points with the fitted curve and its uncertainty."""
    xs = [x for x, _ in points if x > 0.0]
    if fit is None or len(xs) < 2:
        return Line(name, points, bold=True)
    along = np.geomspace(min(xs), 2.0 * max(xs), 24)
    power = 0.5 if root else 1.0
    values, spread = np.maximum(fit.at(along), 1e-12) ** power, fit.spread * power
    curve = list(zip(along.tolist(), values.tolist(), strict=True))
    return Line(name, points, curve, [(x, y * max(1.0 - spread, 0.05), y * (1.0 + spread)) for x, y in curve], bold=True)


def _match(result: dict[str, Any]) -> dict[str, Markup]:
    entrants = [e for e in result["entrants"] if e["points"]]
    first = result["entrants"][0]["name"] if result["entrants"] else ""

    def line(e: dict[str, Any], points: list[tuple[float, float]]) -> Line:
        return Line(_short(e["title"]), points, bold=e["name"] == first)

    def over_time(what: str) -> list[Line]:
        return [line(e, [(p["seconds"] + e["prepares"], p[what]) for p in e["points"]]) for e in entrants]

    frames = [line(e, [(int(n), seconds) for n, seconds in e["frame_seconds"].items()]) for e in entrants if e["frame_seconds"]]
    equal = (result["seconds"], f"{result['seconds']:g} s")
    x = "seconds of the first frame, including caches"
    return {
        "error": svg(Chart("Error over time", x, "error", over_time("total"), equal, percent=True, height=340)),
        "noise": svg(Chart("Noise over time", x, "noise alone", over_time("noise"), equal, percent=True, height=340)),
        "frames": svg(Chart("Seconds a frame over frames", "frames of a shot", "seconds per frame to equal error", frames)),
    }


def _short(title: str) -> str:
    for article in ("an ", "a "):
        title = title.removeprefix(article)
    title = (
        title.replace(", over a radiance cache in space", " over cells")
        .replace(", looked up directly", ", at once")
        .replace("radiance cache in space", "radiance cache")
    )
    return title if len(title) <= 24 else f"{title[:23]}…"


DRAWN = {"ladder": _ladder, "match": _match}


def varied_settings(proof: Proof) -> list[tuple[str, list[tuple[str, str]]]]:
    """(question, [(key, words)]) of every number that is in use in a proof's recipe, and of its lights."""
    groups = []
    for group, question in QUESTIONS.items():
        listed = []
        for key, info in settings().items():
            if key.split(".")[0] == group and info.is_number and _usable(key, proof):
                listed.append((key, f"{info.name}{' · now ' + format(proof.recipe.flat()[key], 'g')}"))
        if listed:
            groups.append((question, listed))
    for row in proof.lights:
        own = [
            (f"light.{row['name']}.{field}", f"{short(row['name'])}: {SETTINGS['light'][field].name}")
            for field in OF_LIGHTS
            if row.get("shadowed") is not None and _usable(f"light.{row['name']}.{field}", proof)
        ]
        if own:
            groups.append((f"Light {short(row['name'])}", own))
    return groups


def _usable(key: str, proof: Proof) -> bool:
    try:
        about(key, proof.recipe, proof.edits)
    except InputError:
        return False
    return True


def spot_to_tune(proof: Proof, kind: str) -> list[int] | None:
    """The grainiest sixteenth of the frame; the proof's own region if it has one; None for the whole frame."""
    if kind not in ("ladder", "match"):
        return None
    if proof.frame.region:
        return list(proof.frame.region)
    assert proof.picture is not None
    picture = read_exr(files.picture_path(data(), proof.picture))
    width, height = proof.frame.width, proof.frame.height
    across, down = width // SHARE, height // SHARE
    variance = picture.passes.get("variance")
    if variance is None or not np.isfinite(variance).all() or across < 24 or down < 24:
        return [(width - across) // 2, (height - down) // 2, (width + across) // 2, (height + down) // 2]
    light = picture.beauty[..., :3] @ LUMINANCE
    relative = np.minimum((np.sqrt(np.maximum(variance, 0.0)) @ LUMINANCE) / (light + 0.05 * light.mean() + 1e-12), 1.0)
    sums = np.pad(relative.cumsum(axis=0).cumsum(axis=1), ((1, 0), (1, 0)))
    boxes = sums[down:, across:] - sums[:-down, across:] - sums[down:, :-across] + sums[:-down, :-across]
    y, x = np.unravel_index(int(boxes.argmax()), boxes.shape)
    return [int(x), int(y), int(x) + across, int(y) + down]
