"""Rows of the list of jobs."""

import os
import uuid

import numpy as np
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.db.models import Job as Row
from terrazza.errors import NotFound
from terrazza.operations.pieces import sights
from terrazza.operations.spine.job import Job
from terrazza.work import demos, keeping

THUMB = 144  # pixels


def build(workspace: str, find: str = "", changed: int = 0) -> dict:
    """The list: jobs that are here, those put away and those deleted, of whose names ``find`` is a part; the
    job that was just deleted.
    """
    touched = keeping.touched()
    rows = [_row(workspace, row, touched) for row in Row.select() if find.lower() in row.name.lower()]
    rows.sort(key=lambda r: -r["touched"])
    of = lambda state: [r for r in rows if r["state"] == state]
    deleted = of(keeping.DELETED)
    return {
        "jobs": of(keeping.HERE),
        "away": of(keeping.AWAY),
        "deleted": deleted,
        "find": find,
        "many": Row.select().count() > 0,
        "demos": demos.offered(),
        "just": next((r for r in deleted if r["id"] == changed), None),
    }


def _row(workspace: str, row: Row, touched: dict[int, float]) -> dict:
    job = Job(workspace, row)
    scans = job.scans()
    placed = [s for s in scans if s.pose is not None]
    return {
        "id": row.id,
        "name": row.name,
        "created": row.created,
        "touched": touched.get(row.id, row.created),
        "scans": len(scans),
        "points": sum(s.points for s in scans),
        "placed": len(placed),
        "place": _place(job, placed),
        "deliverables": len(job.facts("deliverable")),
        "bytes": keeping.size(workspace, row),
        "state": keeping.state(row),
        "since": keeping.since(row),
        "revision": row.revision,
    }


def _place(job: Job, placed: list) -> str:
    """Where a job is: its coordinate system and the middle of its stations, rounded to 10 m."""
    if not job.georeferenced or not placed:
        return "job frame"
    middle = np.mean([rigid.apply(job.frame, s.pose[:3, 3][None])[0] for s in placed], axis=0)
    system = (job.get("crs", "") or {}).get("name", "")
    east, north = (f"{round(v, -1):.0f}" for v in middle[:2])
    return f"E {east} N {north}" + (f", {system}" if system else "")


def thumbnail(job: Job) -> str:
    """A small plan as PNG, kept with the job's pictures until it changes; its path."""
    folder = job.subfolder("pictures")
    path = os.path.join(folder, f"plan-{job.row.revision}.png")
    if os.path.exists(path):
        return path
    if not job.scans(placed=True):
        raise NotFound("No scan has a place yet.", "Register the scans.")
    rgb = sights.plan(job, "walls", THUMB)[0]
    partial = os.path.join(folder, f"{uuid.uuid4().hex}.part")
    Image.fromarray(rgb).save(partial, "PNG")
    for name in os.listdir(folder):
        if name.startswith("plan-") and name.endswith(".png"):
            os.unlink(os.path.join(folder, name))
    os.replace(partial, path)
    return path
