"""`sivrel helper`: render for another machine."""

import asyncio
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core import machine
from ..core.errors import InputError
from ..core.machine import Limits
from ..core.user_cache import user_cache
from .common import Reporter, need_cluster, say, threads_option

if TYPE_CHECKING:
    from ..cluster.helper import Helper

AGAIN = 3.0
"""Seconds between looks for a scheduler that has gone."""


@click.command(short_help="Render for another machine.")
@click.argument("scheduler", metavar="SCHEDULER")
@threads_option
@click.option("--memory", type=float, default=0.0, metavar="GB", help="Most memory, with the scenes that are mapped; default: the machine's.")
@click.option("--folder", metavar="DIR", help="Where scenes are kept; default: the user's cache.")
@click.option("--folder-size", type=float, default=20.0, metavar="GB", help="Most that is kept there; default: 20.")
@click.option("--nice", type=int, default=5, metavar="N", help="Niceness of the process, 0 to 19; default: 5.")
def helper(scheduler: str, threads: int, memory: float, folder: str | None, folder_size: float, nice: int) -> None:
    """Render tiles for the machines that are connected to SCHEDULER, an address like tls://render1:8786, until it is stopped."""
    cluster = need_cluster()
    if not 0.1 <= folder_size <= 1e5:
        raise InputError(f"A folder of {folder_size:g} GB can't be used; give 0.1 to 100000.")
    wanted = Limits(threads or machine.threads(), memory, nice).check()
    cluster.check_scheduler(scheduler, "worker")
    from ..cluster.helper import Helper
    from ..shot import warm_up

    report = Reporter()
    warm_up(report)
    report.done()
    machine.limit(wanted)
    helper = Helper(Path(folder) if folder else user_cache() / "scenes", int(folder_size * 2**30), wanted.threads)
    asyncio.run(_work(scheduler, helper))


async def _work(scheduler: str, helper: "Helper") -> None:
    """Work until the process is stopped; when the scheduler goes, wait for it to come back."""
    import logging

    from distributed import Worker

    from ..cluster.helper import Answers

    logging.getLogger("distributed").setLevel(logging.CRITICAL)
    check, role, threads = need_cluster().check_scheduler, "worker", helper.threads
    most = int(machine.limits().memory * 2**30) or "auto"
    while True:
        worker = Worker(scheduler, nthreads=threads, memory_limit=most, dashboard=False)
        Answers(worker, helper)
        async with worker:
            say(f"helping {scheduler} on {threads} {'thread' if threads == 1 else 'threads'} as {worker.address}")
            await worker.finished()
        say(f"{scheduler} has gone; waiting for it to come back")
        while True:
            await asyncio.sleep(AGAIN)
            try:
                check(scheduler, role)
                break
            except InputError:
                continue
