"""The keys of the page that is being answered."""

from typing import Any

from flask import g, request

from ..database import data
from .own import Keys, keys_of
from .pages import PAGES


def keys_here(shot: Any = None) -> Keys:
    """The keys of this request's page; `shot` is that of the page, if it has one."""
    if "keys" not in g:
        page = "report" if request.blueprint == "findings" else request.blueprint or ""
        g.keys = keys_of(page if page in PAGES else "", data(), outside=bool(shot and shot.outside))
    return g.keys
