"""The errors of the library: the one that carries a sentence for the user, and what such sentences share."""

import difflib
from collections.abc import Iterable
from itertools import islice

MOST_COMPARED, LONGEST_COMPARED = 5000, 80
"""Names, and letters of each, that are compared for a suggestion: comparing takes time in proportion to both."""


LONGEST = 1200
"""Letters of a sentence that are shown."""


class SivrelError(Exception):
    """Base of every error that is raised on purpose."""


class Cancelled(SivrelError):
    """The work was called off."""


class InputError(SivrelError, ValueError):
    """What was given can't be used. The message is one sentence that says what to do; it is shown as it stands.

    What it quotes may hold line breaks, control characters, halves of surrogate pairs or whole books: they are taken out, and it is cut."""

    def __init__(self, sentence: str) -> None:
        plain = " ".join("".join(c if c.isprintable() else " " for c in sentence[: 2 * LONGEST]).split())
        super().__init__(plain if len(plain) <= LONGEST else f"{plain[: LONGEST - 1]}…")


def did_you_mean(word: str, known: Iterable[str], form: str = "{}") -> str:
    """“ Did you mean …?” with the known name that is most like `word`, written as `form` says; empty where none is like it."""
    candidates = [name for name in islice(known, MOST_COMPARED) if len(name) <= 4 * LONGEST_COMPARED]
    near = difflib.get_close_matches(word[:LONGEST_COMPARED], candidates, n=1, cutoff=0.3)
    return f" Did you mean “{form.format(near[0]) if form != '{}' else near[0]}”?" if near else ""
