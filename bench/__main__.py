"""All benchmarks: `make bench`, or `python -m bench NAME...`. Ratios are between things timed in turn, in one run."""

import sys

from . import (
    agreement,
    clean,
    diagnosis,
    first_start,
    forecasts,
    hotspots,
    judged,
    lights,
    load,
    moving,
    opening,
    pacing,
    pages,
    render,
    survey,
    trace,
    truth,
    tune,
    verdicts,
    ways,
)

BENCHMARKS = {
    "rays": trace.rays,
    "build": trace.build,
    "draft": render.draft,
    "threads": render.threads,
    "adaptive": render.adaptive,
    "filter": render.noise_filter,
    "clean": clean.clean,
    "cached": clean.cached,
    "filtered": clean.filtered,
    "filter-error": clean.filter_error,
    "judged": judged.judged,
    "click": pages.click_to_first_tile,
    "hotspots": hotspots.hotspots,
    "compile": render.cold_compile,
    "first": first_start.first_start,
    "edited": first_start.edited_way,
    "pages": pages.pages,
    "cold": pages.cold,
    "readers": pages.readers,
    "drag": pages.drag,
    "pacing": pacing.pacing,
    "lanterns": lights.lanterns,
    "glow": lights.glow,
    "ways": ways.ways,
    "caustics": ways.caustics,
    "agreement": agreement.agreement,
    "survey": survey.survey,
    "load": load.load,
    "opening": opening.opening,
    "flicker": moving.flicker,
    "through-time": moving.shared,
    "diagnosis": diagnosis.diagnosis,
    **{f"diagnosis-{name}": diagnosis.group(name) for name in diagnosis.GROUPS},
    "tune": tune.tune,
    "fits": tune.fits,
    "budget": tune.budget,
    "advice": tune.advice,
    "enough": tune.enough,
    "truth": truth.truth,
    "verdict": verdicts.verdict,
    "forecast": forecasts.forecasts,
}
BY_NAME_ALONE = (
    "hotspots", "clean", "cached", "filtered", "filter-error", "judged", "flicker", "through-time",
    *(name for name in BENCHMARKS if name.startswith("diagnosis")),
    "tune", "fits", "budget", "advice", "enough", "truth", "verdict", "forecast",
)  # fmt: skip
"""Benchmarks that take long, and run where they are named."""

for name in sys.argv[1:] or [name for name in BENCHMARKS if name not in BY_NAME_ALONE]:
    print(f"{name}: {BENCHMARKS[name]()}", flush=True)
