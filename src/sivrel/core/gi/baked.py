"""Baked light: radiosity solved on the surfaces themselves, once, for any camera (see elements.py and radiosity.py)."""

from typing import Any, NamedTuple

import numpy as np

from ..errors import InputError
from ..kernel import called_kernel, kernel
from ..scene.triangles import MOST_COPIED, bounds, corners_of, objects_at, triangle_count
from ..settings import Group, setting
from ..vector import LUMINANCE, cross, dot, subtract
from .elements import LEAF, MOST_ELEMENTS, ElementMesh, edge_for, element_at, halve, shared_corners, split_to, whole_triangles
from .importance import importances
from .radiosity import FINER_SHOTS, Solution, chance_of, gloss_photons, solve, solve_finer
from .suspect_elements import suspects
from .way import INDIRECT, NOT_SERVED, WHOLE, Preview, Table, Way

BAKED = 6
USED = {"gi.seen|gi.beyond": ["baked"], "gi.seen": ["baked", "brute_force", "irradiance_cache"]}
SEEN_BAKED = {"gi.seen": ["baked"]}
ELEMENTS = 12_000
"""About how many elements an automatic largest edge makes."""
BOUNCED, ALL = 0, 3
FAINT = 0.05
"""Share of the scene's mean light that is added before contrast is measured, since dark places need no fine mesh."""


class BakedSettings(Group):
    max_edge: float = setting(
        0.0,
        "largest edge",
        "Surfaces are split until no edge is longer than {} m; 0 follows the scene's size,",
        "Smaller elements show finer light and take more memory and rays. It is a length in the scene, so the scene's scale must be right.",
        unit="m",
        needs=USED,
        ge=0.0,
        le=1e4,
    )
    refine: int = setting(
        1,
        "refining passes",
        "then, {} times, where light changes fast,",
        "Each pass halves the elements that show contrast, and distributes the solved light onto them once more. An object can have its own number.",
        needs=USED,
        ge=0,
        le=6,
    )
    contrast: float = setting(
        0.4,
        "contrast",
        "by more than {} across an element,",
        "Lower contrast splits more elements, and resolves softer edges.",
        needs={**USED, "baked.refine": ["!0"]},
        ge=0.01,
        le=10.0,
    )
    min_edge: float = setting(
        0.0,
        "smallest edge",
        "but none below {} m; 0 is a quarter of the largest.",
        "Limits the cost of refining.",
        unit="m",
        needs={**USED, "baked.refine": ["!0"]},
        ge=0.0,
        le=1e4,
    )
    converged: float = setting(
        0.97,
        "converged",
        "Light is distributed until nine tenths of the scene have {} of theirs,",
        "Light that is not distributed darkens late bounces: the proof says how much was missing.",
        needs=USED,
        ge=0.1,
        le=0.9999,
    )
    shots: int = setting(
        300_000,
        "shots",
        "by {} rays for each bounce,",
        "More reduce the blotches of the bake; time grows in proportion.",
        needs=USED,
        ge=1000,
        le=1_000_000_000,
    )
    samples: int = setting(
        16,
        "light samples",
        "with {} shadow rays from each element.",
        "More give the right mean where shadows of direct light cross an element.",
        needs=USED,
        ge=1,
        le=256,
    )
    smoothing: int = setting(
        1,
        "smoothing",
        "The light is smoothed {} times between neighbours.",
        "0 shows every element flat; more hides blotches and smears shadows.",
        needs=USED,
        ge=0,
        le=32,
    )
    final_gather_rays: int = setting(
        8,
        "gather rays",
        "{} final gather rays; 0 shows the bake directly.",
        "Rays from each visible point look up the bake where they land: its elements no longer show, at the price of these rays.",
        needs=SEEN_BAKED,
        ge=0,
        le=1024,
    )


class Bake(NamedTuple):
    """The mesh's trees (see ElementMesh), numbers of the corners int32 [elements, 3], patches int32 [elements], and light
    float32 [2 corners, 6] on both sides of each corner, or [2 patches, 6] where `flat`: irradiance bounced, and of all."""

    split: np.ndarray
    child: np.ndarray
    element: np.ndarray
    numbers: np.ndarray
    patches: np.ndarray
    light: np.ndarray
    flat: bool


@called_kernel
def baked_light(bake, scene, triangle, b1, b2, normal, column):
    """Irradiance at a point of a triangle, on the side of `normal`; `column` is BOUNCED or ALL."""
    a, b, c = corners_of(scene, triangle)
    back = 1 if dot(normal, cross(subtract(b, a), subtract(c, a))) < 0.0 else 0
    e, u, v = element_at(bake.split, bake.child, bake.element, triangle, b1, b2)
    if bake.flat:
        row = 2 * np.int64(bake.patches[e]) + back
        return float(bake.light[row, column]), float(bake.light[row, column + 1]), float(bake.light[row, column + 2])
    i, j, k = 2 * np.int64(bake.numbers[e, 0]) + back, 2 * np.int64(bake.numbers[e, 1]) + back, 2 * np.int64(bake.numbers[e, 2]) + back
    w = 1.0 - u - v
    return (
        u * bake.light[i, column] + v * bake.light[j, column] + w * bake.light[k, column],
        u * bake.light[i, column + 1] + v * bake.light[j, column + 1] + w * bake.light[k, column + 1],
        u * bake.light[i, column + 2] + v * bake.light[j, column + 2] + w * bake.light[k, column + 2],
    )


@kernel
def _lookup(prepared, scene, memory, spot):
    light, found = (0.0, 0.0, 0.0), NOT_SERVED
    if len(prepared.split) > 0:
        light = baked_light(prepared, scene, np.int64(spot.hit), spot.b1, spot.b2, spot.geometric_normal, BOUNCED if spot.seen else ALL)
        found = INDIRECT if spot.seen else WHOLE
    return light, found


def _make(job: Any, wanted: BakedSettings) -> tuple[dict[str, np.ndarray], dict[str, Any]]:
    _refuse_placed(job)
    longest = wanted.max_edge or edge_for(job.arrays, ELEMENTS)
    least = wanted.min_edge or longest / 4.0
    _check_scale(job, longest)
    mesh = split_to(job.arrays, longest)
    coarse_nodes, gloss = len(mesh.split), gloss_photons(job, wanted)
    passes = np.array([wanted.refine if own is None else own for own in job.refine_of_objects()] or [wanted.refine])
    rounds = int(passes.max(initial=0))
    solution = solve(job, mesh, longest, coarse_nodes, gloss, wanted, lambda share: job.report(share * (1.0 if rounds == 0 else 0.5)))
    chance_solved, refined = chance_of(solution), 0
    for number in range(rounds):
        job.report(0.5 + 0.5 * number / rounds)
        score = _over_contrast(job, mesh, solution, wanted)
        score *= importances(job.importance(), mesh.corners.mean(axis=1)) > 0.0
        score *= passes[objects_at(job.arrays, mesh.triangle)] > number
        mesh, parents = _quartered(mesh, score, least)
        if len(parents) == len(score):
            break
        # All passes but the last only find where light changes fast, for which one round's rays are enough.
        times = FINER_SHOTS if number == rounds - 1 else 1
        solution, refined = solve_finer(job, mesh, longest, coarse_nodes, parents, solution, gloss, wanted, times), refined + 1
    numbers, corners = shared_corners(job.arrays, mesh)
    arrays = {
        "split": mesh.split, "child": mesh.child, "element": mesh.element, "numbers": numbers, "patches": solution.patches,
        "areas": mesh.areas(), "light": np.concatenate([solution.bounced, solution.bounced + solution.direct], axis=1).astype(np.float32),
        "corners": mesh.corners.reshape(-1, 9).astype(np.float32), "landings": solution.landings.astype(np.float32),
    }  # fmt: skip
    return arrays, {
        "elements": len(mesh.triangle), "patches": len(solution.areas) // 2, "corners": corners, "largest_edge": longest,
        "coming": solution.coming, "rounds": solution.rounds - refined, "rays": solution.rays, "refined": refined,
        "chance_solved": chance_solved, "chance": chance_of(solution),
    }  # fmt: skip


def _quartered(mesh: ElementMesh, score: np.ndarray, least: float) -> tuple[ElementMesh, np.ndarray]:
    """A mesh in which elements with a score [n] above 0 are halved twice, so that edges are halved in both directions, highest score first
    if there is no room for all; and the parent of each new element, int64."""
    parents = np.arange(len(score))
    for _ in range(2):
        chosen = (mesh.longest() > 1.5 * least) & (score > 0.0)
        room = MOST_ELEMENTS - len(chosen)
        if chosen.sum() > room:
            chosen &= score >= np.partition(score, len(score) - room)[len(score) - room] if room > 0 else False
        score, parents = (np.concatenate([part[~chosen], np.repeat(part[chosen], 2)]) for part in (score, parents))
        mesh = halve(mesh, chosen)
    return mesh, parents


def _refuse_placed(job: Any) -> None:
    """Raises InputError where shapes are shared: a bake needs a place for the light of every triangle."""
    count = triangle_count(job.arrays)
    if len(job.arrays.bvh.placements.first):
        copies = f", or raise surfaces.copied to {count:,} if there is memory for it" if count <= MOST_COPIED else ""
        raise InputError(f"Baked light needs triangles of its own for each placed object, {count:,} in this scene; choose another way{copies}.")


def _check_scale(job: Any, longest: float) -> None:
    """Raises InputError if elements of that size do not fit the size of the scene."""
    area = float(whole_triangles(job.arrays).areas().sum())
    low, high = bounds(job.arrays)
    extent = float((high - low).max())
    if area / longest**2 > MOST_ELEMENTS:
        at_least = (area / MOST_ELEMENTS) ** 0.5 * 2.0
        raise InputError(
            f"At a largest edge of {longest:g} m this scene, {extent:.3g} m across, takes more than {MOST_ELEMENTS} elements; set baked.max_edge "
            f"to {at_least:.2g} m or more, or check the scene's scale."
        )
    if longest > extent:
        raise InputError(
            f"A largest edge of {longest:g} m is more than the whole scene, {extent:.3g} m across; set baked.max_edge lower, or check the "
            "scene's scale."
        )


def _over_contrast(job: Any, mesh: ElementMesh, solution: Solution, wanted: BakedSettings) -> np.ndarray:
    """float [n]: excess of the light's change across each element over the allowed contrast and the noise, times its area;
    0 where there is none."""
    of_patch = (solution.bounced + solution.direct) @ LUMINANCE
    areas = mesh.areas()
    numbers, count = shared_corners(job.arrays, mesh)
    at_corners = _to_corners(of_patch[:, None], areas, solution.patches, numbers, count)[:, 0]
    mean = float((of_patch * solution.areas).sum() / max(solution.areas.sum(), 1e-12))
    score = np.zeros(len(mesh.triangle))
    for side in (0, 1):
        rows = 2 * solution.patches.astype(np.int64) + side
        values, own = at_corners[2 * numbers.astype(np.int64) + side], of_patch[rows]
        spread = np.maximum(values.max(axis=1), own) - np.minimum(values.min(axis=1), own)
        chance = (solution.bounced[rows] @ LUMINANCE) / np.sqrt(np.maximum(solution.landings[rows], 1.0))
        over = spread - 2.0 * chance - wanted.contrast * (own + FAINT * mean)
        score = np.maximum(score, over * areas)
    return score


def _to_corners(light: np.ndarray, areas: np.ndarray, patches: np.ndarray, numbers: np.ndarray, count: int) -> np.ndarray:
    """Light of patches [2 n, c] at both sides of the corners [2 corners, c]: the mean of the elements about each, by area."""
    columns = []
    for side in (0, 1):
        rows, of_element = numbers.astype(np.int64).reshape(-1), light[2 * patches.astype(np.int64) + side]
        weights = np.bincount(rows, np.repeat(areas, 3), count)
        sums = [np.bincount(rows, np.repeat(areas * of_element[:, c], 3), count) for c in range(light.shape[1])]
        columns.append(np.stack(sums, axis=1) / np.maximum(weights, 1e-30)[:, None])
    return np.stack(columns, axis=1).reshape(2 * count, -1)


def _to_patches(at_corners: np.ndarray, areas: np.ndarray, patches: np.ndarray, numbers: np.ndarray) -> np.ndarray:
    """Light of one side at the corners [corners, c] in the mean over each patch [patches, c]."""
    of_element = at_corners[numbers].mean(axis=1)
    sums = [np.bincount(patches, areas * of_element[:, c]) for c in range(of_element.shape[1])]
    return np.stack(sums, axis=1) / np.maximum(np.bincount(patches, areas), 1e-30)[:, None]


def _serve(job: Any, wanted: BakedSettings, arrays: dict[str, np.ndarray], notes: dict[str, Any]) -> Bake:
    light, numbers, patches = arrays["light"], arrays["numbers"], arrays["patches"]
    corners = int(notes["corners"])
    _refuse_placed(job)
    if len(arrays["split"]) < len(job.arrays.corners) or int(numbers.max(initial=-1)) >= corners:
        raise InputError("The bake belongs to another shape of the scene and can't be used; unlock or delete it on the caches page.")
    for k in range(wanted.smoothing):
        at_corners = _to_corners(light, arrays["areas"], patches, numbers, corners)
        if k == wanted.smoothing - 1:
            light = at_corners
        else:
            sides = [_to_patches(at_corners[side::2], arrays["areas"], patches, numbers) for side in (0, 1)]
            light = np.stack(sides, axis=1).reshape(light.shape)
    light = np.ascontiguousarray(light, np.float32)
    return Bake(arrays["split"], arrays["child"], arrays["element"], numbers, patches, light, wanted.smoothing == 0)


def _says(notes: dict[str, Any]) -> str:
    """What each stage did, in words."""
    solved = f"Solved in {notes['rounds']:.0f} rounds: about {notes['coming'] * 100:.1f} % of the light was still missing"
    solved += f", and the noise of an element's bounced light was about {notes['chance_solved'] * 100:.0f} %."
    if notes["refined"]:
        passes = "one pass" if notes["refined"] == 1 else f"{notes['refined']:.0f} passes"
        solved += f" Refined in {passes}: on the smaller elements the noise is about {notes['chance'] * 100:.0f} %."
    return solved + " Smoothing reduces the noise between neighbours, and blurs the light."


def _preview(arrays: dict[str, np.ndarray]) -> Preview:
    corners = arrays["corners"].reshape(-1, 3, 3)
    patches = arrays["patches"].astype(np.int64)
    light = arrays["light"][:, ALL : ALL + 3]
    light = np.stack([light[2 * patches], light[2 * patches + 1]], axis=1).reshape(-1, 3)
    brighter = np.where((light[0::2].sum(axis=1) > light[1::2].sum(axis=1))[:, None], light[0::2], light[1::2])
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return Preview(corners, np.zeros(len(corners)), brighter, "triangles", normals)


def _nodes(arrays: dict[str, np.ndarray]) -> int:
    return len(arrays["split"])


def _elements(arrays: dict[str, np.ndarray]) -> int:
    return len(arrays["numbers"])


def _is_sound(arrays: dict[str, np.ndarray]) -> bool:
    """Whether every walk down a tree ends: children come after their parents."""
    inner = np.flatnonzero(arrays["split"] != LEAF)
    return bool((arrays["child"][inner] > inner).all())


WAY = Way(
    key="baked",
    code=BAKED,
    title="a bake",
    seen=True,
    beyond=True,
    does="Solves light on the surfaces themselves, once, for any camera; stills need a final gather.",
    costs="Shadows and smears follow its mesh, leaks where elements cross a wall; stale after any change.",
    question="How light is baked",
    settings=BakedSettings,
    kind="bake",
    nothing=Bake(
        np.zeros(0, np.int8),
        np.zeros(0, np.int32),
        np.zeros(0, np.int32),
        np.zeros((0, 3), np.int32),
        np.zeros(0, np.int32),
        np.zeros((0, 6), np.float32),
        False,
    ),  # fmt: skip
    makes=lambda wanted, recipe: (
        wanted.model_dump(exclude={"smoothing", "final_gather_rays"}),
        recipe.of("caustics").on,
        recipe.limits.ray_offset,
    ),  # fmt: skip
    depends=("geometry", "surfaces", "lights"),
    make=_make,
    serve=_serve,
    lookup=_lookup,
    preview=_preview,
    says=_says,
    points=lambda arrays: (len(arrays["numbers"]), "elements"),
    holds={
        "split": Table(0, whole=True, low=LEAF, high=lambda arrays: 2),
        "child": Table(0, whole=True, rows=_nodes, low=0, high=lambda arrays: max(0, _nodes(arrays) - 2)),
        "element": Table(0, whole=True, rows=_nodes, low=0, high=lambda arrays: max(0, _elements(arrays) - 1)),
        "numbers": Table(3, whole=True, low=0, high=lambda arrays: 3 * _elements(arrays)),
        "patches": Table(0, whole=True, rows=_elements, low=0, high=lambda arrays: len(arrays["light"]) // 2 - 1),
        "areas": Table(0, rows=_elements, places=1),
        "light": Table(6),
        "corners": Table(9, rows=_elements, places=9),
        "landings": Table(0),
    },
    sound=_is_sound,
    tells=("corners", "coming", "rounds", "refined", "chance", "chance_solved"),
    interpolates=True,
    suspects=suspects,
    distances=lambda arrays, notes: {"baked.max_edge": float(edge_for(arrays, ELEMENTS))},
    chance=lambda own, recipe: 0.3,
    chance_beyond=0.08,
    pilots={"baked": 60.0},
    small={"shots": 1000, "samples": 1, "max_edge": 1.0},
)
