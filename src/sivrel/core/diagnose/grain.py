"""Fine grain: where it is visible, and its sources.

The variance of a pixel's samples is measured while it is rendered, source by source (core.measure.ledger); on a picture from elsewhere it is
estimated (case.estimated_error).
"""

from typing import Any

import numpy as np
from scipy import ndimage

from ..edits.edits import apart, is_edit
from ..measure.ledger import BOUNCED, CAMERA, CROSS, MEASURING, NOT_LIGHTS, noise_of_region
from ..pack.lights import GLOW, is_shared
from ..survey.finding import short
from ..survey.idle_lights import MANY
from .case import Case, placed, tidied
from .detector import Detector, Kept
from .eye import GRAIN_SEEN
from .finding import PROVEN, Finding, Remedy, Suspect, mask_of
from .truth import Coarse

LEAST_SHARE = 0.04
"""Share of the picture below which grain is ignored."""
RAISE = 4
MOSTLY_GLOW, AIMED_LEAVES = 0.4, 0.05
"""Share of the variance due to glow from which aiming at it comes first; and the share left after aiming."""


def find(case: Case) -> list[Finding]:
    seen = seen_in(case)
    grainy = ndimage.uniform_filter(seen, 9, mode="nearest") > GRAIN_SEEN
    if grainy.mean() < LEAST_SHARE:
        return []
    grainy = tidied(grainy, 6)
    level = mean_of(seen, grainy)
    relative = float(np.median(case.error[grainy] / (_around(case)[grainy] + case.floor)))
    known = {
        "kind": "grain",
        "measure": "noise",
        "seen": level,
        "size": 1.0,
        "contrast": relative,
        "amount": level / case.grain_of_one,
        "evidence": {"noise": relative, "samples": case.samples},
    }
    sources, picture = shares_in(case, grainy), "picture" if case.unfiltered is None else "filtered picture"
    if not sources:
        why = WHOSE if case.recipe is not None else WEAK
        made = placed(case, grainy, title=f"Grain over {{share}} of the {picture}.", why=why, about="", **known)
        made.suspects = _suspects(case, [])
        made.settles = SETTLES if case.recipe is None else []
        return [made]
    name, share = sources[0]
    also = [f"{called(n)} {s:.0%}" for n, s in sources[1:3] if s > 0.1]
    title = f"Grain over {{share}} of the {picture}, {'most' if share > 0.5 else f'{share:.0%}'} of it from {called(name)}."
    made = placed(
        case,
        grainy,
        title=title,
        why=f"{called(name).capitalize()} causes {share:.0%} of the variance there" + (f"; {', '.join(also)}." if also else "."),
        about=name,
        **known,
    )
    made.evidence["sources"] = dict(sources[:5])
    made.suspects = _suspects(case, sources)
    return [made]


def _around(case: Case) -> np.ndarray:
    return ndimage.uniform_filter(case.light, 5, mode="nearest")


def seen_in(case: Case, rare: bool | None = None) -> np.ndarray:
    """Visibility of each pixel's grain in thresholds of the eye, [rows, columns]; `rare` as Case.error_of has it, the case's own if None."""
    return case.grain_of(_around(case), case.error if rare is None else case.error_of(rare))


def mean_of(seen: np.ndarray, mask: np.ndarray) -> float:
    """Root mean square visibility in a mask of pixels."""
    return float(np.sqrt((seen[mask] ** 2).mean()))


WHOSE = "Its sources were not measured in this proof; prove it again, or see the trials."
WEAK = "Judged from the picture only, by the differences of neighbours on smooth surfaces."
SETTLES = [
    "Render once with four times the shadow samples of the largest light alone, and once with four times those of bounced light: the one that halves "
    "the grain is its source.",
    "If neither does, it is the camera's own samples: edges, textures, depth of field.",
]


def called(source: str) -> str:
    """A source as sentences name it."""
    words = {name: name for name in BOUNCED} | {CAMERA: "the camera's rays", CROSS: "sources that share rays", GLOW: "what glows"}
    return words.get(source, source if is_shared(source) else f"the soft shadow of {short(source)}")


def shares_in(case: Case, mask: np.ndarray) -> list[tuple[str, float]]:
    """Sources of the noise in a mask of pixels with their shares, most first; of the whole picture where its passes were not kept."""
    rows, columns = np.nonzero(mask)
    box = (int(columns.min()), int(rows.min()), int(columns.max()) + 1, int(rows.max()) + 1)
    names = [row["name"] for row in case.ledger if row["name"] not in NOT_LIGHTS]
    sources = noise_of_region(case.picture.passes, names, box) or [r for r in case.ledger if r.get("noise") is not None]
    shares = [(r["name"], float(r["noise"])) for r in sources if r["name"] != MEASURING]
    return sorted([s for s in shares if s[1] > 0.01], key=lambda s: -s[1])


def knob(case: Case, source: str) -> tuple[str, int]:
    """The setting that gives a source more samples: its key and its value."""
    assert case.recipe is not None and case.edits is not None
    flat = case.recipe.flat()
    if case.recipe.gi.seen == "ambient" and source in BOUNCED:
        return "ambient.samples", max(1, flat["ambient.samples"])
    if source == "bounced light":
        gathered = case.recipe.final_gather_rays(case.recipe.gi.seen)
        if gathered:
            return f"{case.recipe.gi.seen}.final_gather_rays", gathered
        return "sampling.gi_rays", flat["sampling.gi_rays"]
    if source in ("gloss", "glass"):
        return "sampling.glossy_rays", flat["sampling.glossy_rays"]
    if source == GLOW:  # chance finds it: the rays that bounce, and those of the camera
        return "sampling.gi_rays", flat["sampling.gi_rays"]
    if source in (CAMERA, CROSS) or is_shared(source):
        return "sampling.max", flat["sampling.max"]
    edit = case.edits.lights.get(source)
    rays = edit.shadows.rays if edit is not None else None
    return f"light.{source}.shadows.rays", rays or flat["shadows.rays"]


def most_of(key: str) -> int:
    """Most samples offered for a setting: for a light, the greatest value of the edit."""
    return 256 if is_edit(key) else 1024


def _suspects(case: Case, sources: list[tuple[str, float]]) -> list[Suspect]:
    """Each source with a large share of the noise; the change is four times its samples."""
    if case.recipe is None:
        return []
    found, named = [], [s for s in sources if s[1] >= 0.08 and s[0] != CROSS]
    for name, share in named or [("bounced light", 0.3), *((light, 0.3) for light in case.lights[:3])]:
        key, value = knob(case, name)
        wanted = min(RAISE * value, most_of(key))
        if wanted <= value:
            continue
        if key == "sampling.gi_rays" and case.recipe.gi.seen == "off":
            continue
        says = f"{called(name)}: {counted(key, value)}"
        found.append(Suspect(f"source {name}", says, *apart({key: wanted}), prior=share, kind="grain"))
    return found


def counted(key: str, value: int) -> str:
    """A number of samples of a setting, in words."""
    what = {
        "sampling.gi_rays": "bounced rays a sample",
        "sampling.glossy_rays": "glossy rays a sample",
        "sampling.max": "samples a pixel",
        "ambient.samples": "occlusion rays a sample",
    }.get(key)
    what = what or ("gather rays a sample" if key.endswith("final_gather_rays") else "shadow rays")
    what = what if value != 1 else what.replace("rays", "ray")
    return f"{value} {what}"


def time_share(case: Case, source: str) -> float | None:
    return next((row["time"] for row in case.ledger if row["name"] == source), None)


def _aim(case: Case, finding: Finding, glow: float) -> Remedy:
    """Aim at surfaces that only glow, so they need not be found by chance. A twentieth of their variance is predicted to stay."""
    names = case.glowing
    what = short(names[0]) if len(names) == 1 else f"the {len(names)} objects that glow"
    values = {"lights.seen": "chosen"} if len(names) + len(case.lights) >= MANY or case.shares_passes else {}
    left = 1.0 - glow * (1.0 - AIMED_LEAVES)
    return Remedy(
        f"Aim at {what}, like at lights" + (", chosen by importance." if values else "."), dict(values),
        {f"object.{name}.aimed": True for name in names}, finding.amount * left**0.5, 0.3 * finding.amount, finding.seen * left**0.5,
        case.seconds, "predicted", "a shadow ray at each point",
    )  # fmt: skip


def remedies(case: Case, finding: Finding) -> list[Remedy]:
    """More samples for the source at fault, as many as needed; more of all; both. By the square root law, and the
    ledger's shares of noise and time (Neyman 1934 spends where the noise is)."""
    assert case.recipe is not None
    offers: list[Remedy] = []
    glow = dict(finding.evidence.get("sources", {})).get(GLOW, 0.0)
    if glow >= MOSTLY_GLOW and case.glowing:
        offers.append(_aim(case, finding, glow))
    wanted = (0.9 * GRAIN_SEEN / max(finding.seen, 1e-9)) ** 2  # of the variance
    seconds = case.pixel_seconds or case.seconds  # more samples do not change the caches
    proven = next((t for t in finding.trials if t.verdict == PROVEN), None)
    source = finding.cause_key.removeprefix("source ") if proven else finding.about

    def offer(words: str, changes: dict[str, Any], left: float, times: float) -> None:
        """`left`: of the variance; `times`: the render time against the proof's."""
        amount = finding.amount * left**0.5
        offers.append(
            Remedy(words, *apart(changes), amount, 0.1 * amount, finding.seen * left**0.5, seconds * times if seconds else None, "law")
        )  # fmt: skip

    if source and source not in (CAMERA, CROSS):
        key, value = knob(case, source)
        share = max(0.02, min(1.0, (proven.explained or 0.0) if proven else dict(finding.evidence.get("sources", {})).get(source, 0.5)))
        # Cost of four times the rays, from the proven trial's time.
        cost = time_share(case, source)
        per = cost if cost is not None else 0.3
        if proven and proven.rate:
            per = max(0.02, (proven.rate - 1.0) / (RAISE - 1.0))
        need = share / max(wanted - (1.0 - share), 1e-9)
        suffices = wanted > 1.0 - share and need * value <= most_of(key)
        count = min(most_of(key), (2 ** int(np.ceil(np.log2(max(need, 1.5)))) if suffices else RAISE) * value)
        left, times = 1.0 - share * (1.0 - value / count), 1.0 + per * (count / value - 1.0)
        offer(f"Give {called(source)} {counted(key, count)}.", {key: count}, left, times)
        if not suffices:
            more = max(1.0, left / wanted)
            total = min(65536, round(case.recipe.sampling.max * more))
            offer(f"Give it {counted(key, count)}, and the picture {total} samples.", {key: count, "sampling.max": total}, left / more, times * more)
    total = min(65536, int(np.ceil(case.recipe.sampling.max / wanted)))
    if total > case.recipe.sampling.max:
        offer(f"Take {total} samples a pixel.", {"sampling.max": total}, case.recipe.sampling.max / total, total / case.recipe.sampling.max)
    if source in ("bounced light", "") and case.recipe.gi.seen == "brute_force" and case.recipe.limits.diffuse_bounces > 0:
        offers.append(
            Remedy(
                "Gather bounced light by an irradiance cache, over a radiance cache.",
                {"gi.seen": "irradiance_cache", "gi.beyond": "radiance_cache"},
                costs="blotches may appear",
            )
        )
    if case.unfiltered is None:
        offers.append(Remedy("Or filter it (N): no render is needed.", basis="outside", costs="fine detail may be lost"))
    return offers


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float]:
    pixels = case.spread(mask_of(finding["mask"]))
    rare = case.bright_are_rare and (parent is None or parent.bright_are_rare)
    value = mean_of(seen_in(case, rare), pixels) / case.grain_of_one
    return value, 0.03 * value


DETECTOR = Detector("grain", find=find, measure="noise", amount=_amount)
