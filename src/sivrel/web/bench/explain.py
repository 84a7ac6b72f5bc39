"""What a setting does, and what was measured of it on this shot."""

import sqlite3
from typing import Any

from ...core.measure.ledger import NOT_LIGHTS
from ...core.render.recipe import difference, settings
from ...store import proofs, tunings
from ...store.proofs import Proof
from ..words import noise_of, percent, seconds, seconds_against, shown

SOURCES = {
    "sampling.gi_rays": "bounced light", "sampling.glossy_rays": "gloss", "gi.seen": "bounced light", "gi.beyond": "bounced light",
    "limits.diffuse_bounces": "bounced light", "guiding.on": "bounced light", "bidirectional.on": "bounced light", "limits.reflections": "gloss",
    "gi.gloss": "gloss", "limits.refractions": "glass", "sampling.max": "camera rays",
}  # fmt: skip
"""The source of the ledger that a setting acts on."""
OF_LIGHTS = ("shadows.rays", "shadows.way", "lights.seen", "lights.draws")
"""Settings that act on all lights that are aimed at."""
MOST_STEPS = 4


def explanation(db: sqlite3.Connection, key: str, proof: Proof | None) -> dict[str, Any]:
    """name, what it trades, its range and default, and sentences measured on the shot of `proof`. Raises KeyError for no such setting."""
    info = settings()[key]
    measured = [] if proof is None else [*_of_ledger(key, proof), *_of_ladders(db, key, proof), *_of_lineage(db, key, proof)]
    spread = ", ".join(shown(key, choice) for choice in info.choices) if info.choices else info.range_in_words
    return {"key": key, "name": info.name, "trades": info.trades, "range": spread, "default": shown(key, info.default), "measured": measured}


def _of_ledger(key: str, proof: Proof) -> list[str]:
    """Share of time and noise of what the setting acts on, in this proof."""
    if key in OF_LIGHTS:
        rows, what = [row for row in proof.lights if row["name"] not in NOT_LIGHTS], "aiming at lights"
    else:
        rows, what = [row for row in proof.lights if row["name"] == SOURCES.get(key)], SOURCES.get(key, "")
    if not rows:
        return []
    time, noise = (sum(row.get(part) or 0.0 for row in rows) for part in ("time", "noise"))
    return [f"In this picture {what} takes {percent(time)} of the time and makes {percent(noise)} of the noise."]


def _of_ladders(db: sqlite3.Connection, key: str, proof: Proof) -> list[str]:
    """What ladders of this setting found on proofs of this shot, the newest."""
    found = []
    for one in tunings.of_shot(db, proof.shot_id, "ladder"):
        result = one.result or {}
        if one.asked.get("key") != key or not result.get("take"):
            continue
        value = result["take"].get(key)
        if value is not None:
            found.append(f"A ladder on proof {one.proof_id} found {shown(key, value)} enough.")
            break
    return found


def _of_lineage(db: sqlite3.Connection, key: str, proof: Proof) -> list[str]:
    """Proofs of this shot that changed this setting alone: what that did to time and noise; the newest."""
    by_id = {one.id: one for one in proofs.of_shot(db, proof.shot_id)}
    found: list[str] = []
    for one in reversed(by_id.values()):
        parent = by_id.get(one.parent_id or 0)
        if parent is None or one.picture is None or parent.picture is None or len(found) == MOST_STEPS:
            continue
        changed = difference(parent.recipe, one.recipe)
        if [k for k, _, _ in changed] != [key] or one.edits != parent.edits or one.frame != parent.frame or one.camera != parent.camera:
            continue
        _, before, after = changed[0]
        words = f"Proof {one.id}: {shown(key, before)} → {shown(key, after)}"
        if one.seconds is not None and parent.seconds is not None:
            words += f" took {seconds(one.seconds)} ({seconds_against(one.seconds, parent.seconds)})"
        if one.noise is not None and parent.noise is not None:
            words += f", noise {noise_of(parent)} → {noise_of(one)}"
        found.append(f"{words}.")
    return found
