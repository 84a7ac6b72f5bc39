"""The table of ways of finding bounced light. A new way is one module and one line here."""

from typing import Any

from ..kernel import kernel
from . import ambient, baked, brute_force, caustics, irradiance_cache, off, photon_map, radiance_cache
from .way import NOT_SERVED, Way

WAYS: tuple[Way, ...] = (
    off.WAY,
    ambient.WAY,
    brute_force.WAY,
    irradiance_cache.WAY,
    photon_map.WAY,
    radiance_cache.WAY,
    baked.WAY,
)
EXTRAS: tuple[Way, ...] = (caustics.WAY,)
"""Found in addition to the chosen way."""
SEEN = {way.key: way for way in WAYS if way.seen}
BEYOND = {way.key: way for way in WAYS if way.beyond}
PREPARING = {way.key: way for way in (*WAYS, *EXTRAS) if way.make is not None}
OF_KIND = {way.kind: way for way in PREPARING.values()}
"""Ways by the kind of their cache."""
NOTHING_PREPARED = tuple(way.nothing for way in (*WAYS, *EXTRAS))
"""The kernels' arrays of all ways, in the order of the table, with none prepared."""
CAUSTICS = len(WAYS) + EXTRAS.index(caustics.WAY)
PLACES = {way.key: place for place, way in enumerate((*WAYS, *EXTRAS))}
if len({way.code for way in WAYS}) < len(WAYS) or len({way.key for way in (*WAYS, *EXTRAS)}) < len(PLACES):
    raise ValueError("Two ways of finding bounced light share a code or a key; give each its own.")


@kernel
def _nobody(way, prepared, scene, memory, spot):
    return (0.0, 0.0, 0.0), NOT_SERVED


def _asking(place: int, code: int, own: Any, others: Any) -> Any:
    @kernel
    def ask(way, prepared, scene, memory, spot):
        if way == code:
            return own(prepared[place], scene, memory, spot)
        return others(way, prepared, scene, memory, spot)

    return ask


looked_up = _nobody
"""Kernel (way, prepared, scene, memory, spot) -> (irradiance, what was found): looks up the way with that code."""
for _place, _way in enumerate(WAYS):
    if _way.lookup is not None:
        looked_up = _asking(_place, _way.code, _way.lookup, looked_up)
