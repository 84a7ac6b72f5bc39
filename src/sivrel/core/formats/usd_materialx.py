"""MaterialX surfaces in USD: standard_surface and open_pbr_surface as what the renderer has, with constants and textures.

"Standard Surface" 1.0.1 (2019); "OpenPBR Surface" 1.1 (2024); nodes as in "MaterialX Standard Nodes" 1.39. What is
not carried is named in the scene's notes.
"""

from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
from pxr import UsdGeom, UsdShade

from ..scene.model import Colour, Surface, Texture, TextureUse
from ..scene.texels import TileSet

if TYPE_CHECKING:
    from .usd_surface import SurfaceReader


class Model(NamedTuple):
    """What the inputs of a model are called, each with its default, and the inputs that are not carried, with what they are when they do nothing."""

    names: dict[str, tuple[str, Any]]
    not_carried: dict[str, Any]


WHITE = (1.0, 1.0, 1.0)
STANDARD = Model(
    {
        "weight": ("base", 1.0), "base": ("base_color", (0.8, 0.8, 0.8)), "metallic": ("metalness", 0.0), "specular": ("specular", 1.0),
        "tint": ("specular_color", WHITE), "roughness": ("specular_roughness", 0.2), "ior": ("specular_IOR", 1.5),
        "transmission": ("transmission", 0.0), "through": ("transmission_color", WHITE), "depth": ("transmission_depth", 0.0),
        "thin": ("thin_walled", False), "coat": ("coat", 0.0), "coat_roughness": ("coat_roughness", 0.1), "glow": ("emission", 0.0),
        "emission": ("emission_color", WHITE), "opacity": ("opacity", WHITE), "normal": ("normal", None),
    },
    {
        "diffuse_roughness": 0.0, "specular_anisotropy": 0.0, "transmission_scatter": (0.0, 0.0, 0.0), "transmission_dispersion": 0.0,
        "transmission_extra_roughness": 0.0, "subsurface": 0.0, "sheen": 0.0, "coat_color": WHITE, "coat_anisotropy": 0.0,
        "coat_affect_color": 0.0, "coat_affect_roughness": 0.0, "coat_normal": None, "thin_film_thickness": 0.0, "tangent": None,
    },
)  # fmt: skip
OPEN_PBR = Model(
    {
        "weight": ("base_weight", 1.0), "base": ("base_color", (0.8, 0.8, 0.8)), "metallic": ("base_metalness", 0.0),
        "specular": ("specular_weight", 1.0), "tint": ("specular_color", WHITE), "roughness": ("specular_roughness", 0.3),
        "ior": ("specular_ior", 1.5), "transmission": ("transmission_weight", 0.0), "through": ("transmission_color", WHITE),
        "depth": ("transmission_depth", 0.0), "thin": ("geometry_thin_walled", False), "coat": ("coat_weight", 0.0),
        "coat_roughness": ("coat_roughness", 0.0), "glow": ("emission_luminance", 0.0), "emission": ("emission_color", WHITE),
        "opacity": ("geometry_opacity", 1.0), "normal": ("geometry_normal", None),
    },
    {
        "base_diffuse_roughness": 0.0, "specular_roughness_anisotropy": 0.0, "transmission_scatter": (0.0, 0.0, 0.0),
        "transmission_dispersion_scale": 0.0, "subsurface_weight": 0.0, "fuzz_weight": 0.0, "coat_color": WHITE,
        "coat_roughness_anisotropy": 0.0, "coat_darkening": None, "geometry_coat_normal": None, "thin_film_weight": 0.0, "geometry_tangent": None,
    },
)  # fmt: skip
MODELS = {"ND_standard_surface_surfaceshader": STANDARD, "ND_open_pbr_surface_surfaceshader": OPEN_PBR}
WRAPS = {"periodic": "repeat", "clamp": "clamp", "mirror": "mirror", "constant": "black"}


class Value(NamedTuple):
    """A constant or, times it, a texture."""

    constant: Any
    use: TextureUse | None = None


class MaterialXReader:
    """Reads one shader of a model in MODELS."""

    def __init__(self, shader: UsdShade.Shader, beside: "SurfaceReader") -> None:
        self.shader, self.beside, self.time = shader, beside, beside.time
        self.model = MODELS[shader.GetIdAttr().Get()]
        self.name = ""

    def surface(self, material: UsdShade.Material) -> Surface:
        """The surface of the material, with notes on what is left out."""
        self.name = material.GetPrim().GetName()
        number, colour = self._number, self._colour
        weight, base = number("weight"), colour("base")
        surface = Surface(self.name, _times(base.constant, weight.constant), number("roughness").constant, number("metallic").constant)
        surface.base_color_map = _scaled(base.use, weight.constant)
        for ours in ("roughness", "metallic", "coat", "coat_roughness"):
            value = number(ours)
            setattr(surface, ours, value.constant)
            setattr(surface, f"{ours}_map", value.use)
        self._specular(surface)
        self._emission(surface)
        opacity = number("opacity")
        surface.opacity, surface.opacity_map = min(1.0, max(0.0, opacity.constant)), opacity.use
        self._glass(surface, material)
        normal = self._value(self.model.names["normal"][0])
        if normal is not None:
            surface.normal_map = normal.use
        self._name_left_out()
        return surface

    def _specular(self, surface: Surface) -> None:
        """The strength of the highlight as an index of refraction, or with a tint as reflectance at normal incidence."""
        strength, tint = self._number("specular").constant, self._colour("tint").constant
        index = max(1.0, float(self._number("ior").constant))
        reflectance = min(1.0, max(0.0, strength)) * ((index - 1.0) / (index + 1.0)) ** 2
        root = min(reflectance**0.5, 0.999)
        surface.ior = index if strength >= 1.0 else (1.0 + root) / (1.0 - root)
        if tint != WHITE:
            if surface.metallic == 0.0 and surface.metallic_map is None:
                surface.specular = _times(tint, reflectance)
            else:
                self._note("the tint of the highlight")

    def _emission(self, surface: Surface) -> None:
        strength, colour = self._number("glow").constant, self._colour("emission")
        surface.emission = _times(colour.constant, strength)
        if strength > 0.0:
            surface.emission_map = _scaled(colour.use, strength)

    def _glass(self, surface: Surface, material: UsdShade.Material) -> None:
        share = self._number("transmission")
        if share.use is not None:
            self._note("the texture of its transmission")
        if share.constant <= 0.0:
            return
        r, g, b = self._colour("through").constant
        depth = float(self._number("depth").constant) * UsdGeom.GetStageMetersPerUnit(material.GetPrim().GetStage())
        surface.opacity *= 1.0 - min(1.0, share.constant)
        surface.see_through, surface.attenuation, surface.attenuation_distance = "pane", (r, g, b), depth
        thin = self._constant(self.model.names["thin"][0])
        # A closed mesh becomes solid glass unless it is said to be thin.
        self.beside.thin_walled[id(surface)] = True if thin else None
        if not thin and depth <= 0.0 and min(r, g, b) < 1.0:
            self._note("the tint of solid glass without a depth")

    def _name_left_out(self) -> None:
        for name, nothing in self.model.not_carried.items():
            value = self._value(name)
            if value is not None and (value.use is not None or (nothing is not None and not np.allclose(value.constant, nothing))):
                self._note(name)

    def _note(self, what: str) -> None:
        self.beside.note(f"Of the material {self.name}, {what} is not supported and was left out.")

    def _constant(self, name: str) -> Any:
        port = self.shader.GetInput(name)
        return port.Get(self.time) if port else None

    def _number(self, ours: str) -> Value:
        """An input as a number; the mean of a colour."""
        name, default = self.model.names[ours]
        value = self._value(name) or Value(default)
        return Value(float(np.mean(np.asarray(value.constant, float))), value.use)

    def _colour(self, ours: str) -> Value:
        name, default = self.model.names[ours]
        value = self._value(name) or Value(default)
        r, g, b = np.broadcast_to(np.asarray(value.constant, float).reshape(-1)[:3], 3).tolist()
        return Value((r, g, b), value.use)

    def _value(self, name: str) -> Value | None:
        """What an input holds; None if nothing is stated, or what it is connected to is not supported, which is noted."""
        port = self.shader.GetInput(name)
        return _followed(port, self, 0) if port else None


def _followed(port: UsdShade.Input, of: MaterialXReader, depth: int) -> Value | None:
    """The value of an input through the nodes that it is connected to."""
    for attribute in port.GetValueProducingAttributes():
        node = UsdShade.Shader(attribute.GetPrim())
        if UsdShade.Utils.GetType(attribute.GetName()) == UsdShade.AttributeType.Output and node and node.GetIdAttr().Get():
            return _of_node(node, of, depth)
        value = attribute.Get(of.time)
        return None if value is None else Value(tuple(value) if hasattr(value, "__len__") else value)
    return None


def _of_node(node: UsdShade.Shader, of: MaterialXReader, depth: int) -> Value | None:
    kind = str(node.GetIdAttr().Get()).removeprefix("ND_").partition("_")[0]

    def follow(name: str) -> Value | None:
        port = node.GetInput(name)
        return _followed(port, of, depth + 1) if port and depth < 16 else None

    if kind in ("image", "tiledimage"):
        texture = _texture(node, of)
        return None if texture is None else Value(WHITE, TextureUse(texture))
    if kind in ("constant", "dot", "convert"):
        return follow("value") if kind == "constant" else follow("in")
    if kind == "multiply":
        a, b = follow("in1"), follow("in2")
        if a is not None and b is not None and (a.use is None or b.use is None):
            product = np.asarray(a.constant, float) * np.asarray(b.constant, float)
            use = a.use or b.use
            return Value(tuple(np.atleast_1d(product)) if product.ndim else float(product), None if use is None else _scaled(use, product))
    if kind == "extract":
        inside, at = follow("in"), follow("index")
        if inside is not None and inside.use is not None:
            return Value(1.0, TextureUse(inside.use.texture, int(at.constant) if at is not None else 0))
    if kind == "normalmap":
        inside, strength = follow("in"), follow("scale")
        if inside is not None and inside.use is not None:
            s = 1.0 if strength is None else float(np.mean(strength.constant))
            old = inside.use.texture
            made = Texture(old.texels, old.wrap, (2.0 * s, 2.0 * s, 2.0, 1.0), (-s, -s, -1.0, 0.0), old.transform)
            return Value(WHITE, TextureUse(made))
        return None
    of.beside.note(f"The node {node.GetIdAttr().Get()} in the material {of.name} is not supported; the plain value is used instead.")
    return None


def _texture(node: UsdShade.Shader, of: MaterialXReader) -> Texture | None:
    """The picture of an image node, its channels as they are stored."""
    port = node.GetInput("file")
    space = str(port.GetAttr().GetColorSpace()) if port else ""
    found = of.beside.picture(node, space, "auto" if "color" in str(node.GetIdAttr().Get()) else "raw")
    if found is None:
        return None

    def stated(name: str, default: Any) -> Any:
        own = node.GetInput(name)
        value = own.Get(of.time) if own else None
        return default if value is None else value

    wraps = ["black" if isinstance(found, TileSet) else WRAPS.get(str(stated(f"{axis}addressmode", "periodic")), "repeat") for axis in "uv"]
    # A tiled image repeats its picture by uvtiling, and moves it by uvoffset.
    (su, sv), (ou, ov) = stated("uvtiling", (1.0, 1.0)), stated("uvoffset", (0.0, 0.0))
    moved = np.array([[float(su), 0.0, -float(ou)], [0.0, float(sv), -float(ov)]])
    return Texture(found, (wraps[0], wraps[1]), transform=moved)


def _times(colour: Colour, factor: float) -> Colour:
    r, g, b = colour
    return r * factor, g * factor, b * factor


def _scaled(use: TextureUse | None, factor: Any) -> TextureUse | None:
    """The texture times a number or a colour."""
    if use is None:
        return None
    r, g, b = np.broadcast_to(np.asarray(factor, float).reshape(-1)[:3], 3).tolist()
    old = use.texture
    scale, bias = old.scale, old.bias
    made = Texture(
        old.texels, old.wrap, (scale[0] * r, scale[1] * g, scale[2] * b, scale[3]), (bias[0] * r, bias[1] * g, bias[2] * b, bias[3]), old.transform,
    )  # fmt: skip
    return TextureUse(made, use.channel)
