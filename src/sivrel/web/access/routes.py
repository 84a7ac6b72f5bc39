"""Who may come in: anyone on this machine; from elsewhere, those who have the key."""

import hmac

from flask import Blueprint, abort, current_app, redirect, render_template, request, session, url_for

pages = Blueprint("access", __name__, template_folder="templates")


def guard():
    """Before every request: the name that it came under, and the key where one is asked."""
    hosts = current_app.config["HOSTS"]
    if hosts is not None and request.host.rsplit(":", 1)[0].lower() not in hosts:
        abort(404)
    if current_app.config["ACCESS_KEY"] is None or session.get("known"):
        return None
    if request.endpoint in ("access.door", "static"):
        return None
    return redirect(url_for("access.door"))


@pages.route("/door", methods=["GET", "POST"])
def door():
    """Ask for the key that the program printed when it started."""
    key = current_app.config["ACCESS_KEY"]
    if key is None:
        return redirect(url_for("shots.index"))
    problem = None
    if request.method == "POST":
        if hmac.compare_digest(request.form.get("key", "").strip().encode(), key.encode()):
            session["known"] = True
            return redirect(url_for("shots.index"))
        problem = "This is not the key; copy the one that was printed where Sivrel was started."
    return render_template("door.html", problem=problem), 422 if problem else 200
