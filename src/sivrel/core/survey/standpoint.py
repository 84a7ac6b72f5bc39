"""What a point in the air of a shot sees, and what lights it."""

from typing import Any

import numpy as np

from .look import Look

ROUND, SPHERE = 720, 4096
MOST_NAMED = 8


def seen_from(look: Look, at: np.ndarray) -> dict[str, Any]:
    """The view from `at`, metres: `outline`, the points [x, y, z] where level rays end; `open`, the share of all rays that leave the scene;
    `things`, (object, share of all rays), most first; `lights`, for each light its luminance with and without blockers,
    and what blocks it; `inside`, the solid that contains the point, if any."""
    turn = 2.0 * np.pi * np.arange(ROUND) / ROUND
    level = np.stack([np.cos(turn), np.zeros(ROUND), np.sin(turn)], axis=1)
    _, distance = look.cast(np.broadcast_to(at, level.shape), level)
    low, high = look.scene.bounds()
    reach = float(np.linalg.norm(high - low))
    outline = at + level * np.minimum(distance, reach)[:, None]
    rays = look.directions(SPHERE)
    hits, _ = look.cast(np.broadcast_to(at, rays.shape), rays)
    counts = np.bincount(look.object_of[hits[hits >= 0]], minlength=len(look.meshes)) / SPHERE
    things = [(look.meshes[k].name, round(float(counts[k]), 4)) for k in np.argsort(-counts, kind="stable")[:MOST_NAMED] if counts[k] > 0.0]
    arrives, unhindered = look.light_at(at[None], None, 64)
    solid = look.solid_at(at)
    lights: list[dict[str, Any]] = [
        {"name": light.name, "brings": float(arrives[0, i]), "unhindered": float(unhindered[0, i]), "behind": _in_the_way(look, at, i)}
        for i, light in enumerate(look.lights)
    ]
    lights.sort(key=lambda one: (-one["brings"], -one["unhindered"]))
    return {
        "at": at.tolist(), "outline": np.round(outline, 3).tolist(), "open": round(float((hits < 0).mean()), 4), "things": things, "lights": lights,
        "inside": solid.name if solid else None,
    }  # fmt: skip


def _in_the_way(look: Look, at: np.ndarray, i: int) -> str | None:
    """The first blocker between a point and the centre of a light; None for a sky, or if there is none."""
    light = look.lights[i]
    if light.kind in ("dome", "mesh"):
        return None
    way = light.frame[2] if light.kind == "sun" else np.asarray(light.position, float) - at
    length = float(np.linalg.norm(way))
    hits, distance = look.cast(at[None], (way / max(length, 1e-9))[None])
    if hits[0] < 0 or (light.kind != "sun" and distance[0] > length * 0.999 - light.radius):
        return None
    return look.meshes[int(look.object_of[hits[0]])].name
