"""The space that a data folder takes on disk."""

import os
import shutil
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True)
class Disk:
    """Bytes of pictures (with their small and filtered versions), of caches, of all else in the data folder, and free on its disk."""

    pictures: int
    caches: int
    rest: int
    free: int


def on_disk(data: Path, by_shot: dict[int, list[str]]) -> tuple[Disk, dict[int, int]]:
    """What a data folder takes, and bytes of pictures by shot; `by_shot`: digests of the pictures of each."""
    of_digest: dict[str, int] = {}
    caches = total = 0
    for folder, _, names in os.walk(data):
        for name in names:
            try:
                size = os.stat(os.path.join(folder, name)).st_size
            except OSError:
                continue  # deleted meanwhile
            total += size
            if name.endswith(".cache"):
                caches += size
            elif len(name) >= 64:
                of_digest[name[:64]] = of_digest.get(name[:64], 0) + size
    sizes = {shot: sum(of_digest.get(digest, 0) for digest in digests) for shot, digests in by_shot.items()}
    known = {digest for digests in by_shot.values() for digest in digests}
    pictures = sum(size for digest, size in of_digest.items() if digest in known)
    return Disk(pictures, caches, total - pictures - caches, shutil.disk_usage(data).free), sizes
