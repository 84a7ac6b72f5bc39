"""Parses numbers and hashes of URLs and forms; refuses anything invalid, or too large for the database or a picture."""

import math

from werkzeug.routing import BaseConverter, IntegerConverter

MOST = (1 << 63) - 1
"""What SQLite holds."""


def whole_number(text: str) -> int:
    """A whole number in plain digits. Raises ValueError, as `request.args.get(type=…)` takes it."""
    plain = text.strip()
    if not (plain.isascii() and plain.lstrip("+-").isdecimal() and len(plain) <= 19):
        raise ValueError(text)
    value = int(plain)
    if abs(value) > MOST:
        raise ValueError(text)
    return value


def finite_number(text: str) -> float:
    """A number that is not infinite. Raises ValueError."""
    value = float(text) if len(text) <= 64 and text.isascii() and "_" not in text else math.nan
    if not math.isfinite(value):
        raise ValueError(text)
    return value


class Whole(IntegerConverter):
    """Numbers of items in URLs; a larger one belongs to no item."""

    regex = r"[0-9]{1,18}"


class Digest(BaseConverter):
    """The hash that names a picture or a cache."""

    regex = r"[0-9a-f]{16,64}"
