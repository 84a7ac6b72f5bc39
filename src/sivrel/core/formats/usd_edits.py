"""Edits out: a USD layer over the scene's own file, with everything that UsdLux can express."""

from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade

from ..edits.apply_edits import apply_edits
from ..edits.edits import MENDS, Edits
from ..errors import InputError
from ..scene.model import Camera, Light, Scene
from .scenes import read_scene
from .usd_mends import MendWriter, editable

TYPES = {
    "rect": "RectLight", "disk": "DiskLight", "sphere": "SphereLight", "point": "SphereLight", "cylinder": "CylinderLight",
    "sun": "DistantLight", "dome": "DomeLight", "portal": "PortalLight",
}  # fmt: skip
ADDED = "SivrelLights"
INPUTS = {
    "intensity": ("intensity", Sdf.ValueTypeNames.Float), "exposure": ("exposure", Sdf.ValueTypeNames.Float),
    "normalize": ("normalize", Sdf.ValueTypeNames.Bool), "diffuse": ("diffuse", Sdf.ValueTypeNames.Float),
    "specular": ("specular", Sdf.ValueTypeNames.Float), "angle": ("angle", Sdf.ValueTypeNames.Float),
}  # fmt: skip


def write_layer(path: Path, edits: Edits, out: Path, scene: Scene | None = None) -> list[str]:
    """Write `edits` of the scene file `path` as a layer `out` that has the file as its sublayer; the file itself is not
    touched. Returns a sentence for each edit that USD can't express. Raises InputError."""
    if path.suffix.lower() not in (".usda", ".usdc", ".usd", ".usdz"):
        raise InputError(f"{path.name} is not a USD file, so no USD layer can lie over it.")
    scene = scene or read_scene(path)
    lights = {n: e for n, e in edits.lights.items() if e.kind != "daylight"}
    edited = apply_edits(scene, edits.model_copy(update={"lights": lights}))
    text = out.suffix.lower() != ".usdc"
    layer = Sdf.Layer.CreateAnonymous(".usda" if text else ".usdc")
    layer.subLayerPaths.append(str(path.resolve()))
    stage = Usd.Stage.Open(layer)
    whole = edits.scenes.get("whole")
    # Stage metadata is read from the root layer only, so this layer repeats it.
    own = Usd.Stage.Open(str(path), Usd.Stage.LoadNone)
    metres = (UsdGeom.GetStageMetersPerUnit(own) or 0.01) * (whole.scale if whole and whole.scale else 1.0)
    to_stage = np.eye(3)
    if UsdGeom.GetStageUpAxis(own) == UsdGeom.Tokens.z:
        to_stage = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, -1.0], [0.0, 1.0, 0.0]])
    UsdGeom.SetStageUpAxis(stage, UsdGeom.GetStageUpAxis(own))
    UsdGeom.SetStageMetersPerUnit(stage, metres)
    if own.GetDefaultPrim():
        stage.SetDefaultPrim(stage.GetPrimAtPath(own.GetDefaultPrim().GetPath()))
    for key in ("startTimeCode", "endTimeCode", "timeCodesPerSecond", "framesPerSecond"):
        if own.HasAuthoredMetadata(key):
            stage.SetMetadata(key, own.GetMetadata(key))
    left_out: list[str] = []
    paths = {p.GetName(): p for p in stage.Traverse(Usd.TraverseInstanceProxies()) if p.HasAPI(UsdLux.LightAPI)}
    root = stage.GetDefaultPrim().GetPath() if stage.GetDefaultPrim() else Sdf.Path.absoluteRootPath
    for name, edit in edits.lights.items():
        light = next((one for one in edited.lights if one.name == name), None)
        if edit.kind == "daylight":
            left_out.append(f"The daylight {name} is computed from place and time, which USD can't express, so it was left out.")
            continue
        if light is None or light.kind == "mesh":
            left_out.append(f"The edits of {name} were left out, since the file has no such light.")
            continue
        prim = paths.get(name) or (stage.GetPrimAtPath(name) if name.startswith("/") else None)
        if not prim:
            prim = stage.DefinePrim(root.AppendChild(ADDED).AppendChild(_identifier(name)), TYPES[light.kind])
        _write_light(stage, prim, light, edit, metres, to_stage, edit.kind is not None, left_out)
    mends = MendWriter(stage, scene, edited, metres, to_stage, root, left_out)
    for name, change in edits.objects.items():
        if any(getattr(change, field) is not None for field in MENDS):
            mends.mend(name, change)
        if not change.out:
            _write_object(stage, name, change, left_out)
    cameras = {p.GetName(): p for p in stage.Traverse(Usd.TraverseInstanceProxies()) if p.IsA(UsdGeom.Camera)}
    for name, view in edits.cameras.items():
        prim = cameras.get(name) or stage.DefinePrim(root.AppendChild(_identifier(name)), "Camera")
        _write_camera(prim, edited.camera(name), view.exposure is not None or name not in cameras, metres, to_stage)
    for name, card in edits.cards.items():
        mends.card(name, card, _identifier)
    layer.Export(str(out))
    return left_out


def _identifier(name: str) -> str:
    kept = "".join(c if c.isalnum() or c == "_" else "_" for c in name)
    return kept if kept[:1].isalpha() else f"L_{kept}"


def _write_light(
    stage: Usd.Stage, prim: Usd.Prim, light: Light, edit: Any, metres: float, to_stage: np.ndarray, added: bool, left_out: list[str]
) -> None:
    def put(name: str, kind: Sdf.ValueTypeName, value: Any) -> None:
        prim.CreateAttribute(f"inputs:{name}", kind).Set(value)

    f = Sdf.ValueTypeNames.Float
    for field, (name, kind) in INPUTS.items():
        if getattr(edit, field) is not None or (added and field in ("intensity", "normalize", "angle")):
            put(name, kind, getattr(light, field))
    if edit.color is not None:
        put("color", Sdf.ValueTypeNames.Color3f, Gf.Vec3f(*light.color))
    if edit.temperature is not None:
        put("enableColorTemperature", Sdf.ValueTypeNames.Bool, bool(light.temperature))
        put("colorTemperature", f, light.temperature or 6500.0)
    # Sizes are in the prim's own units; a scale above it is cancelled by writing the world size.
    sizes = {"rect": ("width", "height"), "portal": ("width", "height"), "disk": ("width",), "sphere": ("radius",), "cylinder": ("radius", "length")}
    moved = added or any(value is not None for value in (edit.at, edit.towards, edit.elevation, edit.bearing))
    if any(getattr(edit, s) is not None for s in sizes.get(light.kind, ())) or moved:
        for size in sizes.get(light.kind, ()):
            put("radius" if light.kind == "disk" else size, f, getattr(light, size) / metres / (2.0 if light.kind == "disk" else 1.0))
    if moved and light.kind not in ("dome",):
        _write_place(prim, light.frame, np.asarray(light.position), metres, to_stage)
    if edit.cone_angle is not None or edit.cone_softness is not None or edit.focus is not None or edit.profile is not None:
        shaping = UsdLux.ShapingAPI.Apply(prim)
        shaping.CreateShapingConeAngleAttr(light.shaping.cone_angle)
        shaping.CreateShapingConeSoftnessAttr(light.shaping.cone_softness)
        shaping.CreateShapingFocusAttr(light.shaping.focus)
        if edit.profile is not None:
            shaping.CreateShapingIesFileAttr(Sdf.AssetPath("" if edit.profile == "none" else edit.profile))
    if edit.panorama is not None:
        put("texture:file", Sdf.ValueTypeNames.Asset, Sdf.AssetPath("" if edit.panorama == "none" else edit.panorama))
    if edit.on is not None:
        UsdGeom.Imageable(prim).CreateVisibilityAttr("inherited" if edit.on else "invisible")
    if edit.shadows.way is not None:
        UsdLux.ShadowAPI.Apply(prim).CreateShadowEnableAttr(edit.shadows.way != "off")
    api = UsdLux.LightAPI(prim)
    for members, collection in ((light.lit, api.GetLightLinkCollectionAPI()), (light.shadowing, api.GetShadowLinkCollectionAPI())):
        if members is not None and (edit.link is not None or edit.shadow_link is not None):
            collection.CreateIncludeRootAttr(False)
            collection.CreateIncludesRel().SetTargets([Sdf.Path(m) for m in sorted(members) if m.startswith("/")])
    for field, what in (("solo", "solo"), ("camera", "whether the camera sees it"), ("rotation", "its rotation")):
        if getattr(edit, field) is not None:
            left_out.append(f"Of the light {light.name}, {what} can't be expressed in UsdLux and was left out.")


def _write_camera(prim: Usd.Prim, camera: Camera, exposed: bool, metres: float, to_stage: np.ndarray) -> None:
    _write_place(prim, camera.to_world[:, :3].T, camera.to_world[:, 3], metres, to_stage)
    lens = UsdGeom.Camera(prim)
    if not camera.orthographic:
        lens.CreateFocalLengthAttr(lens.GetHorizontalApertureAttr().Get() / (2.0 * camera.half_width))
    if exposed:
        lens.CreateExposureAttr(camera.exposure)


def _write_place(prim: Usd.Prim, axes: np.ndarray, position: np.ndarray, metres: float, to_stage: np.ndarray) -> None:
    """Place a prim by its axes, rows of a 3 x 3, and its position in metres."""
    matrix = np.eye(4)
    matrix[:3, :3] = axes @ to_stage.T
    matrix[3, :3] = to_stage @ np.asarray(position) / metres
    parent = np.array(UsdGeom.XformCache().GetParentToWorldTransform(prim))
    xform = UsdGeom.Xformable(prim)
    xform.ClearXformOpOrder()
    xform.AddTransformOp(opSuffix="sivrel").Set(Gf.Matrix4d((matrix @ np.linalg.inv(parent)).tolist()))


def _write_object(stage: Usd.Stage, name: str, change: Any, left_out: list[str]) -> None:
    prim = stage.GetPrimAtPath(name) if name.startswith("/") else None
    if not prim:
        left_out.append(f"The object {name} is not a path in the file, so its edits were left out.")
        return
    if change.aimed:
        prim = editable(stage, name)
        UsdLux.MeshLightAPI.Apply(prim)
        material = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
        if material:
            UsdLux.LightAPI(prim).CreateMaterialSyncModeAttr("materialGlowTintsLight")
    for field, what in (("camera", "seen by camera"), ("shadows", "casts shadows"), ("bounced", "seen by bounced light")):
        if getattr(change, field) is not None:
            left_out.append(f"Of the object {name}, “{what}” can't be expressed in USD and was left out.")
