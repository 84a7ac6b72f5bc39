"""The scene model: plain dataclasses in metres, scene-linear Rec.709 and radiometric units.

Radiance is in the scene file's unit of light (nits in UsdLux); the renderer does not depend on it.
"""

from dataclasses import dataclass, field, replace
from typing import Any, Literal

import numpy as np

from .indexed import IndexedTriangles, indexed
from .subdivide import Cage
from .texels import Texels, TileSet

Colour = tuple[float, float, float]
BY_CORNERS = frozenset({"vertices", "normals", "uvs"})
"""What a mesh says of the corners of its triangles."""


@dataclass
class Texture:
    """An image that is looked up by texture coordinates.

    texels: its image, or one for each unit square of the coordinates
    wrap: how coordinates outside [0, 1] are handled, per axis
    scale, bias: applied to the four channels after the look-up
    transform: 2 x 3 matrix from the mesh's coordinates to the texture's
    sound: whether its numbers were checked to be finite
    """

    texels: Texels | TileSet
    wrap: tuple[str, str] = ("repeat", "repeat")
    scale: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    bias: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)
    transform: np.ndarray = field(default_factory=lambda: np.array([[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]))
    sound: bool = False

    @property
    def image(self) -> Texels:
        """The image of a texture that is not a set of tiles."""
        assert isinstance(self.texels, Texels)
        return self.texels


@dataclass
class TextureUse:
    """One channel (0 to 3) of a texture as a number; a colour takes the first three."""

    texture: Texture
    channel: int = 0


@dataclass
class Surface:
    """How a surface scatters and emits: the UsdPreviewSurface model. A texture replaces its value.

    ior: 1 means no glossy layer at all: with metallic 0 the surface is exactly Lambertian
    specular: reflectance at normal incidence, in place of what ior and metallic say (the specular workflow); None for none
    coat, coat_roughness: strength and roughness of a clear coat
    see_through: what opacity below 1 means: a cut-out that is present with that probability; a thin pane without refraction; or the
    boundary of solid glass
    displacement: of subdivided meshes, along their normals, in units of the mesh
    attenuation: colour of white light after a pane, or after `attenuation_distance` metres of solid glass
    """

    name: str = "plain"
    base_color: Colour = (0.5, 0.5, 0.5)
    roughness: float = 0.5
    metallic: float = 0.0
    ior: float = 1.5
    emission: Colour = (0.0, 0.0, 0.0)
    opacity: float = 1.0
    opacity_threshold: float = 0.0
    specular: Colour | None = None
    coat: float = 0.0
    coat_roughness: float = 0.01
    see_through: Literal["cut_out", "pane", "solid"] = "cut_out"
    attenuation: Colour = (1.0, 1.0, 1.0)
    attenuation_distance: float = 0.0
    base_color_map: TextureUse | None = None
    roughness_map: TextureUse | None = None
    metallic_map: TextureUse | None = None
    emission_map: TextureUse | None = None
    opacity_map: TextureUse | None = None
    specular_map: TextureUse | None = None
    coat_map: TextureUse | None = None
    coat_roughness_map: TextureUse | None = None
    normal_map: TextureUse | None = None
    displacement: float = 0.0
    displacement_map: TextureUse | None = None

    def lets_light_pass(self) -> bool:
        return self.opacity < 1.0 or self.opacity_map is not None


@dataclass
class Mesh:
    """Triangles in world space. `vertices`, `normals` and `uvs` are made from `geometry` whenever they are asked for.

    geometry: n triangles, in metres; counter-clockwise seen from the front
    surfaces: uint32 [n], index into Scene.surfaces
    double_sided: whether the surface's emission leaves both faces; scattering always does
    seen_by_camera, casts_shadows, seen_by_bounced: which rays can hit it
    aimed: an emitting surface is aimed at, as a light; otherwise it only glows
    stand_in: whether plain stand-ins replace its surfaces; refine: refining passes of a bake, None for the recipe's
    cage: of a subdivision surface, whose polygons the triangles fill
    variants: of a shape that is placed, the same in other surfaces
    """

    name: str
    geometry: IndexedTriangles
    surfaces: np.ndarray
    double_sided: bool = False
    seen_by_camera: bool = True
    casts_shadows: bool = True
    seen_by_bounced: bool = True
    aimed: bool = False
    stand_in: bool = False
    refine: int | None = None
    cage: Cage | None = None
    variants: list["Mesh"] = field(default_factory=list, init=False, repr=False, compare=False)
    _box: tuple[np.ndarray, np.ndarray, np.ndarray] | None = field(default=None, init=False, repr=False, compare=False)

    @classmethod
    def of(cls, name: str, vertices: np.ndarray, normals: np.ndarray, uvs: np.ndarray, surfaces: np.ndarray, **more: Any) -> "Mesh":
        """A mesh by the corners of its triangles: vertices, normals [n, 3, 3], uvs [n, 3, 2]; see `indexed`."""
        return cls(name, indexed(vertices, normals, uvs), surfaces, **more)

    @property
    def count(self) -> int:
        """Number of its triangles."""
        return len(self.surfaces)

    @property
    def vertices(self) -> np.ndarray:
        """float32 [n, 3, 3]: the corners of each triangle in metres."""
        return self.geometry.each_vertices

    @property
    def normals(self) -> np.ndarray:
        """float32 [n, 3, 3]: unit normals at these corners."""
        return self.geometry.each_normals

    @property
    def uvs(self) -> np.ndarray:
        """float32 [n, 3, 2]: texture coordinates of these corners."""
        return self.geometry.each_uvs

    def box(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner of a box around it, float64 [3] in metres. It must have triangles."""
        points = self.geometry.points
        if self._box is None or self._box[0] is not points:
            self._box = points, points.min(axis=0).astype(float), points.max(axis=0).astype(float)
        return self._box[1:]

    def changed(self, **changes: Any) -> "Mesh":
        """A copy with other values of some fields, or with other `vertices`, `normals` or `uvs`."""
        if not BY_CORNERS.isdisjoint(changes):
            changes["geometry"] = indexed(*(changes.pop(name) if name in changes else getattr(self, name) for name in ("vertices", "normals", "uvs")))
        return replace(self, **changes)

    @property
    def own_cage(self) -> Cage | None:
        """Its cage, unless its shape was changed since."""
        return self.cage if self.cage is not None and self.cage.made is self.geometry else None


@dataclass
class Profile:
    """A photometric profile: luminous intensity over the directions about a light's axis (IES LM-63).

    vertical: degrees from the axis, rising; horizontal: degrees round it, rising from 0, covering one full turn
    candela: float [horizontal, vertical]
    """

    vertical: np.ndarray
    horizontal: np.ndarray
    candela: np.ndarray

    def power(self) -> float:
        """Integral of the candela over the sphere, by the trapezoid rule on a one-degree grid."""
        theta = np.linspace(0.0, 180.0, 181)
        turn = np.linspace(0.0, 360.0, 361)
        rows = np.array([np.interp(theta, self.vertical, row, left=0.0, right=0.0) for row in self.candela])
        around = np.array([np.interp(turn, self.horizontal, column) for column in rows.T])
        ring = np.trapezoid(around, np.radians(turn), axis=1)
        return float(np.trapezoid(ring * np.sin(np.radians(theta)), np.radians(theta)))


@dataclass
class Shaping:
    """How a light's emission depends on the angle from its axis (UsdLux ShapingAPI).

    cone_angle: degrees from the axis beyond which nothing is emitted; cone_softness: share of it that fades, 0 to 1
    focus: exponent of the cosine; focus_tint: tint away from the axis
    profile: multiplies the emission; profile_normalize keeps its total, so that it only shapes the beam; profile_scale widens (above 1)
    or narrows its vertical angles, from the axis or, below 0, from behind; 0 leaves them
    """

    cone_angle: float = 180.0
    cone_softness: float = 0.0
    focus: float = 0.0
    focus_tint: Colour = (0.0, 0.0, 0.0)
    profile: Profile | None = None
    profile_normalize: bool = False
    profile_scale: float = 0.0


@dataclass
class Shadow:
    """A light's own shadow settings; None leaves them to the recipe. See the recipe's keys `shadows.*`."""

    way: str | None = None
    rays: int | None = None
    resolution: int | None = None
    filter: float | None = None
    bias: float | None = None
    fit: str | None = None


@dataclass
class Light:
    """An emitter that rays are aimed at, in the terms of UsdLux; `core.lights.radiance` computes its radiance.

    color is multiplied by the colour of a black body at `temperature` kelvin where that is given
    unit: metres in one unit of the file, in which `normalize` measures areas
    frame: 3 x 3 rows x, y, z in world space, unit length; rect, disk and portal lie in x and y and emit towards -z, a
    cylinder lies along x, a sun shines along -z, a dome's pole is y and its picture's middle is z
    width, height: sides of a rect or portal, diameters of a disk, along x and y; length: of a cylinder
    radius: of a sphere, a cylinder, or what a point stands for; angle: angular diameter of a sun in degrees
    stretch: 3 x 3 matrix that makes of a round sphere or cylinder a stretched one, about its position; None for round ones
    picture: of a dome, turned by `rotation` degrees about its pole, or of a rect, upright when seen from its emitting side
    mesh: name of the mesh of a mesh light; tints: whether the light's colour multiplies what its surface emits, or stands alone
    diffuse, specular: factors on its light by the base and by the glossy layer
    lit, shadowing: names of the meshes that it lights, and that block its light; None means all
    group: its place in the file's tree, names from the root joined by /; empty where the file has none
    """

    name: str
    kind: Literal["rect", "disk", "sphere", "cylinder", "point", "sun", "dome", "portal", "mesh"]
    color: Colour = (1.0, 1.0, 1.0)
    position: Colour = (0.0, 0.0, 0.0)
    frame: np.ndarray = field(default_factory=lambda: np.eye(3))
    intensity: float = 1.0
    exposure: float = 0.0
    temperature: float | None = None
    normalize: bool = False
    unit: float = 1.0
    width: float = 1.0
    height: float = 1.0
    length: float = 1.0
    radius: float = 0.0
    angle: float = 0.0
    shaping: Shaping = field(default_factory=Shaping)
    shadow: Shadow = field(default_factory=Shadow)
    stretch: np.ndarray | None = None
    picture: Texture | None = None
    rotation: float = 0.0
    mesh: str = ""
    tints: bool = True
    on: bool = True
    solo: bool = False
    seen_by_camera: bool = True
    diffuse: float = 1.0
    specular: float = 1.0
    lit: frozenset[str] | None = None
    shadowing: frozenset[str] | None = None
    group: str = ""


@dataclass
class Camera:
    """A camera that looks along its -z axis.

    to_world: 3 x 4, columns x, y, z axes and position
    half_width: tangent of half the horizontal field of view, or half the width in metres when orthographic
    shift: offset of the picture's centre in units of half its width and half its height
    lens_radius: metres, 0 for a pinhole; focus: distance of the sharp plane in metres
    exposure: stops, for display only
    shutter: time codes from the frame's own at which it opens and closes; the same where nothing is known
    """

    name: str
    to_world: np.ndarray
    half_width: float
    shift: tuple[float, float] = (0.0, 0.0)
    lens_radius: float = 0.0
    focus: float = 1.0
    orthographic: bool = False
    exposure: float = 0.0
    shutter: tuple[float, float] = (0.0, 0.0)


LAST_TIME = 1e9
"""Farthest time code of a frame."""


@dataclass(frozen=True)
class FrameRange:
    """The frames of a moving shot: time codes of the first and the last, and how many pass in a second."""

    first: float
    last: float
    rate: float = 24.0


@dataclass
class Scene:
    """Everything that is rendered, the notes from reading it (sentences for the user), and its frames, None for a shot that stands still."""

    name: str
    meshes: list[Mesh] = field(default_factory=list)
    surfaces: list[Surface] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)
    cameras: list[Camera] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    frames: FrameRange | None = None

    def triangle_count(self) -> int:
        return sum(mesh.count for mesh in self.meshes)

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest corner of a box around all meshes in metres; a unit box round the origin when there are none."""
        if not self.triangle_count():
            return np.full(3, -0.5), np.full(3, 0.5)
        boxes = [mesh.box() for mesh in self.meshes if mesh.count]
        return np.min([low for low, _ in boxes], axis=0), np.max([high for _, high in boxes], axis=0)

    def camera(self, name: str | None = None) -> Camera:
        """The camera called `name`, or the first one. Raises InputError with the names there are."""
        from ..errors import InputError

        for camera in self.cameras:
            if name is None or camera.name == name:
                return camera
        names = ", ".join(camera.name for camera in self.cameras)
        raise InputError(f"There is no camera “{name}” in {self.name}; choose one of: {names}.")
