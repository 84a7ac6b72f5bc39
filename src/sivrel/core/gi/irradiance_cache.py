"""The irradiance cache: bounced light at chosen points, and between them from what is known of how it changes.

Ward, Rubinstein & Clear 1988, "A Ray Tracing Solution for Diffuse Interreflection": records serve as far as the mean distance of what
surrounds them lets light change. Ward & Heckbert 1992, "Irradiance Gradients": how it changes as the point moves and turns. Records are
made before pixels (see records.py); where none serves, paths are traced as by brute force.
"""

from typing import Any, Literal

import numpy as np

from ..kernel import kernel
from ..settings import Group, setting
from .record_lookup import COLUMNS, LIGHT, NORMAL, RADIUS, Records, as_records, light_of_records
from .records import make_records
from .suspect_records import suspects
from .way import INDIRECT, NOT_SERVED, WORST, Preview, Table, Way

IRRADIANCE_CACHE = 4
USED = {"gi.seen": ["irradiance_cache"]}


class IrradianceCacheSettings(Group):
    rays: int = setting(
        512,
        "record rays",
        "Each record looks about with {} rays.",
        "Blotches are records that looked too briefly: four times the rays halves them. Time grows in proportion.",
        needs=USED,
        ge=16,
        le=65536,
    )
    error: float = setting(
        0.4,
        "cache error",
        "It serves until the light may have changed by {},",
        "Smaller means more records, closer together: at half the error about four times as many.",
        needs=USED,
        ge=0.01,
        le=2.0,
    )
    min_spacing: float = setting(
        3.0,
        "least spacing",
        "at least {}",
        "Closer than this records are not made: it keeps creases from taking them all. Contact shadows finer than it are lost.",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    max_spacing: float = setting(
        60.0,
        "greatest spacing",
        "and at most {}",
        "However open the place: with more, soft light on wide walls is missed.",
        needs=USED,
        ge=0.001,
        le=1e5,
    )
    spacing_unit: Literal["px", "m"] = setting(
        "px",
        "spacing unit",
        "{} from the next.",
        "Pixels follow the picture: near things get more records. Metres are the same from every camera, as a moving one needs.",
        needs=USED,
    )
    gradients: Literal["yes", "no"] = setting(
        "yes",
        "gradients",
        "Records know how light changes about them: {}.",
        "Without, every record is a flat spot, and more of them are needed for the same picture.",
        needs=USED,
    )
    visible: Literal["yes", "no"] = setting(
        "yes",
        "visibility",
        "A record serves only what it can see: {}.",
        "Without, light leaks round thin walls and under doors, and lookups are cheaper.",
        needs=USED,
    )
    smoothing: float = setting(
        0.5,
        "smoothing",
        "Records reach {} farther than they are apart, to even out.",
        "More blends more records: blotches fade, and so do the shadows of bounced light.",
        needs=USED,
        ge=0.0,
        le=4.0,
    )
    corner_distance: float = setting(
        0.0,
        "corner distance",
        "Where something is nearer than {} m, paths are traced instead.",
        "Near contact light changes faster than records can follow: brute force keeps that detail, with its grain.",
        unit="m",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    camera: Literal["own", "shared"] = setting(
        "own",
        "camera",
        "The records of a camera are its {}.",
        "Own: made for this camera and this size alone, the same whatever was rendered before. Shared: kept as the camera moves, and added to "
        "where it looks anew; neighbouring frames then agree.",
        needs=USED,
    )


@kernel
def _lookup(prepared, scene, memory, spot):
    light, close, serving = light_of_records(prepared, scene, memory, spot.position, spot.geometric_normal, spot.normal)
    if serving == 0 or close >= 0.5:
        return (0.0, 0.0, 0.0), NOT_SERVED
    return light, INDIRECT


def _make(job: Any, wanted: IrradianceCacheSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    return make_records(job, wanted, np.zeros((0, COLUMNS), np.float32))


def _extend(job: Any, wanted: IrradianceCacheSettings, arrays: dict[str, np.ndarray]) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    return make_records(job, wanted, arrays["records"])


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    records = arrays["records"]
    shown = records[:: max(1, len(records) // 20_000)]
    return Preview(shown[:, :3], shown[:, RADIUS], shown[:, LIGHT : LIGHT + 3], "discs", shown[:, NORMAL : NORMAL + 3])


WAY = Way(
    key="irradiance_cache",
    code=IRRADIANCE_CACHE,
    title="an irradiance cache",
    seen=True,
    beyond=False,
    does="Looks about carefully at chosen points and interpolates between them: clean and fast in smooth rooms.",
    costs="Blotches where records are few or grainy, contact shadows lost, flicker when the camera moves.",
    asks_beyond=True,
    elsewhere="its records lie where the camera looks",
    question="How the cache serves",
    settings=IrradianceCacheSettings,
    kind="irradiance cache",
    nothing=Records(np.zeros((0, COLUMNS), np.float32), np.zeros(0, np.uint8), np.zeros((0, 6), np.float32), 1.0, 0.0, True, True),
    makes=lambda wanted, recipe: wanted.model_dump(exclude={"gradients", "smoothing", "corner_distance"}),
    depends=("geometry", "surfaces", "lights", "limits", "beyond"),
    make=_make,
    extend=_extend,
    serve=lambda job, wanted, arrays, notes: as_records(arrays["records"], wanted, wanted.smoothing),
    says=lambda notes: (
        f"Chance moves the light of a record by about {notes['chance'] * 100.0:.0f} %: blotches that the picture's noise does not count, and that "
        "only more rays a record clear."
    ),
    tells=("chance",),
    lookup=_lookup,
    preview=_preview,
    points=lambda arrays: (len(arrays["records"]), "records"),
    holds={"records": Table(COLUMNS, places=9)},
    interpolates=True,
    by_view=True,
    suspects=suspects,
    chance=lambda own, recipe: WORST / own.rays**0.5,
    pilots={"irradiance_cache/radiance_cache": 6.0, "irradiance_cache": 8.0},
    small={"rays": 16},
)
