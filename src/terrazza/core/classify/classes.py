"""LAS classification codes and their standard names (ASPRS LAS 1.4 R15, table 17)."""

from collections.abc import Callable
from typing import Any

OWN = 64  # codes from here on are a job's own (LAS 1.4 R15, table 17)

NAMES = {
    0: "Created, never classified",
    1: "Unclassified",
    2: "Ground",
    3: "Low vegetation",
    4: "Medium vegetation",
    5: "High vegetation",
    6: "Building",
    7: "Low point (noise)",
    8: "Reserved",
    9: "Water",
    10: "Rail",
    11: "Road surface",
    12: "Reserved",
    13: "Wire – guard (shield)",
    14: "Wire – conductor (phase)",
    15: "Transmission tower",
    16: "Wire-structure connector",
    17: "Bridge deck",
    18: "High noise",
    19: "Overhead structure",
    20: "Ignored ground",
    21: "Snow",
    22: "Temporal exclusion",
    64: "Floor",
    65: "Ceiling",
    66: "Wall",
    67: "Furniture",
    68: "Vehicle",
    69: "Pole",
}


def name(code: int) -> str:
    """Standard name of a class code; codes from 64 on are the user's own, the first six those of the rules by
    kind.
    """
    return NAMES.get(code, "Reserved" if code < OWN else f"User class {code}")


def shares(counts: dict[int, int], name: Callable[[int], str] = name) -> list[dict[str, Any]]:
    """Rows of code, name, points and share (0 to 1) for a table; ``name`` gives the names."""
    total = sum(counts.values())
    return [
        {"code": c, "name": name(c), "points": n, "share": n / total if total else 0.0}
        for c, n in sorted(counts.items())
        if n
    ]
