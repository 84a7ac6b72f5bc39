"""Files that are written whole or not at all."""

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """A new path beside `path` to write to, which takes its name when the block ends well and is removed when it fails. Whoever writes the same file
    at the same time writes to another one; the last to end stays."""
    beside = path.with_name(f".{path.name}.{secrets.token_hex(4)}.new")
    try:
        yield beside
        beside.replace(path)
    finally:
        beside.unlink(missing_ok=True)
