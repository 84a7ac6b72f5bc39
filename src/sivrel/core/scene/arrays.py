"""A scene as the kernels read it: one named tuple of flat arrays, and the names of their columns."""

from typing import Any, NamedTuple

import numpy as np

from ..kernel import kernel
from ..trace.bvh import Bvh

# Columns of a surface row.
BASE, ROUGHNESS, METALLIC, IOR, EMISSION, OPACITY, THRESHOLD, BOTH_SIDES = 0, 3, 4, 5, 6, 9, 10, 11
BASE_MAP, ROUGHNESS_MAP, METALLIC_MAP, EMISSION_MAP, OPACITY_MAP = 12, 14, 16, 18, 20  # texture (-1 none), channel
# SEE_THROUGH: what opacity below 1 means; TINT: colour of a pane; ABSORPTION: of solid glass, nats a metre.
SEE_THROUGH, TINT, ABSORPTION, BY_SPECULAR, SPECULAR_COLOUR, COAT, COAT_ROUGHNESS = 22, 23, 26, 29, 30, 33, 34
SPECULAR_MAP, COAT_MAP, COAT_ROUGHNESS_MAP, NORMAL_MAP, TEXTURED = 35, 37, 39, 41, 43  # TEXTURED: whether it has a texture
SURFACE_COLUMNS = 44
CUT_OUT, PANE, SOLID = range(3)
SEE_THROUGHS = {"cut_out": CUT_OUT, "pane": PANE, "solid": SOLID}
# Columns of a light row: position and emission,
KIND, RADIANCE, POSITION, AXIS_X, AXIS_Y, AXIS_Z, HALF_U, HALF_V, RADIUS, COS_ANGLE, AREA, POWER = (
    0, 1, 4, 7, 10, 13, 16, 19, 22, 23, 24, 25,
)  # fmt: skip
# its dependence on direction (angles in radians) and position (PROFILE, AIM: place in the tables, PICTURE: a texture; -1 none),
SHAPED, CONE, CONE_START, FOCUS, FOCUS_TINT, PROFILE, PICTURE, AIM, ROTATION = 26, 27, 28, 29, 30, 33, 34, 35, 36
# its shadows (MAP: row of the depth maps, -1 none), what it lights (bits of object links, -1 all),
WAY, RAYS, MAP, FILTER, BIAS_TEXELS, LIT, SHADOWING = 37, 38, 39, 40, 41, 42, 43
# its factors, visibility, pass, the root of a mesh light's tree and its number of emitting sides (0: none).
DIFFUSE, SPECULAR, CAMERA, SLOT, EMITTERS, EMITTER_SIDES = 44, 45, 46, 47, 48, 49
# whether a mesh light multiplies what its surface emits; whether a sphere or cylinder is stretched, and the two 3 x 3 matrices between the
# scene and the space where it is round.
TINTS, STRETCHED, TO_ROUND, FROM_ROUND = 50, 51, 52, 61
LIGHT_COLUMNS = 70
RECT, DISK, SPHERE, POINT, SUN, DOME, CYLINDER, MESH, PORTAL = range(9)
LIGHT_KINDS = {
    "rect": RECT, "disk": DISK, "sphere": SPHERE, "point": POINT, "sun": SUN, "dome": DOME, "cylinder": CYLINDER, "mesh": MESH, "portal": PORTAL,
}  # fmt: skip
# Columns of a light tree node; of an object row (LINKS and more: bits of the groups that it belongs to); of a depth map row.
LOW, HIGH, AXIS, THETA_O, THETA_E, NODE_POWER, LEFT, RIGHT, LEAF, PARENT, SKIP = 0, 3, 6, 9, 10, 11, 12, 13, 14, 15, 16
COS_O, SIN_O, COS_E = 17, 18, 19  # of the two angles
NODE_COLUMNS = 20
FLAGS, LINKS, BITS = 0, 1, 63
# Columns of a part row, for the triangles of one mesh or shape: number of the first; its object, -1 for a placed shape; where its surface is in
# `surface_of`, and 1 where each triangle has a surface of its own there; the mesh light that it belongs to and where its leaves are in `mesh_leaf`,
# or -1; what is added to the number of a point for its coordinates, or NO_COORDINATES.
PART_FIRST, PART_OBJECT, PART_SURFACE, PART_STEP, PART_LIGHT, PART_LEAVES, PART_COORDINATES = range(7)
PART_COLUMNS, PART_BLOCK = 7, 5  # PART_BLOCK: binary logarithm of the triangles to an entry of `part_at`
NO_COORDINATES = -(2**40)
BY_CAMERA, BY_SHADOW, BY_BOUNCED, GLOWS = 1, 2, 4, 8
GUIDE, CONNECTIONS = 0, 1  # the places of the guide and of light paths among what is prepared
MAP_KIND, MAP_RESOLUTION, MAP_START, MAP_POSITION, MAP_X, MAP_Y, MAP_Z, MAP_HALF = 0, 1, 2, 3, 6, 9, 12, 15
MAP_COLUMNS = 16
# Columns of a texture row.
WIDTH, HEIGHT, WRAP_S, WRAP_T, SCALE, BIAS, TRANSFORM = 0, 1, 2, 3, 4, 8, 12
# STORED_AS: in which array its texels are; COLOURS, ALPHAS: where the linear values of its codes start; FINENESS: binary logarithm of the
# texels in a unit of the mesh's coordinates; TILE_COLUMNS: of a set of tiles, whose rows follow (0: none); IDENTITY: two parts of a digest.
STORED_AS, CHANNELS, COLOURS, ALPHAS, FINENESS, TILE_COLUMNS, TILE_ROWS, IDENTITY, BRIGHTEST = 18, 19, 20, 21, 22, 23, 24, 25, 27
LEVELS, LEVEL_STARTS, MOST_LEVELS = 28, 29, 17
TEXTURE_COLUMNS = LEVEL_STARTS + MOST_LEVELS
AS_FLOAT, AS_BYTE, AS_SHORT = range(3)
REPEAT, CLAMP, MIRROR, BLACK = range(4)
WRAPS = {"repeat": REPEAT, "clamp": CLAMP, "mirror": MIRROR, "black": BLACK}

NO_LIGHT = np.uint32(0xFFFFFFFF)
FAR = 1e30
"""Distance of suns, skies and rays that hit nothing."""


class Pictures(NamedTuple):
    """Textures. rows float64 [textures and tiles, TEXTURE_COLUMNS]; bytes uint8, shorts uint16, floats float32: the same memory, with the levels of
    all textures of surfaces one after the other; decoding float32: linear values of codes; of_lights float32: texels of the lights' pictures, four
    channels."""

    rows: np.ndarray
    bytes: np.ndarray
    shorts: np.ndarray
    floats: np.ndarray
    decoding: np.ndarray
    of_lights: np.ndarray


class SceneArrays(NamedTuple):
    """The scene for the kernels.

    corners: uint32 [stored triangles, 3], the points of each. First come the triangles that are stored where they stand, `standing` of them, then
    shapes in their own space, which the hierarchy places: ask scene.triangles for what belongs to a triangle's number.
    points: float32 [points, 3]; normals: uint32 [points], see scene.packed_normals; uvs: float32 [points of textured parts, 2]
    parts: int64 [parts, PART_COLUMNS], see above; part_at: uint32, the part of every 32nd triangle, from which those of others are near
    surface_of: uint32, rows of `surfaces`; mesh_leaf: uint32, for the triangles of mesh lights their nodes in the light's tree, or NO_LIGHT where one
    does not shine
    objects int64 [meshes, LINKS + 1 or more]; surfaces, lights, portals, tree, maps float64 [rows, columns];
    tables float32: profiles and distributions of panoramas; depths float32: of all maps
    mesh_nodes float32 and mesh_links uint32 [nodes, columns]: trees over the triangles of the mesh lights, see lights.mesh_tree
    leaf_of int64 [lights]: node of each light in the tree, -1 for suns and skies; distant int64: those lights
    see_through: whether any surface lets light pass; filtered: whether any object is hidden from some rays
    needs_shadow_query: whether some light's shadows are not only what rays hit, so that lights hit by chance need a shadow query
    offset: automatic ray offset in metres; slots: number of light passes; prepared: what the ways of finding
    bounced light have prepared, by their index in the table of gi.ways
    """

    bvh: Bvh
    standing: int
    corners: np.ndarray
    points: np.ndarray
    normals: np.ndarray
    uvs: np.ndarray
    parts: np.ndarray
    part_at: np.ndarray
    surface_of: np.ndarray
    objects: np.ndarray
    surfaces: np.ndarray
    pictures: Pictures
    see_through: bool
    filtered: bool
    offset: float
    lights: np.ndarray
    portals: np.ndarray
    tables: np.ndarray
    tree: np.ndarray
    leaf_of: np.ndarray
    distant: np.ndarray
    mesh_leaf: np.ndarray
    mesh_nodes: np.ndarray
    mesh_links: np.ndarray
    maps: np.ndarray
    depths: np.ndarray
    needs_shadow_query: bool
    slots: int
    prepared: tuple[Any, ...]


@kernel
def is_linked(scene, row, link):
    """Whether object `row` belongs to the group of objects with the number `link`; to -1 all belong."""
    return link < 0 or row < 0 or (scene.objects[row, LINKS + link // BITS] >> (link % BITS)) & 1 != 0
