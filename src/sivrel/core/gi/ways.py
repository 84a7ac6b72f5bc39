"""The table of ways of finding bounced light. A new way is one module and one line here."""

from typing import Any

import numpy as np
from numba import typeof, types

from ..by_address import address_of, calling
from ..kernel import called_kernel, named
from ..numba_byref import ByReference
from ..scene.arrays import CONNECTIONS, GUIDE
from ..surfaces.preview import Look
from . import ambient, baked, bidirectional, brute_force, caustics, guiding, irradiance_cache, off, photon_map, radiance_cache
from .way import INDIRECT, Spot, Way

WAYS: tuple[Way, ...] = (
    off.WAY,
    ambient.WAY,
    brute_force.WAY,
    irradiance_cache.WAY,
    photon_map.WAY,
    radiance_cache.WAY,
    baked.WAY,
)
EXTRAS: tuple[Way, ...] = (guiding.WAY, bidirectional.WAY, caustics.WAY)
"""Used in addition to the chosen way."""
SEEN = {way.key: way for way in WAYS if way.seen}
BEYOND = {way.key: way for way in WAYS if way.beyond}
_ALL = (*EXTRAS, *WAYS)
PREPARING = {way.key: way for way in _ALL if way.make is not None}
OF_KIND = {way.kind: way for way in PREPARING.values()}
"""Ways by the kind of their cache."""
NOTHING_PREPARED = tuple(way.nothing for way in _ALL)
"""The kernels' arrays of all ways, by their PLACES, with none prepared."""
PLACES = {way.key: place for place, way in enumerate(_ALL)}
CAUSTICS = PLACES[caustics.WAY.key]
if len({way.code for way in WAYS}) < len(WAYS) or len(PLACES) < len(_ALL):
    raise ValueError("Two ways of finding bounced light share a code or a key; give each its own.")
assert PLACES[guiding.WAY.key] == GUIDE and PLACES[bidirectional.WAY.key] == CONNECTIONS


_NOWHERE, _FLOAT, _WORD = (0.0, 0.0, 0.0), np.float32(0.0), np.uint32(0)
_LOOK = Look(_NOWHERE, 0.0, 0.0, 0.0, False, _NOWHERE, 0.0, 0.0)
_ANY_SPOT: Any = (_NOWHERE, _NOWHERE, _NOWHERE, _NOWHERE, _LOOK, _WORD, _FLOAT, _FLOAT, 0.0, False, 0, _WORD, 0, 0)
SPOT = typeof(Spot(*_ANY_SPOT))
"""The types of a `Spot` as all kernels make it."""
FOUND = types.Tuple((types.UniTuple(types.float64, 3), types.int64))
look_up_at = calling(FOUND, {2: ByReference(SPOT, False), 3: types.int64})
"""(address, (scene, memory, spot, sample)) -> (irradiance, what was found): the lookup of a way, called by its `lookup_address`."""


def _called(key: str, own: Any) -> Any:
    place = PLACES[key]

    @called_kernel
    @named(f"look_up_{key}")
    def look_up(scene, memory, spot, sample):
        (r, g, b), found = own(scene.prepared[place], scene, memory, spot)
        return (float(r), float(g), float(b)), np.int64(found)

    return look_up


@called_kernel
def _look_up_caustics(scene, memory, spot, sample):
    irradiance, shine = caustics.caustics_at(scene, memory.stack, scene.prepared[CAUSTICS], memory.near, sample, spot)
    memory.shine[0], memory.shine[1], memory.shine[2] = shine
    return irradiance, np.int64(INDIRECT)


@called_kernel
def _look_up_connected(scene, memory, spot, sample):
    paths = scene.prepared[CONNECTIONS]
    return bidirectional.connected(scene, memory.stack, paths, memory.near, sample, spot), np.int64(INDIRECT)


LOOKUPS = {way.key: _called(way.key, way.lookup) for way in WAYS if way.lookup is not None} | {
    caustics.WAY.key: _look_up_caustics,
    bidirectional.WAY.key: _look_up_connected,
}


def lookup_address(key: str, scene: Any, memory: Any) -> int:
    """The address of a way's lookup for scene arrays and a thread's memory like these; 0 for a way that has none. Compiles it on first use."""
    if key not in LOOKUPS:
        return 0
    return address_of(LOOKUPS[key], (ByReference(typeof(scene), True), ByReference(typeof(memory), True), ByReference(SPOT, False), types.int64))
