"""The plan as a picture: what may be chosen in it, and its tiles, kept in the job's pictures folder, which
may be deleted at any time.
"""

import io
import os
import threading
from functools import lru_cache
from hashlib import sha1
from uuid import uuid4

import numpy as np
from PIL import Image
from pydantic import BaseModel, Field

from terrazza.errors import NotFound
from terrazza.later import later
from terrazza.operations.pieces import sights
from terrazza.operations.pieces.floors import floors
from terrazza.operations.spine.job import Job
from terrazza.web.contexts import scene

with later():
    from terrazza.core.draw import from_above

TILE = 512
LEVELS = (-8, 10)  # a pixel is 2 to the power of minus the level, in metres
KEPT = 3000
EVERYWHERE = (-1e6, 1e6)
REACH = (-4.5, 5.5)  # m about the stations that are coloured by height
_few = threading.Semaphore(2)


class Seen(BaseModel):
    """What is looked at: scans (none: all), classes switched off, lowest and highest height (m, as shown)."""

    scans: list[int] = []
    hidden: list[int] = []
    low: float | None = Field(None, allow_inf_nan=False)
    high: float | None = Field(None, allow_inf_nan=False)


def build(job: Job) -> dict:
    """What the table asks before it draws tiles."""
    return {
        "version": version_of(job),
        "tile": TILE,
        "levels": LEVELS,
        "tones": from_above.TONES,
        "floors": floors(job),
    }


def version_of(job: Job) -> str:
    """One word for all that a plan shows."""
    told = [f"{s.id} {scene.version_of(job, s.id)} {pose.round(6).tolist()}" for s, pose in scene.shown(job)]
    return sha1("\n".join(told).encode()).hexdigest()[:12]


def tile(job: Job, how: str, level: int, x: int, y: int, seen: Seen) -> bytes:
    """PNG of one tile: ``TILE`` pixels of 2^-``level`` m, tile (0, 0) beginning at the zero of the grid and
    counted to east and north; see-through where nothing is.
    """
    if how not in from_above.TONES or not LEVELS[0] <= level <= LEVELS[1]:
        raise NotFound(
            "There is no such picture of the plan.",
            f"Ask for {', '.join(from_above.TONES)}, levels {LEVELS[0]} to {LEVELS[1]}.",
        )
    told = f"{version_of(job)} {how} {level} {x} {y} {seen.model_dump_json()}"
    path = os.path.join(job.subfolder("pictures"), f"plan-{sha1(told.encode()).hexdigest()[:20]}.png")
    if os.path.exists(path):
        with open(path, "rb") as file:
            return file.read()
    with _few:
        made = _made(job, how, level, x, y, seen)
    _keep(path, made)
    return made


def _made(job: Job, how: str, level: int, x: int, y: int, seen: Seen) -> bytes:
    pixel = 2.0**-level
    span = TILE * pixel
    sheet = from_above.Sheet((x * span, (y + 1) * span), pixel, TILE, TILE)
    heights = (
        EVERYWHERE[0] if seen.low is None else seen.low,
        EVERYWHERE[1] if seen.high is None else seen.high,
    )
    low, high = (
        np.array([x * span, y * span, heights[0]]),
        np.array([(x + 1) * span, (y + 1) * span, heights[1]]),
    )
    stations = []
    for scan, pose in scene.shown(job):
        if not seen.scans or scan.id in seen.scans:
            stations.append(pose[2, 3])
            sights.add(sheet, job.cloud(scan.id), scan.record, pose, low, high, heights, seen.hidden)
    if not (sheet.weight > 0).any():
        return _nothing()
    coloured = (min(stations) + REACH[0], max(stations) + REACH[1])
    return _png(sheet.picture(how, (max(coloured[0], heights[0]), min(coloured[1], heights[1]))))


def _png(picture: np.ndarray) -> bytes:
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "PNG", compress_level=1)
    return out.getvalue()


@lru_cache(maxsize=1)
def _nothing() -> bytes:
    return _png(np.zeros((1, 1, 4), np.uint8))


def _keep(path: str, made: bytes) -> None:
    """Keep a tile under its name, and of more than ``KEPT`` only the newer half."""
    own = f"{path}.{uuid4().hex}"
    with open(own, "wb") as file:
        file.write(made)
    os.replace(own, path)
    with os.scandir(os.path.dirname(path)) as there:
        tiles = [e for e in there if e.name.startswith("plan-")]
    if len(tiles) > KEPT:
        for entry in sorted(tiles, key=lambda e: e.stat().st_mtime)[: KEPT // 2]:
            try:
                os.remove(entry.path)
            except FileNotFoundError:
                pass  # another tab was first
