"""`sivrel serve` and `sivrel demo`: the web application."""

import os
from pathlib import Path

import click

from .common import helpers_wanted, need_cluster, scheduler_options


def _default_data() -> str:
    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return str(Path(base) / "sivrel")


def _use_scheduler() -> None:
    """Let the worker find the scheduler that the options name. It need not be there yet. Raises InputError."""
    scheduler, same_processor = helpers_wanted()
    if scheduler:
        need_cluster().check_use(scheduler, "client")
        os.environ["SIVREL_SCHEDULER"], os.environ["SIVREL_SAME_PROCESSOR"] = scheduler, "1" if same_processor else ""


port_option = click.option("--port", type=int, default=8017, show_default=True, help="Port.")
data_option = click.option("--data", default=_default_data, metavar="DIR", help=f"Folder of the shots and proofs (default: {_default_data()}).")


@click.command(short_help="Start the web application.")
@port_option
@data_option
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to bind; other machines need a key.")
@scheduler_options
def serve(port: int, data: str, host: str) -> int:
    """Start the web application."""
    _use_scheduler()
    from ..web.server import run

    return run(host=host, port=port, data=Path(data), demo=False)


@click.command(short_help="Start the web application with the demo shots.")
@port_option
@data_option
@scheduler_options
def demo(port: int, data: str) -> int:
    """Start the web application with the demo shots."""
    _use_scheduler()
    from ..web.server import run

    return run(host="127.0.0.1", port=port, data=Path(data), demo=True)
