"""Everything that is made ready before pixels: edits laid over the scene, lights packed, depth maps rendered or found."""

import functools
import json
import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..caches import Cache, CacheFolder, hash_of
from ..errors import InputError
from ..formats.ies import read_ies_file
from ..formats.image import read_image
from ..gi.photon_map import build_tree
from ..gi.ways import SEEN
from ..lights.pack import active_lights, pack_lights, pass_names, with_maps
from ..scene.apply_edits import apply_edits
from ..scene.arrays import AXIS_X, KIND, POSITION, SHADOWING, SUN, WAY, SceneArrays
from ..scene.edits import Edits, to_json
from ..scene.model import Camera, Profile, Scene, Texture
from ..scene.pack import pack_geometry
from ..scene.stand_ins import with_stand_ins
from ..shadows.depth_map import map_row, render_map
from ..shadows.ways import DEPTH_MAP
from ..trace.traverse import closest_hits
from .film import camera_array
from .photons import automatic_radius, shoot_photons
from .recipe import Recipe

KIND_OF_MAP, KIND_OF_PHOTONS = "depth map", "photon map"
SEEN_POINTS = 96
"""Points across the picture to which a sun's map is fitted when it is fitted to the view."""


@dataclass
class Geometry:
    """Packed geometry of a scene with its cards and stand-ins (`made_of`), reused while only lights change."""

    arrays: SceneArrays
    made_of: str
    digest: str = ""

    def hash(self) -> str:
        if not self.digest:
            self.digest = hash_of(self.arrays.vertices, self.arrays.surface_of, self.arrays.surfaces, self.arrays.uvs)
        return self.digest


@dataclass
class MapNote:
    """What happened to the depth map of a light: seconds it took, or took when it was made; why it was made anew; whether
    it is a sun's and fitted to the whole scene."""

    light: str
    digest: str
    resolution: int
    seconds: float
    made: bool
    because: str
    whole_scene: bool


@dataclass
class PhotonNote:
    """What happened to the photon map: how many photons landed of how many that were shot, the radius in metres at which they are
    gathered, seconds that it took, or took when it was made; why it was made anew."""

    digest: str
    landed: int
    shot: int
    radius: float
    seconds: float
    made: bool
    because: str


@dataclass
class Prepared:
    """scene: with the edits laid over it; passes: names of the light passes by slot; stand_ins: how many surfaces are plain
    stand-ins."""

    scene: Scene
    arrays: SceneArrays
    camera: Camera
    passes: list[str]
    geometry: Geometry
    maps: list[MapNote] = field(default_factory=list)
    stand_ins: int = 0
    photons: PhotonNote | None = None


class Files:
    """Reads the files that edits name. With `folder`, nothing outside it."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder
        self.panoramas: dict[Path, Texture] = {}

    def _path(self, name: str) -> Path:
        if self.folder is None:
            return Path(name)
        path = (self.folder / name).resolve()
        if not path.is_relative_to(self.folder.resolve()):
            raise InputError(f"The file {name} does not lie beside the scene; put it there, or open the scene with it.")
        return path

    def profile(self, name: str) -> Profile:
        return read_ies_file(self._path(name))

    def panorama(self, name: str) -> Texture:
        path = self._path(name)
        if path not in self.panoramas:
            try:
                data = path.read_bytes()
            except OSError:
                raise InputError(f"There is no picture {name}; check the name.") from None
            self.panoramas[path] = Texture(read_image(data, path.name), ("repeat", "clamp"))
        return self.panoramas[path]


def prepare(
    scene: Scene, recipe: Recipe, edits: Edits | None = None, camera: str | None = None, *, geometry: Geometry | None = None,
    files: Files | None = None, caches: CacheFolder | None = None, progress: Callable[[str, float], bool] | None = None,
) -> Prepared:  # fmt: skip
    """Make a shot ready to render. `geometry` of an earlier call is used again where it still fits; `progress(what, share)`
    may stop the work by returning False. Raises InputError when an edit can't be applied."""
    edits, files = edits or Edits(), files or Files()
    edited = apply_edits(scene, edits, files.profile, files.panorama)
    edited, stand_ins = with_stand_ins(edited, recipe.surfaces.stand_ins)
    chosen_objects = sorted(mesh.name for mesh in edited.meshes if mesh.stand_in)
    made_of = json.dumps([to_json(Edits(cards=edits.cards)), recipe.surfaces.stand_ins, chosen_objects])
    if geometry is None or geometry.made_of != made_of:
        geometry = Geometry(pack_geometry(edited), made_of)
    arrays = pack_lights(geometry.arrays, edited, recipe.shadows.of_lights())
    chosen = edited.camera(camera)
    prepared = Prepared(edited, arrays, chosen, pass_names(edited), geometry, stand_ins=stand_ins)
    caches = caches or CacheFolder()
    _add_maps(prepared, recipe, caches, progress)
    if "photon_map" in (recipe.gi.seen, recipe.gi.beyond if SEEN[recipe.gi.seen].bounces else ""):
        _add_photons(prepared, recipe, caches, progress)
    return prepared


def _add_photons(prepared: Prepared, recipe: Recipe, caches: CacheFolder, progress: Callable[[str, float], bool] | None) -> None:
    """The photon map of a shot, found or made. It does not depend on the camera."""
    arrays, wanted = prepared.arrays, recipe.photon_map
    depends = {
        "geometry and surfaces": hash_of(prepared.geometry.hash(), arrays.texels, arrays.textures, arrays.objects),
        "lights": hash_of(arrays.lights, arrays.portals, arrays.tables, arrays.light_of),
        "count and bounces": hash_of(np.array([wanted.count, wanted.bounces]), recipe.limits.ray_offset),
    }
    cache = caches.find(KIND_OF_PHOTONS, depends)
    made, because = cache is None, ""
    if cache is None:
        because = _what_changed(caches, KIND_OF_PHOTONS, prepared.scene.name, depends)
        begun = time.perf_counter()
        tell = functools.partial(progress, "photons") if progress else None
        offset = recipe.limits.ray_offset or arrays.offset
        photons, shot = shoot_photons(arrays, wanted.count, wanted.bounces, offset, threads=os.cpu_count() or 1, progress=tell)
        notes = {"seconds": time.perf_counter() - begun, "shot": shot}
        cache = Cache(KIND_OF_PHOTONS, prepared.scene.name, depends, {"photons": photons}, notes)
        if progress is None or progress("photons", 1.0):
            caches.keep(cache)
    photons = cache.arrays["photons"]
    radius = wanted.radius or automatic_radius(photons, wanted.gather)
    prepared.arrays = arrays._replace(photons=build_tree(photons, radius))
    prepared.photons = PhotonNote(cache.digest, len(photons), int(cache.notes["shot"]), radius, float(cache.notes["seconds"]), made, because)


def _add_maps(prepared: Prepared, recipe: Recipe, caches: CacheFolder, progress: Callable[[str, float], bool] | None) -> None:
    arrays, scene = prepared.arrays, prepared.scene
    low, high = scene.bounds()
    maps: dict[str, tuple[np.ndarray, np.ndarray]] = {}
    for i, light in enumerate(active_lights(scene)):
        if arrays.lights[i, WAY] != DEPTH_MAP:
            continue
        resolution = light.shadow.resolution or recipe.shadows.resolution
        seen = None
        if arrays.lights[i, KIND] == SUN and (light.shadow.fit or recipe.shadows.fit) == "view":
            seen = points_seen(arrays, prepared.camera)
        row = map_row(arrays.lights, i, resolution, low, high, seen)
        depends = {
            "geometry": hash_of(prepared.geometry.hash(), arrays.objects if arrays.filtered or arrays.lights[i, SHADOWING] >= 0 else 0),
            "light": hash_of(arrays.lights[i, POSITION : POSITION + 3], arrays.lights[i, AXIS_X : AXIS_X + 9], arrays.lights[i, SHADOWING]),
            "map": hash_of(row),
        }
        cache = caches.find(KIND_OF_MAP, depends)
        made, because = cache is None, ""
        if cache is None:
            because = _what_changed(caches, KIND_OF_MAP, light.name, depends)
            begun = time.perf_counter()
            what = f"depth map of {light.name}"
            depths = render_map(arrays, i, row, functools.partial(progress, what) if progress else None)
            cache = Cache(KIND_OF_MAP, light.name, depends, {"depths": depths, "row": row}, {"seconds": time.perf_counter() - begun})
            if progress is None or progress(what, 1.0):
                caches.keep(cache)
        maps[light.name] = cache.arrays["row"], cache.arrays["depths"]
        prepared.maps.append(
            MapNote(
                light.name,
                cache.digest,
                resolution,
                float(cache.notes["seconds"]),
                made,
                because,
                bool(arrays.lights[i, KIND] == SUN and seen is None),
            )
        )
    prepared.arrays = with_maps(arrays, maps, scene)


def _what_changed(caches: CacheFolder, kind: str, subject: str, depends: dict[str, str]) -> str:
    """What has changed since the newest cache of the same kind and subject, in words; empty when there was none."""
    for cache in reversed(list(caches.held.values())):
        if cache.kind == kind and cache.subject == subject:
            return " and ".join(name for name in depends if cache.depends.get(name) != depends[name])
    return ""


def points_seen(arrays: SceneArrays, camera: Camera) -> np.ndarray:
    """float64 [n, 3]: what a coarse grid of camera rays meets, in metres."""
    eye = camera_array(camera, 16, 9)
    at = (np.arange(SEEN_POINTS) + 0.5) / SEEN_POINTS * 2.0 - 1.0
    x, y = (grid.reshape(-1) for grid in np.meshgrid((at + eye[5, 0]) * eye[4, 0], (at + eye[5, 1]) * eye[4, 1]))
    across = x[:, None] * eye[0] + y[:, None] * eye[1]
    if camera.orthographic:
        origins, d = eye[3] + across, np.broadcast_to(-eye[2], across.shape)
    else:
        origins, d = np.broadcast_to(eye[3], across.shape), across - eye[2]
    d = d / np.linalg.norm(d, axis=1, keepdims=True)
    _, distances = closest_hits(arrays.bvh, origins.astype(np.float32), d.astype(np.float32), np.float32(0.0), np.float32(1e30))
    met = distances < 1e29
    return origins[met] + d[met] * distances[met, None].astype(float)
