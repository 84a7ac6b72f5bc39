"""Meshes that are far too fine for their size in the picture, and sliver triangles."""

import numpy as np

from ..scene.finer import edge_in_pixels
from ..scene.placed_mesh import PlacedMesh
from .finding import Mend, SceneFinding, box_of, point, short
from .look import COLUMNS, ROWS, Look

FULL_FRAME = 1920 * 1080
"""Pixels of the assumed frame."""
FULL_COLUMNS = 1920
SHOWS, TOO_LONG = 4.0, 2.0
"""Pixels of an edge that hardly shows; and how many times the length that is asked for is too long."""
MANY = 30_000
PER_PIXEL = 4.0
"""Triangles per covered pixel above which most are never visible."""
SLIVER, SLIVER_HEIGHT, SLIVER_LENGTH = 1000.0, 1e-4, 0.05
"""Aspect ratio of a sliver; its greatest height and least length in metres."""
SHARE_OF_SLIVERS, LEAST_SLIVERS = 0.1, 8


def check(look: Look) -> list[SceneFinding]:
    counts = np.bincount(look.object_of, minlength=len(look.meshes))
    filled = np.bincount(look.object_of[look.seen], minlength=len(look.meshes)) * (FULL_FRAME / (COLUMNS * ROWS))
    found = []
    total = counts.sum()
    # A shape that is stored once costs once: only the placement that fills most of the picture counts.
    fills: dict[int, int] = {}
    for k, mesh in enumerate(look.meshes):
        if isinstance(mesh, PlacedMesh):
            best = fills.setdefault(id(mesh.shape), k)
            if k != best:
                fewer, more = sorted((best, k), key=lambda one: filled[one])
                counts[fewer], fills[id(mesh.shape)] = 0, more
    for number in np.flatnonzero((counts > MANY) & (counts > PER_PIXEL * np.maximum(filled, 1.0))):
        name, v = look.meshes[number].name, look.vertices[look.object_of == number]
        keep = float(f"{min(0.5, max(0.01, 2.0 * max(filled[number], 500.0) / counts[number])):.2g}")
        pixels = f"{filled[number]:,.0f} pixels" if filled[number] else "no pixel"
        found.append(
            SceneFinding(
                "too dense", f"{short(name)} has {counts[number]:,} triangles for {pixels} of a full frame.",
                "They cost memory, loading time and, in a bake, a patch each; their detail is finer than a pixel.",
                harm=min(0.45, 0.2 + 0.25 * counts[number] / total), at=point(v.mean(axis=(0, 1))), box=box_of(v), objects=[name],
                evidence={"triangles": int(counts[number]), "pixels": int(filled[number]), "share_of_scene": round(float(counts[number] / total), 3)},
                mends=[
                    Mend(f"Keep {keep:.0%} of its triangles.", {f"object.{name}.triangles": keep}),
                    Mend("Replace it by its hull while lighting.", {f"object.{name}.shape": "hull"}),
                ],
                spot=look.spot(v[0, 0]),
            )
        )  # fmt: skip
    return [*found, *_coarse(look), *_slivers(look)]


def _coarse(look: Look) -> list[SceneFinding]:
    """Subdivision surfaces whose edges stay much longer in a full frame than the recipe asks for, the worst first, as one finding."""
    wanted = look.recipe.surfaces
    if wanted.subdivide_unit != "px":
        return []
    asked, steps = wanted.subdivide or SHOWS, wanted.subdivide_levels if wanted.subdivide else 0
    left: dict[int, float] = {}
    for number in np.unique(look.object_of[look.seen]).tolist():
        edge = edge_in_pixels(look.meshes[number], look.camera, FULL_COLUMNS)
        if edge is not None and edge / 2.0**steps > TOO_LONG * asked:
            left[number] = edge / 2.0**steps
    if not left:
        return []
    worst = sorted(left, key=lambda number: -left[number])
    mesh, longest = look.meshes[worst[0]], left[worst[0]]
    more = min(steps + int(np.ceil(np.log2(longest / asked))), 7)
    low, high = mesh.box()
    others = f" and {len(left) - 1} more" if len(left) > 1 else ""
    are = "is" if len(left) == 1 else "are"
    done = (
        f"{are} subdivided by at most {steps} {'step' if steps == 1 else 'steps'}"
        if steps
        else f"{are} rendered as {'its cage' if are == 'is' else 'cages'}"
    )
    return [
        SceneFinding(
            "coarse surface", f"{short(mesh.name)}{others} {done}: edges are up to {longest:.0f} px long in a full frame.",
            "Corners show in outlines, in highlights and in the ends of shadows.",
            harm=min(0.6, 0.1 + sum(look.share_of_mesh(number) for number in left)), at=point((low + high) / 2.0), box=(point(low), point(high)),
            objects=[look.meshes[number].name for number in worst[:20]], evidence={"edge_px": round(longest, 1), "asked_px": asked},
            mends=[Mend(f"Set surfaces.subdivide_levels to {more}." if steps else f"Set surfaces.subdivide to {SHOWS:.0f} px.")],
            spot=look.spot((low + high) / 2.0),
        )
    ]  # fmt: skip


def _slivers(look: Look) -> list[SceneFinding]:
    v = look.vertices
    edges = np.linalg.norm(v - np.roll(v, -1, axis=1), axis=2)
    longest = edges.max(axis=1)
    height = 2.0 * look.areas / np.maximum(longest, 1e-30)
    thin = (longest > SLIVER_LENGTH) & (height < SLIVER_HEIGHT) & (longest > SLIVER * height)
    thin &= edges.min(axis=1) > 1e-5 * longest  # a triangle with two corners in one place, as at the tip of a cone, is not a face
    found = []
    counts = np.bincount(look.object_of, minlength=len(look.meshes))
    slivers = np.bincount(look.object_of[thin], minlength=len(look.meshes))
    for number in np.flatnonzero((slivers >= LEAST_SLIVERS) & (slivers > SHARE_OF_SLIVERS * counts)):
        name, at = look.meshes[number].name, v[thin & (look.object_of == number)]
        found.append(
            SceneFinding(
                "slivers",
                f"{slivers[number]} of the {counts[number]} triangles of {short(name)} are slivers, less than {SLIVER_HEIGHT * 1000:g} mm high.",
                "Rays miss them, their normals are inaccurate, and a bake puts a patch on each.",
                harm=0.15 + 0.5 * look.share_of_mesh(int(number)), at=point(at[0].mean(axis=0)), box=box_of(at), objects=[name],
                evidence={"slivers": int(slivers[number]), "triangles": int(counts[number])},
                mends=[Mend("Remesh it: fewer triangles without slivers.", {f"object.{name}.triangles": 0.5})],
                spot=look.spot(at[0].mean(axis=0)),
            )
        )  # fmt: skip
    return found
