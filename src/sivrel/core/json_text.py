"""Reads JSON from outside safely: no text may crash or surprise its reader."""

import json
from typing import Any

from .errors import InputError

MOST_DEPTH = 32
"""Most levels of nesting. Nothing that this program writes has more than ten."""


def parse_json(text: str | bytes, problem: str) -> Any:
    """The value of `text`. Raises InputError with the sentence `problem` if it is not JSON (RFC 8259), nests deeper than
    MOST_DEPTH, or holds numbers that are not finite or text that is not Unicode."""
    try:
        value = _DECODER.decode(text if isinstance(text, str) else text.decode())
    except (ValueError, RecursionError):
        raise InputError(problem) from None
    if not (_is_surely_plain(text) or _is_plain(value, MOST_DEPTH)):
        raise InputError(problem)
    return value


def _is_surely_plain(text: str | bytes) -> bool:
    """Whether parsed JSON needs no further check, as is usual: it has no \\u escapes, and too few brackets for deep nesting."""
    try:
        plain = text if isinstance(text, bytes) else text.encode()
    except UnicodeEncodeError:
        return False
    return b"\\u" not in plain and plain.count(b"{") + plain.count(b"[") <= MOST_DEPTH


def is_text(text: str) -> bool:
    """Whether a text is Unicode: without unpaired surrogates, which JSON can express but files and databases can't store, and without NUL."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return "\0" not in text


def _refuse(constant: str) -> float:
    raise ValueError(constant)


def _finite(text: str) -> float:
    number = float(text)
    if abs(number) == float("inf"):
        raise ValueError(text)
    return number


def _is_plain(value: Any, depth: int) -> bool:
    if isinstance(value, str):
        return is_text(value)
    if isinstance(value, dict):
        return depth > 0 and all(is_text(key) and _is_plain(member, depth - 1) for key, member in value.items())
    if isinstance(value, list):
        return depth > 0 and all(_is_plain(member, depth - 1) for member in value)
    return True


_DECODER = json.JSONDecoder(parse_constant=_refuse, parse_float=_finite)
