"""Results as CSV: one line per rung, plan, point in time, or fact."""

import csv
import io
from typing import Any

from ...store.tunings import Tuning


def csv_of(one: Tuning) -> str:
    """The result's table with a header; only the header while there is no result."""
    result = one.result or {}
    header, rows = TABLES[one.kind](result)
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    writer.writerows(["" if value is None else value for value in row] for row in rows)
    return out.getvalue()


def _ladder(result: dict[str, Any]) -> tuple[list[str], list[list[Any]]]:
    keys = [v["key"] for v in result.get("varied", [])]
    errors = ["noise", "bias", "bias_error", "total", "light"]
    header = [
        *keys,
        "frame_seconds",
        "prepares",
        "samples",
        *errors,
        "differs_from_next",
        "differs_from_last",
        "differs_from_reference",
        "enough",
        "skipped",
    ]
    rows = []
    for r in result.get("rungs", []):
        error, seen = r["error"] or {}, r["seen"]
        rows.append(
            [*(r["values"][k] for k in keys), r["frame_seconds"], r["prepares"], r["samples"], *(error.get(e) for e in errors)]
            + [seen.get("next"), seen.get("last"), seen.get("reference"), int(r["enough"]), r["skipped"]]
        )
    return header, rows


def _budget(result: dict[str, Any]) -> tuple[list[str], list[list[Any]]]:
    rows = [
        [p["name"], p["seconds"], p["preparing"], p["noise"], p["samples"], " ".join(f"{k}={v}" for k, v in {**p["values"], **p["edits"]}.items())]
        for p in result.get("plans", [])
    ]
    return ["plan", "seconds", "preparing", "noise", "samples", "changes"], rows


def _match(result: dict[str, Any]) -> tuple[list[str], list[list[Any]]]:
    rows = [
        [e["name"], e["prepares"], p["seconds"], p["samples"], p["noise"], p["bias"], p["bias_error"], p["total"], p["light"]]
        for e in result.get("entrants", [])
        for p in e["points"]
    ]
    return ["way", "prepares", "seconds", "samples", "noise", "bias", "bias_error", "total", "light"], rows


def _advice(result: dict[str, Any]) -> tuple[list[str], list[list[Any]]]:
    rows = [[f["name"], f["value"], f["means"]] for f in result.get("facts", [])]
    for w in result.get("ways", []):
        parts = f"noise {w['noise']:.4f}, bias {w['bias']:.4f}, caches {w['prepares']:.3f} s, a sample {w['rate']:.4f} s"
        rows.append([w["name"], w["total"], parts])
    return ["fact", "value", "means"], rows


TABLES = {"ladder": _ladder, "budget": _budget, "match": _match, "advice": _advice}
