"""Access control: anyone on this machine; from elsewhere, those who have the key."""

import hmac
import time
from typing import Any

from flask import Blueprint, Flask, abort, current_app, redirect, render_template, request, session, url_for
from flask.typing import ResponseReturnValue
from itsdangerous import BadSignature
from werkzeug.http import parse_cookie

pages = Blueprint("access", __name__, template_folder="templates")
FREE_TRIES, LONGEST_WAIT, MOST_ADDRESSES = 3, 60.0, 1000
"""Wrong keys from an address before it must wait, doubling up to a number of seconds; addresses that are remembered."""


def guard() -> ResponseReturnValue | None:
    """Checks every request before its body is read: its host name, and the key if one is required."""
    hosts = current_app.config["HOSTS"]
    if hosts is not None and request.host.rsplit(":", 1)[0].lower() not in hosts:
        abort(404)
    if current_app.config["ACCESS_KEY"] is None or session.get("known"):
        return None
    if request.endpoint in ("access.door", "static"):
        return None
    return redirect(url_for("access.door"))


def admits(app: Flask, headers: dict[str, str]) -> bool:
    """Whether a request's headers prove that its sender has the key, or none is required."""
    if app.config["ACCESS_KEY"] is None:
        return True
    signed: Any = app.session_interface.get_signing_serializer(app)  # type: ignore[attr-defined]
    try:
        return bool(signed.loads(parse_cookie(headers.get("COOKIE", "")).get(app.config["SESSION_COOKIE_NAME"], "")).get("known"))
    except (BadSignature, AttributeError):
        return False


@pages.route("/door", methods=["GET", "POST"])
def door() -> ResponseReturnValue:
    """Ask for the key that the program printed when it started."""
    key = current_app.config["ACCESS_KEY"]
    if key is None:
        return redirect(url_for("shots.index"))
    if request.method != "POST":
        return render_template("door.html", problem=None)
    wait = _seconds_to_wait(request.remote_addr or "")
    if wait > 0.0:
        problem = f"There were too many wrong keys from your machine; try again in {wait:.0f} s."
        return render_template("door.html", problem=problem), 429, {"Retry-After": f"{wait:.0f}"}
    if hmac.compare_digest(request.form.get("key", "").strip().encode(), key.encode()):
        session["known"] = True
        _tries().pop(request.remote_addr or "", None)
        return redirect(url_for("shots.index"))
    _note_wrong(request.remote_addr or "")
    return render_template("door.html", problem="This is not the key; copy the one printed in the terminal where Sivrel was started."), 422


def _tries() -> dict[str, tuple[int, float]]:
    """Count and time of wrong keys by address."""
    return current_app.extensions.setdefault("sivrel_tries", {})


def _seconds_to_wait(address: str) -> float:
    wrong, at = _tries().get(address, (0, 0.0))
    wait = min(LONGEST_WAIT, 2.0 ** (wrong - FREE_TRIES)) if wrong >= FREE_TRIES else 0.0
    return max(0.0, at + wait - time.monotonic())


def _note_wrong(address: str) -> None:
    tries = _tries()
    wrong, _ = tries.pop(address, (0, 0.0))
    while len(tries) >= MOST_ADDRESSES:
        tries.pop(next(iter(tries)))
    tries[address] = wrong + 1, time.monotonic()
