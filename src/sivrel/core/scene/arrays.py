"""A scene as the kernels read it: one named tuple of flat arrays, and the names of their columns."""

from typing import NamedTuple

import numpy as np

from ..trace.bvh import Bvh

# Columns of a surface row.
BASE, ROUGHNESS, METALLIC, IOR, EMISSION, OPACITY, THRESHOLD, BOTH_SIDES = 0, 3, 4, 5, 6, 9, 10, 11
BASE_MAP, ROUGHNESS_MAP, METALLIC_MAP, EMISSION_MAP, OPACITY_MAP = 12, 14, 16, 18, 20  # texture (-1 none), channel
# SEE_THROUGH: what opacity below 1 means; TINT: colour of a pane; ABSORPTION: of solid glass, nats a metre.
SEE_THROUGH, TINT, ABSORPTION, BY_SPECULAR, SPECULAR_COLOUR, COAT, COAT_ROUGHNESS = 22, 23, 26, 29, 30, 33, 34
SPECULAR_MAP, COAT_MAP, COAT_ROUGHNESS_MAP, NORMAL_MAP = 35, 37, 39, 41
SURFACE_COLUMNS = 43
CUT_OUT, PANE, SOLID = range(3)
SEE_THROUGHS = {"cut_out": CUT_OUT, "pane": PANE, "solid": SOLID}
# Columns of a light row: where it is and what it emits,
KIND, RADIANCE, POSITION, AXIS_X, AXIS_Y, AXIS_Z, HALF_U, HALF_V, RADIUS, COS_ANGLE, AREA, POWER = (
    0, 1, 4, 7, 10, 13, 16, 19, 22, 23, 24, 25,
)  # fmt: skip
# how that depends on the direction (angles in radians; PROFILE, SKY: place in the tables, -1 none),
SHAPED, CONE, CONE_START, FOCUS, FOCUS_TINT, PROFILE, PANORAMA, SKY, ROTATION = 26, 27, 28, 29, 30, 33, 34, 35, 36
# how its shadows are cut (MAP: row of the depth maps, -1 none), whom it lights (bits of object links, -1 all),
WAY, RAYS, MAP, FILTER, BIAS_TEXELS, LIT, SHADOWING = 37, 38, 39, 40, 41, 42, 43
# what it adds, who sees it, which pass it is kept in, and the triangles of a mesh light.
DIFFUSE, SPECULAR, CAMERA, SLOT, EMITTERS, EMITTER_COUNT = 44, 45, 46, 47, 48, 49
LIGHT_COLUMNS = 50
RECT, DISK, SPHERE, POINT, SUN, DOME, CYLINDER, MESH, PORTAL = range(9)
LIGHT_KINDS = {
    "rect": RECT, "disk": DISK, "sphere": SPHERE, "point": POINT, "sun": SUN, "dome": DOME, "cylinder": CYLINDER, "mesh": MESH, "portal": PORTAL,
}  # fmt: skip
# Columns of a light tree node; of an object row; of a depth map row.
LOW, HIGH, AXIS, THETA_O, THETA_E, NODE_POWER, LEFT, RIGHT, LEAF, PARENT, SKIP = 0, 3, 6, 9, 10, 11, 12, 13, 14, 15, 16
COS_O, SIN_O, COS_E = 17, 18, 19  # of the two angles
NODE_COLUMNS = 20
FLAGS, LINKS = 0, 1
BY_CAMERA, BY_SHADOW, BY_BOUNCED, GLOWS = 1, 2, 4, 8
MAP_KIND, MAP_RESOLUTION, MAP_START, MAP_POSITION, MAP_X, MAP_Y, MAP_Z, MAP_HALF = 0, 1, 2, 3, 6, 9, 12, 15
MAP_COLUMNS = 16
# Columns of a texture row.
TEXEL_START, WIDTH, HEIGHT, WRAP_S, WRAP_T, SCALE, BIAS, TRANSFORM = 0, 1, 2, 3, 4, 5, 9, 13
TEXTURE_COLUMNS = 19
REPEAT, CLAMP, MIRROR, BLACK = range(4)
WRAPS = {"repeat": REPEAT, "clamp": CLAMP, "mirror": MIRROR, "black": BLACK}

NO_LIGHT = np.uint32(0xFFFFFFFF)


class SceneArrays(NamedTuple):
    """The scene for the kernels.

    Per triangle: vertices, normals float32 [n, 9], uvs float32 [n, 6], surface_of, object_of, light_of uint32 [n] (the
    mesh light that it belongs to, or NO_LIGHT), aimed_density float32 [n] (of that light's samples, per square metre).
    objects int64 [meshes, 2]; surfaces, textures, lights, portals, tree, maps float64 [rows, columns];
    texels float32 [all texels, 4]; tables float32: profiles and distributions of panoramas; depths float32: of all maps
    emitters uint32 [k, 2] and emitter_cut float32 [k]: alias tables of the mesh lights (triangle, alias; threshold)
    leaf_of int64 [lights]: node of each light in the tree, -1 for what has no place; distant int64: those lights
    see_through: whether any surface lets light pass; filtered: whether any object is hidden from some rays
    careful: whether some light's shadows are not just what a ray meets, so that lights met by chance need a look
    offset: automatic ray offset in metres; slots: number of light passes; prepared: what the ways of finding
    bounced light have made ready, by their place in the table of gi.ways
    """

    bvh: Bvh
    vertices: np.ndarray
    normals: np.ndarray
    uvs: np.ndarray
    surface_of: np.ndarray
    object_of: np.ndarray
    objects: np.ndarray
    surfaces: np.ndarray
    textures: np.ndarray
    texels: np.ndarray
    see_through: bool
    filtered: bool
    offset: float
    lights: np.ndarray
    portals: np.ndarray
    tables: np.ndarray
    tree: np.ndarray
    leaf_of: np.ndarray
    distant: np.ndarray
    light_of: np.ndarray
    aimed_density: np.ndarray
    emitters: np.ndarray
    emitter_cut: np.ndarray
    maps: np.ndarray
    depths: np.ndarray
    careful: bool
    slots: int
    prepared: tuple
