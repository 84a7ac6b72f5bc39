"""Shots of different character, made by chance, on which ways of light are matched and advised."""

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from sivrel.core.scene.frames import upright_frame
from sivrel.core.scene.model import Scene, Surface
from tests import rooms
from tests.rooms import Room, ball, exposed, room


def sunny(r: Room) -> None:
    """A room with sun on its floor."""
    out = np.array([1.0, 0.75, -0.1])
    r.light("Sun", frame=upright_frame(out), position=tuple(out * 10.0), intensity=3.0)


def evening(r: Room) -> None:
    """A closed room with a small lamp."""
    r.scene.lights[:] = [light for light in r.scene.lights if light.name == "Lamp"]


def overcast(r: Room) -> None:
    """A room lit through its window alone, by the sky."""
    r.scene.lights[:] = [light for light in r.scene.lights if light.name == "Sky"]


def outside(r: Room) -> None:
    """What stood in the room, in the open."""
    r.scene.meshes[:] = [mesh for mesh in r.scene.meshes if mesh.name == "/Room/Floor" or mesh.name not in {f"/Room/{slab}" for slab in r.slabs}]
    r.scene.lights[:] = [light for light in r.scene.lights if light.name in ("Sun", "Sky")]


def courtyard(r: Room) -> None:
    """A room without its ceiling, under sun and sky."""
    r.scene.meshes[:] = [mesh for mesh in r.scene.meshes if mesh.name != "/Room/Ceiling"]
    r.scene.lights[:] = [light for light in r.scene.lights if light.name in ("Sun", "Sky")]


def glass(r: Room) -> None:
    """A glass ball under a bright lamp."""
    r.scene.lights[:] = [replace(light, intensity=200.0, radius=0.03) for light in r.scene.lights if light.name == "Lamp"]
    r.scene.surfaces.append(Surface("Crystal", (1.0, 1.0, 1.0), roughness=0.0, opacity=0.0, ior=1.5, see_through="solid"))
    old = r.mesh("/Room/Ball").vertices.reshape(-1, 3)
    at = (old.min(axis=0) + old.max(axis=0)) / 2.0
    r.put(ball("/Room/Ball", np.array([at[0], 0.92, at[2]]), 0.17, len(r.scene.surfaces) - 1, 20))


def metal(r: Room) -> None:
    """A room in brushed steel."""
    r.scene.surfaces[rooms.WALLS] = Surface("Plaster", (0.8, 0.8, 0.8), roughness=0.35, metallic=1.0)
    r.scene.surfaces[rooms.WOOD] = Surface("Wood", (0.7, 0.6, 0.4), roughness=0.2, metallic=1.0)


def lanterns(r: Room) -> None:
    """A room with a dozen small lamps."""
    rooms.many_lights(r)
    r.scene.lights[:] = [light for light in r.scene.lights if light.name.startswith("Bulb")]


CHARACTERS: tuple[Callable[[Room], None], ...] = (sunny, evening, overcast, outside, courtyard, glass, metal, lanterns)


def shot_of(character: Callable[[Room], None], seed: int) -> Scene:
    made = room(seed)
    character(made)
    return exposed(made).scene
