"""Too slow: a source with far more of the time than of the noise, which gets more rays than it needs.

Neyman 1934, "On the Two Different Aspects of the Representative Method": for the least noise in a given time, rays go to sources in
proportion to the square root of variance over cost. A source with far more rays than that could have fewer without a visible difference.
"""

import numpy as np

from ..edits.edits import apart
from ..measure.ledger import CAMERA, CROSS, MEASURING
from ..pack.lights import is_shared
from ..survey.finding import short
from .case import Case, placed
from .detector import Detector, Kept
from .finding import Finding, Remedy
from .grain import called, counted, knob
from .truth import Coarse

LEAST_TIME, LEAST_SECONDS = 0.3, 0.5
MOST_NOISE = 0.12
MANY_LIGHTS = 12


def find(case: Case) -> list[Finding]:
    if case.recipe is None or case.edits is None or not case.seconds or case.seconds < LEAST_SECONDS:
        return []
    found = []
    rows = [r for r in case.ledger if r.get("time") is not None and r["name"] not in (CAMERA, CROSS, MEASURING)]
    for row in sorted(rows, key=lambda r: -r["time"]):
        noise = max(float(row.get("noise") or 0.0), 0.0)
        if row["time"] < LEAST_TIME or noise > MOST_NOISE or noise > 0.35 * row["time"]:
            continue
        key, value = knob(case, row["name"])
        if value < 2:
            continue
        # Noise is inversely proportional to rays: reduce until its part equals the others'.
        count = max(1, int(np.ceil(value / max(2.0, min(float(value), (0.25 * (1.0 - noise)) / max(noise, 0.01))))))
        times = 1.0 - row["time"] * (1.0 - count / value)
        more = (1.0 + noise * (value / count - 1.0)) ** 0.5
        found.append(
            _made(
                case,
                f"{called(row['name']).capitalize()} takes {row['time']:.0%} of the time for {noise:.0%} of the noise.",
                f"It has {counted(key, value)}, more than the picture needs.",
                row["name"],
                row["time"] * (1.0 - count / value),
                Remedy(
                    f"Give it {counted(key, count)}.",
                    *apart({key: count}),
                    0.0,
                    0.05,
                    0.0,
                    case.seconds * times,
                    "law",
                    f"the grain is {more - 1.0:.0%} stronger" if more > 1.02 else "hardly more grain",
                ),
            )
        )
    lights = [r for r in rows if r["name"] in case.lights or is_shared(r["name"])]
    spent = sum(r["time"] for r in lights)
    many = f"More than {len(lights)}" if case.shares_passes else str(len(lights))
    if (len(lights) >= MANY_LIGHTS or case.shares_passes) and spent > 0.45 and case.recipe.lights.seen == "all":
        idle = sum(1 for r in lights if r["light"] < 0.01)
        found.append(
            _made(
                case,
                f"{many} lights are aimed at from every point: they take {spent:.0%} of the time.",
                f"{idle} of {len(lights)} {'groups' if case.shares_passes else 'them'} add less than a hundredth of the light.",
                "lights",
                spent * 0.7,
                Remedy(
                    "Aim at some of them, chosen by importance.",
                    {"lights.seen": "chosen"},
                    {},
                    0.0,
                    0.1,
                    0.0,
                    case.seconds * (1.0 - 0.7 * spent),
                    "law",
                    "grainier shadows",
                ),
            )
        )
    return found[:1]


def _made(case: Case, title: str, why: str, about: str, wasted: float, remedy: Remedy) -> Finding:
    made = placed(
        case,
        np.ones(case.light.shape, bool),
        kind="slow",
        measure="time",
        amount=wasted,
        contrast=0.0,
        size=1.0,
        seen=1.0 + 4.0 * wasted,
        title=title,
        why=why,
        about=about,
        evidence={"share_of_time_wasted": wasted, "seconds": case.seconds},
    )
    made.cause, made.cause_key, made.confidence, made.remedies = f"the rays of {short(about)}", f"source {about}", 0.9, [remedy]
    return made


def _amount(finding: Kept, case: Case, truth: Coarse | None, parent: Case | None) -> tuple[float, float]:
    """Time that the source still takes, beyond its share."""
    name = finding["about"]
    now = next((row["time"] for row in case.ledger if row["name"] == name and row.get("time") is not None), 0.0)
    if name == "lights":
        now = sum(row["time"] or 0.0 for row in case.ledger if row["name"] in case.lights or is_shared(row["name"])) * 0.7
    seconds = finding["evidence"].get("seconds") or case.seconds or 1.0
    kept = (case.seconds or seconds) / seconds
    return max(0.0, min(1.0, now * kept)), 0.0


DETECTOR = Detector("slow", find=find, exact=True, measure="time", amount=_amount)
