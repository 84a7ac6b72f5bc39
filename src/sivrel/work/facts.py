"""What the program keeps of a scene that it does not hold: its cameras, its size, its notes, its lights."""

from typing import Any

import numpy as np

from ..core.scene.model import Scene


def facts_of(scene: Scene) -> dict[str, Any]:
    """cameras [{"name", "exposure"}], triangles, notes, and lights, see light_facts."""
    cameras = [{"name": c.name, "exposure": c.exposure} for c in scene.cameras]
    return {"cameras": cameras, "triangles": scene.triangle_count(), "notes": scene.notes, "lights": light_facts(scene)}


def light_facts(scene: Scene) -> list[dict]:
    """What the pages need of each light, as edits would say it, and of each mesh that glows."""
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
                "panorama": "the file's" if light.panorama else "", "rotation": light.rotation, "diffuse": light.diffuse, "specular": light.specular,
                "link": _link(light.lit), "shadow_link": _link(light.shadowing), "shadows.way": light.shadow.way or "", "mesh": False,
            }
        )  # fmt: skip
    for mesh in scene.meshes:
        glow = [s for s in np.unique(mesh.surfaces) if max(scene.surfaces[s].emission) > 0.0 or scene.surfaces[s].emission_map]
        if glow:
            count = int(np.isin(mesh.surfaces, glow).sum())
            facts.append({"name": mesh.name, "kind": "mesh", "mesh": True, "aimed": mesh.aimed, "triangles": count})
    return facts


def _link(members: frozenset[str] | None) -> str:
    return "all" if members is None else ", ".join(sorted(members)[:20])
