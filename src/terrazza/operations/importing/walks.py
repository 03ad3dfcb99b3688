"""Step 1, Import: the trajectory of a walked scan, and stops on it."""

import os

import numpy as np

from terrazza.core.progress import Progress
from terrazza.core.walks import path as paths
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

MOST = 20_000


class WalkParams(Params):
    scan: int = field("Scan", ge=1, widget="scan", help="Number of the walked scan; its points have times.")
    trajectory: str = field(
        "Trajectory",
        "",
        help="Path of a text file with time, x, y, z and where there heading or attitude, also relative to "
        "the imported files. Empty: the one in the scan's own PLY file.",
        widget="file",
        role="read",
    )
    columns: str = field(
        "Columns",
        "",
        help="A word for each column of the file: time x y z heading qw qx qy qz, or - to pass it by. Empty: "
        "as found.",
    )
    every: float = field(
        "Stop every",
        2.5,
        unit="m",
        ge=0,
        le=100,
        help="0: not by distance. 2.5 m is usual, 0.5 to 1 m in tight rooms.",
    )
    turn_deg: float = field(
        "Stop after a turn of", 0.0, unit="°", blank="none", ge=0, le=180, help="0: not by turning."
    )


@operation
class Walk(Operation):
    """Gives a walked scan its path and sets stops on it: virtual stations to look around from; points belong
    to the stop nearest in time.
    """

    name, title, step = "import.walk", "Path and stops of a walk", "Import"
    reads, writes = frozenset({"scan"}), frozenset({"walk", "array"})
    Params = WalkParams

    def run(self, job: Job, params: WalkParams, progress: Progress) -> Figures:
        scan, cloud = job.scan(params.scan), job.cloud(params.scan)
        if not cloud.has("time") or "time" in scan.record.get("constants", {}):
            raise StateError(
                f"The points of “{scan.name}” have no times.",
                "Import the walk from a file that keeps the time of each point.",
            )
        if not (params.every or params.turn_deg):
            raise ParamsError("import.walk: stops need a distance or a turn.", "Give “every” or “turn_deg”.")
        beside = os.path.dirname(scan.record.get("path", ""))
        time, xyz, heading = reading.way(
            job.input(params.trajectory or scan.record["path"], "The trajectory", (beside,)),
            tuple(params.columns.split()),
        )
        path = paths.Path.of(
            time, xyz * scan.record["taken"]["factor"] - np.array(scan.record["shift"]), heading
        )
        if params.every and path.along[-1] / params.every > MOST:
            raise InputError(
                f"The trajectory would be {path.along[-1]:,.0f} m long, with "
                f"{path.along[-1] / params.every:,.0f} stops; {MOST:,} are the most.",
                "Choose the trajectory of this walk, or stops farther apart.",
            )
        times = paths.stops(path, params.every, np.radians(params.turn_deg))
        counts, outside = np.zeros(len(times), np.int64), 0
        for start, stop in cloud.blocks():
            progress.advance(start, cloud.count, "Assigning points to stops")
            when = cloud.read("time", start, stop)
            outside += int(((when < path.time[0] - 1) | (when > path.time[-1] + 1)).sum())
            counts += np.bincount(paths.belongs(when, times), minlength=len(times))
        if outside == cloud.count:
            raise InputError(
                f"The times of the trajectory ({path.time[0]:.1f} to {path.time[-1]:.1f} s) and of the "
                "points do not meet.",
                "Choose the trajectory of this walk.",
            )
        thin = max(len(path.time) // MOST, 1)
        job.write_array(f"path-{scan.id}", np.c_[path.time, path.xyz, path.heading][::thin])
        places = path.at(times)
        stops = [
            {"time": float(t), "at": p.tolist(), "points": int(n)} for t, p, n in zip(times, places, counts)
        ]
        job.put(
            "walk",
            scan.id,
            {"stops": stops, "length": float(path.along[-1]), "seconds": float(path.time[-1] - path.time[0])},
            scan=scan.id,
        )
        notes = [f"{outside:,} points were taken before or after the trajectory."] if outside else []
        return {
            "says": f"{scan.name}: {Notation.of(job).length(path.along[-1])} walked, {len(stops)} stops",
            "length": float(path.along[-1]),
            "stops": len(stops),
            "notes": notes,
        }
