"""Coverage-guided fuzzing of one reader: `python -m tests.fuzz.readers TARGET [SECONDS] [FOLDER]`.

Begins with the seeds in tests/fuzz/seeds/TARGET; what it learns is kept in FOLDER. A case that fails is written there as `crash-…`: mend what it
shows, and put it among the seeds, which the tests run again each time.
"""

import sys
from pathlib import Path

import atheris

with atheris.instrument_imports(
    include=[
        "sivrel.core.json_text",
        "sivrel.core.caches",
        "sivrel.core.cache_contents",
        "sivrel.core.formats",
        "sivrel.core.render.recipe",
        "sivrel.core.edits.edits",
        "sivrel.core.scene.sanitize",
    ]
):  # fmt: skip  (modules with kernels can't be instrumented: Numba compiles their own bytecode)
    from . import targets

SEEDS = Path(__file__).parent / "seeds"
MOST_SECONDS, MOST_MEGABYTES, LONGEST = 20, 3000, 1 << 14
"""Of one case: seconds, memory of the process, and bytes."""


def main(target: str, seconds: int, folder: Path) -> None:
    corpus = folder / target
    corpus.mkdir(parents=True, exist_ok=True)
    options = [
        f"-max_total_time={seconds}", f"-timeout={MOST_SECONDS}", f"-rss_limit_mb={MOST_MEGABYTES}", f"-max_len={LONGEST}", "-print_final_stats=1",
        f"-artifact_prefix={corpus.parent}/crash-{target}-", "-verbosity=1", "-use_value_profile=0",
    ]  # fmt: skip
    atheris.Setup([sys.argv[0], *options, str(corpus), str(SEEDS / target)], lambda data: targets.meets(target, data))
    atheris.Fuzz()


if __name__ == "__main__":
    main(sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 3600, Path(sys.argv[3] if len(sys.argv) > 3 else "/tmp/sivrel-fuzz"))
