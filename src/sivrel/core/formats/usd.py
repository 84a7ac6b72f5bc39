"""USD in: meshes, instances, preview surfaces, lights and cameras of a stage, in metres with y up.

OpenUSD's schemas UsdGeom, UsdShade (UsdPreviewSurface specification 2.6) and UsdLux define the meaning of everything.
"""

from pathlib import Path
from typing import Any

import numpy as np
from pxr import Gf, Usd, UsdGeom, UsdLux

from ..errors import InputError
from ..scene.model import LAST_TIME, Camera, FrameRange, Light, Mesh, Scene
from ..scene.placed_mesh import PlacedMesh
from .framing import framing_camera
from .reading import is_heard, report
from .shapes import Shapes, can_place, settle
from .usd_assets import open_stage, refuse_clips
from .usd_curves import read_curves
from .usd_lights import LightReader
from .usd_mesh import MeshError, read_mesh
from .usd_mtlx_files import compose_documents
from .usd_surface import SurfaceReader

MOST_TRIANGLES, MOST_INSTANCES = 20_000_000, 500_000
MOST_SHUTTER = 100.0
"""Most frames for which a shutter may be open."""


def read_usd(path: Path, *, confine_to: Path | None = None, frame: float | None = None) -> Scene:
    """Read the stage at `path`, at time code `frame` (default: its first frame, or the values without time where nothing moves).

    With `confine_to`, nothing outside that folder is opened, whatever the file refers to. Meshes that can't be used are
    skipped and counted in the scene's notes. Raises InputError with one sentence when there is nothing to render.
    """
    if not path.is_file():
        raise InputError(f"There is no scene file {path}; check the name.")
    stage = open_stage(path, confine_to)
    if confine_to is not None and frame is not None:
        refuse_clips(stage, path)
    scene = Scene(path.stem, frames=_frames_of(stage))
    compose_documents(stage, confine_to, scene.notes.append)
    if frame is None and scene.frames is not None:
        frame = scene.frames.first
    _Reader(stage, scene, confine_to, Usd.TimeCode.Default() if frame is None else Usd.TimeCode(frame)).read()
    return scene


def _frames_of(stage: Usd.Stage) -> FrameRange | None:
    first, last, rate = stage.GetStartTimeCode(), stage.GetEndTimeCode(), stage.GetTimeCodesPerSecond()
    sound = first < last and max(abs(first), abs(last)) <= LAST_TIME and 0.0 < rate <= LAST_TIME
    return FrameRange(first, last, rate) if sound else None


def _shutter_of(camera: UsdGeom.Camera, time: Usd.TimeCode) -> tuple[float, float]:
    """When the shutter opens and closes, in time codes from the frame's own (UsdGeomCamera, "shutter:open"); impossible ones count as not stated."""
    opens, closes = (float(attribute.Get(time) or 0.0) for attribute in (camera.GetShutterOpenAttr(), camera.GetShutterCloseAttr()))
    return (opens, closes) if abs(opens) <= MOST_SHUTTER and abs(closes) <= MOST_SHUTTER and opens < closes else (0.0, 0.0)


def first_frame(path: Path, confine_to: Path | None = None) -> float:
    """The time code at which a stage begins. Raises InputError."""
    return float(open_stage(path, confine_to).GetStartTimeCode())


class _Reader:
    def __init__(self, stage: Usd.Stage, scene: Scene, confine_to: Path | None, time: Usd.TimeCode) -> None:
        self.stage, self.scene, self.time = stage, scene, time
        self.transforms = UsdGeom.XformCache(time)
        self.surfaces = SurfaceReader(scene, confine_to, time)
        metres = UsdGeom.GetStageMetersPerUnit(stage)
        self.metres = metres if metres > 0.0 else 0.01
        turn = np.eye(3)
        z_up = UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z
        if z_up:
            turn = np.array([[1.0, 0.0, 0.0], [0.0, 0.0, 1.0], [0.0, -1.0, 0.0]])
        self.lights = LightReader(self.metres, z_up, time, confine_to, self.surfaces.of_light, scene.notes.append)
        self.linked: list[Any] = []
        self.names: set[str] = set()  # of the lights
        self.to_scene = np.eye(4)
        self.to_scene[:3, :3] = turn * self.metres
        self.shapes = Shapes()
        self.triangles = self.walked = self.prims = 0
        self.skipped: list[str] = []
        self.left_out: dict[str, int] = {}

    def read(self) -> None:
        if is_heard():
            self.prims = sum(1 for _ in Usd.PrimRange.Stage(self.stage, Usd.TraverseInstanceProxies()))
        self._walk(Usd.PrimRange.Stage(self.stage, Usd.TraverseInstanceProxies()))
        scene = self.scene
        settle(scene)
        names = [mesh.name for mesh in scene.meshes]
        for prim, light in self.linked:
            self.lights.link(prim, light, names)
        if self.skipped:
            count = "One mesh was" if len(self.skipped) == 1 else f"{len(self.skipped)} meshes were"
            scene.notes.append(f"{count} skipped: {'; '.join(self.skipped[:5])}{'; …' if len(self.skipped) > 5 else ''}.")
        for kind, number in sorted(self.left_out.items()):
            scene.notes.append(f"{number} of type {kind} left out: this type is not supported.")
        if not scene.triangle_count():
            why = f": {self.skipped[0]}" if self.skipped else "; give it at least one visible mesh"
            raise InputError(f"{scene.name} has nothing to render{why}.")
        if not scene.lights and not any(max(s.emission) > 0.0 or s.emission_map for s in scene.surfaces):
            scene.notes.append("There is no light in the scene, so the picture will be black; add one in UsdLux.")
        if not scene.cameras:
            scene.cameras.append(framing_camera(*scene.bounds()))
            scene.notes.append("There is no camera in the scene; one was made that frames all of it.")

    def _walk(self, prims: Usd.PrimRange, extra: np.ndarray | None = None) -> None:
        iterator = iter(prims)
        for prim in iterator:
            self._report(extra is None)
            if not self._is_rendered(prim):
                iterator.PruneChildren()
            elif prim.IsA(UsdGeom.PointInstancer):
                iterator.PruneChildren()
                self._instances(UsdGeom.PointInstancer(prim), extra)
            elif prim.IsA(UsdGeom.Mesh) or prim.IsA(UsdGeom.BasisCurves):
                mesh = self._mesh(UsdGeom.Mesh(prim) if prim.IsA(UsdGeom.Mesh) else UsdGeom.BasisCurves(prim), extra)
                if mesh is not None and prim.HasAPI(UsdLux.MeshLightAPI):
                    mesh.aimed = True
                    light = self.lights.read_mesh(prim, mesh, self.surfaces.add)
                    if light.name not in self.names:  # copies of one mesh are one light
                        self._add(prim, light)
            elif prim.HasAPI(UsdLux.LightAPI):
                self._light(prim, extra)
            elif prim.IsA(UsdGeom.Camera):
                self._camera(UsdGeom.Camera(prim), extra)
            elif prim.IsA(UsdGeom.Gprim):
                kind = prim.GetTypeName()
                self.left_out[kind] = self.left_out.get(kind, 0) + 1

    def _report(self, of_stage: bool) -> None:
        self.walked += of_stage
        report(self.walked / max(self.prims, 1), self._so_far)

    def _so_far(self) -> str:
        count = len(self.scene.meshes)
        return f"{count:,} {'mesh' if count == 1 else 'meshes'}, {self.triangles:,} triangles stored"

    def _is_rendered(self, prim: Usd.Prim) -> bool:
        imageable = UsdGeom.Imageable(prim)
        if not imageable or prim.IsPseudoRoot():
            return True
        if imageable.GetVisibilityAttr().Get(self.time) == UsdGeom.Tokens.invisible:
            return False
        return imageable.ComputePurpose() in (UsdGeom.Tokens.default_, UsdGeom.Tokens.render)

    def _to_world(self, prim: Usd.Prim, extra: np.ndarray | None) -> np.ndarray:
        """4 x 4 matrix for column vectors, from the prim's space to the scene's. (USD multiplies rows.)"""
        local = np.array(self.transforms.GetLocalToWorldTransform(prim)).T
        return self.to_scene @ (local if extra is None else extra @ local)

    def _mesh(self, mesh: UsdGeom.Mesh | UsdGeom.BasisCurves, extra: np.ndarray | None) -> Mesh | None:
        prim = mesh.GetPrim()
        if self.triangles > MOST_TRIANGLES:
            raise InputError(f"{self.scene.name} has more than {MOST_TRIANGLES:,} triangles; split it.")
        matrix = self._to_world(prim, extra)
        try:
            part: Mesh | None = self._placed(mesh, matrix) if self._is_shared(prim, extra) and can_place(matrix) else self._read(mesh, matrix)
        except MeshError as error:
            self.skipped.append(f"{prim.GetPath()} {error}")
            return None
        if part is not None:
            self.scene.meshes.append(part)
        return part

    @staticmethod
    def _is_shared(prim: Usd.Prim, extra: np.ndarray | None) -> bool:
        return (extra is not None or prim.IsInstanceProxy()) and not prim.HasAPI(UsdLux.MeshLightAPI)

    def _placed(self, mesh: UsdGeom.Mesh, matrix: np.ndarray) -> PlacedMesh | None:
        """A placement of a mesh that others place too; what is bound above an instance may differ from one to the next."""
        prim = mesh.GetPrim()
        source = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        key = str(source.GetPath()), self.surfaces.whole(mesh)
        return self.shapes.placed(key, str(prim.GetPath()), matrix, lambda mirrored: self._read(mesh, np.eye(4), mirrored))

    def _read(self, mesh: UsdGeom.Mesh, matrix: np.ndarray, to_be_mirrored: bool = False) -> Mesh:
        if mesh.GetPrim().IsA(UsdGeom.BasisCurves):
            unit = self.metres * float(np.cbrt(abs(np.linalg.det(np.array(self.transforms.GetLocalToWorldTransform(mesh.GetPrim()))[:3, :3]))))
            part = read_curves(mesh, matrix, self.time, max(unit, 1e-9), to_be_mirrored)
        else:
            part = read_mesh(mesh, matrix, self.time, to_be_mirrored)
        self.triangles += part.count
        faces = part.surfaces  # read_mesh stores the number of each triangle's face here
        part.surfaces = self.surfaces.assign(mesh, faces)
        self.surfaces.make_solid(part)
        return part

    def _instances(self, instancer: UsdGeom.PointInstancer, extra: np.ndarray | None) -> None:
        indices = instancer.GetProtoIndicesAttr().Get(self.time) or []
        if len(indices) > MOST_INSTANCES:
            raise InputError(f"{instancer.GetPath()} has {len(indices):,} instances; more than {MOST_INSTANCES:,} can't be read.")
        matrices = instancer.ComputeInstanceTransformsAtTime(self.time, self.time, UsdGeom.PointInstancer.ExcludeProtoXform)
        prototypes = instancer.GetPrototypesRel().GetForwardedTargets()
        mask = instancer.ComputeMaskAtTime(self.time)
        base = np.array(self.transforms.GetLocalToWorldTransform(instancer.GetPrim())).T
        if extra is not None:
            base = extra @ base
        usable = [i < len(prototypes) for i in indices]
        if len(matrices or []) != sum(not mask or bool(m) for m in mask or indices) or not all(usable):
            self.skipped.append(f"{instancer.GetPath()} has instances without a prototype or a position")
            return
        kept = [i for k, i in enumerate(indices) if not mask or mask[k]]
        of_prototype: dict[tuple[int, bool], list[PlacedMesh] | None] = {}
        for index, matrix in zip(kept, matrices, strict=True):
            root = self.stage.GetPrimAtPath(prototypes[index])
            if not root:
                continue
            # Relative to the prototype's parent, so that the prototype's own transform counts once.
            parent = np.array(self.transforms.GetParentToWorldTransform(root)).T
            try:
                place = base @ np.array(matrix).T @ np.linalg.inv(parent)
            except np.linalg.LinAlgError:
                self.skipped.append(f"{prototypes[index]} has a transform that can't be inverted")
                break
            key = index, bool(np.linalg.det(place[:3, :3]) < 0.0)
            if not self._again(of_prototype.get(key), place):
                before = self._counts()
                self._walk(Usd.PrimRange(root, Usd.TraverseInstanceProxies()), place)
                of_prototype[key] = self._relative(before, place)

    def _counts(self) -> tuple[int, ...]:
        return len(self.scene.meshes), len(self.scene.lights), len(self.scene.cameras), len(self.skipped), sum(self.left_out.values())

    def _relative(self, before: tuple[int, ...], place: np.ndarray) -> list[PlacedMesh] | None:
        """What a prototype has added to the scene since `before`, relative to its place; None if that was more than placed meshes, or can't be
        repeated without walking it."""
        added = self.scene.meshes[before[0] :]
        placed = [mesh for mesh in added if isinstance(mesh, PlacedMesh)]
        if len(placed) < len(added) or self._counts()[1:] != before[1:] or not can_place(self.to_scene @ place):
            return None
        back = np.linalg.inv(self.to_scene @ place)[:3]
        return [mesh.moved(back) for mesh in placed]

    def _again(self, relative: list[PlacedMesh] | None, place: np.ndarray) -> bool:
        """Adds what a prototype holds at another place, if that is known."""
        matrix = self.to_scene @ place
        if relative is None or not can_place(matrix):
            return False
        self.scene.meshes += [mesh.moved(matrix[:3]) for mesh in relative]
        return True

    def _light(self, prim: Usd.Prim, extra: np.ndarray | None) -> None:
        light = self.lights.read(prim, self._to_world(prim, extra))
        if light is not None:
            if light.name in self.names:
                light.name = str(prim.GetPath()) if extra is None else f"{prim.GetPath()} {len(self.scene.lights)}"
            self._add(prim, light)

    def _add(self, prim: Usd.Prim, light: Light) -> None:
        self.names.add(light.name)
        light.group = str(prim.GetParent().GetPath()).strip("/")
        self.scene.lights.append(light)
        self.linked.append((prim, light))

    def _camera(self, camera: UsdGeom.Camera, extra: np.ndarray | None) -> None:
        matrix = self._to_world(camera.GetPrim(), extra)
        lens = camera.GetCamera(self.time)
        axes = matrix[:3, :3] / np.maximum(np.linalg.norm(matrix[:3, :3], axis=0), 1e-30)
        # Apertures are in tenths of a stage unit, like the focal length (UsdGeomCamera, "Units").
        orthographic = lens.projection == Gf.Camera.Orthographic
        half_width = lens.horizontalAperture / (2.0 * max(lens.focalLength, 1e-6))
        if orthographic:
            half_width = lens.horizontalAperture * 0.1 * 0.5 * self.metres
        f_stop, focal_metres = lens.fStop, lens.focalLength * 0.1 * self.metres
        names = {c.name for c in self.scene.cameras}
        name = camera.GetPrim().GetName()
        self.scene.cameras.append(
            Camera(
                name=name if name not in names else str(camera.GetPath()),
                to_world=np.column_stack([axes, matrix[:3, 3]]),
                half_width=half_width,
                shift=(
                    2.0 * lens.horizontalApertureOffset / lens.horizontalAperture,
                    2.0 * lens.verticalApertureOffset / lens.verticalAperture,
                ),
                lens_radius=focal_metres / (2.0 * f_stop) if f_stop > 0.0 else 0.0,
                focus=lens.focusDistance * self.metres if lens.focusDistance > 0.0 else 1.0,
                orthographic=orthographic,
                exposure=float(camera.GetExposureAttr().Get(self.time) or 0.0),
                shutter=_shutter_of(camera, self.time),
            )
        )
