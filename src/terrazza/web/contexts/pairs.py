"""Pictures of how far the two scans of a tie lie apart: walls, and floors and ceilings, in plan."""

import io

import numpy as np
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.errors import NotFound
from terrazza.later import later
from terrazza.operations.spine.job import Job

with later():
    from scipy import ndimage

    from terrazza.core.register import apart
    from terrazza.core.surfaces import unrolled

SPACING = 0.03  # m between points that are compared
MOST = 150_000  # of the first scan
WIDTH, HEIGHT = 472, 320  # px, twice as many as it is shown with
LEAST = 0.005  # m: what has the full colour at least
TIMES = 3.0  # the usual distance that has it otherwise
SEEN = (168, 164, 150)  # what lies on what the other saw
KINDS = {"walls": True, "floors": False}


def told(job: Job, a: int, b: int) -> dict:
    """Figures of a pair: by kind of surface how many places, median and RMS of their distances (mm), and what
    has the full colour (mm).
    """
    found, scale = _measured(job, a, b)
    rows = [
        {
            "kind": kind,
            "places": int(mine.sum()),
            "median_mm": 1000 * float(np.median(found.off[mine])),
            "rms_mm": 1000 * float(np.sqrt(np.mean(found.off[mine] ** 2))),
        }
        for kind, wall in KINDS.items()
        if (mine := found.wall == wall).any()
    ]
    return {
        "a": a,
        "b": b,
        "names": [job.scan(k).name for k in (a, b)],
        "rows": rows,
        "scale_mm": 1000 * scale,
    }


def png(job: Job, a: int, b: int, kind: str) -> bytes:
    """The picture of one kind of surface, north up; red lies before what the second scan saw, blue behind."""
    if kind not in KINDS:
        raise NotFound(f"There is no picture of {kind}.", "Load the page again.")
    found, scale = _measured(job, a, b)
    mine = found.wall == KINDS[kind]
    sums, many = np.zeros(HEIGHT * WIDTH), np.zeros(HEIGHT * WIDTH)
    if mine.any():
        low, high = found.xyz[:, :2].min(0), found.xyz[:, :2].max(0)
        pixel = max(float(((high - low) / [WIDTH - 2, HEIGHT - 2]).max()), SPACING / 2)
        corner = (low + high) / 2 + pixel * np.array([-WIDTH / 2, HEIGHT / 2])
        column, row = ((found.xyz[mine, :2] - corner) / [pixel, -pixel]).astype(int).T
        sums = np.bincount(row * WIDTH + column, found.off[mine], HEIGHT * WIDTH)
        many = np.bincount(row * WIDTH + column, minlength=HEIGHT * WIDTH).astype(float)
    if KINDS[kind]:  # walls are lines in plan: three pixels wide
        sums, many = (ndimage.convolve(v.reshape(HEIGHT, WIDTH), np.ones((3, 3))) for v in (sums, many))
    mean = np.where(many > 0.5, sums / np.maximum(many, 1), np.nan).reshape(HEIGHT, WIDTH)
    out = io.BytesIO()
    Image.fromarray(unrolled.coloured(mean, scale, SEEN)).save(out, "PNG")
    return out.getvalue()


def _measured(job: Job, a: int, b: int):
    """The distances of a pair, and what has the full colour (m)."""
    one, two = job.scan(a), job.scan(b)
    if one.pose is None or two.pose is None:
        raise NotFound(f"Scans {a} and {b} are not both placed.", "Register them first.")
    found = job.once(("apart", a, b), lambda: _apart(job, one, two), ("pose", "frame", "cut", "column"))
    usual = float(np.median(np.abs(found.off))) if len(found.off) else 0.0
    return found, max(LEAST, TIMES * usual)


def _apart(job: Job, one, two):
    poses = [job.grid_pose(s) for s in (one, two)]
    corner = poses[0][:3, 3]
    parts = []
    for scan, pose, other in ((one, poses[0], two), (two, poses[1], one)):
        low, high = (np.array(v) for v in other.record["bounds"])
        back = rigid.inverse(job.grid_pose(other)) @ pose
        cloud = job.cloud(scan.id)
        index = cloud.kept_of(cloud.inside(low - 1, high + 1, back, SPACING))
        parts.append(rigid.apply(pose, cloud.at(index)) - corner)
    own = parts[0][:: len(parts[0]) // MOST + 1]
    return apart.measured(own, parts[1], poses[1][:3, 3] - corner)
