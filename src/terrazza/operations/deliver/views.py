"""Deliver what is seen from stations and stops as pictures."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.formats import handover_writer as writer
from terrazza.operations.deliver.folders import made
from terrazza.operations.deliver.listing import table
from terrazza.operations.pieces import sights, stations
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job

LIST = "views.csv"
HEAD = "file scan name stop columns rows X Y Z left_deg right_deg top_deg bottom_deg".split()


class ViewsParams(Params):
    path: str = field(
        "Folder", "views", role="write", help="A folder; relative paths land in the job's deliverables."
    )
    scans: list[int] = scans_field("Empty: all placed scans with stations or stops.")
    stops: bool = field("Stops of walks", True)


@operation
class DeliverViews(Operation):
    """Writes what is seen from each station and stop, at full resolution, as pictures, with a list of their
    places and of the directions at their edges (counter-clockwise from east; up).
    """

    name, title, step = "deliver.views", "Views", "Deliver"
    reads = frozenset({"scan", "pose", "frame", "column", "cut", "walk"})
    writes = frozenset({"deliverable"})
    Params = ViewsParams

    def run(self, job: Job, params: ViewsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so its views have no place")
        looks = [(s, k) for s, k in stations.looks(job, scans) if params.stops or not k]
        if not looks:
            raise StateError("These scans have no stations and no stops.", "Give a walk its path first.")
        rows: list[list] = []
        with made(job, params.path, LIST, "views") as folder:
            for k, (scan, stop) in enumerate(looks):
                progress.advance(k, len(looks), f"View from {scan.name}")
                seen, azimuth, elevation = sights.from_station(job, scan.id, stop)
                name = f"{scan.id}-{stop}.jpg" if stop else f"{scan.id}.jpg"
                writer.picture(folder.file(name), seen)
                pose = job.grid_pose(scan)
                place = rigid.apply(pose, stations.eye(job, scan.id, stop)[None])[0]
                level = np.degrees([azimuth[0], azimuth[-1]]) + np.degrees(rigid.heading(pose))
                rows.append(
                    [
                        name,
                        scan.id,
                        scan.name,
                        stop or "",
                        seen.shape[1],
                        seen.shape[0],
                        *(f"{v:.4f}" for v in place),
                        *(f"{v:.5f}" for v in (*level, *np.degrees([elevation[0], elevation[-1]]))),
                    ]
                )
            table(folder.file(LIST), HEAD, rows)
        return {
            "says": f"{len(rows)} views, {folder.size / 1e6:.1f} MB",
            "path": folder.path,
            "pictures": len(rows),
            "bytes": folder.size,
        }
