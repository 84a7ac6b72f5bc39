"""Edited objects and cards out: their geometry over the file's own, in a USD layer."""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, Vt

from ..edits.edits import CardEdit, ObjectEdit
from ..scene.model import Mesh, Scene, Surface
from ..scene.placed_mesh import PlacedMesh
from .usd_mesh import MeshError, read_mesh

MADE = "SivrelMended"


def editable(stage: Usd.Stage, path: str) -> Usd.Prim:
    """The prim at a path as one that can be edited: instances that it lies in become prims of their own."""
    for prefix in Sdf.Path(path).GetPrefixes():
        prim = stage.GetPrimAtPath(prefix)
        if prim and prim.IsInstance():
            prim.SetInstanceable(False)
    return stage.GetPrimAtPath(path)


@dataclass
class MendWriter:
    """scene: as the file has it; edited: with all edits; metres: per unit of the layer; to_stage: 3 x 3 from y up; root: path above
    new prims."""

    stage: Usd.Stage
    scene: Scene
    edited: Scene
    metres: float
    to_stage: np.ndarray
    root: Sdf.Path
    left_out: list[str]

    def mend(self, name: str, edit: ObjectEdit) -> None:
        """Write the edited object, and all objects its name covers. A native instance becomes a prim of its own; a mesh that a point instancer places
        is mended for all places."""
        covered = [m for m in self.scene.meshes if m.name == name or f"/{name.strip('/')}/" in f"{m.name}/"]
        places = Counter(mesh.name for mesh in self.scene.meshes)
        for old in {mesh.name: mesh for mesh in covered}.values():
            prim = editable(self.stage, old.name) if old.name.startswith("/") else None
            if not prim or not prim.IsA(UsdGeom.Mesh):
                self.left_out.append(f"The object {old.name} is no mesh of the file, so its edits were left out.")
                continue
            if edit.out:
                prim.SetActive(False)
                continue
            if places[old.name] > 1:
                self._mend_shape(prim, old, edit)
                continue
            parts = [m for m in self.edited.meshes if m.name == old.name or m.name.startswith(f"{old.name}/") and edit.split]
            subsets = self._subsets(prim, old)
            for k, part in enumerate(parts):
                at = (
                    prim
                    if k == 0
                    else self.stage.DefinePrim(prim.GetPath().GetParentPath().AppendChild(f"{prim.GetName()}_{_last(part.name)}"), "Mesh")
                )
                self._geometry(at, part)
                self._materials(at, prim, part, subsets, edit)

    def _mend_shape(self, prim: Usd.Prim, old: Mesh, edit: ObjectEdit) -> None:
        """Write the mended shape of a mesh that is placed several times, in its own space."""
        placed = [m for m in self.edited.meshes if m.name == old.name and isinstance(m, PlacedMesh)]
        if not placed:
            self.left_out.append(f"The object {old.name} is placed several times, and its edit differs from place to place; it was left out.")
            return
        subsets = self._subsets(prim, old)
        self._geometry(prim, placed[0])
        self._materials(prim, prim, placed[0], subsets, edit)

    def _subsets(self, prim: Usd.Prim, old: Mesh) -> list[tuple[UsdShade.Material, int]]:
        """Material of each subset of faces, and the number of its surface in the scene."""
        found = []
        try:
            faces = read_mesh(UsdGeom.Mesh(prim), np.eye(4), Usd.TimeCode.Default()).surfaces
        except MeshError:
            return []
        for subset in UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets():
            members = np.isin(faces, np.array(subset.GetIndicesAttr().Get() or [], np.int64))
            material = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
            if members.any() and len(members) == len(old.surfaces):
                found.append((material, int(old.surfaces[members][0])))
            subset.GetIndicesAttr().Set(Vt.IntArray())
        return found

    def _geometry(self, prim: Usd.Prim, part: Mesh) -> None:
        mesh = UsdGeom.Mesh(prim)
        if isinstance(part, PlacedMesh):
            local, normals = (column.reshape(-1, 3).astype(float) for column in (part.shape.vertices, part.shape.normals))
            mirrored = part.mirrors
        else:
            if prim.GetSpecifier() == Sdf.SpecifierDef and not mesh.GetXformOpOrderAttr().HasAuthoredValue():
                to_world = np.array(UsdGeom.XformCache().GetParentToWorldTransform(prim))
            else:
                to_world = np.array(UsdGeom.XformCache().GetLocalToWorldTransform(prim))
            back = np.linalg.inv(to_world)
            local = part.vertices.reshape(-1, 3).astype(float) / self.metres @ self.to_stage.T @ back[:3, :3] + back[3, :3]
            normals = part.normals.reshape(-1, 3).astype(float) @ self.to_stage.T @ to_world[:3, :3].T
            mirrored = np.linalg.det(to_world[:3, :3]) < 0.0
        # A mirroring transform flips faces once more.
        order = np.arange(len(local)).reshape(-1, 3)
        if mirrored != (mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded):
            order = order[:, ::-1]
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(local.astype(np.float32)))
        mesh.CreateFaceVertexCountsAttr(Vt.IntArray.FromNumpy(np.full(len(order), 3, np.int32)))
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(order.reshape(-1).astype(np.int32)))
        mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
        mesh.CreateDoubleSidedAttr(part.double_sided)
        mesh.CreateExtentAttr(UsdGeom.PointBased.ComputeExtent(mesh.GetPointsAttr().Get()))
        api = UsdGeom.PrimvarsAPI(mesh)
        flat = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
        own = api.GetPrimvar("normals")
        if own:  # indices must be removed before the attribute, since they no longer match
            own.GetAttr().Block()
        if mesh.GetHoleIndicesAttr().HasAuthoredValue():
            mesh.GetHoleIndicesAttr().Set(Vt.IntArray())
        mesh.CreateNormalsAttr(Vt.Vec3fArray.FromNumpy(flat.astype(np.float32)))
        mesh.SetNormalsInterpolation(UsdGeom.Tokens.vertex)
        coordinates = api.CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.vertex)
        coordinates.Set(Vt.Vec2fArray.FromNumpy(part.uvs.reshape(-1, 2).astype(np.float32)))
        coordinates.BlockIndices()

    def _materials(self, prim: Usd.Prim, first: Usd.Prim, part: Mesh, subsets: list[Any], edit: ObjectEdit) -> None:
        whole = UsdShade.MaterialBindingAPI(first).ComputeBoundMaterial()[0]
        if edit.brightest is not None:
            number = int(np.bincount(part.surfaces).argmax())
            whole, subsets = self._material(self.edited.surfaces[number]), []
            if len(np.unique(part.surfaces)) > 1:
                self.left_out.append(f"Of the materials of {part.name} one was darkened; the others were left out.")
        if whole:
            UsdShade.MaterialBindingAPI.Apply(prim).Bind(whole)
        for material, number in subsets:
            mine = np.flatnonzero(part.surfaces == number)
            if len(mine) and material:
                subset = UsdShade.MaterialBindingAPI.Apply(prim).CreateMaterialBindSubset(
                    f"Mended{number}", Vt.IntArray.FromNumpy(mine.astype(np.int32)), UsdGeom.Tokens.face
                )
                UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)

    def card(self, name: str, card: CardEdit, identifier: Callable[[str], str]) -> None:
        """Write a plain card as a mesh of its own."""
        mesh = next((m for m in self.edited.meshes if m.name == name), None)
        if mesh is None or card.pattern not in (None, "plain") or (card.opacity or 1.0) < 1.0:
            self.left_out.append(f"The card {name} lets light pass in a pattern; it is kept in the recipe's edits and was left out of the layer.")
            return
        prim = self.stage.DefinePrim(self.root.AppendChild(MADE).AppendChild(identifier(name)), "Mesh")
        self._geometry(prim, mesh)
        UsdShade.MaterialBindingAPI.Apply(prim).Bind(self._material(self.edited.surfaces[int(mesh.surfaces[0])]))

    def _material(self, surface: Surface) -> UsdShade.Material:
        """A UsdPreviewSurface of a surface's plain values."""
        made = "".join(c if c.isalnum() else "_" for c in surface.name) or "Surface"
        path = self.root.AppendChild(MADE).AppendChild(f"Surface_{made}_{len(self.stage.GetPrimAtPath(self.root).GetChildren())}")
        material = UsdShade.Material.Define(self.stage, path)
        shader = UsdShade.Shader.Define(self.stage, path.AppendChild("Shader"))
        shader.CreateIdAttr("UsdPreviewSurface")
        kinds = Sdf.ValueTypeNames
        shader.CreateInput("diffuseColor", kinds.Color3f).Set(Gf.Vec3f(*(float(c) for c in surface.base_color)))
        for usd_name, value in (("roughness", surface.roughness), ("metallic", surface.metallic), ("ior", surface.ior)):
            shader.CreateInput(usd_name, kinds.Float).Set(float(value))
        if surface.base_color_map is not None:
            self.left_out.append(f"The picture of the darkened {surface.name} was left out; its plain colour is written.")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        return material


def _last(name: str) -> str:
    return name.rsplit("/", 1)[-1]
