"""Stored facts about a scene that is not in memory: its cameras, size, notes and lights."""

from pathlib import Path
from typing import Any

import numpy as np

from ..core.finish.finishing import measured_exposure
from ..core.measure.noise import LUMINANCE, noise_level
from ..core.pack.texture_memory import limit
from ..core.pictures.exr import Picture, write_exr
from ..core.scene.model import Scene
from ..core.scene.placed_mesh import PlacedMesh
from ..core.scene.sanitize import textures_of

CAMERA = "picture"
"""Name of the camera of pictures from elsewhere."""


def facts_of(scene: Scene) -> dict[str, Any]:
    """cameras [{"name", "exposure"}], triangles, notes, lights (see light_facts), and of a moving shot its frames: first, last,
    how many a second."""
    cameras = [{"name": c.name, "exposure": c.exposure} for c in scene.cameras]
    frames = [scene.frames.first, scene.frames.last, scene.frames.rate] if scene.frames is not None else []
    return {
        "cameras": cameras,
        "triangles": scene.triangle_count(),
        "notes": scene.notes,
        "lights": light_facts(scene),
        "frames": frames,
    }


BYTES_A_TRIANGLE, BYTES_A_PLACEMENT, SECONDS_A_TRIANGLE = 340, 2000, 3.5e-6
"""What a stored triangle takes from its file to its hierarchy, and a placement; measured by `bench instances`."""


def load_of(scene: Scene) -> dict[str, float]:
    """What a scene asks of the machine until it can be rendered: triangles, with those of every placement; stored: each shape once; placements; bytes
    and seconds, roughly."""
    shapes = {id(mesh.shape): mesh.shape for mesh in scene.meshes if isinstance(mesh, PlacedMesh)}
    placements = sum(isinstance(mesh, PlacedMesh) for mesh in scene.meshes)
    stored = sum(shape.count for shape in shapes.values()) + sum(mesh.count for mesh in scene.meshes if not isinstance(mesh, PlacedMesh))
    images = {id(texture.texels): texture.texels for texture, _ in textures_of(scene)}.values()
    mapped, copied = sum(image.mapped_bytes for image in images), sum(image.nbytes - image.mapped_bytes for image in images)
    held = stored * BYTES_A_TRIANGLE + placements * BYTES_A_PLACEMENT + 2 * copied + min(mapped, limit())
    return {
        "triangles": scene.triangle_count(), "stored": stored, "placements": placements, "bytes": held, "seconds": stored * SECONDS_A_TRIANGLE,
    }  # fmt: skip


def facts_of_picture(picture: Picture, suffix: str, out: Path) -> dict[str, Any]:
    """Write a picture from elsewhere as EXR to `out`; returns its size, passes, noise or None, mean light, and initial
    exposure: 0 if it was made for the screen, else a measured one."""
    linear = suffix.lower() in (".exr", ".hdr")
    picture.camera = CAMERA
    write_exr(out, picture)
    return {
        "size": [picture.frame.width, picture.frame.height], "region": list(picture.frame.region) if picture.frame.region else None,
        "seed": picture.frame.seed, "passes": list(picture.passes), "noise": noise_level(picture),
        "light": float((picture.beauty[..., :3] @ LUMINANCE).mean()),
        "exposure": round(measured_exposure(picture.beauty), 2) if linear else 0.0,
    }  # fmt: skip


def light_facts(scene: Scene) -> list[dict[str, Any]]:
    """What pages need to know of each light, in the terms of edits, and of each glowing mesh."""
    facts = []
    for light in scene.lights:
        shape, at = light.shaping, np.asarray(light.position, float)
        towards = at - light.frame[2]
        facts.append(
            {
                "name": light.name, "kind": light.kind, "intensity": light.intensity, "exposure": light.exposure, "color": list(light.color),
                "temperature": light.temperature or 0.0, "normalize": light.normalize, "at": at.tolist(), "towards": towards.tolist(),
                "width": light.width, "height": light.height, "radius": light.radius, "length": light.length, "angle": light.angle,
                "cone_angle": shape.cone_angle, "cone_softness": shape.cone_softness, "focus": shape.focus,
                "profile": "the file's" if shape.profile else "",
                "panorama": "the file's" if light.picture else "", "rotation": light.rotation, "diffuse": light.diffuse, "specular": light.specular,
                "link": _link(light.lit), "shadow_link": _link(light.shadowing), "shadows.way": light.shadow.way or "", "mesh": False,
                "group": light.group,
            }
        )  # fmt: skip
    worn = {id(mesh.surfaces): np.unique(mesh.surfaces) for mesh in scene.meshes}
    for mesh in scene.meshes:
        glow = [s for s in worn[id(mesh.surfaces)] if max(scene.surfaces[s].emission) > 0.0 or scene.surfaces[s].emission_map]
        if glow:
            count = int(np.isin(mesh.surfaces, glow).sum())
            facts.append({"name": mesh.name, "kind": "mesh", "mesh": True, "aimed": mesh.aimed, "triangles": count})
    return facts


def _link(members: frozenset[str] | None) -> str:
    return "all" if members is None else ", ".join(sorted(members)[:20])
