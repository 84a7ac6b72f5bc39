"""What a way of finding bounced light declares about itself."""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from ..settings import Group
from ..surfaces.preview import Look
from ..suspect import Suspects

NOT_SERVED, INDIRECT, WHOLE, WITH_GLOSS = 0, 1, 2, 3
"""What a lookup returns: nothing, so paths go on; the irradiance of bounced light; or that of all light, so that no light is aimed at.
WITH_GLOSS is the path's own: bounced light was found, and wide gloss reflects it, too."""


WORST = 3.0
"""Noise of a lookup in the worst places, times the root of the number of rays or photons behind it (measured on pairs of seeds,
docs/benchmarks.md). The rest depends on how uneven the light is."""


class Spot(NamedTuple):
    """A point at which light is looked up.

    position, geometric_normal, normal: in metres; the normals face the ray, `normal` with all detail; towards: unit direction to where the ray
    comes from; look: the surface there
    hit, b1, b2: triangle, and weights of its second and third corner
    distance: length of the ray that led here, in metres; inf at the first surface
    seen: whether the camera sees it, also in mirrors
    bounces: how many diffuse bounces the limits allow the light before it arrives here
    key, number, dimension: of the random numbers that a lookup may take
    """

    position: tuple
    geometric_normal: tuple
    normal: tuple
    towards: tuple
    look: Look
    hit: int
    b1: float
    b2: float
    distance: float
    seen: bool
    bounces: int
    key: int
    number: int
    dimension: int


class Table(NamedTuple):
    """Constraints on an array of a cache, so that a file from outside is safe to use.

    columns: length of a row, 0 where rows are single numbers; whole: integers of any size, instead of floats
    places: how many of the first columns are places in metres, which are smaller than light may be bright
    rows: of the cache's arrays, how many rows this one must have; None for any number
    low, high: of the cache's arrays, the least and the largest number that may stand in it, where it holds indices
    """

    columns: int
    whole: bool = False
    places: int = 0
    rows: Callable[[dict[str, np.ndarray]], int] | None = None
    low: int = -(1 << 62)
    high: Callable[[dict[str, np.ndarray]], int] | None = None


class Preview(NamedTuple):
    """The contents of a cache, to be drawn: points float [n, 3] in metres; sizes float [n], radii or half edges in metres; values float
    [n, 3], what each holds, as colour; shape: `discs` that lie on surfaces, `dots`, `boxes`, or `triangles` (points [n, 3, 3]);
    normals float [n, 3]."""

    points: np.ndarray
    sizes: np.ndarray
    values: np.ndarray
    shape: str
    normals: np.ndarray


class Nothing(NamedTuple):
    """The kernels' arrays of a way that prepares nothing."""

    nothing: int


class Way(NamedTuple):
    """One way of finding bounced light.

    key: its value in a recipe, and the name of its settings; code: its number in the kernels; title: as shown on the pages
    seen, beyond: where it can be chosen
    does: one sentence on what it does; costs: one sentence on its cost and how it fails
    bounces: whether paths go on, so that `beyond` and the bounce limits apply
    asks_beyond: whether another way may be used beyond; otherwise this way is used there, too
    elsewhere: if it can't be chosen beyond, one clause on why
    question, settings: its settings, and the question they answer
    kind: name of its cache
    nothing: the kernels' arrays while it is not in use; a named tuple of the same types as `serve` returns
    makes: from its settings and the recipe, what its cache depends on besides the scene
    depends: parts of the shot it depends on: `geometry`, `surfaces`, `lights`, `limits`, `beyond`, `camera`; a setting called `camera` adds
    the last one where it is `own`
    make, extend and serve take a job (see render.preparation.Preparation) and its settings.
    make: its arrays and notes for a file; extend: adds what another camera needs; serve: the kernels' arrays from these
    join: the arrays of several frames as one, each with the same weight; None where they can't be joined
    places: from its arrays, the position and normal float [n, 3] of each of its rows, where single rows can be made anew; only: its arrays with the
    rows of a mask
    lookup: kernel (prepared, scene, memory, spot) -> (irradiance, what was found)
    preview: from its arrays, what to draw
    says: from its notes, one more sentence about the cache
    points: from its arrays, how many entries it holds, and their name
    holds: constraints on its arrays by name; sound: from its arrays, whether they are consistent with each other
    tells: names of the numbers in its notes that serve, preview or says need
    of_paths: whether it only serves paths that bounce
    steers: whether it only says where paths go, so that one made for another moment is as true
    interpolates: whether it uses light from other points, so that light may leak through thin objects
    by_view: whether its cache is made for a camera's view, so that a trial only makes that of its region
    suspects: its possible causes of a flaw, see core.suspect
    distances: from the scene's arrays and its notes, automatic distances in metres by setting, where the recipe leaves them open
    width: from its notes, the size of its blotches: words with {} for pixels, and metres; None if there are none
    chance: from its settings and the recipe, the relative noise of a direct lookup in the worst places;
    chance_beyond: the same where final gather rays land
    pilots: variants that advice tries, as matches write them, and the cost of their caches relative to one sample per pixel of a small frame
    small: settings with which its kernels compile soonest
    """

    key: str
    code: int
    title: str
    seen: bool
    beyond: bool
    does: str
    costs: str
    bounces: bool = True
    asks_beyond: bool = False
    elsewhere: str = ""
    question: str = ""
    settings: type[Group] | None = None
    kind: str = ""
    nothing: Any = Nothing(0)
    makes: Callable[[Any, Any], Any] | None = None
    depends: tuple[str, ...] = ()
    make: Callable[[Any, Any], tuple[dict[str, np.ndarray], dict[str, Any]]] | None = None
    extend: Callable[[Any, Any, dict[str, np.ndarray]], tuple[dict[str, np.ndarray], dict[str, Any]]] | None = None
    join: Callable[[list[dict[str, np.ndarray]]], dict[str, np.ndarray]] | None = None
    places: Callable[[dict[str, np.ndarray]], tuple[np.ndarray, np.ndarray]] | None = None
    only: Callable[[dict[str, np.ndarray], np.ndarray], dict[str, np.ndarray]] | None = None
    serve: Callable[[Any, Any, dict[str, np.ndarray], dict[str, Any]], Any] | None = None
    lookup: Any = None
    preview: Callable[[dict[str, np.ndarray]], Preview] | None = None
    says: Callable[[dict[str, Any]], str] | None = None
    points: Callable[[dict[str, np.ndarray]], tuple[int, str]] | None = None
    holds: dict[str, Table] = {}  # noqa: RUF012 (a named tuple's default is never changed)
    sound: Callable[[dict[str, np.ndarray]], bool] | None = None
    tells: tuple[str, ...] = ()
    of_paths: bool = False
    steers: bool = False
    interpolates: bool = False
    by_view: bool = False
    suspects: Suspects | None = None
    distances: Callable[[Any, dict[str, Any]], dict[str, float]] | None = None
    width: Callable[[dict[str, Any]], tuple[str, float] | None] | None = None
    chance: Callable[[Any, Any], float] | None = None
    chance_beyond: float = 0.0
    pilots: dict[str, float] = {}  # noqa: RUF012
    small: dict[str, Any] = {}  # noqa: RUF012
