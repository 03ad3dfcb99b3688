"""Points of a slab or a box as a view shows them, cut out of the octrees: only those inside, evenly thinned
where they are more than can be drawn.
"""

from typing import Annotated

import numpy as np
from pydantic import BaseModel, Field

from terrazza.later import later
from terrazza.operations.spine.job import Job
from terrazza.store import schema
from terrazza.web.contexts import shades
from terrazza.web.contexts.picking import Four
from terrazza.web.contexts.scene import origin_of, shown

with later():
    from terrazza.store import regions as store

Plane = Four
Planes = Annotated[list[Plane], Field(min_length=1, max_length=24)]


class Wanted(BaseModel):
    """What a view asks for, in the scene's coordinates: convex pieces as planes (a, b, c, d: a x + b y + c z
    ≤ d), less the box ``but``.
    """

    pieces: Annotated[list[Planes], Field(min_length=1, max_length=200)]
    but: Annotated[list[Plane], Field(max_length=6)] = []
    scans: Annotated[list[int], Field(max_length=100_000)]
    hidden: Annotated[list[Annotated[int, Field(ge=0, le=255)]], Field(max_length=256)] = []
    budget: int = Field(ge=1, le=5_000_000)
    shade: str = Field("", max_length=40)


def pack(job: Job, wanted: Wanted) -> bytes:
    """Header (u32 scans, u32 whether these are all points, 8 bytes zero), then for each scan with points: u32
    scan, u32 count, f64×3 a place in the scan's frame (m), and planes: f32×4 (x, y, z from that place,
    intensity from 0 to 1), the others of ``schema.PLANES``, u8×4 each, and with a ``shade`` its own.
    Little-endian.
    """
    origin, chosen, shade = origin_of(job), set(wanted.scans), shades.need(job, wanted.shade)
    clouds = []
    for scan, pose in shown(job):
        if scan.id in chosen:
            place = pose.copy()
            place[:3, 3] -= origin
            clouds.append((scan.id, job.cloud(scan.id), place))
    region = store.Region(
        tuple(np.array(p, float) for p in wanted.pieces),
        np.array(wanted.but, float).reshape(-1, 4),
        tuple(wanted.hidden),
    )
    found, whole = store.points([(cloud, place) for _, cloud, place in clouds], region, wanted.budget)
    parts = [
        _planes(number, cloud, index, shade) for (number, cloud, _), index in zip(clouds, found) if len(index)
    ]
    return np.array([len(parts), whole, 0, 0], "<u4").tobytes() + b"".join(parts)


def _planes(number: int, cloud, index: np.ndarray, shade: shades.Shade | None) -> bytes:
    xyz, count = cloud.at(index), len(index)
    middle = np.round((xyz.min(0) + xyz.max(0)) / 2, 3)
    first = np.zeros((count, 4), "<f4")
    first[:, :3] = xyz - middle
    if cloud.has("intensity"):
        first[:, 3] = cloud.pick("intensity", index) / 65535
    wanted = [
        n for n, c in schema.COLUMNS.items() if (c.plane in schema.PLANES[1:] or c.pulse) and cloud.has(n)
    ]
    others = schema.planes({name: cloud.pick(name, index) for name in wanted}, count)
    if shade:
        name = shade.column
        others.append(shade.plane(cloud.pick(name, index) if cloud.has(name) else None, count))
    return b"".join(
        [
            np.array([number, count], "<u4").tobytes(),
            middle.astype("<f8").tobytes(),
            first.tobytes(),
            *(plane.tobytes() for plane in others),
        ]
    )
