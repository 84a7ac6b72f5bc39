"""The first start with no compiled kernels, the second one, and the first render after an edit in one way."""

import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import sivrel

from .pages import SHOT, Site

PATIENCE = 600.0
"""Seconds after which a wait is given up."""


def _until(condition, begun: float) -> float:
    while not condition():
        if time.monotonic() - begun > PATIENCE:
            raise TimeoutError("The program did not get there.")
        time.sleep(0.05)
    return time.monotonic() - begun


def first_start() -> str:
    """Seconds from `sivrel demo` with an empty cache to the page, to a finished draft of the kitchen (480 x 270, 8 samples, brute force) that
    is asked for at once, and to the last kernel; from a second start to a ready worker."""
    with tempfile.TemporaryDirectory() as data, tempfile.TemporaryDirectory() as kernels:
        environment, begun = {"XDG_CACHE_HOME": kernels}, time.monotonic()
        site = Site(data, environment, ready=False)
        try:
            page = time.monotonic() - begun
            number = site.prove(**{"sampling.max": 8})
            draft = _until(lambda: json.load(site.get(f"/proofs/{number}.json"))["picture"], begun)
            everything = _until(lambda: site.worker()["warming"] == "" and site.worker()["phase"] == "idle", begun)
        finally:
            site.stop()
        begun = time.monotonic()
        site = Site(data, environment)
        again = time.monotonic() - begun
        site.stop()
    return f"page {page:.1f} s, first draft {draft:.0f} s, all kernels {everything:.0f} s; second start ready in {again:.1f} s"


def edited_way() -> str:
    """Seconds of the first render by the irradiance cache after an edit in its module, in a new process; start and reading of the scene included."""
    with tempfile.TemporaryDirectory() as folder:
        source = Path(folder) / "src"
        shutil.copytree(Path(sivrel.__file__).parent, source / "sivrel", ignore=shutil.ignore_patterns("__pycache__", "proofs"))
        environment = {**os.environ, "XDG_CACHE_HOME": folder, "PYTHONPATH": str(source)}

        def render() -> float:
            begun = time.monotonic()
            arguments = [f"demo:{SHOT}", "-o", f"{folder}/a.exr", "--size", "96x54", "--set", "sampling.max=1", "--set", "gi.seen=irradiance_cache"]
            subprocess.run([sys.executable, "-m", "sivrel", "render", *arguments], env=environment, check=True, stderr=subprocess.DEVNULL)
            return time.monotonic() - begun

        first, warm = render(), render()
        module = source / "sivrel" / "core" / "gi" / "irradiance_cache.py"
        module.write_text(re.sub(r"close >= 0\.5", "close >= 0.51", module.read_text(), count=1))
        return f"{render():.1f} s after the edit, {warm:.1f} s without one, {first:.0f} s with nothing compiled"
