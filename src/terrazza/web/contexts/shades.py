"""Dimensions of the points that views can be coloured by: what files brought beside the usual columns, and
what was measured here.
"""

from dataclasses import dataclass
from hashlib import sha1

import numpy as np

from terrazza.errors import NotFound
from terrazza.operations.spine.job import Job

PREFIX = "extra."
SAMPLE = 2000  # points of a scan, about, that the range is read from
SCANS = 32  # that it is read from
TAIL = 0.02  # share of them that lies beyond the range on either side
METRES = frozenset({"deviation"})  # dimensions that are lengths
LEVELS = 254  # of 1 to 255; 0: no value


@dataclass(frozen=True)
class Shade:
    """A dimension, the values that its colours reach from and to (about 0 where it has both signs), and a
    word that changes whenever they or the values do.
    """

    name: str
    low: float
    high: float
    about_zero: bool
    length: bool
    key: str

    @property
    def column(self) -> str:
        """The column that it shows."""
        return PREFIX + self.name

    def plane(self, values: np.ndarray | None, count: int) -> np.ndarray:
        """(count, 4) u8: in the first slot 1 to 255 from low to high, 0 where there is no value."""
        out = np.zeros((count, 4), np.uint8)
        if values is not None:
            share = (np.asarray(values, np.float32) - self.low) / (self.high - self.low)
            there = np.isfinite(share)
            out[there, 0] = 1 + np.round(np.clip(share[there], 0, 1) * LEVELS)
        return out


def listed(job: Job) -> list[Shade]:
    """All that there are, by name."""
    return job.once("shades", lambda: _listed(job), ("scan", "column"))


def need(job: Job, key: str) -> Shade | None:
    """The one with this key, None for none; NotFound where it is an older one."""
    if not key:
        return None
    found = next((s for s in listed(job) if s.key == key), None)
    if found is None:
        raise NotFound("This dimension has newer values.", "Load the scene again.")
    return found


def _listed(job: Job) -> list[Shade]:
    clouds: dict[str, list] = {}
    for scan in job.scans():
        cloud = job.cloud(scan.id)
        for name in [*cloud.columns.pointers, *cloud.columns.constants]:
            if name.startswith(PREFIX):
                clouds.setdefault(name, []).append(cloud)
    return [shade for name in sorted(clouds) if (shade := _of(name, clouds[name]))]


def _of(name: str, clouds: list) -> Shade | None:
    """None where a dimension has no numbers, or one everywhere."""
    some = clouds[:: -(-len(clouds) // SCANS)]
    parts = [np.asarray(c.pick(name, c.sample(SAMPLE))) for c in some]
    parts = [p.astype(float) for p in parts if p.ndim == 1 and p.dtype.kind in "fiub"]
    values = np.concatenate([p[np.isfinite(p)] for p in parts]) if parts else np.zeros(0)
    if not len(values) or values.min() == values.max():
        return None
    low, high = (float(v) for v in np.quantile(values, [TAIL, 1 - TAIL]))
    about_zero = low < 0 < high
    if about_zero:
        low, high = -max(-low, high), max(-low, high)
    if high <= low:
        high = low + 1.0
    files = [str(c.columns.pointers.get(name) or c.columns.constants.get(name)) for c in clouds]
    key = sha1("|".join([name, f"{low:.6g}", f"{high:.6g}", *files]).encode()).hexdigest()[:10]
    short = name.removeprefix(PREFIX)
    return Shade(short, low, high, about_zero, short in METRES, key)
