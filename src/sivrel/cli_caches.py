"""`sivrel caches`: what is kept in a folder of caches; to keep, lock, delete, export and import."""

import argparse
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

from .core.errors import InputError


def add_arguments(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("folder", metavar="DIR", help="folder of caches: that of `render --caches`, or the folder caches in the data folder")
    act = sub.add_mutually_exclusive_group()
    for name, about in (
        ("keep", "never thin it"),
        ("let-go", "thin it when the folder is full"),
        ("lock", "let it serve its shot whatever changes"),
        ("unlock", "let it grow stale again"),
        ("delete", "delete it"),
    ):
        act.add_argument(f"--{name}", metavar="CACHE", help=about)
    act.add_argument("--export", nargs=2, metavar=("CACHE", "FILE"), help="copy it out")
    act.add_argument("--import", dest="import_", metavar="FILE", help="take a cache file in, and keep it")
    sub.add_argument("--json", action="store_true")


def caches(args: argparse.Namespace, print_: Callable[[argparse.Namespace, dict[str, Any], Callable[[], str]], None]) -> int:
    from .core.caches import CacheFolder

    path = Path(args.folder)
    if not path.is_dir() and not args.import_:
        raise InputError(f"There is no folder {path}; give one that `sivrel render --caches` has filled.")
    folder = CacheFolder(path)
    marks = (("keep", "kept", True), ("let_go", "kept", False), ("lock", "locked", True), ("unlock", "locked", False))
    for name, mark, on in marks:
        if getattr(args, name):
            folder.mark(_digest(folder, getattr(args, name)), mark, on)
    if args.delete:
        folder.delete(_digest(folder, args.delete))
    if args.export:
        data, out = (path / f"{_digest(folder, args.export[0])}.cache").read_bytes(), Path(args.export[1])
        beside = out.with_name(f".{out.name}.new")
        beside.write_bytes(data)
        os.replace(beside, out)
    if args.import_:
        try:
            data = Path(args.import_).read_bytes()
        except OSError:
            raise InputError(f"There is no file {args.import_}; check the name.") from None
        folder.take_in(data, Path(args.import_).name)
    rows = [
        {
            "cache": file.stem, "kind": about.kind, "of": about.subject, "holds": about.notes.get("count"), "unit": about.notes.get("unit", ""),
            "megabytes": round(file.stat().st_size / 1e6, 2), "seconds": round(float(about.notes.get("seconds", 0.0)), 3),
            "kept": folder.marked(file.stem, "kept"), "locked": folder.marked(file.stem, "locked"), "depends": about.depends,
        }
        for file, about in folder.headers()
    ]  # fmt: skip

    def line(row: dict[str, Any]) -> str:
        held = f"{row['holds'] or '?'} {row['unit']}, {row['megabytes']:.1f} MB, took {row['seconds']:.1f} s"
        marks = "".join(f", {mark}" for mark in ("kept", "locked") if row[mark])
        return f"{row['cache'][:10]}  {row['kind']} of {row['of']}, {held}{marks}"

    def words() -> str:
        return "\n".join(line(row) for row in rows) or "Nothing is kept here."

    print_(args, {"caches": rows}, words)
    return 0


def _digest(folder: Any, start: str) -> str:
    """The one cache whose name begins so. Raises InputError."""
    found = [file.stem for file, _ in folder.headers() if file.stem.startswith(start)]
    if len(found) != 1:
        raise InputError(f"{len(found) or 'No'} caches begin with “{start}”; `sivrel caches DIR` lists them.")
    return found[0]
