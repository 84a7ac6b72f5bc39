"""The application factory."""

import hashlib
import hmac
import logging
import secrets
import sqlite3
from pathlib import Path

from flask import Flask, Response, g, render_template, request
from flask.typing import ResponseReturnValue
from flask_wtf.csrf import CSRFError, CSRFProtect
from werkzeug.exceptions import HTTPException

from ..core.errors import InputError
from ..store.database import is_full
from .access.routes import guard
from .access.routes import pages as access_pages
from .bench.routes import pages as bench_pages
from .caches.routes import pages as cache_pages
from .cameras.routes import pages as camera_pages
from .compare.routes import pages as compare_pages
from .database import close_database
from .findings.routes import pages as finding_pages
from .keys.here import keys_here
from .lights.routes import pages as light_pages
from .lineage.routes import pages as lineage_pages
from .machines.routes import pages as machine_pages
from .moments.routes import pages as moment_pages
from .numbers import Digest, Whole
from .pictures.routes import pages as picture_pages
from .pins.routes import pages as pin_pages
from .queue.routes import pages as queue_pages
from .recipes.routes import pages as recipe_pages
from .sequences.routes import pages as sequence_pages
from .sheets.routes import pages as sheet_pages
from .shots.routes import pages as shot_pages
from .survey.routes import pages as survey_pages
from .tune.routes import pages as tune_pages
from .words import register_filters

PAGES = (
    access_pages, shot_pages, bench_pages, lineage_pages, queue_pages, pin_pages, moment_pages, camera_pages, light_pages, compare_pages,
    recipe_pages, sheet_pages, cache_pages, picture_pages, survey_pages, finding_pages, tune_pages, sequence_pages, machine_pages,
)  # fmt: skip
MOST_UPLOAD = 512 << 20
"""Most bytes of one upload."""
MOST_PARTS = 20_016
"""Most fields and files of one form."""
MOST_OF_FIELDS = 4 << 20
"""Most bytes of a form's fields without files."""
log = logging.getLogger(__name__)
CONTENT_POLICY = "default-src 'self'; img-src 'self' data: blob:; frame-ancestors 'none'; form-action 'self'"


def create_app(data: Path, access_key: str | None = None, hosts: frozenset[str] | None = None, where: str = "") -> Flask:
    """The application over the data folder. With `access_key`, pages require it; `hosts` are the host names that requests
    may use (None: any), against DNS rebinding. `where`, host and port, keeps the
    cookies of two servers on one host separate. Raises InputError if the folder can't be used."""
    app = Flask(__name__)
    secret = _secret(data / "secret")
    app.config.update(
        DATA=data,
        ACCESS_KEY=access_key,
        HOSTS=hosts,
        # Cookies of another key are not valid: they are signed differently.
        SECRET_KEY=hmac.new(secret.encode(), (access_key or "").encode(), hashlib.sha256).hexdigest(),
        SESSION_COOKIE_NAME=cookie_name(data, where),
        MAX_CONTENT_LENGTH=MOST_UPLOAD,
        MAX_FORM_PARTS=MOST_PARTS,
        MAX_FORM_MEMORY_SIZE=MOST_OF_FIELDS,
        SESSION_COOKIE_SAMESITE="Lax",
        WTF_CSRF_TIME_LIMIT=None,
    )
    app.url_map.converters |= {"int": Whole, "digest": Digest}
    app.before_request(guard)  # before CSRFProtect, which reads the body
    CSRFProtect(app)
    register_filters(app)
    app.add_template_global(keys_here)
    app.teardown_appcontext(close_database)
    for pages in PAGES:
        app.register_blueprint(pages)

    @app.after_request
    def harden(response: Response) -> Response:
        response.headers.setdefault("Content-Security-Policy", CONTENT_POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "same-origin")
        return response

    @app.errorhandler(InputError)
    def bad_input(error: InputError) -> ResponseReturnValue:
        return _sentence(str(error), 422)

    @app.errorhandler(CSRFError)
    def stale_page(error: CSRFError) -> ResponseReturnValue:
        return _sentence("This page was opened before the program was started; reload it and try again.", 400)

    @app.errorhandler(404)
    def not_found(error: HTTPException) -> ResponseReturnValue:
        return _sentence("There is nothing at this address; go back to the shots.", 404)

    @app.errorhandler(413)
    def too_large(error: HTTPException) -> ResponseReturnValue:
        most = f"{MOST_PARTS - 16:,} files, and {MOST_UPLOAD >> 20} MB together"
        return _sentence(f"This is too much at once; choose at most {most}, or open the scene by its path on this machine.", 413)

    @app.errorhandler(sqlite3.Error)
    @app.errorhandler(OSError)
    def fault(error: Exception) -> ResponseReturnValue:
        log.warning("%s could not be answered.", request.path, exc_info=error)
        if is_full(error):
            return _sentence("The disk is full, so nothing was saved; free some space, and try again.", 507)
        return _sentence("The data folder could not be read or written; see the log there, or the terminal where Sivrel runs.", 503)

    @app.errorhandler(HTTPException)
    def other(error: HTTPException) -> ResponseReturnValue:
        if error.code is None or error.code < 400:  # a redirection
            return error
        return _sentence(f"This request is not possible ({error.name.lower()}); go back and try again.", error.code or 400)

    @app.errorhandler(Exception)
    def unforeseen(error: Exception) -> ResponseReturnValue:
        log.error("%s %s failed.", request.method, request.path, exc_info=error)
        return _sentence(f"This failed because of a bug ({type(error).__name__}); see the log in the data folder.", 500)

    return app


def _sentence(text: str, status: int) -> ResponseReturnValue:
    """One sentence: by itself for a part of a page, otherwise as a page."""
    g.setdefault("sentence", text)
    if request.headers.get("HX-Request"):
        return render_template("sentence.html", text=text), status
    return render_template("problem.html", text=text), status


def cookie_name(data: Path, where: str) -> str:
    """Name of the session cookie of a server over a data folder; `where` is its host and port, since cookies do not distinguish ports."""
    return f"sivrel-{hashlib.sha256(f'{data.resolve()} {where}'.encode()).hexdigest()[:10]}"


def _secret(path: Path) -> str:
    """The secret that signs sessions: stored, so that forms survive a restart; readable by the user only. Raises InputError."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        if not path.exists():
            beside = path.with_name(f".secret-{secrets.token_hex(4)}")
            beside.touch(mode=0o600)
            beside.write_text(secrets.token_hex(32))
            beside.replace(path)
        kept = path.read_text().strip()
    except (OSError, ValueError) as error:
        if is_full(error):
            raise
        raise InputError(f"{path} can't be read or written ({getattr(error, 'strerror', None) or 'it is damaged'}); move it away.") from None
    if len(kept) < 32:
        raise InputError(f"{path} is too short to sign sessions with; delete it, and a new one is made.")
    return kept
