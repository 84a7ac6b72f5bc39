"""The machines page: how much of this machine may be used, and the helpers of a scheduler."""

from typing import Any

from flask import Blueprint, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue

from ...core import machine
from ...core.errors import InputError
from ...core.machine import Limits
from ...store import machines
from ..database import db
from ..numbers import finite_number, whole_number
from ..queue.routes import queue_values

pages = Blueprint("machines", __name__, template_folder="templates")


def _seen() -> dict[str, Any]:
    """What changes while one looks: the helpers, and the queue's time on them."""
    return {
        "elsewhere": machines.elsewhere(db()),
        "helpers": machines.helpers(db()),
        "queue": queue_values(),
    }


@pages.get("/machines")
def page() -> ResponseReturnValue:
    return _page()


def _page(problem: str = "", status: int = 200) -> ResponseReturnValue:
    limits = machines.limits(db())
    return render_template(
        "machines.html", limits=limits, are_set=machines.are_set(db()), cores=machine.threads_of_all(), problem=problem, **_seen()
    ), status  # fmt: skip


@pages.get("/machines/helpers")
def helpers() -> ResponseReturnValue:
    """The part of the page that changes."""
    return render_template("helpers.html", **_seen())


@pages.post("/machines")
def limit() -> ResponseReturnValue:
    """Set this machine's limits; ?reset for those that the program was started with. The worker is started again with them."""
    if "reset" in request.args:
        machines.set_limits(db(), None)
        return redirect(url_for("machines.page"))
    try:
        given = {name: request.form.get(name, "").strip() or "0" for name in ("threads", "memory", "nice")}
        wanted = Limits(whole_number(given["threads"]), finite_number(given["memory"]), whole_number(given["nice"])).check()
    except ValueError:
        return _page("Threads, memory and priority must be numbers; leave a field empty for all of the machine.", 422)
    except InputError as error:
        return _page(str(error), 422)
    machines.set_limits(db(), wanted)
    return redirect(url_for("machines.page"))
