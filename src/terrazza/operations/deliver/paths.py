"""Deliver the paths of walks."""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.files import whole
from terrazza.formats import ply_writer
from terrazza.operations.deliver.listing import table
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job

HEAD = ["scan", "name", "time", "X", "Y", "Z", "heading_deg", "stop"]
STEP = 1e-4  # m


class PathsParams(Params):
    path: str = field(
        "File", "paths", role="write", help="Without an ending: paths.csv as text and paths.ply as points."
    )
    scans: list[int] = scans_field("Empty: all walks.")


@operation
class DeliverPaths(Operation):
    """Writes the paths of walks, in the grid: as text with time and heading, stops marked, and as points."""

    name, title, step = "deliver.paths", "Paths of walks", "Deliver"
    reads, writes = frozenset({"scan", "pose", "frame", "walk", "array"}), frozenset({"deliverable"})
    Params = PathsParams

    def run(self, job: Job, params: PathsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so its path has no place")
        walks = [s for s in scans if job.get("walk", s.id)]
        if not walks:
            raise StateError("None of these scans has a path.", "Give a walk its trajectory first.")
        rows, places = [], []
        for scan in walks:
            path, pose = job.array(f"path-{scan.id}"), job.grid_pose(scan)
            xyz = rigid.apply(pose, path[:, 1:4])
            heading = np.degrees(path[:, 4] + rigid.heading(pose)) % 360
            at = {
                int(np.abs(path[:, 0] - s["time"]).argmin()): k
                for k, s in enumerate(job.get("walk", scan.id)["stops"], 1)
            }
            for k, (time, p, h) in enumerate(zip(path[:, 0], xyz, heading)):
                place = [f"{v:.4f}" for v in p]
                rows.append([scan.id, scan.name, f"{time:.6f}", *place, f"{h:.4f}", at.get(k, "")])
            places.append({"xyz": xyz, "source": np.full(len(xyz), scan.id)})
        base, ending = os.path.splitext(params.path)
        wanted = [ending.lower()] if ending.lower() in WRITERS else list(WRITERS)
        base = base if ending.lower() in WRITERS else params.path
        paths = [WRITERS[kind](job, base + kind, rows, places) for kind in wanted]
        return {
            "says": f"{len(walks)} paths with {len(rows):,} places, in {len(paths)} files",
            "path": paths[0],
            "paths": paths,
            "places": len(rows),
        }


def _text(job: Job, path: str, rows: list, places: list) -> str:
    full = job.output(path, ".csv")
    with whole(full) as partial:
        table(partial, HEAD, rows)
    job.deliver(full, format="CSV", lines=len(rows))
    return full


def _points(job: Job, path: str, rows: list, places: list) -> str:
    full, record = job.output(path, ".ply"), ply_writer.Record((), STEP)
    with ply_writer.Writer(full, record.heading(len(rows))) as out:
        for chunk in places:
            out.put(record.data(chunk))
    job.deliver(full, format="PLY", points=len(rows))
    return full


WRITERS = {".csv": _text, ".ply": _points}
