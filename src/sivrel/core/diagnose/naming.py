"""Names as sentences have them."""


def short(name: str) -> str:
    """The last part of a path."""
    return name.rstrip("/").rsplit("/", 1)[-1]
