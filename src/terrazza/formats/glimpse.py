"""A glimpse of a scan in a file: an even sample of its points, what they tell of unit and axes, and what is
damaged; made once and kept beside the job's pictures.
"""

import json
import os
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from hashlib import sha1
from typing import TYPE_CHECKING, Any

import numpy as np

from terrazza import formats
from terrazza.core.geometry import evidence
from terrazza.errors import TerrazzaError
from terrazza.files import disk

if TYPE_CHECKING:
    from terrazza.formats.contents import ScanInside
    from terrazza.formats.protocol import Format


KEPT = 120_000
PARTS = 12
PART = 60_000


@dataclass(frozen=True)
class Ask:
    """Which scan to look at: file, its index in it, the columns of a text file (empty: as found), and where
    glimpses are kept.
    """

    path: str
    index: int
    columns: tuple[str, ...]
    folder: str

    @property
    def key(self) -> str:
        about = os.stat(self.path)
        return sha1(
            f"{os.path.realpath(self.path)}|{about.st_mtime_ns}|{about.st_size}|{self.index}|{self.columns}".encode()
        ).hexdigest()[:14]

    @property
    def base(self) -> str:
        return os.path.join(self.folder, f"glimpse-{self.key}")


def kept(ask: Ask) -> dict[str, Any] | None:
    """What was found before, None where nobody has looked yet."""
    try:
        with open(f"{ask.base}.json", encoding="utf-8") as f:
            return json.load(f)
    except (OSError, ValueError):
        return None


def sample(ask: Ask) -> dict[str, np.ndarray]:
    """The sample: ``xyz`` (n, 3) in the file's unit, and ``intensity``, ``rgb`` where there."""
    with np.load(f"{ask.base}.npz") as f:
        return {name: f[name] for name in f.files}


def take(ask: Ask) -> dict[str, Any]:
    """Look, keep, and return what was found: ``low``, ``high`` (3,), ``points`` seen, ``repairs`` by code,
    ``evidence``, or ``error``, a sentence.
    """
    try:
        found = _taken(ask)
    except TerrazzaError as error:
        found = {"error": str(error)}
    except (
        Exception
    ) as error:  # a file of others may break any library; the page shows it and goes on with the next
        found = {"error": f"It cannot be looked into ({type(error).__name__}: {str(error)[:120]})."}
    keep(ask, found)
    return found


def keep(ask: Ask, found: dict[str, Any]) -> None:
    """Remember what was found, or an ``error``, for whoever asks again."""
    disk.write_bytes(f"{ask.base}.json.part", json.dumps(found).encode())
    os.replace(f"{ask.base}.json.part", f"{ask.base}.json")


def _taken(ask: Ask) -> dict[str, Any]:
    contents = formats.look(ask.path, ask.columns)
    inside, reader = contents.scans[ask.index], formats.named(contents.format)
    parts, at_origin = _by_parts(reader, inside), inside.stationed
    step, seen, repairs = max(inside.points // KEPT, 1), 0, {}
    held: dict[str, list[Any]] = {}
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    scale = reader.coordinates(ask.path, ask.index)
    for chunk in _chunks(reader, ask, inside, step):
        stored = chunk["position"] if "position" in chunk else chunk["xyz"]
        placed = (
            (lambda v: v * np.asarray(scale[0]) + np.asarray(scale[1]))
            if "position" in chunk
            else (lambda v: v)
        )
        for code, n in chunk.get("repairs", {}).items():
            repairs[code] = repairs.get(code, 0) + n
        sampled = "seen" in chunk  # by the reader, which then tells of all points what is wanted
        there = chunk["seen"] if sampled else len(stored)
        if not there:
            continue
        lowest, highest = (chunk["low"], chunk["high"]) if sampled else (stored.min(0), stored.max(0))
        low, high = np.minimum(low, placed(lowest)), np.maximum(high, placed(highest))
        some = (
            slice(None)
            if sampled
            else slice(None, None, max(len(stored) * PARTS // KEPT, 1))
            if parts
            else slice((-seen) % step, None, step)
        )
        seen += there
        held.setdefault("xyz", []).append(placed(stored[some]))
        for ours, name in (("intensity", "intensity"), ("rgb", "native_rgb"), ("column", "column")):
            if name in chunk:
                held.setdefault(ours, []).append(chunk[name][some])
    if not seen:
        return {"error": "It holds no valid point.", "repairs": repairs}
    arrays = {name: np.concatenate(some) for name, some in held.items()}
    told = evidence.read(
        arrays["xyz"] - (0 if at_origin else arrays["xyz"].mean(0)), at_origin, arrays.get("column")
    )
    with open(f"{ask.base}.npz.part", "wb") as f:
        np.savez(f, **arrays)
    os.replace(f"{ask.base}.npz.part", f"{ask.base}.npz")
    return {
        "low": low.tolist(),
        "high": high.tolist(),
        "points": seen,
        "repairs": repairs,
        "evidence": asdict(told),
        "stationed": at_origin,
    }


def _by_parts(reader: "Format", inside: "ScanInside") -> bool:
    return reader.seeks and inside.points > 2 * PARTS * PART


def _chunks(
    reader: "Format", ask: "Ask", inside: "ScanInside", step: int
) -> Iterator[dict[str, dict[str, int] | np.ndarray]]:
    if _by_parts(reader, inside):
        for k in range(PARTS):
            start = (inside.points - PART) * k // (PARTS - 1)
            yield from reader.points(ask.path, ask.index, start=start, stop=start + PART)
    else:
        how = {"raw": True, "every": step} if reader.sparse else {}
        yield from reader.points(ask.path, ask.index, columns=ask.columns, **how)
