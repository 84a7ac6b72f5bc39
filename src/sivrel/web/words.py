"""Formats numbers and changes for the pages."""

from typing import Any

from flask import Flask

from ..core.edits.edits import SETTINGS, split_key
from ..core.edits.edits import difference as edits_difference
from ..core.gi.ways import PREPARING, WAYS
from ..core.measure.noise import Noise, noise_in_words
from ..core.render.recipe import Recipe, difference, settings
from ..core.shadows.ways import WAYS as SHADOW_WAYS
from ..core.survey.finding import short
from ..store.proofs import Proof

TITLES = {way.key: way.title for way in WAYS} | {way.key: way.title for way in SHADOW_WAYS if way.key != "off"}
TITLES |= {"all": "all lights", "chosen": "chosen lights", "scene": "the whole scene", "view": "the view"}
OF_KEYS = {
    "surfaces.stand_ins": {"none": "no", "costly": "costly", "all": "all"},
    "sampling.noise_terms": {"eye": "the eye", "linear": "a linear measure"},
    "gi.gloss": {"looked_up": "looked up", "traced": "traced"},
    "motion.grain": {"new": "new", "held": "the same"},
    "motion.caches": {
        "each": "made for each frame",
        "shared": "made once for all frames",
        "blended": "blended with those of the neighbouring frames",
        "kept": "kept where light stays the same",
    },
    "motion.blur": {"off": "sharp", "on": "blurred"},
    "sampling.stop": {"error": "at its error", "gain": "where one more sample gains little"},
}
"""Words for values that several settings share."""
NAMES = {key: info.name for key, info in settings().items()}


def seconds(value: float | None) -> str:
    """A time: 0.43 s, 8.1 s, 2 min 05 s."""
    if value is None:
        return "–"
    if value < 10.0:
        return f"{value:.2f} s" if value < 1.0 else f"{value:.1f} s"
    if value < 120.0:
        return f"{value:.0f} s"
    return f"{int(value) // 60} min {int(value) % 60:02d} s"


def seconds_against(value: float, parent: float) -> str:
    """A time against another: +1.9 s, −5.6 s."""
    change = value - parent
    return f"{'+' if change >= 0 else '−'}{seconds(abs(change))}"


def percent(value: float | None) -> str:
    return "–" if value is None else f"{value * 100.0:.1f} %"


def noise_of(proof: Proof) -> str:
    """The noise of a proof: a percentage, or that it is not known yet."""
    return "not known yet" if proof.noise is None and proof.meters.get("noise") else percent(proof.noise)


def share(value: float) -> str:
    """A share of a whole as a short percentage."""
    return f"{value * 100.0:.0f}" if value >= 0.095 or value == 0.0 else f"{value * 100.0:.1f}"


def value_in_words(value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return TITLES.get(value, str(value)) if isinstance(value, str) else f"{value:g}"


def size(width: int, height: int) -> str:
    return f"{width}×{height}"


def recipe_changes(before: Recipe, after: Recipe) -> list[tuple[str, str, str]]:
    """(name, before, after) of every setting that differs, in words."""
    return [(NAMES[key], shown(key, old), shown(key, new)) for key, old, new in difference(before, after)]


def changes(parent: Proof, proof: Proof) -> list[tuple[str, str, str]]:
    """What a proof changed against its parent: (name, before, after)."""
    found = recipe_changes(parent.recipe, proof.recipe)
    whole = set()
    for key, before, after in edits_difference(parent.edits, proof.edits) if parent.edits != proof.edits else ():
        group, name, field = split_key(key)
        called = short(name)
        # An added or removed card is one change, however many settings it has.
        if group == "card" and (name in parent.edits.cards) != (name in proof.edits.cards):
            if name not in whole:
                whole.add(name)
                found.append((f"card {called}", "", "added") if name in proof.edits.cards else (f"card {called}", "", "taken out"))
            continue
        what = "" if field in ("kind", "pattern") else f" {SETTINGS[group][field].name}"
        found.append((f"{called}{what}", "" if before is None else shown(field, before), "as in the file" if after is None else shown(field, after)))
    a, b = parent.frame, proof.frame
    for name, before, after in (
        ("camera", parent.camera, proof.camera),
        ("size", size(a.width, a.height), size(b.width, b.height)),
        ("region", _region(a.region), _region(b.region)),
        ("seed", str(a.seed), str(b.seed)),
        ("frame", "first" if a.time is None else f"{a.time:g}", "first" if b.time is None else f"{b.time:g}"),
    ):
        if before != after:
            found.append((name, before, after))
    return found


def in_one_line(changed: list[tuple[str, str, str]]) -> str:
    """Changes in one line; empty if there are none."""
    return ", ".join(f"{name} {before} → {after}".replace("  ", " ") for name, before, after in changed)


def shown(key: str, value: Any) -> str:
    """A value in words; “off” is a shadow way, or a way of bounced light."""
    if key in OF_KEYS:
        return OF_KEYS[key].get(str(value), str(value))
    return "no shadows" if value == "off" and key.endswith("shadows.way") else value_in_words(value)


def called(key: str) -> str:
    """What a setting of the recipe or of an edit is called: “shadow rays”, “Sky shadow rays”."""
    known = settings()
    if key in known:
        return known[key].name
    group, name, field = split_key(key)
    return f"{short(name)} {SETTINGS[group][field].name}"


def _region(region: tuple[int, int, int, int] | None) -> str:
    return "whole" if region is None else f"{region[2] - region[0]}×{region[3] - region[1]} px"


def thousands(number: int) -> str:
    """A whole number with thousands separated: 12 345."""
    return f"{number:,}".replace(",", " ")


def counted(number: int, noun: str) -> str:
    return f"{number} {noun}" if number == 1 else f"{number} {noun}s"


def meters_in_words(proof: Proof) -> list[str]:
    """Significant effects of a proof's limits, a sentence each."""
    meters, limits = proof.meters, proof.recipe.limits
    if not meters:
        return []
    sentences = []
    noise = Noise(**meters["noise"]) if meters.get("noise") else None
    if noise is not None and (noise.level is None or noise.unknown > 0.01 or noise.tail > 2.0 * noise.level):
        sentences.append(f"Noise: {noise_in_words(noise).replace('%', ' %')}.".replace("..", "."))
    if meters.get("spent"):
        sentences.append(spent_in_words(proof.seconds, meters["spent"]))
    geometry = meters.get("geometry")
    if geometry and (geometry["from_cages"] or geometry["placements"]):
        sentences.append(geometry_in_words(geometry))
    textures = meters.get("textures")
    if textures:
        held = f"{textures['resident'] / 2**20:.0f} MB of them in memory"
        sentences.append(f"Textures: {counted(textures['count'], 'large one')}, {textures['bytes'] / 2**30:.1f} GB in all levels, {held} at the end.")
    if meters.get("blur"):
        sentences.append(meters["blur"])
    if meters.get("stand_ins"):
        sentences.append(f"Made with plain stand-ins for {counted(meters['stand_ins'], 'surface')}: not the final look.")
    sentences += [way_in_words(note) for note in meters.get("ways", [])]
    if meters["clamped"] > 0.0:
        most = meters["clamped_most"]
        where = f", {most[1] * 100:.0f} % of it on {most[0].rsplit('/', 1)[-1]}" if most else ""
        sentences.append(f"The clamp at {limits.indirect_clamp:g} removes {percent(meters['clamped'])} of the light{where}.")
    counts = {
        "diffuse": counted(limits.diffuse_bounces, "diffuse bounce"),
        "mirror": counted(limits.reflections, "reflection"),
        "glass": f"{counted(limits.refractions, 'crossing')} of glass",
        "total": f"{counted(limits.total, 'bounce')} in all",
    }
    for kind, share_left in meters["beyond"].items():
        if share_left > 0.0005:
            sentences.append(f"{percent(share_left)} of the light lies beyond {counts[kind]} (± {percent(meters['beyond_error'])}).")
    added, error = meters.get("gloss_lookup", 0.0), meters.get("gloss_error", 0.0)
    if added or error:
        how = "adds" if added > 0.0 else "takes"
        sentences.append(f"Looking wide gloss up {how} {percent(abs(added))} of the light (± {percent(error)}).")
    if meters.get("ended_in_glass", 0.0) > 0.002:
        sentences.append(f"{percent(meters['ended_in_glass'])} of the samples ended in glass, and are black: allow more crossings.")
    if meters.get("fireflies", 0.0) > 5e-4 and meters["firefly_kind"]:
        kind, most = meters["firefly_kind"]
        sentences.append(f"{percent(meters['fireflies'])} of the pixels are fireflies; {most * 100:.0f} % of those by {kind}.")
    if meters["self_hits"] > 1e-3:
        sentences.append(f"{percent(meters['self_hits'])} of the samples hit the triangle they left: raise the ray offset.")
    return sentences


def spent_in_words(clock: float | None, spent: dict[str, Any]) -> str:
    """The time that a proof took, by the clock and of all processors, and where."""
    threads = counted(spent["threads"], "thread")
    return f"Time: {seconds(clock)} by the clock, {seconds(spent['processor'])} of all processors, on {threads} of {spent['where']}."


def geometry_in_words(cost: dict[str, Any]) -> str:
    """What subdivision and placed shapes made of a scene, and what that took."""
    parts = [f"{thousands(cost['triangles'])} triangles"]
    if cost["placements"]:
        parts.append(f"{thousands(cost['stored'])} of them stored, for {thousands(cost['placements'])} placements")
    if cost["from_cages"]:
        parts.append(f"{thousands(cost['from_cages'])} by subdivision in {seconds(cost['subdividing'])}")
    return f"Geometry: {', '.join(parts)}; packed in {seconds(cost['packing'])}."


def way_in_words(note: dict[str, Any]) -> str:
    """A note on the cache of a way, in a sentence or two."""
    if note.get("through"):
        whence = f"{note['through']}, {seconds(note['seconds'])} in total"
    elif note["added"]:
        whence = f"extended for this camera, {seconds(note['seconds'])} in total"
    elif note["made"]:
        whence = f"made in {seconds(note['seconds'])}" + (f" because {note['because']} had changed" if note["because"] else "")
    elif note["because"]:
        whence = f"locked: used although {note['because']} has changed since"
    else:
        whence = f"reused (saved {seconds(note['seconds'])})"
    sentences = [f"{note['kind'].capitalize()}: {thousands(note['count'])} {note['unit']}, {whence}."]
    says = PREPARING[note["way"]].says
    if says:
        sentences.append(says(note["notes"]))
    check = note.get("check")
    if check:
        off, error, spread = (check[name] * 100.0 for name in ("mean", "mean_error", "spread"))
        spots = f"single spots {spread:.0f} % off" if spread >= 0.5 else "single points within noise"
        sentence = f"Against brute force at {check['spots']:.0f} points: {off:+.1f} % in total (± {error:.1f}), {spots}."
        sentences.append(sentence.replace("-", "−"))
    return " ".join(sentences)


def bytes_in_words(count: float) -> str:
    """A size as people read it: two digits or three."""
    units = ["bytes", "kB", "MB", "GB", "TB"]
    while count >= 1000 and len(units) > 1:
        count /= 1000
        del units[0]
    unit = units[0]
    return f"{count:.0f} {unit}" if count >= 100 or unit == "bytes" else f"{count:.2g} {unit}"


def register_filters(app: Flask) -> None:
    app.add_template_filter(seconds)
    app.add_template_filter(percent)
    app.add_template_filter(noise_of)
    app.add_template_filter(share)
    app.add_template_filter(thousands)
    app.add_template_filter(bytes_in_words, "bytes")
    app.add_template_filter(shown)
    app.add_template_filter(called)
    app.add_template_filter(value_in_words)
    app.add_template_filter(seconds_against)
