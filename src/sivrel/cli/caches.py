"""`sivrel caches`: list a folder of caches; keep, lock, delete, export and import them."""

import os
from pathlib import Path
from typing import Any

import click

from ..core.errors import InputError
from .common import json_option, print_result

MARKS = {"keep": ("kept", True), "let_go": ("kept", False), "lock": ("locked", True), "unlock": ("locked", False)}


@click.command(short_help="List a folder of caches; keep, lock, delete, export, import.")
@click.argument("folder", metavar="DIR")
@click.option("--keep", metavar="CACHE", help="Never thin it.")
@click.option("--let-go", metavar="CACHE", help="Allow deleting it when the folder is full.")
@click.option("--lock", metavar="CACHE", help="Use it for its shot whatever changes.")
@click.option("--unlock", metavar="CACHE", help="Allow it to become stale again.")
@click.option("--delete", metavar="CACHE", help="Delete it.")
@click.option("--export", nargs=2, metavar="CACHE FILE", help="Copy it out.")
@click.option("--import", "import_", metavar="FILE", help="Import a cache file, and keep it.")
@json_option
def caches(
    folder: str, delete: str | None, export: tuple[str, str] | None, import_: str | None, as_json: bool, **marks: str | None
) -> None:  # fmt: skip
    """List the caches in DIR, the folder of `render --caches` or “caches” in the data folder. One change at a time."""
    from ..core.cache_contents import import_cache
    from ..core.caches import CacheFolder

    path = Path(folder)
    chosen = [name for name, value in {**marks, "delete": delete, "export": export, "import": import_}.items() if value]
    if len(chosen) > 1:
        raise InputError(f"--{chosen[0].replace('_', '-')} and --{chosen[1].replace('_', '-')} can't be combined; give one of them.")
    if not path.is_dir() and not import_:
        raise InputError(f"There is no folder {path}; give one that `sivrel render --caches` has written.")
    kept = CacheFolder(path)
    for name, start in marks.items():
        if start:
            kept.mark(_digest(kept, start), *MARKS[name])
    if delete:
        kept.delete(_digest(kept, delete))
    if export:
        data, out = (path / f"{_digest(kept, export[0])}.cache").read_bytes(), Path(export[1])
        beside = out.with_name(f".{out.name}.new")
        beside.write_bytes(data)
        os.replace(beside, out)
    if import_:
        try:
            data = Path(import_).read_bytes()
        except OSError:
            raise InputError(f"There is no file {import_}; check the name.") from None
        import_cache(kept, data, Path(import_).name)
    rows = [
        {
            "cache": file.stem, "kind": about.kind, "of": about.subject, "holds": about.notes.get("count"), "unit": about.notes.get("unit", ""),
            "megabytes": round(file.stat().st_size / 1e6, 2), "seconds": round(float(about.notes.get("seconds", 0.0)), 3),
            "kept": kept.marked(file.stem, "kept"), "locked": kept.marked(file.stem, "locked"), "depends": about.depends,
        }
        for file, about in kept.headers()
    ]  # fmt: skip

    def line(row: dict[str, Any]) -> str:
        held = f"{row['holds'] or '?'} {row['unit']}, {row['megabytes']:.1f} MB, took {row['seconds']:.1f} s"
        marks = "".join(f", {mark}" for mark in ("kept", "locked") if row[mark])
        return f"{row['cache'][:10]}  {row['kind']} of {row['of']}, {held}{marks}"

    def words() -> str:
        return "\n".join(line(row) for row in rows) or "There are no caches here."

    print_result(as_json, {"caches": rows}, words)


def _digest(folder: Any, start: str) -> str:
    """The one cache whose name begins so. Raises InputError."""
    found = [file.stem for file, _ in folder.headers() if file.stem.startswith(start)]
    if len(found) != 1:
        raise InputError(f"{len(found) or 'No'} caches begin with “{start}”; `sivrel caches DIR` lists them.")
    return found[0]
