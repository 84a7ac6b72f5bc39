"""Everything that is prepared before pixels: edits applied to the scene, lights packed, depth maps rendered or loaded."""

import functools
import json
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ..caches import Cache, CacheFolder, hash_of
from ..edits.apply_edits import apply_edits
from ..edits.edits import Edits, to_json
from ..errors import InputError
from ..formats.asset_resolver import MOST_BYTES
from ..formats.ies import read_ies_file
from ..formats.image import read_image
from ..pack.geometry import pack_geometry, packed_triangles
from ..pack.lights import active_lights, pack_lights, pass_names, with_maps
from ..pack.objects import packed_meshes
from ..pack.stored import COPIED, stored_meshes
from ..scene.arrays import AXIS_X, KIND, POSITION, SHADOWING, SUN, WAY, SceneArrays
from ..scene.finer import levels_of, with_subdivided
from ..scene.model import Camera, Profile, Scene, Texture
from ..scene.sanitize import check_edited, check_extent
from ..scene.stand_ins import with_stand_ins
from ..scene.texels import texels_of
from ..scene.triangles import triangle_count
from ..shadows.depth_map import DEPTH_MAP, KIND_OF_MAP, map_row, map_shape, render_map
from ..task import Task
from ..trace.traverse import closest_hits
from ..work_time import work_time
from .frame import Frame
from .passes import Placed
from .preparation import Preparation, camera_rays
from .prepare_ways import CacheNote, Gathered, dependencies, find_or_make, prepare_ways, serve_cache, what_changed
from .recipe import Recipe
from .shutter import Span, blur_in_words, motion_between, open_time, spans_of
from .through_time import Moving, Staged, gather_caches

SEEN_POINTS = 96
"""Points across the picture to which a sun's map is fitted when it is fitted to the view."""


@dataclass(frozen=True)
class GeometryCost:
    """triangles: with those of every placement; stored: each shape once; placements; from_cages: of the stored, how many came from subdivision;
    subdividing, packing: seconds of work for that, and for the arrays and their hierarchy."""

    triangles: int
    stored: int
    placements: int
    from_cages: int
    subdividing: float
    packing: float


@dataclass
class Geometry:
    """Packed geometry of a scene with its cards and stand-ins (`made_of`), reused while only lights change, and what it cost."""

    arrays: SceneArrays
    made_of: str
    cost: GeometryCost | None = None
    digest: str = ""
    of_surfaces: str = ""

    def hash(self) -> str:
        if not self.digest:
            arrays, placements = self.arrays, self.arrays.bvh.placements
            placed = [placements.first, placements.stored, placements.objects, placements.to_world] if len(placements.first) else []
            self.digest = hash_of(arrays.corners, arrays.points, arrays.normals, arrays.uvs, arrays.parts, arrays.surface_of, *placed)
        return self.digest

    def surfaces_hash(self) -> str:
        if not self.of_surfaces:
            self.of_surfaces = hash_of(self.arrays.surfaces, self.arrays.pictures.rows)
        return self.of_surfaces


@dataclass
class MapNote:
    """Note on a light's depth map: the seconds it took to make; why it was remade; whether
    it belongs to a sun and is fitted to the whole scene."""

    light: str
    digest: str
    resolution: int
    seconds: float
    made: bool
    because: str
    whole_scene: bool


@dataclass
class Prepared:
    """scene: with its edits applied; passes: names of the light passes by slot; stand_ins: number of plain
    stand-ins; maps, ways: notes on the caches of depth maps and of ways of finding bounced light; shutter: the spans of its time where motion is
    blurred, and blur: a sentence on it; levels: of subdivision by mesh; copied: the recipe's limit of copied triangles."""

    scene: Scene
    arrays: SceneArrays
    camera: Camera
    passes: list[str]
    geometry: Geometry
    maps: list[MapNote] = field(default_factory=list)
    stand_ins: int = 0
    ways: list[CacheNote] = field(default_factory=list)
    shutter: list[Span] = field(default_factory=list)
    blur: str = ""
    levels: dict[str, int] = field(default_factory=dict)
    copied: int = COPIED

    @property
    def placed(self) -> Placed:
        arrays = self.arrays
        return Placed(arrays.points, arrays.corners, arrays.standing, arrays.parts, arrays.bvh.placements, self.camera)


class Files:
    """Reads the files that edits name. With `folder`, only inside it."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder
        self.panoramas: dict[Path, Texture] = {}

    def _path(self, name: str) -> Path:
        if self.folder is None:
            return Path(name)
        try:
            path = (self.folder / name).resolve()
            inside = path.is_relative_to(self.folder.resolve())
        except (OSError, ValueError):  # no file can have that name
            inside = False
        if not inside:
            raise InputError(f"The file {name} is not beside the scene; put it there, or open the scene with it.")
        return path

    def profile(self, name: str) -> Profile:
        return read_ies_file(self._path(name))

    def panorama(self, name: str) -> Texture:
        path = self._path(name)
        if path not in self.panoramas:
            try:
                if not path.is_file() or path.stat().st_size > MOST_BYTES:
                    raise OSError
                data = path.read_bytes()
            except (OSError, ValueError):
                raise InputError(f"There is no picture {name}, or it is larger than {MOST_BYTES >> 30} GB; check the name.") from None
            self.panoramas[path] = Texture(texels_of(read_image(data, path.name), levels=1), ("repeat", "clamp"))
        return self.panoramas[path]


def prepare(
    scene: Scene, recipe: Recipe, edits: Edits | None = None, camera: str | None = None, *, geometry: Geometry | None = None,
    files: Files | None = None, caches: CacheFolder | None = None, task: Task | None = None,
    frame: Frame | None = None, only: tuple[int, int, int, int] | None = None, moving: Moving | None = None, like: Geometry | None = None,
    look: Callable[[Prepared], None] | None = None, staged: Prepared | None = None,
) -> Prepared:  # fmt: skip
    """Make a shot ready to render. geometry: of an earlier call, reused if it still fits; like: that of another frame; task: receives progress. Some
    caches depend on the camera and on `frame`, the size of the picture; `only`, a box of its pixels, limits them to what is seen there; such caches
    must not be stored. moving: the shot that `scene` is one frame of, for caches that are shared between frames. look: called with the shot as it is
    before the first cache of bounced light is made, if any is; staged: what `stage` has made of the same. Raises InputError if an edit can't be
    applied, and as `Task.check`."""
    edits, files, caches, task, frame = edits or Edits(), files or Files(), caches or CacheFolder(), task or Task(), frame or Frame()

    def stage_at(of: Scene, at: Frame, levels: dict[str, int] | None = None) -> tuple[Prepared, Preparation]:
        made = stage(of, recipe, edits, camera, like=like, files=files, caches=caches, task=task, frame=at, levels=levels)
        return made, Preparation(made.scene, made.arrays, recipe, made.camera, at, task, only)

    def other(time: float) -> Staged:
        assert moving is not None
        at_time, job = stage_at(moving.scene(time), replace(frame, time=time))
        return Staged(job, at_time.geometry.surfaces_hash(), at_time.geometry.hash())

    prepared = staged or stage(scene, recipe, edits, camera, geometry=geometry, like=like, files=files, caches=caches, task=task, frame=frame)
    job = Preparation(prepared.scene, prepared.arrays, recipe, prepared.camera, frame, task, only)
    if look is not None:
        job.look = lambda: look(prepared)
    given: dict[str, Gathered] = {}
    if moving is not None and frame.time is not None and recipe.motion.caches != "each":
        given = gather_caches(other, job, moving, to_json(edits), caches)
    prepared.ways = prepare_ways(job, prepared.geometry.surfaces_hash(), prepared.geometry.hash(), caches, given)
    prepared.arrays = job.arrays
    if moving is not None and frame.time is not None and recipe.motion.blur == "on":
        _open_shutter(prepared, job, moving, edits, files, caches, lambda of, at: stage_at(of, at, prepared.levels))
    return prepared


def _open_shutter(
    prepared: Prepared, job: Preparation, moving: Moving, edits: Edits, files: Files, caches: CacheFolder,
    stage: Callable[[Scene, Frame], tuple[Prepared, Preparation]],
) -> None:  # fmt: skip
    """Make the spans of the shutter's time ready. Caches are those of the frame: they hold its mean light well enough; light paths that end at lights
    are made for each span."""
    frame, camera = job.frame, prepared.camera.name
    assert frame.time is not None
    opens, closes = open_time(prepared.camera, job.recipe.motion)
    first, last = (apply_edits(moving.scene(frame.time + time), edits, files.profile, files.panorama) for time in (opens, closes))
    motion = motion_between(first, last, camera, (frame.width, frame.height))
    count = motion.spans(job.recipe.motion.steps) if motion is not None else 1
    if motion is not None and motion.any:
        at_frame, only_camera = frame.time, not motion.of_scene

        def at(time: float) -> tuple[SceneArrays | None, Camera]:
            scene = moving.scene(at_frame + time)
            if only_camera:
                return None, apply_edits(scene, edits, files.profile, files.panorama).camera(camera)
            staged, own = stage(scene, replace(frame, time=at_frame + time))
            for way in job.recipe.preparing():
                cache = job.caches[way.key]
                if way.of_paths and not way.steers:
                    depends = dependencies(own, way, staged.geometry.surfaces_hash(), staged.geometry.hash(), "")
                    cache = find_or_make(own, way, depends, {}, caches)[0]
                own.served(way.key, serve_cache(own, way, cache, caches)[0])
            return own.arrays, staged.camera

        spans = spans_of(opens, closes, count, prepared.arrays, (first.camera(camera), last.camera(camera)), at)
        if all(span.scene.slots == prepared.arrays.slots and triangle_count(span.scene) == triangle_count(prepared.arrays) for span in spans):
            prepared.shutter = spans
        else:
            motion = None
    prepared.blur = blur_in_words(motion, opens, closes, count)


def stage(
    scene: Scene, recipe: Recipe, edits: Edits, camera: str | None, *, files: Files, caches: CacheFolder, task: Task, frame: Frame,
    geometry: Geometry | None = None, like: Geometry | None = None, levels: dict[str, int] | None = None,
) -> Prepared:  # fmt: skip
    """The shot as `prepare` makes it, before its caches of bounced light: with its edits, packed, with its lights and their depth maps. levels: of
    subdivision, if they are not this frame's own."""
    edited = apply_edits(scene, edits, files.profile, files.panorama)
    check_edited(edited)
    edited, stand_ins = with_stand_ins(edited, recipe.surfaces.stand_ins)
    if levels is None:
        wanted = recipe.surfaces
        levels = levels_of(edited, edited.camera(camera), frame.width, wanted.subdivide, wanted.subdivide_unit == "px", wanted.subdivide_levels)
    begun = work_time()
    edited = with_subdivided(edited, levels)
    subdividing = work_time() - begun
    chosen_objects = sorted(mesh.name for mesh in edited.meshes if mesh.stand_in)
    made_of = json.dumps([to_json(edits.of_geometry()), recipe.surfaces.stand_ins, chosen_objects, sorted(levels.items()), recipe.surfaces.copied])
    if geometry is None or geometry.made_of != made_of:
        check_extent(edited)
        begun = work_time()
        packed = pack_geometry(edited, like.arrays if like is not None else None, recipe.surfaces.copied)
        geometry = Geometry(packed, made_of, _cost(edited, packed, levels, subdividing, work_time() - begun))
    arrays = pack_lights(geometry.arrays, edited, recipe.shadows.of_lights())
    prepared = Prepared(
        edited, arrays, edited.camera(camera), pass_names(edited), geometry, stand_ins=stand_ins, levels=levels, copied=recipe.surfaces.copied
    )
    _add_maps(prepared, recipe, caches, task)
    return prepared


def _cost(scene: Scene, packed: SceneArrays, levels: dict[str, int], subdividing: float, packing: float) -> GeometryCost:
    from_cages = {id(mesh.surfaces): mesh.count for mesh in scene.meshes if levels.get(mesh.name, 0)}
    placements = len(packed.bvh.placements.first)
    return GeometryCost(triangle_count(packed), len(packed.corners), placements, sum(from_cages.values()), subdividing, packing)


def placed_at(
    scene: Scene, edits: Edits, camera: str | None, files: Files | None = None, like: Prepared | None = None
) -> Placed:  # fmt: skip
    """Where surfaces and camera of a shot with its edits are; subdivided and packed like another frame, without making it ready to render."""
    files = files or Files()
    edited = with_subdivided(apply_edits(scene, edits, files.profile, files.panorama), like.levels if like is not None else {})
    meshes = packed_meshes(edited)
    stored = stored_meshes(edited, meshes, like.copied if like is not None else COPIED)
    geometry = packed_triangles(stored)
    standing = sum(meshes[k].count for k in stored.standing)
    return Placed(geometry["points"], geometry["corners"], standing, geometry["parts"], stored.placements, edited.camera(camera))


def _add_maps(prepared: Prepared, recipe: Recipe, caches: CacheFolder, task: Task) -> None:
    arrays, scene = prepared.arrays, prepared.scene
    if not any(arrays.lights[i, WAY] == DEPTH_MAP for i in range(len(active_lights(scene)))):
        return
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
            "geometry": hash_of(
                prepared.geometry.hash(),
                prepared.geometry.surfaces_hash(),
                arrays.objects if arrays.filtered or arrays.lights[i, SHADOWING] >= 0 else 0,
            ),
            "light": hash_of(arrays.lights[i, POSITION : POSITION + 3], arrays.lights[i, AXIS_X : AXIS_X + 9], arrays.lights[i, SHADOWING]),
            "map": hash_of(row),
        }
        cache = caches.find(KIND_OF_MAP, depends)
        if cache is not None and cache.arrays["depths"].shape != map_shape(row):
            cache = None
        made, because = cache is None, ""
        if cache is None:
            because = what_changed(caches.alike(KIND_OF_MAP, light.name), depends)
            begun = work_time()
            what = f"depth map of {light.name}"
            depths = render_map(arrays, i, row, functools.partial(task.report, what))
            cache = Cache(KIND_OF_MAP, light.name, depends, {"depths": depths, "row": row}, {"seconds": work_time() - begun})
            caches.keep(cache)
        maps[light.name] = row, cache.arrays["depths"]
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


def points_seen(arrays: SceneArrays, camera: Camera) -> np.ndarray:
    """float64 [n, 3]: hits of a coarse grid of camera rays, in metres."""
    at = (np.arange(SEEN_POINTS) + 0.5) / SEEN_POINTS
    x, y = (grid.reshape(-1) for grid in np.meshgrid(at * 16.0, at * 9.0))
    origins, d = camera_rays(camera, 16, 9, x, y)
    _, distances = closest_hits(arrays.bvh, origins.astype(np.float32), d.astype(np.float32), np.float32(0.0), np.float32(1e30))
    met = distances < 1e29
    return origins[met] + d[met] * distances[met, None].astype(float)
