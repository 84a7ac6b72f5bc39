"""The folder of what can be made again at any time."""

import os
from pathlib import Path


def user_cache() -> Path:
    """The user's own (XDG base directories: $XDG_CACHE_HOME or ~/.cache)."""
    return Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "sivrel"
