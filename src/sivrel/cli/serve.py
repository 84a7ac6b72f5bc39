"""`sivrel serve` and `sivrel demo`: the web application."""

import os
from pathlib import Path

import click


def _default_data() -> str:
    base = os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share"
    return str(Path(base) / "sivrel")


port_option = click.option("--port", type=int, default=8017, show_default=True, help="Port.")
data_option = click.option("--data", default=_default_data, metavar="DIR", help=f"Folder of the shots and proofs (default: {_default_data()}).")


@click.command(short_help="Start the web application.")
@port_option
@data_option
@click.option("--host", default="127.0.0.1", show_default=True, help="Address to bind; other machines need a key.")
def serve(port: int, data: str, host: str) -> int:
    """Start the web application."""
    from ..web.server import run

    return run(host=host, port=port, data=Path(data), demo=False)


@click.command(short_help="Start the web application with the demo shots.")
@port_option
@data_option
def demo(port: int, data: str) -> int:
    """Start the web application with the demo shots."""
    from ..web.server import run

    return run(host="127.0.0.1", port=port, data=Path(data), demo=True)
