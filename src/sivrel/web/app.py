"""The application factory."""

import secrets
from pathlib import Path

from flask import Flask, g, render_template, request
from flask_wtf.csrf import CSRFError, CSRFProtect

from ..core.errors import InputError
from .access.routes import guard
from .access.routes import pages as access_pages
from .bench.routes import pages as bench_pages
from .caches.routes import pages as cache_pages
from .cameras.routes import pages as camera_pages
from .compare.routes import pages as compare_pages
from .database import close_database
from .findings.routes import pages as finding_pages
from .lights.routes import pages as light_pages
from .lineage.routes import pages as lineage_pages
from .moments.routes import pages as moment_pages
from .pictures.routes import pages as picture_pages
from .pins.routes import pages as pin_pages
from .queue.routes import pages as queue_pages
from .recipes.routes import pages as recipe_pages
from .sheets.routes import pages as sheet_pages
from .shots.routes import pages as shot_pages
from .survey.routes import pages as survey_pages
from .tune.routes import pages as tune_pages
from .words import register_filters

PAGES = (
    access_pages, shot_pages, bench_pages, lineage_pages, queue_pages, pin_pages, moment_pages, camera_pages, light_pages, compare_pages,
    recipe_pages, sheet_pages, cache_pages, picture_pages, survey_pages, finding_pages, tune_pages,
)  # fmt: skip
MOST_UPLOAD = 512 << 20
"""Bytes of one upload."""
CONTENT_POLICY = "default-src 'self'; img-src 'self' data: blob:; frame-ancestors 'none'; form-action 'self'"


def create_app(data: Path, access_key: str | None = None, hosts: frozenset[str] | None = None) -> Flask:
    """The application over the data folder. With `access_key`, pages ask for it; `hosts` are the names that requests
    may come under (None: any), which keeps other sites from reaching a local server under a name of theirs."""
    app = Flask(__name__)
    data.mkdir(parents=True, exist_ok=True)
    app.config.update(
        DATA=data,
        ACCESS_KEY=access_key,
        HOSTS=hosts,
        SECRET_KEY=_secret(data / "secret"),
        MAX_CONTENT_LENGTH=MOST_UPLOAD,
        SESSION_COOKIE_SAMESITE="Lax",
        WTF_CSRF_TIME_LIMIT=None,
    )
    CSRFProtect(app)
    register_filters(app)
    app.before_request(guard)
    app.teardown_appcontext(close_database)
    for pages in PAGES:
        app.register_blueprint(pages)

    @app.after_request
    def harden(response):
        response.headers.setdefault("Content-Security-Policy", CONTENT_POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "same-origin")
        return response

    @app.errorhandler(InputError)
    def bad_input(error):
        return _sentence(str(error), 422)

    @app.errorhandler(CSRFError)
    def stale_page(error):
        return _sentence("This page was opened before the program was started; reload it and try again.", 400)

    @app.errorhandler(404)
    def not_found(error):
        return _sentence("There is nothing at this address; go back to the shots.", 404)

    @app.errorhandler(413)
    def too_large(error):
        return _sentence(f"The files are larger than {MOST_UPLOAD >> 20} MB together; open them on this machine instead.", 413)

    return app


def _sentence(text: str, status: int):
    """One sentence: alone for a part of a page, else on a page of its own."""
    g.setdefault("sentence", text)
    if request.headers.get("HX-Request"):
        return render_template("sentence.html", text=text), status
    return render_template("problem.html", text=text), status


def _secret(path: Path) -> str:
    """The key that signs sessions: kept, so that forms survive a restart; readable by the user alone."""
    if not path.is_file():
        path.touch(mode=0o600)
        path.write_text(secrets.token_hex(32))
    return path.read_text()
