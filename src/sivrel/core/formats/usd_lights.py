"""UsdLux lights: shapes, quantities, shaping, shadows and links as the schema defines them, in metres."""

import math
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
from pxr import Usd, UsdLux

from ..errors import InputError
from ..lights.radiance import emitted
from ..scene.frames import upright_frame
from ..scene.model import Light, Mesh, Shadow, Shaping, Surface, Texture
from .ies import read_ies
from .usd_assets import asset_bytes

KINDS = {
    "DistantLight": "sun", "RectLight": "rect", "DiskLight": "disk", "SphereLight": "sphere", "CylinderLight": "cylinder",
    "DomeLight": "dome", "DomeLight_1": "dome", "PortalLight": "portal",
}  # fmt: skip
# A dome's picture has its middle at +z and its pole at y, as ours; see lights/panorama.py.
POLE_IN_Z = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]])
"""Columns: where x, y and z of a dome's picture lie when its pole is z (UsdLux DomeLight_1)."""
ROUND, ROUND_WITHIN = np.eye(3), 1e-4
NOT_READ: dict[str, tuple[str, tuple[float, ...] | float]] = {
    "inputs:shadow:color": ("the colour of its shadows", (0.0, 0.0, 0.0)),
    "inputs:shadow:distance": ("the distance at which its shadows end", -1.0),
    "inputs:shadow:falloff": ("the distance over which its shadows fade", -1.0),
    "inputs:shadow:falloffGamma": ("how its shadows fade", 1.0),
}
"""Attributes that are left out, with their names in words and the value that has no effect."""

LINE = 5e-4
"""Radius of a line (`treatAsLine`) in its lengths."""


class LightReader:
    """Reads the lights of a stage. `image` reads a texture asset, or returns None after adding a note."""

    def __init__(
        self, metres: float, z_up: bool, time: Usd.TimeCode, confine_to: Path | None, image: Callable[..., Texture | None],
        note: Callable[[str], None],
    ) -> None:  # fmt: skip
        self.metres, self.z_up, self.time, self.confine_to, self.image, self.note = metres, z_up, time, confine_to, image, note

    def read(self, prim: Usd.Prim, matrix: np.ndarray) -> Light | None:
        """The light at `prim`, or None after a note; `matrix` is prim to scene, 4 x 4 for columns."""
        kind = KINDS.get(prim.GetTypeName())
        if kind is None:
            self.note(f"The light {prim.GetName()} is a {prim.GetTypeName()}, which is not supported, so it was left out.")
            return None
        x, y, z = (float(v) for v in matrix[:3, 3])
        light = Light(prim.GetName(), kind, position=(x, y, z), unit=self.metres)  # type: ignore[arg-type]
        self._quantities(prim, light)
        if not self._shape(prim, light, matrix):
            self.note(f"The light {prim.GetName()} has no area, so it was left out.")
            return None
        self._shaping(prim, light)
        self._shadow(prim, light)
        self._name_what_is_left_out(prim)
        return light

    def read_mesh(self, prim: Usd.Prim, mesh: Mesh, add_surface: Callable[[Surface], int]) -> Light:
        """The light of a mesh with MeshLightAPI; `mesh` gets a surface of its own if its material does not apply."""
        light = Light(mesh.name, "mesh", unit=self.metres, mesh=mesh.name)
        self._quantities(prim, light)
        if light.normalize:
            edges = mesh.vertices.astype(float)
            area = 0.5 * float(np.linalg.norm(np.cross(edges[:, 1] - edges[:, 0], edges[:, 2] - edges[:, 0]), axis=1).sum())
            light.intensity, light.normalize = light.intensity / max(area / self.metres**2, 1e-30), False
        mode = prim.GetAttribute("light:materialSyncMode").Get(self.time) or "materialGlowTintsLight"
        if mode == "noMaterialResponse":
            number = add_surface(Surface(light.name, (0.0, 0.0, 0.0), ior=1.0, emission=emitted(light)))
            mesh.surfaces = np.broadcast_to(np.uint32(number), mesh.count)
            light = replace(light, color=(1.0, 1.0, 1.0), intensity=1.0, exposure=0.0, temperature=None)
        light.tints = mode != "independent"
        self._shadow(prim, light)
        self._name_what_is_left_out(prim)
        return light

    def _name_what_is_left_out(self, prim: Usd.Prim) -> None:
        left_out = []
        authored = set(prim.GetAuthoredPropertyNames())
        for attribute, (what, plain) in NOT_READ.items():
            value = prim.GetAttribute(attribute).Get(self.time) if attribute in authored else None
            if value is not None and not np.allclose(np.array(value, float), plain):
                left_out.append(what)
        if "light:filters" in authored and prim.GetRelationship("light:filters").GetForwardedTargets():
            left_out.append("its light filters")
        left_out += [f"the connection of its {i.GetBaseName()}" for i in UsdLux.LightAPI(prim).GetInputs() if i.HasConnectedSource()]
        if left_out:
            self.note(f"Of the light {prim.GetName()}, {', '.join(left_out)} {'is' if len(left_out) == 1 else 'are'} not supported.")

    def _value(self, prim: Usd.Prim, attribute: str, default: float) -> float:
        got = prim.GetAttribute(attribute).Get(self.time) if prim.HasAttribute(attribute) else None
        return default if got is None else float(got)

    def _quantities(self, prim: Usd.Prim, light: Light) -> None:
        api = UsdLux.LightAPI(prim)
        r, g, b = api.GetColorAttr().Get(self.time) or (1.0, 1.0, 1.0)
        light.color = (float(r), float(g), float(b))
        light.intensity, light.exposure = self._value(prim, "inputs:intensity", 1.0), self._value(prim, "inputs:exposure", 0.0)
        light.diffuse, light.specular = self._value(prim, "inputs:diffuse", 1.0), self._value(prim, "inputs:specular", 1.0)
        light.normalize = bool(api.GetNormalizeAttr().Get(self.time))
        if api.GetEnableColorTemperatureAttr().Get(self.time):
            light.temperature = self._value(prim, "inputs:colorTemperature", 6500.0)

    def _shape(self, prim: Usd.Prim, light: Light, matrix: np.ndarray) -> bool:
        """Size and frame; False when the light has no area."""
        axes = matrix[:3, :3]
        scales = np.linalg.norm(axes, axis=0)
        if light.kind == "sun":
            light.angle = min(max(self._value(prim, "inputs:angle", 0.53), 0.0), 360.0)
            light.frame = upright_frame(axes[:, 2])
        elif light.kind in ("rect", "portal", "disk"):
            width, height = self._value(prim, "inputs:width", 1.0), self._value(prim, "inputs:height", 1.0)
            if light.kind == "disk":
                width = height = 2.0 * self._value(prim, "inputs:radius", 0.5)
            light.width, light.height = width * scales[0], height * scales[1]
            light.frame = flat_frame(axes)
            asset = prim.GetAttribute("inputs:texture:file").Get(self.time) if light.kind == "rect" else None
            if asset and asset.path:
                light.picture = self.image(asset, "clamp", f"The light {light.name} has one colour instead.")
            return bool(np.linalg.norm(np.cross(axes[:, 0], axes[:, 1])) * width * height > 0.0)
        elif light.kind == "sphere":
            light.radius = self._value(prim, "inputs:radius", 0.5) * float(scales.mean())
            light.frame = turned_frame(axes)
            if prim.GetAttribute("treatAsPoint").Get(self.time) or light.radius <= 0.0:
                light.kind = "point"
                return True
            light.stretch = _stretch(axes / max(float(scales.mean()), 1e-30))
            return np.linalg.det(axes) != 0.0
        elif light.kind == "cylinder":
            light.radius = self._value(prim, "inputs:radius", 0.5) * float(scales[1:].mean())
            light.length = self._value(prim, "inputs:length", 1.0) * float(scales[0])
            light.frame = turned_frame(axes)
            if prim.GetAttribute("treatAsLine").Get(self.time) and light.length > 0.0:
                thin = light.length * LINE
                if not light.normalize:
                    light.intensity *= light.radius / thin
                light.radius, light.seen_by_camera = thin, False
            round_ = np.maximum([scales[0], scales[1:].mean(), scales[1:].mean()], 1e-30)
            light.stretch = _stretch(axes / round_ @ light.frame)
            return light.radius > 0.0 and light.length > 0.0 and np.linalg.det(axes) != 0.0
        elif light.kind == "dome":
            pole = prim.GetAttribute("poleAxis").Get(self.time) if prim.GetTypeName() == "DomeLight_1" else "Y"
            light.frame = turned_frame(axes @ POLE_IN_Z if pole == "Z" or (pole == "scene" and self.z_up) else axes)
            asset = prim.GetAttribute("inputs:texture:file").Get(self.time)
            layout = prim.GetAttribute("inputs:texture:format").Get(self.time)
            if asset and asset.path:
                if layout not in (None, "automatic", "latlong"):
                    self.note(f"The panorama of {light.name} has the layout {layout}; it is read as latitude-longitude.")
                light.picture = self.image(asset, "repeat", "The sky's constant colour is used instead.")
        return True

    def _shaping(self, prim: Usd.Prim, light: Light) -> None:
        if not prim.HasAPI(UsdLux.ShapingAPI):
            return
        tint = prim.GetAttribute("inputs:shaping:focusTint").Get(self.time) or (0.0, 0.0, 0.0)
        light.shaping = Shaping(
            cone_angle=min(max(self._value(prim, "inputs:shaping:cone:angle", 90.0), 0.0), 180.0),
            cone_softness=min(max(self._value(prim, "inputs:shaping:cone:softness", 0.0), 0.0), 1.0),
            focus=max(0.0, self._value(prim, "inputs:shaping:focus", 0.0)),
            focus_tint=(float(tint[0]), float(tint[1]), float(tint[2])),
        )
        asset = prim.GetAttribute("inputs:shaping:ies:file").Get(self.time)
        if asset and asset.path:
            try:
                light.shaping.profile = read_ies(asset_bytes(asset, self.confine_to).decode("latin-1"), asset.path)
                light.shaping.profile_scale = self._value(prim, "inputs:shaping:ies:angleScale", 0.0)
                light.shaping.profile_normalize = bool(prim.GetAttribute("inputs:shaping:ies:normalize").Get(self.time))
            except InputError as error:
                self.note(f"{error} The light {light.name} is used without it.")

    def _shadow(self, prim: Usd.Prim, light: Light) -> None:
        if prim.HasAPI(UsdLux.ShadowAPI) and prim.GetAttribute("inputs:shadow:enable").Get(self.time) is False:
            light.shadow = Shadow(way="off")

    def link(self, prim: Usd.Prim, light: Light, meshes: list[str]) -> None:
        """Resolve the light's collections to names of meshes (UsdLux: lightLink, shadowLink)."""
        api = UsdLux.LightAPI(prim)
        for collection, attribute in ((api.GetLightLinkCollectionAPI(), "lit"), (api.GetShadowLinkCollectionAPI(), "shadowing")):
            query = collection.ComputeMembershipQuery()
            members = frozenset(name for name in meshes if query.IsPathIncluded(name))
            if len(members) < len(meshes):
                setattr(light, attribute, members)


def flat_frame(axes: np.ndarray) -> np.ndarray:
    """Rows: directions of the two sides, not necessarily perpendicular, and the normal on the side of the third axis."""
    x, y = (axes[:, k] / max(float(np.linalg.norm(axes[:, k])), 1e-30) for k in (0, 1))
    normal = np.cross(x, y)
    if np.dot(normal, axes[:, 2]) < 0.0:
        normal = -normal
    return np.array([x, y, normal / max(float(np.linalg.norm(normal)), 1e-30)])


def turned_frame(axes: np.ndarray) -> np.ndarray:
    """Orthonormal rows x, y, z closest to the axes: x is kept, z is made perpendicular to it."""
    x = axes[:, 0] / max(math.hypot(*axes[:, 0]), 1e-30)
    z = axes[:, 2] - x * float(axes[:, 2] @ x)
    length = math.hypot(*z)
    if length < 1e-12:
        return np.eye(3)
    z /= length
    # Without np.cross, which takes longer than all the rest: a file may have thousands of lights.
    y = z[1] * x[2] - z[2] * x[1], z[2] * x[0] - z[0] * x[2], z[0] * x[1] - z[1] * x[0]
    return np.array([x, y, z])


def _stretch(matrix: np.ndarray) -> np.ndarray | None:
    """The matrix of a stretched light, or None if it only rotates: the light is round."""
    is_round = float(np.abs(matrix @ matrix.T - ROUND).max()) <= ROUND_WITHIN
    return None if is_round or np.linalg.det(matrix) == 0.0 else matrix
