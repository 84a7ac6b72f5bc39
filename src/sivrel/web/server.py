"""Starting the web application with its worker, and ending both."""

import ipaddress
import secrets
import signal
import sys
from pathlib import Path

import waitress

from ..core.errors import InputError
from ..store import database, jobs
from ..work.intake import add_demo_shots
from ..work.supervisor import Supervisor
from .app import create_app

THREADS = 8
LOCAL_NAMES = frozenset({"localhost", "127.0.0.1", "[::1]"})


def _is_local(host: str) -> bool:
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def run(host: str, port: int, data: Path, demo: bool) -> int:
    """Serve until interrupted. Raises InputError when the address can't be used."""
    if not 0 <= port <= 65535:
        raise InputError(f"The port {port} can't be used; give one from 1 to 65535.")
    try:
        db = database.connect(data)
    except OSError:
        raise InputError(f"The data folder {data} can't be written; give another with --data.") from None
    jobs.set_worker(db, "absent")
    if demo:
        add_demo_shots(db, data)
    db.close()
    key = None if _is_local(host) else secrets.token_urlsafe(12)
    app = create_app(data, access_key=key, hosts=LOCAL_NAMES | {host.lower()} if key is None else None)
    try:
        server = waitress.create_server(app, host=host, port=port, threads=THREADS, ident="Sivrel")
    except OSError as error:
        raise InputError(f"{host}:{port} can't be used ({error.strerror}); give another --port.") from None
    supervisor = Supervisor(data)
    supervisor.start()
    shown, at = f"[{host}]" if ":" in host else host, getattr(server, "effective_port", port)
    print(f"Sivrel is at http://{shown}:{at}/  (Ctrl-C ends it)", file=sys.stderr, flush=True)
    if key is not None:
        print(f"It can be reached from other machines, and asks them for this key: {key}", file=sys.stderr, flush=True)

    def end(*_: object) -> None:
        raise KeyboardInterrupt

    signal.signal(signal.SIGTERM, end)
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        supervisor.stop()
        server.close()
    return 0
