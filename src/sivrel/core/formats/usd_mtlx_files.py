"""MaterialX documents (.mtlx) that a USD file refers to.

OpenUSD reads them by a plug-in that its Python package does not have. Here the MaterialX library reads them, and their materials are written into the
stage's session layer as shading networks, under the names that the plug-in gives them: /MaterialX/Materials/NAME.
"""

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdShade

from ..errors import InputError
from .colour_spaces import encoding_of, to_linear
from .usd_assets import asset_bytes

ROOT = Sdf.Path("/MaterialX")
MATERIALS = ROOT.AppendPath("Materials")
KINDS = Sdf.ValueTypeNames
TYPES: dict[str, tuple[Any, Callable[[Any], Any]]] = {
    "float": (KINDS.Float, float),
    "integer": (KINDS.Int, int),
    "boolean": (KINDS.Bool, bool),
    "string": (KINDS.String, str),
    "color3": (KINDS.Color3f, lambda v: Gf.Vec3f(v[0], v[1], v[2])),
    "vector3": (KINDS.Float3, lambda v: Gf.Vec3f(v[0], v[1], v[2])),
    "vector2": (KINDS.Float2, lambda v: Gf.Vec2f(v[0], v[1])),
    "color4": (KINDS.Color4f, lambda v: Gf.Vec4f(v[0], v[1], v[2], v[3])),
    "vector4": (KINDS.Float4, lambda v: Gf.Vec4f(v[0], v[1], v[2], v[3])),
}
"""Types of inputs that are carried, in USD; others have no part in what is read of a network."""
COLOURS = ("color3", "color4")
"""Types to which a document's colour space applies."""
MOST_NODES = 10_000


def compose_documents(stage: Usd.Stage, confine_to: Path | None, note: Callable[[str], None]) -> None:
    """Write the materials of every document that a prim refers to below that prim. With `confine_to`, no document outside that folder is read."""
    if not any(name.lower().endswith(".mtlx") for layer in stage.GetUsedLayers() for name in layer.GetCompositionAssetDependencies()):
        return
    known: dict[str, Any] = {}
    with Usd.EditContext(stage, stage.GetSessionLayer()):
        for path, asset, inner in list(_references(stage)):
            try:
                if asset.resolvedPath not in known:
                    known[asset.resolvedPath] = _read(asset, confine_to)
            except InputError as error:
                note(f"{error} Its materials are left out.")
                continue
            for material in known[asset.resolvedPath].getMaterialNodes():
                place = MATERIALS.AppendChild(material.getName())
                if place.HasPrefix(inner):
                    _Author(stage, path.AppendPath(place.MakeRelativePath(inner)) if place != inner else path, asset).material(material)


def _references(stage: Usd.Stage) -> Iterator[tuple[Sdf.Path, Sdf.AssetPath, Sdf.Path]]:
    """(prim, document, path inside it) of every reference to a document."""
    for prim in stage.TraverseAll():
        for spec in prim.GetPrimStack():
            for reference in [*spec.referenceList.GetAppliedItems(), *spec.payloadList.GetAppliedItems()]:
                if reference.assetPath.lower().endswith(".mtlx"):
                    where = Sdf.ComputeAssetPathRelativeToLayer(spec.layer, reference.assetPath)
                    found = where if Path(where).is_file() else ""
                    yield prim.GetPath(), Sdf.AssetPath(reference.assetPath, found), reference.primPath or ROOT


def _read(asset: Sdf.AssetPath, confine_to: Path | None) -> Any:
    try:
        import MaterialX
    except ImportError:  # no wheel for this machine
        raise InputError(f"{Path(asset.path).name} can't be read: the package materialx is not installed here.") from None
    text = asset_bytes(asset, confine_to).decode("utf-8", "replace")
    options = MaterialX.XmlReadOptions()
    options.readXIncludeFunction = None  # no other file is opened
    document = MaterialX.createDocument()
    try:
        MaterialX.readFromXmlString(document, text, MaterialX.FileSearchPath(), options)
    except Exception as error:
        raise InputError(f"{Path(asset.path).name} is not a MaterialX document, or it is damaged ({str(error).splitlines()[0][:120]}).") from None
    return document


class _Author:
    """Writes one material of a document, with the nodes that it needs."""

    def __init__(self, stage: Usd.Stage, path: Sdf.Path, asset: Sdf.AssetPath) -> None:
        self.stage, self.path, self.beside = stage, path, Path(asset.resolvedPath).parent
        self.known: dict[str, UsdShade.Shader] = {}

    def material(self, node: Any) -> None:
        made = UsdShade.Material.Define(self.stage, self.path)
        surface = node.getConnectedNode("surfaceshader")
        if surface is not None:
            made.CreateSurfaceOutput("mtlx").ConnectToSource(self._node(surface).ConnectableAPI(), "out")

    def _node(self, node: Any) -> UsdShade.Shader:
        name = node.getNamePath()
        if name in self.known or len(self.known) >= MOST_NODES:
            return self.known.get(name) or next(iter(self.known.values()))
        shader = UsdShade.Shader.Define(self.stage, self.path.AppendChild(name.replace("/", "_")))
        self.known[name] = shader
        shader.CreateIdAttr(f"ND_{node.getCategory()}_{node.getType()}")
        for port in node.getInputs():
            kind = port.getType()
            source = port.getConnectedNode()
            if source is not None:
                at = shader.CreateInput(port.getName(), TYPES.get(kind, TYPES["color3"])[0])
                at.ConnectToSource(self._node(source).ConnectableAPI(), "out")
                continue
            outer = port.getInterfaceInput() or port
            if kind == "filename":
                file = outer.getResolvedValueString()
                made = shader.CreateInput(port.getName(), KINDS.Asset)
                made.Set(Sdf.AssetPath(str(self.beside / file)))
                if node.getType() in COLOURS and outer.getActiveColorSpace():
                    made.GetAttr().SetColorSpace(outer.getActiveColorSpace())
            elif kind in TYPES and outer.getValue() is not None:
                value = outer.getValue()
                if kind in COLOURS:
                    value = _linear([value[k] for k in range(int(kind[-1]))], outer.getActiveColorSpace())
                shader.CreateInput(port.getName(), TYPES[kind][0]).Set(TYPES[kind][1](value))
        return shader


def _linear(colour: list[float], space: str) -> list[float]:
    """A colour of the document in linear Rec.709; one in an unknown space as it is."""
    try:
        encoding = encoding_of(space, "raw")
    except InputError:
        return colour
    return [*to_linear(np.array([[colour[:3]]], np.float32), encoding)[0, 0].tolist(), *colour[3:]]
