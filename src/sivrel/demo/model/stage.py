"""Writing modelled parts as a USD stage: meshes, preview surfaces with textures, lights, cameras, instances."""

from pathlib import Path

import numpy as np
from PIL import Image
from pxr import Gf, Sdf, Usd, UsdGeom, UsdLux, UsdShade, Vt

from .parts import Part

CREASE = 42.0
"""Degrees: edges sharper than this stay sharp."""


class Stage:
    """A shot under construction. Materials are named first, then worn by parts."""

    def __init__(self, path: Path, root: str) -> None:
        path.unlink(missing_ok=True)
        path.parent.mkdir(parents=True, exist_ok=True)
        self.path, self.root = path, f"/{root}"
        self.stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(self.stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(self.stage, 1.0)
        self.stage.SetDefaultPrim(UsdGeom.Xform.Define(self.stage, self.root).GetPrim())
        self.materials: dict[str, UsdShade.Material] = {}
        self.textures: dict[str, Path] = {}

    def texture(self, name: str, linear: np.ndarray) -> None:
        """Keep a picture, linear colour [h, w, 3] in [0, 1], as an sRGB PNG beside the stage."""
        folder = self.path.parent / "textures"
        folder.mkdir(exist_ok=True)
        c = np.clip(linear, 0.0, 1.0)
        encoded = np.where(c <= 0.0031308, c * 12.92, 1.055 * c ** (1 / 2.4) - 0.055)
        target = folder / f"{name}.png"
        Image.fromarray((encoded * 255.0 + 0.5).astype(np.uint8)).quantize(128, dither=Image.Dither.NONE).convert("RGB").save(target, optimize=True)
        self.textures[name] = target

    def normals(self, name: str, heights: np.ndarray, steepness: float = 1.0) -> None:
        """Keep heights [h, w] that repeat as a normal map: a PNG beside the stage."""
        down, across = (np.roll(heights, -1, axis) - np.roll(heights, 1, axis) for axis in (0, 1))
        normal = np.stack([-steepness * across, steepness * down, np.ones_like(heights)], axis=-1)
        normal /= np.linalg.norm(normal, axis=2, keepdims=True)
        folder = self.path.parent / "textures"
        folder.mkdir(exist_ok=True)
        target = folder / f"{name}.png"
        Image.fromarray(((normal * 0.5 + 0.5) * 255.0 + 0.5).astype(np.uint8)).save(target, optimize=True)
        self.textures[name] = target

    def material(
        self, name: str, colour=(0.5, 0.5, 0.5), roughness=0.6, metallic=0.0, glow=None, picture=None, repeat=1.0, opacity=1.0,
        ior=1.5, coat=0.0, coat_roughness=0.01, attenuation=None, bumps=None,
    ) -> str:  # fmt: skip
        """A UsdPreviewSurface; with `picture` its colour comes from that texture, with `bumps` its normals, `repeat` times a metre.
        attenuation: colour of glass, and the metres over which it takes it on."""
        path = f"{self.root}/Materials/{name}"
        material = UsdShade.Material.Define(self.stage, path)
        shader = UsdShade.Shader.Define(self.stage, f"{path}/Surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        diffuse = shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f)
        if picture is None:
            diffuse.Set(Gf.Vec3f(*colour))
        else:
            diffuse.ConnectToSource(self._picture(path, picture, repeat).ConnectableAPI(), "rgb")
        shader.CreateInput("roughness", Sdf.ValueTypeNames.Float).Set(roughness)
        shader.CreateInput("metallic", Sdf.ValueTypeNames.Float).Set(metallic)
        if glow is not None:
            shader.CreateInput("emissiveColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*glow))
        if bumps is not None:
            mapped = self._picture(path, bumps, repeat, "Bumps", "raw", ((2.0,) * 4, (-1.0,) * 4))
            shader.CreateInput("normal", Sdf.ValueTypeNames.Normal3f).ConnectToSource(mapped.ConnectableAPI(), "rgb")
        for name_, value, default in (("opacity", opacity, 1.0), ("ior", ior, 1.5), ("clearcoat", coat, 0.0)):
            if value != default:
                shader.CreateInput(name_, Sdf.ValueTypeNames.Float).Set(value)
        if coat > 0.0:
            shader.CreateInput("clearcoatRoughness", Sdf.ValueTypeNames.Float).Set(coat_roughness)
        if attenuation is not None:
            prim = material.GetPrim()
            prim.CreateAttribute("sivrel:attenuationColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*attenuation[0]))
            prim.CreateAttribute("sivrel:attenuationDistance", Sdf.ValueTypeNames.Float).Set(attenuation[1])
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        self.materials[name] = material
        return name

    def aim_at(self, name: str) -> None:
        """Let a mesh that glows be a light that is aimed at."""
        UsdLux.MeshLightAPI.Apply(self.stage.GetPrimAtPath(f"{self.root}/{name}"))

    def _picture(self, path: str, picture: str, repeat: float, name: str = "Picture", space: str = "sRGB", scale_bias=None) -> UsdShade.Shader:
        reader = UsdShade.Shader.Define(self.stage, f"{path}/Coordinates")
        reader.CreateIdAttr("UsdPrimvarReader_float2")
        reader.CreateInput("varname", Sdf.ValueTypeNames.String).Set("st")
        scaled = UsdShade.Shader.Define(self.stage, f"{path}/Repeat")
        scaled.CreateIdAttr("UsdTransform2d")
        scaled.CreateInput("in", Sdf.ValueTypeNames.Float2).ConnectToSource(reader.ConnectableAPI(), "result")
        scaled.CreateInput("scale", Sdf.ValueTypeNames.Float2).Set(Gf.Vec2f(repeat, repeat))
        texture = UsdShade.Shader.Define(self.stage, f"{path}/{name}")
        texture.CreateIdAttr("UsdUVTexture")
        texture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(f"./textures/{self.textures[picture].name}")
        texture.CreateInput("sourceColorSpace", Sdf.ValueTypeNames.Token).Set(space)
        for input_name, values in zip(("scale", "bias"), scale_bias or (), strict=False):
            texture.CreateInput(input_name, Sdf.ValueTypeNames.Float4).Set(Gf.Vec4f(*values))
        for wrap in ("wrapS", "wrapT"):
            texture.CreateInput(wrap, Sdf.ValueTypeNames.Token).Set("repeat")
        texture.CreateInput("st", Sdf.ValueTypeNames.Float2).ConnectToSource(scaled.ConnectableAPI(), "result")
        return texture

    def add(self, name: str, part: Part, material: str, double_sided: bool = False) -> None:
        """A mesh at `name`, a path below the root; its folders are made as they are needed."""
        self._mesh(f"{self.root}/{name}", part, material, double_sided)

    def prototype(self, name: str, parts: dict[str, tuple[Part, str]]) -> None:
        """A thing of several parts that is placed more than once."""
        self.stage.CreateClassPrim(f"{self.root}/Prototypes")
        UsdGeom.Xform.Define(self.stage, f"{self.root}/Prototypes/{name}")
        for part_name, (part, material) in parts.items():
            self._mesh(f"{self.root}/Prototypes/{name}/{part_name}", part, material, False)

    def place(self, name: str, prototype: str, at: tuple[float, float, float], turn: float = 0.0, size: float = 1.0) -> None:
        """An instance of a prototype, turned by degrees about y."""
        xform = UsdGeom.Xform.Define(self.stage, f"{self.root}/{name}")
        xform.GetPrim().GetReferences().AddInternalReference(f"{self.root}/Prototypes/{prototype}")
        xform.GetPrim().SetInstanceable(True)
        api = UsdGeom.XformCommonAPI(xform)
        api.SetTranslate(Gf.Vec3d(*at))
        api.SetRotate(Gf.Vec3f(0.0, turn, 0.0))
        api.SetScale(Gf.Vec3f(size, size, size))

    def _mesh(self, path: str, part: Part, material: str, double_sided: bool) -> None:
        mesh = UsdGeom.Mesh.Define(self.stage, path)
        points = part.points.astype(np.float32)
        triangle = (part.faces[:, 3] == part.faces[:, 2]) | (part.faces[:, 3] == part.faces[:, 0])
        corner = np.ones(part.faces.shape, bool)
        corner[triangle, 3] = False
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.where(triangle, 3, 4).astype(np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(part.faces[corner].astype(np.int32)))
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        # Values that many corners share are written once: it halves the file.
        primvars = UsdGeom.PrimvarsAPI(mesh)
        normals, at = np.unique(np.round(corner_normals(part)[corner], 3).astype(np.float16), axis=0, return_inverse=True)
        primvar = primvars.CreatePrimvar("normals", Sdf.ValueTypeNames.Normal3hArray, UsdGeom.Tokens.faceVarying)
        primvar.Set(Vt.Vec3hArray.FromNumpy(normals))
        primvar.SetIndices(Vt.IntArray.FromNumpy(at.reshape(-1).astype(np.int32)))
        mesh.CreateExtentAttr(UsdGeom.PointBased.ComputeExtent(mesh.GetPointsAttr().Get()))
        uvs, at = np.unique(part.uvs[corner].astype(np.float32), axis=0, return_inverse=True)
        st = primvars.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
        st.Set(Vt.Vec2fArray.FromNumpy(uvs))
        st.SetIndices(Vt.IntArray.FromNumpy(at.reshape(-1).astype(np.int32)))
        if double_sided:
            mesh.CreateDoubleSidedAttr(True)
        UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(self.materials[material])

    def frames(self, first: int, last: int, rate: float) -> None:
        """The stage is a moving shot: these frames, `rate` of them a second."""
        self.stage.SetStartTimeCode(first)
        self.stage.SetEndTimeCode(last)
        self.stage.SetTimeCodesPerSecond(rate)
        self.stage.SetFramesPerSecond(rate)

    def turning(self, name: str, pivot: np.ndarray, axis: str, degrees: dict[int, float]) -> str:
        """A group that turns about a coordinate axis through `pivot`, by degrees at each frame; its name, for what is added beneath. The origin of
        what is added is the pivot."""
        xform = UsdGeom.Xform.Define(self.stage, f"{self.root}/{name}")
        xform.AddTranslateOp().Set(Gf.Vec3d(*map(float, pivot)))
        turn = getattr(xform, f"AddRotate{axis.upper()}Op")()
        for frame, angle in degrees.items():
            turn.Set(angle, frame)
        return name

    def light(self, kind: str, name: str, intensity: float, colour=(1.0, 1.0, 1.0), normalize=False, under: str = "Lights", **attributes) -> None:
        """A UsdLux light below a group; `at`, `towards` (a point), and schema attributes such as radius, width, height, angle."""
        light = getattr(UsdLux, f"{kind}Light").Define(self.stage, f"{self.root}/{under}/{name}")
        light.CreateIntensityAttr(intensity)
        light.CreateColorAttr(Gf.Vec3f(*colour))
        if normalize:
            light.CreateNormalizeAttr(True)
        at = attributes.pop("at", (0.0, 0.0, 0.0))
        towards = attributes.pop("towards", None)
        for attribute, value in attributes.items():
            light.GetPrim().GetAttribute(f"inputs:{attribute}").Set(value)
        self._aim(light, at, towards)

    def camera(self, name: str, at, towards, focal: float = 28.0, exposure: float = 0.0) -> None:
        """A camera with a 36 mm wide film; focal length in millimetres."""
        camera = UsdGeom.Camera.Define(self.stage, f"{self.root}/Cameras/{name}")
        # Tenths of a stage unit: with metres, a millimetre is a hundredth of one.
        camera.CreateHorizontalApertureAttr(0.36)
        camera.CreateVerticalApertureAttr(0.2025)
        camera.CreateFocalLengthAttr(focal * 0.01)
        camera.CreateExposureAttr(exposure)
        self._aim(camera, at, towards)

    def moving_camera(self, name: str, at: dict[int, np.ndarray], towards: dict[int, np.ndarray], focal: float = 28.0, exposure: float = 0.0) -> None:
        """A camera that stands at a place and looks at a point at each frame."""
        first = min(at)
        self.camera(name, at[first], towards[first], focal, exposure)
        camera = UsdGeom.Camera.Get(self.stage, f"{self.root}/Cameras/{name}")
        op = camera.GetOrderedXformOps()[0]
        for frame, place in at.items():
            op.Set(_looking(place, towards[frame]), frame)

    def _aim(self, prim, at, towards) -> None:
        matrix = Gf.Matrix4d(1.0)
        matrix.SetTranslate(Gf.Vec3d(*at))
        prim.AddTransformOp().Set(_looking(at, towards) if towards is not None else matrix)

    def save(self) -> None:
        self.stage.GetRootLayer().Save()


def _looking(at, towards) -> Gf.Matrix4d:
    """To the world from a frame at a place whose -z looks at a point, y upwards."""
    matrix = Gf.Matrix4d(1.0)
    matrix.SetLookAt(Gf.Vec3d(*map(float, at)), Gf.Vec3d(*map(float, towards)), Gf.Vec3d(0.0, 1.0, 0.0))
    return matrix.GetInverse()


def corner_normals(part: Part) -> np.ndarray:
    """Normals [faces, 4, 3]: faces that meet at a point at less than CREASE degrees share one, weighted by area."""
    p = part.points[part.faces]
    facet = np.cross(p[:, 2] - p[:, 0], p[:, 3] - p[:, 1])
    unit = facet / np.maximum(np.linalg.norm(facet, axis=1, keepdims=True), 1e-20)
    # Points that coincide are one, so that closed rings and the sides of a box meet.
    _, merged = np.unique(np.round(part.points, 6), axis=0, return_inverse=True)
    at = merged.reshape(-1)[part.faces].reshape(-1)
    face_of = np.repeat(np.arange(len(part.faces)), 4)
    order = np.argsort(at, kind="stable")
    starts = np.searchsorted(at[order], np.arange(at.max() + 2))
    limit = np.cos(np.radians(CREASE))
    normals = np.empty((len(at), 3))
    for begin, end in zip(starts[:-1], starts[1:], strict=True):
        corners = order[begin:end]
        faces = face_of[corners]
        alike = unit[faces] @ unit[faces].T > limit
        normals[corners] = alike @ facet[faces]
    lengths = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.where(lengths > 1e-20, normals / np.maximum(lengths, 1e-20), unit[face_of])
    return normals.reshape(-1, 4, 3)
