"""What a way of finding bounced light declares about itself."""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from ..settings import Group
from ..surfaces.preview import Look
from ..suspect import Suspects

NOT_SERVED, INDIRECT, WHOLE = 0, 1, 2
"""What a lookup has found: nothing, so paths go on; the irradiance of bounced light; or that of all light, so that no light is aimed at."""


WORST = 3.0
"""Times the root of how many rays or photons one answer rests on, by which chance moves it at the worst spots (measured on pairs of seeds,
docs/benchmarks.md). How uneven light is decides the rest."""


class Spot(NamedTuple):
    """Where light is looked up.

    position, geometric_normal, normal: in metres; the normals face the ray, `normal` with all detail; look: the surface there
    hit, b1, b2: triangle, and weights of its second and third corner
    distance: length of the ray that led here, in metres; inf at the first surface
    seen: whether the camera sees it, also in mirrors
    key, number, dimension: of the random numbers that a lookup may take
    """

    position: tuple
    geometric_normal: tuple
    normal: tuple
    look: Look
    hit: int
    b1: float
    b2: float
    distance: float
    seen: bool
    key: int
    number: int
    dimension: int


class Table(NamedTuple):
    """What an array of a cache has to be, so that a file that somebody gave can be served without harm.

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
    """What a cache holds, to be drawn: points float [n, 3] in metres; sizes float [n], radii or half edges in metres; values float
    [n, 3], what each holds, as colour; shape: `discs` that lie on surfaces, `dots`, `boxes`, or `triangles` (points [n, 3, 3]);
    normals float [n, 3]."""

    points: np.ndarray
    sizes: np.ndarray
    values: np.ndarray
    shape: str
    normals: np.ndarray


class Nothing(NamedTuple):
    """What the kernels get of a way that prepares nothing."""

    nothing: int


class Way(NamedTuple):
    """One way of finding bounced light.

    key: its value in a recipe, and the name of its settings; code: its number in the kernels; title: as the pages write it
    seen, beyond: where it can be chosen
    does: what it does, one sentence; costs: what it costs or how it fails, one sentence
    bounces: whether paths go on, so that `beyond` and the bounce limits matter
    asks_beyond: whether another way finds what lies beyond; a way that does not serves there itself
    elsewhere: why it can not be chosen beyond, one clause, where it can not
    question, settings: its settings, and what they answer
    kind: name of its cache
    nothing: what the kernels get where it is not in use; a named tuple of the same types as `serve` gives
    makes: of its settings and the recipe, what its cache depends on beside the scene
    depends: what of the shot it depends on: `geometry`, `surfaces`, `lights`, `limits`, `beyond`; `camera`
    where its setting of that name is `own`
    make, extend and serve get a job (see render.preparation.Preparation) and its settings.
    make: makes its arrays and notes for a file; extend: adds to them what another camera needs; serve: what the kernels get of these
    lookup: kernel (prepared, scene, memory, spot) -> (irradiance, what was found)
    preview: of its arrays, what to draw
    says: of its notes, one sentence more about what was made
    points: of its arrays, how many things it holds, and what they are called
    holds: its arrays by name, as a file must have them; sound: of its arrays, whether what they say of each other can be
    tells: names of the numbers in its notes that serving, preview or words need
    interpolates: whether it serves from places other than the one that is asked for, so that light may leak through thin things
    by_view: whether its cache is made for what a camera sees, so that a trial makes that of its region alone
    suspects: what may be at fault in it for a flaw, see core.suspect
    distances: of the scene's arrays and its notes, automatic distances in metres by setting, where the recipe leaves them open
    width: of its notes, what sets the size of its blotches: words with {} for pixels, and metres; None where nothing does
    chance: of its settings and the recipe, by how much chance moves what it serves where it is looked up at once, as a share in the worst spots;
    chance_beyond: the same where the rays that gather it land
    pilots: what of it an advice tries, as matches write it, and the seconds that the caches take in those of one sample a pixel of a small frame
    small: settings with which its kernels are compiled soonest
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
    serve: Callable[[Any, Any, dict[str, np.ndarray], dict[str, Any]], Any] | None = None
    lookup: Any = None
    preview: Callable[[dict[str, np.ndarray]], Preview] | None = None
    says: Callable[[dict[str, Any]], str] | None = None
    points: Callable[[dict[str, np.ndarray]], tuple[int, str]] | None = None
    holds: dict[str, Table] = {}  # noqa: RUF012 (a named tuple's default is never changed)
    sound: Callable[[dict[str, np.ndarray]], bool] | None = None
    tells: tuple[str, ...] = ()
    interpolates: bool = False
    by_view: bool = False
    suspects: Suspects | None = None
    distances: Callable[[Any, dict[str, Any]], dict[str, float]] | None = None
    width: Callable[[dict[str, Any]], tuple[str, float] | None] | None = None
    chance: Callable[[Any, Any], float] | None = None
    chance_beyond: float = 0.0
    pilots: dict[str, float] = {}  # noqa: RUF012
    small: dict[str, Any] = {}  # noqa: RUF012
