"""The state of a light path from surface to surface: what its steps, in path.py, pass on."""

from typing import NamedTuple

import numpy as np

from ..lights.emitters import BLACK
from ..surfaces.hit_scattering import Shading
from ..surfaces.next_surface import OPAQUE
from ..surfaces.preview import Look
from ..surfaces.surface_at import SurfacePoint
from ..trace.traverse import NO_HIT

MIRROR_ROUGHNESS = 0.1
"""Points reached by a surface smoother than this count as seen by the camera."""

# Dimensions of the random numbers: a block for each point of the path.
PIXEL, PAIRED, POINTS, PER_POINT = 0, 2, 16, 4096
CUTOUT, REST, OCCLUSION, FURTHER, LOBE, DIRECTION, ROULETTE, CHOICE, BASE_DIRECTION, PICK, LIGHTS = (
    0, 998, 999, 1000, 1024, 1025, 1026, 1027, 1028, 1029, 1032,
)  # fmt: skip
LOOKUP = 900  # and the next: of connections, up to 66
# What ends a path: nothing yet; the limit of diffuse bounces, of reflections, of glass, or of the total; or wide gloss that was looked up.
NOTHING, BY_DIFFUSE, BY_REFLECTIONS, BY_REFRACTIONS, BY_TOTAL, BY_GLOSS_LOOKUP = 0, 1, 2, 3, 4, 5
LOOK_FURTHER = 0.03125
"""Share of the paths ended by a limit, or by looking gloss up, that are continued anyway, to measure what that leaves out."""
MOST_SHINE = 0.35
"""Glossy share above which a point is traced on although all of its light could be looked up."""
LEAST_GLOSS = 1e-4
"""Glossy share below which no ray is followed from a point whose diffuse light was looked up."""
# The kind of a path as one number: its scatterings as digits 1 to 3 in base 4, first one first, at most six; times
# three, plus how its light was found.
AIMED, BY_CHANCE, GLOW = 0, 1, 2
LEAST_SURVIVAL = 0.1
"""Least chance to go on of a path that is expected to bring little."""
MOST_DIGITS, MOST_BOUNCES = 1024, 1 << 20
WHITE = (1.0, 1.0, 1.0)
UP = (0.0, 0.0, 1.0)


class Sample(NamedTuple):
    """One sample of a pixel. key, number: of its random numbers; origin, direction: of its ray; paired: whether it is traced twice;
    gathering: whether the ray was given, as if scattered by a diffuse surface, instead of coming from the camera; width, spread: of its ray."""

    key: int
    number: int
    origin: tuple
    direction: tuple
    paired: bool
    gathering: bool
    width: float
    spread: float


class Numbers(NamedTuple):
    """The random numbers for one point of a path: the key, the number of the sample, the first dimension."""

    key: int
    sample: int
    dimension: int


class Ray(NamedTuple):
    """The current ray of a path. start: least distance of a hit, in metres; layer: cut-outs and panes passed so far; absorption: of
    the medium, per metre; lifted: distance in metres by which the ray started off its surface; width, spread: metres over which textures are averaged
    at its origin, and by how much that grows a metre (ray cones; Amanatides 1984, "Ray Tracing with Cones")."""

    origin: tuple
    direction: tuple
    start: float
    layer: int
    absorption: tuple
    lifted: float
    width: float
    spread: float


class Hit(NamedTuple):
    """A hit: the triangle, or NO_HIT; the distance in metres; barycentric weights of its second and third corner; its kind (OPAQUE, CLEAR,
    TINTED, FORKED); the surface there, unless passed."""

    triangle: np.uint32
    distance: float
    b1: np.float32
    b2: np.float32
    kind: int
    point: SurfacePoint


class Carried(NamedTuple):
    """Weights of light found on a path. throughput: share that reaches the pixel; pending: a factor that applies from the next surface on; plain:
    share of the path that is not a caustic if a light is found after one more mirror or glass; met: the same if the next hit is a light."""

    throughput: tuple
    pending: tuple
    plain: tuple
    met: tuple


class State(NamedTuple):
    """The limits of a path. seen: whether this point is visible to the camera, also in mirrors; last: whether it ends at the next surface, and by
    which limit; further: whether it continues beyond that limit; the counts of its scatterings by kind."""

    seen: bool
    last: bool
    ended_by: int
    further: bool
    diffuse_bounces: int
    reflections: int
    refractions: int


class Sent(NamedTuple):
    """How the first surface scattered a path: the lobe, the glossy share of the colour, the number of rays of that lobe; the code of the
    path's kind; and the share of the ray from the camera that the forks have left it."""

    lobe: int
    gloss: tuple
    rays: float
    code: int
    share: float


class First(NamedTuple):
    """The first surface of a sample, where all its turns start but those by panes before it. albedo and occlusion: for the passes; let_through:
    share of the direct light that occlusion leaves; share: of the ray from the camera, that panes have left; branches: turns per replicate, of
    which the first `gloss_branches` scatter by gloss."""

    hit: Hit
    throughput: tuple
    albedo: tuple
    occlusion: float
    let_through: float
    share: float
    branches: int
    gloss_branches: int


class Drawn(NamedTuple):
    """Random numbers for scattering: choice of the lobe, whether the guide is asked, and two of the direction."""

    choice: float
    pick: float
    u: float
    v: float


class Surface(NamedTuple):
    """The scattering at the current point. glass: whether it is solid glass; diffuse: whether it has a diffuse base; catches: whether its gloss
    takes light from caustic photons; split: whether several rays leave it."""

    shading: Shading
    glass: bool
    diffuse: bool
    catches: bool
    split: bool


NOWHERE = Hit(
    NO_HIT, 0.0, np.float32(0.0), np.float32(0.0), OPAQUE,
    SurfacePoint(BLACK, BLACK, BLACK, False, 0, Look(BLACK, 0.0, 0.0, 1.0, False, BLACK, 0.0, 0.0), BLACK),
)  # fmt: skip
NO_SURFACE = First(NOWHERE, WHITE, BLACK, 0.0, 1.0, 1.0, 1, 0)
"""Placeholder until the first surface is hit."""
