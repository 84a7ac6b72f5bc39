"""Where a render's processor time goes, by module: `python -m bench hotspots`, needs perf and gdb (Debian: linux-perf, gdb).

Kernels are compiled with line tables into a cache of their own. perf samples the instruction addresses of the draft; gdb
names the source line of each. With line tables a render is about a tenth slower.
"""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from numba.core.cpu import CPUTargetOptions
from numba.core.debuginfo import DIBuilder

RENDERS = 4
SAMPLES_A_SECOND = 999
SHOWN = 20
_ADDRESS, _LINE = re.compile(r"\s*([0-9a-f]+)\s+(.*)"), re.compile(r'Line \d+ of "(?:.*/)?([^/"]+)"')


def hotspots() -> str:
    """The draft of the kitchen on one thread, everything warm: share of each module in percent."""
    if not (shutil.which("perf") and shutil.which("gdb")):
        return "Not measured: needs perf and gdb."
    with tempfile.TemporaryDirectory() as folder:
        environment = {**os.environ, "XDG_CACHE_HOME": folder}
        subprocess.run([sys.executable, "-m", "bench.hotspots", folder], check=True, env=environment)
        shares = _by_module(Path(folder))
    total = sum(shares.values())
    return ", ".join(f"{module} {count / total:.1%}" for module, count in shares.most_common(SHOWN))


def _with_line_tables() -> None:
    finalize, initialize = CPUTargetOptions.finalize, DIBuilder.initialize

    def finalized(options, flags, given) -> None:
        finalize(options, flags, given)
        flags.debuginfo = flags.dbg_directives_only = True  # no variables in memory: the code stays as fast

    def initialized(builder) -> None:
        builder.emission_kind = "LineTablesOnly"
        initialize(builder)

    CPUTargetOptions.finalize = finalized
    DIBuilder.initialize = initialized
    DIBuilder.mark_variable = lambda *_, **__: None


def _sample(folder: Path) -> None:
    """Render under perf, then ask gdb for the lines while this process still holds the machine code."""
    _with_line_tables()
    from .render import _kitchen

    render = _kitchen()
    render(1)
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    me, data = str(os.getpid()), str(folder / "perf.data")
    perf = subprocess.Popen(["perf", "record", "-e", "cpu-clock", "-F", str(SAMPLES_A_SECOND), "-p", me, "-o", data], **quiet)
    time.sleep(1.0)
    for _ in range(RENDERS):
        render(1)
    perf.send_signal(2)
    perf.wait()
    with (folder / "samples").open("w") as out:
        subprocess.run(["perf", "script", "-F", "ip,sym,dso", "-i", data], stdout=out, stderr=subprocess.DEVNULL, check=True)
    asked = {address for address, _ in _samples(folder)}
    (folder / "asked").write_text("set pagination off\n" + "".join(f"echo @{a}\\n\ninfo line *0x{a}\n" for a in sorted(asked)))
    with (folder / "lines").open("w") as out:
        subprocess.run(["gdb", "-p", me, "-batch", "-x", str(folder / "asked")], stdout=out, stderr=subprocess.STDOUT, check=True)


def _samples(folder: Path) -> Counter:
    """Samples by (address, what perf calls it)."""
    found = (_ADDRESS.match(line) for line in (folder / "samples").read_text(errors="replace").splitlines())
    return Counter((match[1], match[2]) for match in found if match)


def _by_module(folder: Path) -> Counter:
    """Samples by source file, or by library where there is none."""
    module, address = {}, ""
    for line in (folder / "lines").read_text(errors="replace").splitlines():
        if line.startswith("@"):
            address = line[1:]
        elif match := _LINE.match(line):
            module.setdefault(address, match[1])
    shares: Counter = Counter()
    for (at, library), count in _samples(folder).items():
        shares[module.get(at) or library.rsplit("/", 1)[-1].rstrip(")")] += count
    return shares


if __name__ == "__main__":
    _sample(Path(sys.argv[1]))
