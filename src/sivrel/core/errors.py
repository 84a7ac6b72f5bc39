"""The library's errors: the one with a sentence for the user, and helpers for such sentences."""

import difflib
from collections.abc import Iterable
from itertools import islice

MOST_COMPARED, LONGEST_COMPARED = 5000, 80
"""Most names, and letters of each, compared for a suggestion: time is proportional to both."""


LONGEST = 1200
"""Most characters of a sentence."""


class SivrelError(Exception):
    """Base of all errors that the library raises on purpose."""


class Cancelled(SivrelError):
    """The work was cancelled."""


class InputError(SivrelError, ValueError):
    """Unusable input. The message is one sentence that says what to do; it is shown as it is.

    Quoted input may contain line breaks, control characters, unpaired surrogates or very long text: these are removed, and the message is cut."""

    def __init__(self, sentence: str) -> None:
        plain = " ".join("".join(c if c.isprintable() else " " for c in sentence[: 2 * LONGEST]).split())
        super().__init__(plain if len(plain) <= LONGEST else f"{plain[: LONGEST - 1]}…")


def did_you_mean(word: str, known: Iterable[str], form: str = "{}") -> str:
    """“ Did you mean …?” with the known name most similar to `word`, formatted by `form`; empty if none is similar."""
    candidates = [name for name in islice(known, MOST_COMPARED) if len(name) <= 4 * LONGEST_COMPARED]
    near = difflib.get_close_matches(word[:LONGEST_COMPARED], candidates, n=1, cutoff=0.3)
    return f" Did you mean “{form.format(near[0]) if form != '{}' else near[0]}”?" if near else ""
