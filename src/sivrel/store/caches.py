"""Which proofs used which caches; the caches themselves are files (see core.caches)."""

import sqlite3


def used_by(db: sqlite3.Connection) -> dict[str, list[int]]:
    """Numbers of the proofs that used each cache, by its digest, oldest first."""
    rows = db.execute(
        """SELECT json_extract(entry.value, '$.digest') AS digest, proofs.id AS proof FROM proofs, json_each(proofs.meters, '$.ways') AS entry
           UNION
           SELECT json_extract(entry.value, '$.digest') AS digest, proofs.id AS proof FROM proofs, json_each(proofs.maps) AS entry
           ORDER BY proof"""
    )
    used: dict[str, list[int]] = {}
    for row in rows:
        used.setdefault(row["digest"], []).append(row["proof"])
    return used
