"""Starts the web application with its worker, and ends both."""

import ipaddress
import logging
import os
import secrets
import signal
import sqlite3
import sys
from pathlib import Path
from typing import Any

from ..core.errors import InputError
from ..core.formats.scenes import load_usd
from ..store import database, jobs
from ..store.database import is_full
from ..work.intake import add_demo_shots
from ..work.logs import log_to
from ..work.recovery import program_started
from ..work.supervisor import Supervisor
from .access.routes import admits
from .app import MOST_UPLOAD, cookie_name, create_app
from .serving import make_server

LOCAL_NAMES = frozenset({"localhost", "127.0.0.1", "[::1]"})
log = logging.getLogger(__name__)


def _is_local(host: str) -> bool:
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def run(host: str, port: int, data: Path, demo: bool) -> int:
    """Serve until interrupted. Raises InputError when the address or the data folder can't be used."""
    if not 0 <= port <= 65535:
        raise InputError(f"The port {port} can't be used; give one from 1 to 65535.")
    os.umask(0o077)
    key = None if _is_local(host) else secrets.token_urlsafe(12)
    supervisor = Supervisor(data)
    try:
        server = _made_ready(host, port, data, key, demo, supervisor)
    except (OSError, sqlite3.OperationalError) as error:
        supervisor.stop()
        if is_full(error):
            raise InputError(f"The disk of {data} is full, so Sivrel can't start; free some space, or give another folder with --data.") from None
        raise
    shown, at = f"[{host}]" if ":" in host else host, getattr(server, "effective_port", port)
    print(f"Sivrel is at http://{shown}:{at}/  (Ctrl-C ends it)", file=sys.stderr, flush=True)
    if key is not None:
        print(f"It can be reached from other machines with this key: {key}", file=sys.stderr, flush=True)

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


def _made_ready(host: str, port: int, data: Path, key: str | None, demo: bool, supervisor: Supervisor) -> Any:
    """The server over a checked and cleaned data folder, with its shots, and its worker started. Raises InputError before that."""
    db = database.create(data)
    check_folder(data)
    make_private(data)
    log_to(data, "server")
    load_usd()  # before any thread starts
    app = create_app(data, access_key=key, hosts=LOCAL_NAMES | {host.lower()} if key is None else None)
    try:
        server = make_server(app, host, port, lambda headers: admits(app, headers), MOST_UPLOAD + (1 << 20))
    except OSError as error:
        raise InputError(f"{host}:{port} can't be used ({error.strerror or error}); give another --host or --port.") from None
    except (ValueError, UnicodeError):
        raise InputError(f"{host} is not an address of this machine; give another --host.") from None
    app.config["SESSION_COOKIE_NAME"] = cookie_name(data, f"{host}:{getattr(server, 'effective_port', port)}")
    jobs.set_worker(db, "absent")
    program_started(db, data)
    supervisor.start()  # it loads its libraries while demo shots are added
    if demo:
        add_demo_shots(db, data)
    db.close()
    return server


def make_private(data: Path) -> None:
    """Make an existing data folder and its contents private to the user: earlier versions used the system's default."""
    try:
        for path in (data, *data.glob("*")):
            if path.stat().st_uid == os.getuid() and path.stat().st_mode & 0o077:
                path.chmod(path.stat().st_mode & ~0o077)
    except OSError as error:
        log.warning("The data folder could not be made private: %s", error)


def check_folder(data: Path) -> None:
    """Raise InputError if something in the data folder blocks a file that must be written there."""
    for name in ("secret", "worker.lock", "sivrel.log"):
        path = data / name
        if path.exists() and not path.is_file():
            raise InputError(f"{path} is not a file, so Sivrel can't start; move it away.")
    for name in ("pictures", "thumbnails", "caches", "jobs", "uploads", "moments", "trials", "filtered"):
        path = data / name
        if path.exists() and not path.is_dir():
            raise InputError(f"{path} is not a folder, so Sivrel can't start; move it away.")
    if not os.access(data, os.W_OK | os.X_OK):
        raise InputError(f"The data folder {data} can't be written; give another with --data.")
