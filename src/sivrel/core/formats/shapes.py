"""Shapes that a file places several times: each is read once, in its own space."""

from collections import Counter
from collections.abc import Callable, Hashable

import numpy as np

from ..scene.model import Mesh, Scene
from ..scene.placed_mesh import PlacedMesh

FLATTEST = 1e-6
"""Volume of a transformed unit cube, as a share of that of a cube of its longest edge, below which its transform has no usable inverse."""


class Shapes:
    """The shapes of one file by a key that says what they are made of."""

    def __init__(self) -> None:
        self.known: dict[Hashable, Mesh | None] = {}

    def placed(self, key: Hashable, name: str, matrix: np.ndarray, read: Callable[[bool], Mesh | None]) -> PlacedMesh | None:
        """The shape called `key`, placed by a 4 x 4 matrix for columns that `can_place`. read: reads it in its own space, its triangles turned round
        where that is asked for; None if it has none, which is returned."""
        mirrored = bool(np.linalg.det(matrix[:3, :3]) < 0.0)
        if (key, mirrored) not in self.known:
            self.known[key, mirrored] = read(mirrored)
        shape = self.known[key, mirrored]
        return None if shape is None else PlacedMesh(name, shape, np.ascontiguousarray(matrix[:3]))


def can_place(matrix: np.ndarray) -> bool:
    """Whether a 4 x 4 matrix is finite and has an inverse that rays can be transformed by."""
    m = matrix[:3, :3]
    if not np.isfinite(matrix).all():
        return False
    longest = float(np.linalg.norm(m, axis=0).max())
    return longest > 0.0 and abs(float(np.linalg.det(m / longest))) > FLATTEST


def settle(scene: Scene) -> None:
    """Makes meshes of their own of those whose shape has no other placement."""
    uses = Counter(id(mesh.shape) for mesh in scene.meshes if isinstance(mesh, PlacedMesh))
    for k, mesh in enumerate(scene.meshes):
        if isinstance(mesh, PlacedMesh) and uses[id(mesh.shape)] == 1:
            scene.meshes[k] = mesh.standing()
