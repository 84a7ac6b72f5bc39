"""What is fuzzed: readers of our own, each a function of bytes. It may raise InputError, with one sentence; what it returns has to be usable."""

import hashlib
import json
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from sivrel.core.cache_contents import check_contents
from sivrel.core.caches import from_bytes
from sivrel.core.edits import edits
from sivrel.core.errors import InputError
from sivrel.core.formats import hdr, ies
from sivrel.core.formats.scenes import read_scene
from sivrel.core.gi.ways import OF_KIND
from sivrel.core.pictures import exr
from sivrel.core.render.frame import Frame
from sivrel.core.render.recipe import from_json, to_json
from sivrel.core.scene.model import Scene

FOLDER = Path(tempfile.mkdtemp(prefix="sivrel-fuzz-", dir="/dev/shm" if Path("/dev/shm").is_dir() else None))
OBJ = b"mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nvt 0 0\nusemtl m\nf 1/1 2/1 3/1\n"


def read_ies(data: bytes) -> None:
    profile = ies.read_ies(data.decode("latin-1"), "a.ies")
    assert np.isfinite(profile.power()) and (np.diff(profile.vertical) > 0.0).all()


def read_hdr(data: bytes) -> None:
    assert np.isfinite(hdr.read_hdr(data, "a.hdr")).all()


def read_obj(data: bytes) -> None:
    (FOLDER / "a.obj").write_bytes(data)
    check_scene(read_scene(FOLDER / "a.obj", confine_to=FOLDER))


def read_mtl(data: bytes) -> None:
    (FOLDER / "b.obj").write_bytes(OBJ)
    (FOLDER / "a.mtl").write_bytes(data)
    check_scene(read_scene(FOLDER / "b.obj", confine_to=FOLDER))


def read_exr_header(data: bytes) -> None:
    """Four texts and eight numbers of a header, parted by NUL."""
    texts = data.decode("latin-1").split("\0")
    keys = ("sivrelRecipe", "sivrelEdits", "sivrelShot", "sivrelObjects")
    header: dict = dict(zip(keys, texts, strict=False))
    numbers = np.frombuffer((data + bytes(32))[-32:], "<i4")
    header["dataWindow"], header["displayWindow"] = (numbers[0:2], numbers[2:4]), (numbers[4:6], numbers[6:8])
    picture = exr._with_header(exr.Picture({"beauty": np.zeros((1, 1, 4), np.float32)}, Frame()), header, Path("a.exr"))
    assert (picture.recipe is None) == (picture.edits is None)


def read_cache(data: bytes) -> None:
    """A header and a body after a newline; the checksum is set right, which no chance would."""
    head, _, body = data.partition(b"\n")
    try:
        about = json.loads(head)
        about["checksum"] = hashlib.sha256(body).hexdigest()
        head = json.dumps(about).encode()
    except (ValueError, TypeError, RecursionError):
        pass
    cache = from_bytes(head + b"\n" + body, "a.cache")
    check_contents(cache, "a.cache")
    way = OF_KIND.get(cache.kind)
    if way is not None and way.preview is not None and all(len(array) for array in cache.arrays.values()):
        shown = way.preview(cache.arrays)
        assert np.isfinite(shown.points).all() and len(shown.points) == len(shown.values)
    json.dumps(cache.notes)


def read_recipe(data: bytes) -> None:
    recipe = from_json(data)
    assert from_json(to_json(recipe)) == recipe


def read_edits(data: bytes) -> None:
    made = edits.from_json(data)
    assert edits.from_json(edits.to_json(made)) == made
    edits.with_edits(edits.Edits(), made.flat())


def check_scene(scene: Scene) -> None:
    """What the kernels count on."""
    assert scene.cameras and scene.triangle_count()
    for mesh in scene.meshes:
        assert np.isfinite(mesh.vertices).all() and np.isfinite(mesh.normals).all() and np.isfinite(mesh.uvs).all()
        assert int(mesh.surfaces.max()) < len(scene.surfaces)
    for surface in scene.surfaces:
        assert np.isfinite([*surface.base_color, *surface.emission, surface.roughness, surface.ior, surface.opacity]).all()


TARGETS: dict[str, Callable[[bytes], None]] = {
    "ies": read_ies, "hdr": read_hdr, "obj": read_obj, "mtl": read_mtl, "exr-header": read_exr_header, "cache": read_cache, "recipe": read_recipe,
    "edits": read_edits,
}  # fmt: skip


def meets(target: str, data: bytes) -> None:
    """Run a target: what it refuses, it refuses in one sentence."""
    try:
        TARGETS[target](data)
    except InputError as error:
        sentence = str(error)
        assert sentence and "\n" not in sentence.strip() and sentence.encode(), sentence
