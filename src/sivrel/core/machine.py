"""How much of this machine may be used: threads, memory, priority. These are settings of the machine: no picture depends on them."""

import os
import resource
from dataclasses import dataclass

from .errors import InputError

MOST_THREADS = 1024
LEAST_MEMORY, MOST_MEMORY = 0.5, 1e5
"""In GB."""


@dataclass(frozen=True)
class Limits:
    """threads: 0 for all cores; memory: of the process in GB, 0 for the machine's; nice: niceness of the process, 0 to 19."""

    threads: int = 0
    memory: float = 0.0
    nice: int = 0

    def check(self) -> "Limits":
        """These limits; raises InputError if they can't be used."""
        if not 0 <= self.threads <= MOST_THREADS:
            raise InputError(f"{self.threads} threads can't be used; give 1 to {MOST_THREADS}, or 0 for all cores.")
        if not (self.memory == 0.0 or LEAST_MEMORY <= self.memory <= MOST_MEMORY):
            raise InputError(f"{self.memory:g} GB of memory can't be used; give {LEAST_MEMORY:g} to {MOST_MEMORY:g}, or 0 for the machine's.")
        if not 0 <= self.nice <= 19:
            raise InputError(f"Niceness {self.nice} can't be used; give 0 to 19.")
        return self


_limits: Limits | None = None


def of_environment() -> Limits:
    """The limits that SIVREL_THREADS, SIVREL_MEMORY and SIVREL_NICE set. Raises InputError."""
    try:
        given = {name: os.environ.get(f"SIVREL_{name.upper()}", "").strip() or "0" for name in ("threads", "memory", "nice")}
        return Limits(int(given["threads"]), float(given["memory"]), int(given["nice"])).check()
    except ValueError:
        raise InputError("SIVREL_THREADS, SIVREL_MEMORY and SIVREL_NICE must be numbers; correct them, or unset them.") from None


def limits() -> Limits:
    """The limits of this process."""
    return _limits or of_environment()


def limit(wanted: Limits) -> None:
    """Hold this process to limits from now on. Priority and memory can only be lowered while it runs. Raises InputError."""
    global _limits
    _limits = wanted.check()
    more = wanted.nice - os.getpriority(os.PRIO_PROCESS, 0)
    if more > 0:
        os.nice(more)
    if wanted.memory:
        most = int(wanted.memory * 2**30)
        hard = resource.getrlimit(resource.RLIMIT_DATA)[1]
        if hard == resource.RLIM_INFINITY or most < hard:
            resource.setrlimit(resource.RLIMIT_DATA, (most, hard))


def threads() -> int:
    """Threads that work may run on: all cores, unless limited."""
    return limits().threads or threads_of_all()


def threads_of_all() -> int:
    """The machine's threads."""
    return os.cpu_count() or 1


def memory_free() -> int:
    """Bytes that this process may still take: what is available without swapping, as the system estimates, and what its limit leaves; a very large
    number where that is unknown."""
    try:
        with open("/proc/meminfo") as meminfo:
            free = int(next(line.split()[1] for line in meminfo if line.startswith("MemAvailable:"))) * 1024
        most = limits().memory
        if most:
            with open("/proc/self/statm") as statm:
                used = int(statm.read().split()[5]) * resource.getpagesize()  # data and stack, as the limit counts them
            free = min(free, max(0, int(most * 2**30) - used))
        return free
    except (OSError, StopIteration, ValueError, IndexError):
        return 1 << 62
