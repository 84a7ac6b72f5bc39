"""The table of ways of finding bounced light. A new way is one module and one line here."""

from . import ambient, brute_force, off, photon_map

WAYS = (off.WAY, ambient.WAY, brute_force.WAY, photon_map.WAY)
SEEN = {way.key: way for way in WAYS if way.seen}
BEYOND = {way.key: way for way in WAYS if way.beyond}
