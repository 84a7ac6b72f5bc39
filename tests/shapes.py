"""Rooms that are no boxes, made of a room of rooms.py: sloped, curved, cluttered, open to the sky, with a thin partition.

Each takes a room and changes it in place. All but `sloped` come before a flaw is planted; `sloped` shears whatever stands there.
"""

from dataclasses import replace

import numpy as np

from sivrel.core.edits.mending import flat_normals, subdivided
from sivrel.core.scene.frames import upright_frame

from .rooms import CLOTH, FLOOR, WALLS, WOOD, Room, ball, box, exposed, made


def sloped(made_room: Room, across: float = 0.22, along: float = 0.12) -> None:
    """Shear a room, with what stands in it, by its height: walls slope as under a roof, and nothing is a box any more."""

    def leant(places: np.ndarray) -> np.ndarray:
        return places + places[..., 1:2] * np.array([across, 0.0, along])

    scene = made_room.scene
    scene.meshes[:] = [
        mesh.changed(vertices=v, normals=flat_normals(v).astype(np.float32))
        for mesh in scene.meshes
        for v in [np.ascontiguousarray(leant(mesh.vertices.astype(float)), np.float32)]
    ]
    scene.lights[:] = [
        light if light.kind in ("sun", "dome") else replace(light, position=tuple(leant(np.array(light.position, float)))) for light in scene.lights
    ]
    for k, camera in enumerate(scene.cameras):
        to_world = camera.to_world.copy()
        to_world[:, 3] = leant(to_world[:, 3])
        scene.cameras[k] = replace(camera, to_world=to_world)


def curved(r: Room) -> None:
    """A barrel vault under the ceiling, and two round columns."""
    width, height, depth = r.size
    spring, top = 2.15, height - 0.02
    x = np.linspace(-0.05, width + 0.05, 25)
    y = spring + (top - spring) * np.sqrt(np.clip(1.0 - ((x - width / 2.0) / (width / 2.0 + 0.05)) ** 2, 0.0, 1.0))
    r.put(made("/Room/Vault", _prism(np.column_stack([x, y]), height + 0.01, -0.05, depth + 0.05), WALLS))
    for k, place in enumerate((0.12, 0.82)):
        r.put(column(f"/Room/Column{k}", (width * place, -0.01, depth * 0.25), 0.16, height + 0.02))
    exposed(r)


def _prism(under: np.ndarray, top: float, z0: float, z1: float) -> np.ndarray:
    """Triangles of the solid between a line of (n, 2) places, left to right, and a level above them, from z0 to z1; they face outwards."""
    triangles = []
    for (xa, ya), (xb, yb) in zip(under[:-1], under[1:], strict=True):
        a0, b0, a1, b1 = (xa, ya, z0), (xb, yb, z0), (xa, ya, z1), (xb, yb, z1)
        c0, d0, c1, d1 = (xa, top, z0), (xb, top, z0), (xa, top, z1), (xb, top, z1)
        quads = [(a0, b0, b1, a1), (c0, c1, d1, d0), (a0, c0, d0, b0), (a1, b1, d1, c1)]
        triangles += [t for q in quads for t in ((q[0], q[1], q[2]), (q[0], q[2], q[3]))]
    for x, y, turn in ((*under[0], 1), (*under[-1], -1)):
        q = [(x, y, z0), (x, y, z1), (x, top, z1), (x, top, z0)][::turn]
        triangles += [(q[0], q[1], q[2]), (q[0], q[2], q[3])]
    return subdivided_triangles(np.array(triangles))


def subdivided_triangles(triangles: np.ndarray) -> np.ndarray:
    return subdivided(made("", triangles, WALLS), 0.8).vertices


def column(name: str, foot, radius: float, height: float, sides: int = 20):
    """A closed round column that stands on a place."""
    around = np.linspace(0.0, 2.0 * np.pi, sides + 1)
    x, z = foot[0] + radius * np.cos(around), foot[2] + radius * np.sin(around)
    low, high = foot[1], foot[1] + height
    triangles = []
    for k in range(sides):
        a, b = (x[k], low, z[k]), (x[k + 1], low, z[k + 1])
        c, d = (x[k], high, z[k]), (x[k + 1], high, z[k + 1])
        triangles += [(a, c, d), (a, d, b), (a, b, (foot[0], low, foot[2])), (c, (foot[0], high, foot[2]), d)]
    return made(name, np.array(triangles), WALLS)


def cluttered(r: Room) -> None:
    """Forty things along the walls and on the table."""
    width, _, depth = r.size
    table = r.mesh("/Room/Table/Top").vertices.reshape(-1, 3)
    low, high = table.min(axis=0), table.max(axis=0)
    for k in range(40):
        side = r.rng.uniform(0.06, 0.18) if k % 4 == 0 else r.rng.uniform(0.12, 0.35)
        if k % 4 == 0:  # on the table, clear of the ball
            at = np.array([r.rng.uniform(low[0] + 0.75, high[0] - 0.1), high[1], r.rng.uniform(low[2] + 0.1, high[2] - 0.1)])
        elif k % 4 == 1:
            at = np.array([r.rng.uniform(1.6, width - 0.3), 0.0, r.rng.uniform(0.05, 0.5)])
        elif k % 4 == 2:
            at = np.array([r.rng.uniform(0.1, 0.4), 0.0, r.rng.uniform(0.7, depth * 0.5)])
        else:
            at = np.array([r.rng.uniform(width - 0.5, width - 0.2), 0.0, r.rng.uniform(0.9, depth - 1.2)])
        if k % 3:
            half, tall = side / 2.0, side * r.rng.uniform(0.5, 1.6)
            r.put(box(f"/Room/Thing{k}", at + [-half, 0.001, -half], at + [half, tall, half], (WOOD, CLOTH, WALLS)[k % 3]))
        else:
            r.put(ball(f"/Room/Thing{k}", at + [0.0, side / 2.0 + 0.001, 0.0], side / 2.0, CLOTH, 8))
    exposed(r)


def open_air(r: Room) -> None:
    """A terrace: the floor goes on as ground, one wall is left, and the sun stands high over the camera's shoulder."""
    gone = ("Ceiling", "South", "East", "West/", "Door")
    r.scene.meshes[:] = [mesh for mesh in r.scene.meshes if not mesh.name.removeprefix("/Room/").startswith(gone)]
    r.scene.lights[:] = [light for light in r.scene.lights if light.kind != "rect"]
    r.put(subdivided(box("/Room/Floor", (-20.0, -0.4, -20.0), (r.size[0] + 20.0, 0.0, r.size[2] + 20.0), FLOOR), 5.0))
    for k in range(6):
        r.put(ball(f"/Room/Shrub{k}", (k * r.size[0] / 5.0, 0.3, -0.9), r.rng.uniform(0.5, 1.1), CLOTH, 12))
    out = np.array([0.7, 0.8, 0.5])
    r.light("Sun", frame=upright_frame(out), position=tuple(out * 10.0), intensity=3.0)
    exposed(r)


def partitioned(r: Room) -> None:
    """A partition of 12 mm before the north wall, with a dark closet behind it that the camera sees into from its open end."""
    width, height, _ = r.size
    r.scene.meshes[:] = [mesh for mesh in r.scene.meshes if mesh.name != "/Room/Urn"]
    r.put(subdivided(box("/Room/Partition", (-0.02, -0.02, 0.62), (width * 0.6, height + 0.02, 0.632), WALLS), 0.8))
    exposed(r)
