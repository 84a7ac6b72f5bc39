"""Rooms made by chance, in which everything is right, and the faults that can be planted in them: what a survey is held to.

A room is walls, floor and ceiling as closed slabs, a window, a door, some furniture, a sun and a sky outside, a lamp inside, and a camera.
"""

from dataclasses import dataclass, field, replace

import numpy as np

from sivrel.core.edits.mending import box_triangles, flat_normals, subdivided
from sivrel.core.finish.finishing import measured_exposure
from sivrel.core.render.film import film_beauty, film_columns
from sivrel.core.render.frame import Frame, assemble
from sivrel.core.render.prepare import prepare
from sivrel.core.render.recipe import Recipe, with_values
from sivrel.core.render.tiles import render_tiles
from sivrel.core.scene.frames import upright_frame
from sivrel.core.scene.model import Camera, Light, Mesh, Scene, Shaping, Surface, Texture
from sivrel.core.scene.texels import texels_of

WALLS, FLOOR, WOOD, CLOTH, GLOW, METAL = range(6)


@dataclass
class Room:
    """scene: as it is; size: width, height, depth of the inside in metres, its corner at the origin; rng: of its furniture and faults;
    slabs: low and high corner of each wall's box; values: of the recipe that it is surveyed for."""

    scene: Scene
    size: np.ndarray
    rng: np.random.Generator
    slabs: dict[str, tuple[np.ndarray, np.ndarray]] = field(default_factory=dict)
    values: dict = field(default_factory=dict)

    def mesh(self, name: str) -> Mesh:
        return next(m for m in self.scene.meshes if m.name == name)

    def put(self, mesh: Mesh) -> None:
        """A mesh in place of the one of its name, or a new one."""
        self.scene.meshes[:] = [m for m in self.scene.meshes if m.name != mesh.name] + [mesh]

    def light(self, name: str, **changes) -> None:
        k = next(k for k, light in enumerate(self.scene.lights) if light.name == name)
        self.scene.lights[k] = replace(self.scene.lights[k], **changes)


def made(name: str, vertices: np.ndarray, surface: int, double_sided: bool = False) -> Mesh:
    v = np.ascontiguousarray(vertices, np.float32)
    mesh = Mesh.of(name, v, flat_normals(v).astype(np.float32), np.zeros((len(v), 3, 2), np.float32), np.full(len(v), surface, np.uint32))
    return replace(mesh, double_sided=double_sided)


def box(name: str, low, high, surface: int) -> Mesh:
    return made(name, box_triangles(np.asarray(low, float), np.asarray(high, float)), surface)


def ball(name: str, at, radius: float, surface: int, steps: int = 16) -> Mesh:
    """A closed ball that faces outwards."""
    a, b = np.linspace(0.0, np.pi, steps + 1), np.linspace(0.0, 2.0 * np.pi, 2 * steps + 1)[:-1]
    p = np.stack([np.sin(a)[:, None] * np.cos(b), np.cos(a)[:, None] * np.ones(2 * steps), np.sin(a)[:, None] * np.sin(b)], -1)
    triangles = []
    for i in range(steps):
        for j in range(2 * steps):
            q = (p[i, j], p[i, (j + 1) % (2 * steps)], p[i + 1, (j + 1) % (2 * steps)], p[i + 1, j])
            triangles += [t for t, end in (((q[0], q[1], q[2]), i > 0), ((q[0], q[2], q[3]), i < steps - 1)) if end]
    return made(name, np.array(triangles) * radius + np.asarray(at), surface)


def room(seed: int) -> Room:
    """A room without a fault."""
    rng = np.random.default_rng(seed)
    w, h, d = size = np.array([rng.uniform(3.2, 6.0), rng.uniform(2.3, 3.1), rng.uniform(3.2, 6.0)])
    t = rng.uniform(0.2, 0.4)
    surfaces = [
        Surface("Plaster", tuple(rng.uniform(0.6, 0.8, 3)), ior=1.0), Surface("Boards", tuple(rng.uniform(0.2, 0.4, 3)), ior=1.0),
        Surface("Wood", tuple(rng.uniform(0.2, 0.5, 3)), roughness=0.6), Surface("Cloth", tuple(rng.uniform(0.1, 0.6, 3)), ior=1.0),
        Surface("Ember", (0.1, 0.1, 0.1), emission=(1.0, 0.6, 0.3)), Surface("Steel", (0.95, 0.95, 0.95), roughness=0.3, metallic=1.0),
    ]  # fmt: skip
    scene = Scene("room", [], surfaces)
    made_room = Room(scene, size, rng)
    z0, z1 = d * 0.3, d * 0.3 + rng.uniform(0.9, 1.3)
    y0, y1 = 0.9, rng.uniform(1.8, 2.1)
    e = 0.02  # slabs are let into each other by this, so that no ray slips through a joint
    slabs = {
        "Floor": ((-t, -t, -t), (w + t, 0.0, d + t)), "Ceiling": ((-t, h, -t), (w + t, h + t, d + t)),
        "North": ((-t, -e, -t), (w + t, h + e, 0.0)), "South": ((-t, -e, d), (w + t, h + e, d + t)),
        "East": ((-t, -e, -e), (0.0, h + e, d + e)),
        "West/Left": ((w, -e, -e), (w + t, h + e, z0)), "West/Right": ((w, -e, z1), (w + t, h + e, d + e)),
        "West/Below": ((w, -e, z0 - e), (w + t - 1e-3, y0, z1 + e)), "West/Above": ((w, y1, z0 - e), (w + t - 1e-3, h + e, z1 + e)),
    }  # fmt: skip
    for name, (low, high) in slabs.items():
        made_room.slabs[name] = np.array(low), np.array(high)
        # Cut up as for a bake.
        scene.meshes.append(subdivided(box(f"/Room/{name}", low, high, FLOOR if name == "Floor" else WALLS), 1.3))
    x, z = w * rng.uniform(0.35, 0.5), d * rng.uniform(0.35, 0.5)
    scene.meshes.append(box("/Room/Table/Top", (x - 0.6, 0.70, z - 0.4), (x + 0.6, 0.74, z + 0.4), WOOD))
    for k, (sx, sz) in enumerate(((-1, -1), (-1, 1), (1, -1), (1, 1))):
        at = np.array([x + sx * 0.52, 0.0, z + sz * 0.32])
        scene.meshes.append(box(f"/Room/Table/Leg{k}", at - [0.03, 0.0, 0.03], at + [0.03, 0.705, 0.03], WOOD))
    scene.meshes.append(box("/Room/Door", (0.004, 0.0, d * 0.55), (0.05, 2.0, d * 0.55 + 0.85), WOOD))
    cx = rng.uniform(0.5, 0.9)
    scene.meshes.append(subdivided(box("/Room/Chest", (cx, 0.001, 0.05), (cx + 0.9, 0.55, 0.5), CLOTH), 0.15))
    scene.meshes.append(ball("/Room/Ball", (x - 0.2, 0.742 + 0.13, z), 0.13, CLOTH, 12))
    scene.meshes.append(ball("/Room/Urn", (w * 0.7, 0.3, 0.5), 0.29, METAL, 12))
    sun = np.array([rng.uniform(0.6, 1.0), rng.uniform(0.35, 0.8), rng.uniform(-0.3, 0.3)])
    scene.lights += [
        Light("Sun", "sun", (4.0, 3.8, 3.4), angle=0.53, normalize=True, frame=upright_frame(sun), position=tuple(sun * 10.0)),
        Light("Sky", "dome", (0.9, 1.0, 1.2)),
        Light("Lamp", "sphere", (1.0, 0.8, 0.6), intensity=40.0, radius=0.05, position=(x + 0.2, 1.9, z)),
        Light("Panel", "rect", (1.0, 1.0, 1.0), intensity=4.0, width=0.6, height=0.4, position=(w * 0.5, h - 0.05, d * 0.7),
              frame=upright_frame(np.array([0.0, 1.0, 0.0]))),
    ]  # fmt: skip
    scene.cameras.append(looking_at("Eye", (w * 0.55, rng.uniform(1.4, 1.7), d - 0.35), (w * 0.42, 0.9, 0.3)))
    return exposed(made_room)


def looking_at(name: str, at, towards, exposure: float = 0.0) -> Camera:
    back = np.asarray(at, float) - np.asarray(towards, float)
    return Camera(name, np.column_stack([upright_frame(back).T, at]), 0.85, exposure=exposure)


def exposed(made_room: Room) -> Room:
    """The room with its camera's exposure set by a small render."""
    tiles: dict = {}
    frame = Frame(32, 18, seed=5)
    ready = prepare(made_room.scene, with_values(Recipe(), {"gi.seen": "off"}))
    render_tiles(ready.arrays, ready.camera, with_values(Recipe(), {"sampling.max": 4}), frame, tiles.__setitem__, threads=2)
    exposure = measured_exposure(film_beauty(assemble(frame, film_columns(ready.arrays.slots), tiles)))
    made_room.scene.cameras[:] = [replace(camera, exposure=exposure) for camera in made_room.scene.cameras]
    return made_room


# Faults. Each takes a room, and returns what a survey must call it and, where it has one, its object.


def scale(r: Room):
    factor = r.rng.choice([100.0, 1000.0, 39.3701, 0.01])
    r.scene.meshes[:] = [m.changed(vertices=(m.vertices * factor).astype(np.float32)) for m in r.scene.meshes]
    r.scene.cameras[:] = [replace(c, to_world=np.column_stack([c.to_world[:, :3], c.to_world[:, 3] * factor])) for c in r.scene.cameras]
    r.scene.lights[:] = [
        replace(x, position=tuple(np.array(x.position) * factor), radius=x.radius * factor, width=x.width * factor, height=x.height * factor)
        for x in r.scene.lights
    ]
    return "scale", None


def outlier(r: Room):
    at = r.rng.choice([-1.0, 1.0], 3) * r.rng.uniform(600.0, 3000.0, 3)
    r.put(box("/Lost", at, at + 1.0, WOOD))
    return "outlier", "/Lost"


def sheet(r: Room):
    wall = r.rng.choice(["North", "East"])
    w, h, d = r.size
    corners = {"North": [(-0.1, -0.02, 0), (w + 0.1, -0.02, 0), (w + 0.1, h + 0.02, 0), (-0.1, h + 0.02, 0)],
               "East": [(0, -0.02, d + 0.1), (0, -0.02, -0.1), (0, h + 0.02, -0.1), (0, h + 0.02, d + 0.1)]}[wall]  # fmt: skip
    a, b, c, e = np.array(corners)
    if r.rng.random() < 0.5:  # its front may be either side
        a, b, c, e = e, c, b, a
    r.put(subdivided(made(f"/Room/{wall}", np.array([(a, b, c), (a, c, e)]), WALLS), 0.8))
    return "sheet", f"/Room/{wall}"


def gap(r: Room):
    wall = r.rng.choice(["North", "East", "South"])
    low, high = r.slabs[wall]
    high = high - [0.0, 0.02 + r.rng.uniform(0.006, 0.04), 0.0]
    r.put(subdivided(box(f"/Room/{wall}", low, high, WALLS), 1.3))
    return "gap", f"/Room/{wall}"


def coincident(r: Room):
    w, _, d = r.size
    rug = np.array([(w * 0.3, 0.0, d * 0.3), (w * 0.3, 0.0, d * 0.8), (w * 0.8, 0.0, d * 0.8), (w * 0.8, 0.0, d * 0.3)])
    r.put(made("/Room/Rug", rug[[[0, 1, 2], [0, 2, 3]]], CLOTH))
    return "coincident", "/Room/Rug"


def interpenetrating(r: Room):
    chest = r.mesh("/Room/Chest")
    depth = np.ptp(chest.vertices[..., 2])
    r.put(chest.changed(vertices=chest.vertices - np.float32([0.0, 0.0, 0.05 + depth * r.rng.uniform(0.45, 0.6)])))
    return "interpenetrating", "/Room/Chest"


def mixed_faces(r: Room):
    chest = r.mesh("/Room/Chest")
    over = r.rng.random(len(chest.vertices)) < 0.25
    r.put(made(chest.name, np.where(over[:, None, None], chest.vertices[:, ::-1], chest.vertices), CLOTH))
    return "mixed faces", "/Room/Chest"


def inside_out(r: Room):
    name = r.rng.choice(["/Room/Ball", "/Room/Chest", "/Room/Urn"])
    r.put(made(name, r.mesh(name).vertices[:, ::-1], CLOTH))
    return "inside out", name


def glows_away(r: Room):
    w, h, _ = r.size
    a = np.array([(w * 0.4, h * 0.4, 0.05), (w * 0.7, h * 0.4, 0.05), (w * 0.7, h * 0.7, 0.05), (w * 0.4, h * 0.7, 0.05)])
    r.put(made("/Room/Screen", a[[[0, 2, 1], [0, 3, 2]]], GLOW))
    return "glows away", "/Room/Screen"


def hole(r: Room):
    wall = r.mesh("/Room/North")
    inner = np.flatnonzero((np.abs(wall.vertices[..., 2]) < 1e-5).all(axis=1))
    middle = wall.vertices[inner].mean(axis=1)
    near = inner[np.argsort(np.linalg.norm(middle - [r.size[0] * 0.45, 1.3, 0.0], axis=1))[: r.rng.integers(1, 4)]]
    r.put(made(wall.name, np.delete(wall.vertices, near, axis=0), WALLS))
    return "hole", "/Room/North"


def too_dense(r: Room):
    r.put(ball("/Room/Ball", (r.size[0] * 0.5, 0.9, 0.4), 0.02, CLOTH, 150))
    return "too dense", "/Room/Ball"


def slivers(r: Room):
    x, z = r.size[0] * 0.5, 0.3
    fan = np.linspace(0.0, 1.0, 40)
    tops = np.column_stack([np.full(40, x), np.full(40, 0.5), z + fan * 0.002])
    r.put(made("/Room/Comb", np.array([(tops[k], tops[k + 1], (x + 0.5, 0.5, z)) for k in range(39)]), CLOTH, double_sided=True))
    return "slivers", "/Room/Comb"


def huge_polygons(r: Room):
    low, high = r.slabs["North"]
    r.put(box("/Room/North", low, high, WALLS))
    r.values = {"gi.seen": "baked"}
    return "huge polygons", "/Room/North"


def one_object(r: Room):
    names = [f"/Room/{n}" for n in ("Floor", "Ceiling", "North", "East", "South")]
    v = np.concatenate([r.mesh(n).vertices for n in names])
    r.scene.meshes[:] = [m for m in r.scene.meshes if m.name not in names]
    r.put(made("/Room/Shell", v, WALLS))
    return "one object", "/Room/Shell"


def light_inside(r: Room):
    chest = r.mesh("/Room/Chest").vertices.reshape(-1, 3)
    r.light("Lamp", position=tuple(chest.mean(axis=0).tolist()))
    return "light inside", "Lamp"


def light_behind(r: Room):
    r.light("Lamp", position=(r.size[0] * 0.5, 1.5, -1.5))
    return "light behind", "Lamp"


def light_turned_away(r: Room):
    at = (r.size[0] * 0.5, r.size[1] - 0.002, r.size[2] * 0.7)
    r.light("Panel", frame=upright_frame(np.array([0.0, -1.0, 0.0])), position=at)
    return "light turned away", "Panel"


def linked_to_nothing(r: Room):
    r.light("Lamp", lit=frozenset())
    return "idle light", "Lamp"


def light_at_zero(r: Room):
    r.light(r.rng.choice(["Lamp", "Panel"]), intensity=0.0)
    return "idle light", None


def idle_lights(r: Room):
    for k in range(12):
        at = r.rng.uniform(0.2, 0.8, 3) * r.size
        r.scene.lights.append(Light(f"Spark{k}", "sphere", intensity=1e-3, radius=0.01, position=tuple(at.tolist())))
    return "idle lights", None


def many_lights(r: Room):
    for k in range(12):
        at = r.rng.uniform(0.2, 0.8, 3) * r.size
        r.scene.lights.append(Light(f"Bulb{k}", "sphere", intensity=20.0, radius=0.02, position=tuple(at.tolist())))
    exposed(r)
    return "many lights", "Bulb3"


def dome_blocked(r: Room):
    low, high = r.slabs["West/Left"][0], r.slabs["West/Right"][1]
    r.put(box("/Room/Shutter", low - [0.01, 0.0, 0.05], high + [0.013, 0.03, 0.05], WALLS))
    return "dome blocked", "Sky"


def two_suns(r: Room):
    light = np.full((64, 128, 4), 0.3, np.float32)
    light[20, 30] = 4000.0
    r.light("Sky", picture=Texture(texels_of(light), ("repeat", "clamp")))
    return "two suns", "Sky"


def small_glow(r: Room):
    r.scene.lights[:] = [x for x in r.scene.lights if x.kind in ("sun", "dome")]
    r.scene.surfaces.append(Surface("Filament", (0.1, 0.1, 0.1), emission=(9000.0, 7000.0, 5000.0)))
    r.put(ball("/Room/Bulb", (r.size[0] * 0.5, r.size[1] - 0.3, r.size[2] * 0.5), 0.02, len(r.scene.surfaces) - 1, 6))
    exposed(r)
    return "small glow", "/Room/Bulb"


def too_bright(r: Room):
    r.scene.surfaces[WALLS] = replace(r.scene.surfaces[WALLS], base_color=(0.97, 0.96, 0.95))
    exposed(r)
    return "too bright a surface", None


def camera_inside(r: Room):
    w, h, d = r.size
    r.scene.cameras[:] = [looking_at("Eye", (w * 0.5, 1.5, d + 0.1), (w * 0.5, 1.0, 0.0), r.scene.cameras[0].exposure)]
    return "camera inside", "Eye"


def camera_turned_away(r: Room):
    at = r.scene.cameras[0].to_world[:, 3] + (0.0, 30.0, 0.0)
    r.scene.cameras[:] = [looking_at("Eye", at, at + (0.1, 5.0, 0.0), r.scene.cameras[0].exposure)]
    return "camera sees nothing", "Eye"


def camera_too_near(r: Room):
    eye = r.scene.cameras[0].to_world
    at = eye[:, 3] - eye[:, 2] * 0.03
    r.put(box("/Room/Post", at - [0.008, 1.0, 0.008], at + [0.008, 0.5, 0.008], WOOD))
    return "camera too near", "/Room/Post"


def exposure(r: Room):
    stops = r.rng.choice([-1.0, 1.0]) * r.rng.uniform(4.5, 7.0)
    r.scene.cameras[:] = [replace(c, exposure=c.exposure + stops) for c in r.scene.cameras]
    return "exposure", "Eye"


def niche(r: Room) -> None:
    """Not a fault: a cupboard of thin boards beside the table, open to the camera and dark inside."""
    x, z, t = r.size[0] * 0.72, r.size[2] * 0.42, 0.015
    for name, low, high in (("Left", (0, 0, 0), (t, 0.6, 0.8)), ("Right", (0.7 - t, 0, 0), (0.7, 0.6, 0.8)), ("Back", (t, 0, 0), (0.7 - t, 0.6, t)),
                            ("Top", (0, 0.6, 0), (0.7, 0.6 + t, 0.8))):  # fmt: skip
        r.put(box(f"/Room/Niche/{name}", np.add((x, 0.001, z), low), np.add((x, 0.001, z), high), WALLS))


def blind_is_no_fault(r: Room) -> None:
    """Not a fault: slats before the window."""
    w, y0 = r.size[0], r.slabs["West/Below"][1][1]
    y1, z0, z1 = r.slabs["West/Above"][0][1], r.slabs["West/Left"][1][2], r.slabs["West/Right"][0][2]
    for k, y in enumerate(np.linspace(y0, y1, 28)[1:-1]):
        r.put(box(f"/Room/Blind{k}", (w + 0.03, y, z0 - 0.01), (w + 0.05, y + 0.015, z1 + 0.01), WOOD))


def shaped_light_is_no_fault(r: Room) -> None:
    """Not a fault: a lamp with a narrow cone that points down."""
    r.light("Lamp", shaping=Shaping(cone_angle=35.0), frame=upright_frame(np.array([0.0, 1.0, 0.0])))


FAULTS = (
    scale, outlier, sheet, gap, coincident, interpenetrating, mixed_faces, inside_out, glows_away, hole, too_dense, slivers, huge_polygons,
    one_object,
    light_inside, light_behind, light_turned_away, linked_to_nothing, light_at_zero, idle_lights,
    many_lights, dome_blocked, two_suns, small_glow, too_bright,
    camera_inside, camera_turned_away, camera_too_near, exposure,
)  # fmt: skip
