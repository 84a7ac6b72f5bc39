"""Fixes of a mesh, applied as edits: thickening, flipped faces, splitting, shorter edges, fewer triangles, plain shapes.

Each takes a mesh and returns a new one (or several); the file's own is never changed.
"""

from dataclasses import replace

import numpy as np

from ..errors import InputError
from ..scene.model import Camera, Light, Mesh, Scene, Surface
from ..scene.placed_mesh import PlacedMesh, run_round
from ..scene.topology import facets, topology, turned_triangles, volume
from ..vector import LUMINANCE
from .edits import ObjectEdit

MOST_TRIANGLES = 4_000_000
STEEP = 0.7
"""Cosine from the vertical above which a face is floor or ceiling, below which a wall."""
PARALLEL = 0.03
"""Share of the largest eigenvalue below which the normals round a vertex do not determine a direction."""


def mended(mesh: Mesh, edit: ObjectEdit, shapes: dict[int, Mesh] | None = None) -> list[Mesh]:
    """What an edit makes of a mesh: in the order thickness, turning, shape, triangles, edges, splitting. Raises InputError. shapes: those that were
    mended already for other placements, by the shape's identity, and receive this one."""
    in_metres = edit.thickness or edit.longest_edge is not None or edit.split
    if isinstance(mesh, PlacedMesh) and not in_metres and (edit.turned or edit.shape or edit.triangles is not None):
        shapes = {} if shapes is None else shapes
        if id(mesh.shape) not in shapes:
            shape = mended(run_round(mesh.shape) if mesh.mirrors else mesh.shape, edit)[0]
            shapes[id(mesh.shape)] = run_round(shape) if mesh.mirrors else shape
        return [mesh.with_shape(shapes[id(mesh.shape)])]
    if edit.thickness:
        mesh = thickened(mesh, edit.thickness)
    if edit.turned:
        mesh = turned(mesh, edit.turned)
    if edit.shape:
        mesh = plain_shape(mesh, edit.shape)
    if edit.triangles is not None:
        mesh = simplified(mesh, edit.triangles)
    if edit.longest_edge is not None:
        mesh = subdivided(mesh, edit.longest_edge)
    return split(mesh, edit.split) if edit.split else [mesh]


def thickened(mesh: Mesh, thickness: float) -> Mesh:
    """A sheet as a slab: a copy of it `thickness` metres behind its front (before it, where negative), and walls along its rims, so that
    openings stay open. Each vertex moves so that all faces round it move by the thickness (least squares)."""
    net = topology(mesh.vertices)
    normals = facets(mesh.vertices)
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    spread, pull = np.zeros((len(net.points), 3, 3)), np.zeros((len(net.points), 3))
    for k in range(3):
        np.add.at(spread, net.corners[:, k], normals[:, :, None] * normals[:, None, :])
        np.add.at(pull, net.corners[:, k], -thickness * normals)
    values, axes = np.linalg.eigh(spread)
    inverse = np.where(values > PARALLEL * values[:, 2:], 1.0 / np.maximum(values, 1e-30), 0.0)
    shift = np.einsum("nij,nj,nkj,nk->ni", axes, inverse, axes, pull)
    moved = mesh.vertices + shift[net.corners]
    behind = [moved[:, ::-1], -mesh.normals[:, ::-1], mesh.uvs[:, ::-1], mesh.surfaces]
    triangle, side = np.nonzero(net.rim())
    following = (side + 1) % 3
    a, b, c, d = mesh.vertices[triangle, side], mesh.vertices[triangle, following], moved[triangle, side], moved[triangle, following]
    walls = np.concatenate([np.stack([b, a, c], axis=1), np.stack([b, c, d], axis=1)])
    u, v = mesh.uvs[triangle, side], mesh.uvs[triangle, following]
    wall_uvs = np.concatenate([np.stack([v, u, u], axis=1), np.stack([v, u, v], axis=1)])
    if thickness < 0.0:  # the copy is in front, so all of it is flipped
        behind = [moved, mesh.normals, mesh.uvs, mesh.surfaces]
        walls, wall_uvs = walls[:, ::-1], wall_uvs[:, ::-1]
        mesh = _turned_over(mesh, np.ones(len(mesh.vertices), bool))
    rim_surfaces = np.tile(mesh.surfaces[triangle], 2)
    return _made(
        mesh,
        np.concatenate([mesh.vertices, behind[0], walls]),
        np.concatenate([mesh.normals, behind[1], flat_normals(walls)]),
        np.concatenate([mesh.uvs, behind[2], wall_uvs]),
        np.concatenate([mesh.surfaces, behind[3], rim_surfaces]),
    )


def turned(mesh: Mesh, how: str) -> Mesh:
    """`over`: every face turned over; `agree`: neighbours made to agree, and closed parts to face outwards."""
    if how == "over":
        return _turned_over(mesh, np.ones(len(mesh.vertices), bool))
    net = topology(mesh.vertices)
    mesh = _turned_over(mesh, turned_triangles(net))
    inside_out = np.zeros(len(mesh.vertices), bool)
    open_parts = np.unique(net.part[net.rim().any(axis=1)])
    for part in np.setdiff1d(np.unique(net.part), open_parts):
        members = net.part == part
        inside_out[members] = volume(mesh.vertices[members]) < 0.0
    return _turned_over(mesh, inside_out)


def split(mesh: Mesh, how: str) -> list[Mesh]:
    """By `parts` that hang together, largest first, or by `facing`: floor, ceiling and walls; named NAME/part1, NAME/floor and so on."""
    if how == "facing":
        up = facets(mesh.vertices)
        up = up[:, 1] / np.maximum(np.linalg.norm(up, axis=1), 1e-30)
        groups = {"floor": up > STEEP, "ceiling": up < -STEEP, "walls": np.abs(up) <= STEEP}
    else:
        part = topology(mesh.vertices).part
        order = np.argsort(-np.bincount(part), kind="stable")
        groups = {f"part{k + 1}": part == number for k, number in enumerate(order)}
    return [
        mesh.changed(name=f"{mesh.name}/{name}", vertices=mesh.vertices[m], normals=mesh.normals[m], uvs=mesh.uvs[m], surfaces=mesh.surfaces[m])
        for name, m in groups.items()
        if m.any()
    ]


def subdivided(mesh: Mesh, longest: float) -> Mesh:
    """The mesh with every edge longer than `longest` metres halved until none is; both sides of an edge are cut alike, so no joint opens."""
    corners = np.concatenate([mesh.vertices, mesh.normals, mesh.uvs], axis=2).astype(float)
    surfaces = mesh.surfaces
    while True:
        following = np.roll(corners, -1, axis=1)
        long = np.linalg.norm(corners[..., :3] - following[..., :3], axis=2) > longest
        if not long.any():
            break
        if len(corners) + long.sum() > MOST_TRIANGLES:
            raise InputError(f"Edges of at most {longest:g} m would make {mesh.name} more than {MOST_TRIANGLES:,} triangles; give a longer edge.")
        corners, surfaces = _halved(corners, surfaces, long)
    n = corners[..., 3:6] / np.maximum(np.linalg.norm(corners[..., 3:6], axis=2, keepdims=True), 1e-30)
    return _made(mesh, corners[..., :3], n, corners[..., 6:], surfaces)


def _halved(corners: np.ndarray, surfaces: np.ndarray, long: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Triangles cut at the middles of their long sides; `long` is bool [n, 3], side k runs from corner k to the next."""
    count = long.sum(axis=1)
    # Rotated so that one long side is the first, or two are the first and second.
    start = np.where(count == 2, (np.argmin(long, axis=1) + 1) % 3, np.argmax(long, axis=1))
    at = (start[:, None] + np.arange(3)) % 3
    c = np.take_along_axis(corners, at[:, :, None], axis=1)
    p, q, r = c[:, 0], c[:, 1], c[:, 2]
    pq, qr, rp = (p + q) / 2.0, (q + r) / 2.0, (r + p) / 2.0
    cuts = {
        0: [(p, q, r)],
        1: [(p, pq, r), (pq, q, r)],
        2: [(pq, q, qr), (p, pq, qr), (p, qr, r)],
        3: [(p, pq, rp), (pq, q, qr), (rp, qr, r), (pq, qr, rp)],
    }
    made = [(np.stack(t, axis=1)[count == k], surfaces[count == k]) for k, triangles in cuts.items() for t in triangles]
    return np.concatenate([t for t, _ in made]), np.concatenate([s for _, s in made])


def simplified(mesh: Mesh, share: float) -> Mesh:
    """The mesh with about `share` of its triangles, by quadric error (Garland & Heckbert 1997, through fast-simplification); surfaces, normals
    and coordinates are those of the nearest old triangle."""
    import fast_simplification
    from scipy.spatial import cKDTree

    net = topology(mesh.vertices)
    points, faces = fast_simplification.simplify(net.points.astype(np.float32), net.corners.astype(np.int32), target_reduction=1.0 - share)
    faces = faces[(faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])]
    if len(faces) == 0:
        raise InputError(f"So few triangles leave nothing of {mesh.name}; give a larger share.")
    vertices = points[faces].astype(np.float32)
    _, old = cKDTree(mesh.vertices.mean(axis=1)).query(vertices.mean(axis=1))
    _, corner = cKDTree(mesh.vertices.reshape(-1, 3)).query(vertices.reshape(-1, 3))
    normals = mesh.normals.reshape(-1, 3)[corner].reshape(-1, 3, 3)
    flat = flat_normals(vertices)
    normals = np.where(np.einsum("nij,nij->ni", normals, flat)[..., None] > 0.5, normals, flat)
    return _made(mesh, vertices, normals, mesh.uvs.reshape(-1, 2)[corner].reshape(-1, 3, 2), mesh.surfaces[old])


def plain_shape(mesh: Mesh, shape: str) -> Mesh:
    """The box or the convex hull of a mesh, in the surface that covers most of it."""
    points = mesh.vertices.reshape(-1, 3).astype(float)
    low, high = points.min(axis=0), points.max(axis=0)
    if shape == "hull" and np.ptp(points, axis=0).min() > 1e-9:
        from scipy.spatial import ConvexHull

        hull = ConvexHull(points)
        vertices = points[hull.simplices]
        outward = np.einsum("ij,ij->i", facets(vertices), hull.equations[:, :3]) > 0.0
        vertices = np.where(outward[:, None, None], vertices, vertices[:, ::-1])
    else:
        vertices = box_triangles(low, high)
    areas = np.linalg.norm(facets(mesh.vertices), axis=1)
    most = np.bincount(mesh.surfaces, weights=areas).argmax()
    return _made(mesh, vertices, flat_normals(vertices), np.zeros((len(vertices), 3, 2)), np.full(len(vertices), most))


def box_triangles(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """float64 [12, 3, 3]: the box from `low` to `high`, facing outwards."""
    corner = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])], float)
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    return np.array([corner[[q[0], q[a], q[b]]] for q in quads for a, b in ((1, 2), (2, 3))])


def mean_base_color(surface: Surface) -> np.ndarray:
    """float64 [3]: base colour of a surface, of a picture the mean."""
    if surface.base_color_map is None:
        return np.array(surface.base_color, float)
    texture = surface.base_color_map.texture
    return texture.texels.mean()[:3] * np.array(texture.scale[:3]) + np.array(texture.bias[:3])


def darkened(scene: Scene, mesh: Mesh, brightest: float, darker: dict[int, int]) -> Mesh:
    """The mesh in surfaces, added to a scene of one's own, whose base colour reflects `brightest` at most (luminance, textures on the mean). darker:
    the number of each surface that was darkened already."""
    surfaces = mesh.surfaces.copy()
    for number in np.unique(mesh.surfaces).tolist():
        if number in darker:
            surfaces[mesh.surfaces == number] = darker[number]
            continue
        surface = scene.surfaces[number]
        use = surface.base_color_map
        albedo = float(mean_base_color(surface) @ LUMINANCE)
        if albedo <= brightest:
            continue
        by = brightest / albedo
        r, g, b = (c * by for c in surface.base_color)
        if use is not None:
            scale, bias = (tuple(v * by if k < 3 else v for k, v in enumerate(four)) for four in (use.texture.scale, use.texture.bias))
            use = replace(use, texture=replace(use.texture, scale=scale, bias=bias))
        surfaces[mesh.surfaces == number] = darker[number] = len(scene.surfaces)
        scene.surfaces.append(replace(surface, base_color=(r, g, b), base_color_map=use))
    return mesh.changed(surfaces=surfaces)


def scaled(scene: Scene, factor: float) -> None:
    """Scale everything in a scene of one's own about its origin. Lights keep what they emit: a unit of the file is larger by as much, so
    normalized ones too; a point's light falls off over longer ways."""
    scene.meshes[:] = [_scaled_mesh(mesh, factor) for mesh in scene.meshes]
    scene.lights[:] = [_scaled_light(light, factor) for light in scene.lights]
    scene.cameras[:] = [_scaled_camera(camera, factor) for camera in scene.cameras]
    for number, surface in enumerate(scene.surfaces):
        scene.surfaces[number] = replace(surface, attenuation_distance=surface.attenuation_distance * factor)


def _scaled_mesh(mesh: Mesh, factor: float) -> Mesh:
    if isinstance(mesh, PlacedMesh):
        return mesh.changed(to_world=mesh.to_world * factor)
    geometry, cage = replace(mesh.geometry, points=(mesh.geometry.points * factor).astype(np.float32)), mesh.own_cage
    if cage is not None:
        cage = replace(cage, points=cage.points * factor, made=geometry, unit=cage.unit * factor, kept=None, kept_displaced=None)
    return mesh.changed(geometry=geometry, cage=cage)


def _scaled_light(light: Light, factor: float) -> Light:
    x, y, z = (v * factor for v in light.position)
    sizes = {name: getattr(light, name) * factor for name in ("width", "height", "length", "radius", "unit")}
    return replace(light, position=(x, y, z), **sizes)


def _scaled_camera(camera: Camera, factor: float) -> Camera:
    world = camera.to_world.copy()
    world[:, 3] *= factor
    half = camera.half_width * (factor if camera.orthographic else 1.0)
    return replace(camera, to_world=world, half_width=half, lens_radius=camera.lens_radius * factor, focus=camera.focus * factor)


def flat_normals(vertices: np.ndarray) -> np.ndarray:
    """float64 [n, 3, 3]: each triangle's own normal at its three corners."""
    n = facets(vertices)
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-30)
    return np.repeat(n[:, None, :], 3, axis=1)


def _turned_over(mesh: Mesh, which: np.ndarray) -> Mesh:
    over = which[:, None, None]
    vertices, uvs = np.where(over, mesh.vertices[:, ::-1], mesh.vertices), np.where(over, mesh.uvs[:, ::-1], mesh.uvs)
    normals = np.where(over, mesh.normals[:, ::-1], mesh.normals)
    # Shading normals are flipped to the side of the face.
    side = np.einsum("nij,nj->ni", normals, facets(vertices)) < 0.0
    return _made(mesh, vertices, np.where(over & side[..., None], -normals, normals), uvs, mesh.surfaces)


def _made(mesh: Mesh, vertices: np.ndarray, normals: np.ndarray, uvs: np.ndarray, surfaces: np.ndarray) -> Mesh:
    return mesh.changed(vertices=vertices, normals=normals, uvs=uvs, surfaces=surfaces.astype(np.uint32))
