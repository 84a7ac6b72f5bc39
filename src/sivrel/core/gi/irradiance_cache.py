"""The irradiance cache: bounced light at chosen points, interpolated between them with its gradients.

Ward, Rubinstein & Clear 1988, "A Ray Tracing Solution for Diffuse Interreflection": records are used as far as the mean distance of the
surfaces around them allows. Ward & Heckbert 1992, "Irradiance Gradients": how it changes as the point moves and turns. Records are
made before pixels (see records.py); where none applies, paths are traced as by brute force.
"""

from typing import Any, Literal

import numpy as np

from ..kernel import kernel
from ..settings import Group, setting
from .record_lookup import COLUMNS, FARTHER, LIGHT, NORMAL, RADIUS, Records, as_records, light_of_records
from .records import make_records
from .suspect_records import suspects
from .way import INDIRECT, NOT_SERVED, WORST, Preview, Table, Way

IRRADIANCE_CACHE = 4
USED = {"gi.seen": ["irradiance_cache"]}


class IrradianceCacheSettings(Group):
    rays: int = setting(
        512,
        "record rays",
        "Each record gathers with {} rays.",
        "Records with too few rays make blotches: four times the rays halves them. Time grows in proportion.",
        needs=USED,
        ge=16,
        le=65536,
    )
    error: float = setting(
        0.4,
        "cache error",
        "It is used until the light may have changed by {},",
        "Smaller places records closer together: at half the error about four times as many.",
        needs=USED,
        ge=0.01,
        le=2.0,
    )
    min_spacing: float = setting(
        3.0,
        "least spacing",
        "at least {}",
        "The least distance between records: keeps creases from taking them all. Contact shadows finer than it are lost.",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    max_spacing: float = setting(
        60.0,
        "greatest spacing",
        "and at most {}",
        "A limit also in open places: with more, soft light on wide walls is missed.",
        needs=USED,
        ge=0.001,
        le=1e5,
    )
    spacing_unit: Literal["px", "m"] = setting(
        "px",
        "spacing unit",
        "{} from the next.",
        "Pixels follow the picture: near surfaces get more records. Metres are the same from every camera, as a moving one needs.",
        needs=USED,
    )
    gradients: Literal["yes", "no"] = setting(
        "yes",
        "gradients",
        "Records store the gradient of light: {}.",
        "Without, light is constant around each record, and more records are needed for the same picture.",
        needs=USED,
    )
    visible: Literal["yes", "no"] = setting(
        "yes",
        "visibility",
        "A record counts only where it is visible: {}.",
        "Without, light leaks round thin walls and under doors, and lookups are cheaper.",
        needs=USED,
    )
    smoothing: float = setting(
        0.5,
        "smoothing",
        "Records reach {} farther than their distance, to overlap.",
        "More blends more records: blotches fade, and so do the shadows of bounced light.",
        needs=USED,
        ge=0.0,
        le=4.0,
    )
    corner_distance: float = setting(
        0.0,
        "corner distance",
        "Where a surface is nearer than {} m, paths are traced instead.",
        "Near contact, light changes too fast for records: brute force keeps that detail, with its grain.",
        unit="m",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    camera: Literal["own", "shared"] = setting(
        "own",
        "camera",
        "The records of a camera are its {}.",
        "Own: made for this camera and picture size only, whatever was rendered before. Shared: kept while the camera moves, and extended "
        "where it looks next; neighbouring frames then agree.",
        needs=USED,
    )


@kernel
def _lookup(prepared, scene, memory, spot):
    at = spot.position, spot.geometric_normal, spot.normal
    light, close, serving = light_of_records(prepared, prepared.boxes, prepared.error, scene, memory, *at)
    if serving == 0:
        light, close, serving = light_of_records(prepared, prepared.wide, prepared.error * FARTHER, scene, memory, *at)
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
    does="Gathers light carefully at chosen points and interpolates between them: clean and fast in smooth rooms.",
    costs="Blotches where records are few or noisy, lost contact shadows, flicker when the camera moves.",
    asks_beyond=True,
    elsewhere="its records lie where the camera looks",
    question="How the cache serves",
    settings=IrradianceCacheSettings,
    kind="irradiance cache",
    nothing=Records(np.zeros((0, COLUMNS), np.float32), np.zeros(0, np.uint8), *2 * (np.zeros((0, 6), np.float32),), 1.0, 0.0, True, True),
    makes=lambda wanted, recipe: wanted.model_dump(exclude={"gradients", "smoothing", "corner_distance"}),
    depends=("geometry", "surfaces", "lights", "limits", "beyond"),
    make=_make,
    extend=_extend,
    join=lambda frames: {"records": np.concatenate([arrays["records"] for arrays in frames])},
    places=lambda arrays: (arrays["records"][:, :3], arrays["records"][:, NORMAL : NORMAL + 3]),
    only=lambda arrays, mask: {"records": arrays["records"][mask]},
    serve=lambda job, wanted, arrays, notes: as_records(arrays["records"], wanted, wanted.smoothing),
    says=lambda notes: (
        f"The noise of a record is about {notes['chance'] * 100.0:.0f} %: it shows as blotches, is not part of the picture's noise, and only falls "
        "with more rays per record."
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
