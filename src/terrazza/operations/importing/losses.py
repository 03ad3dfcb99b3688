"""Losses of an import: what was repaired or left out, in rows and sentences."""

from terrazza.formats.contents import REPAIRS, Repair


def listed_rows(repairs: list[Repair], name: str, number: int | None) -> list[dict]:
    """Repairs as rows of the import report."""
    return [
        {
            "scan": number,
            "name": name,
            "code": r.code,
            "count": r.count,
            "what": REPAIRS[r.code],
            "says": r.says,
        }
        for r in repairs
    ]


def sentence(row: dict) -> str:
    return f"“{row['name']}”: {row['says'] or '{:,} {}.'.format(row['count'], row['what'])}"
