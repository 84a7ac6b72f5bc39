"""Shared by packing geometry and packing lights: which meshes are packed, and which rays can hit them."""

import numpy as np

from ..scene.arrays import BY_BOUNCED, BY_CAMERA, BY_SHADOW
from ..scene.model import Mesh, Scene


def packed_meshes(scene: Scene) -> list[Mesh]:
    """The meshes that are packed, in the order in which `object_of` counts them."""
    return [mesh for mesh in scene.meshes if mesh.count]


def object_flags(meshes: list[Mesh]) -> np.ndarray:
    """int64 [meshes]: which rays can hit each mesh."""
    return np.array([BY_CAMERA * m.seen_by_camera + BY_SHADOW * m.casts_shadows + BY_BOUNCED * m.seen_by_bounced for m in meshes], np.int64)
