"""Deliver E57."""

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.later import later
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered, pieces_of
from terrazza.operations.pieces.leaving import need_own_frames
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Portion, Selection
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job

GATHERED = 200_000
MERGED_STEP = 1e-4  # m: of coordinates in one scan of all points
E57_COLUMNS = {"xyz", "intensity", "native_rgb", "row", "column"}

with later():
    from terrazza.formats import e57_writer


class E57Params(PointParams):
    path: str = field(
        "File", "scans.e57", role="write", help="Relative paths land in the job's deliverables."
    )
    merged: bool = field(
        "Merged into one",
        False,
        help="Off: each scan in its own frame with its pose and photos. On: one cloud in the common frame.",
    )


@operation
class DeliverE57(PointFile):
    """Writes E57: per scan with poses, grid and photos, or merged."""

    name, title, step = "deliver.e57", "E57", "Deliver"
    reads = frozenset({"scan", "pose", "frame", "crs", "cut", "column", "tie"})
    writes = frozenset({"deliverable"})
    looks = frozenset({"photo", "box"})
    Params = E57Params

    def write(self, job: Job, params: E57Params, progress: Progress) -> Figures:
        path = job.output(params.path, ".e57")
        if not params.merged:
            need_own_frames(params)
        with chosen_of(job, params, progress, params.merged, own=not params.merged) as (chosen, rest):
            with e57_writer.Writer(path, chosen.target.wkt if chosen.target.unit == 1 else "") as out:
                (self._merged if params.merged else self._apart)(job, chosen, out, rest)
            scans = 1 if params.merged else sum(chosen.of(s) > 0 for s in chosen.scans)
            step = max(float(job.cloud(s.id).scale[0]) for s in chosen.scans)
            step = MERGED_STEP if params.merged else step
            return delivered(job, chosen, path, "E57", f"points in {scans} scans", step)

    def _apart(self, job, chosen, out, progress):
        guids, done = {}, 0
        for scan in chosen.scans:
            if chosen.of(scan):
                guids[scan.id] = self._one(job, scan, chosen, out, progress, done)
            done += chosen.of(scan)
        for tie in job.facts("tie").values():
            if not tie["failed"] and {tie["a"], tie["b"]} <= set(guids):
                out.add_tie(guids[tie["a"]], guids[tie["b"]], tie["rms_mm"] / 1000, tie["overlap"])

    @staticmethod
    def _one(job, scan, chosen, out, progress, done) -> str:
        cloud = job.cloud(scan.id)
        grid = tuple(scan.record["grid"]) if scan.record.get("grid") and cloud.has("row") else None
        columns = (
            ["xyz"]
            + ["intensity"] * cloud.has("intensity")
            + ["native_rgb"] * bool(chosen.colours[scan.id])
            + ["row", "column"] * bool(grid)
        )
        pose, part = (
            chosen.ways[scan.id].pose,
            Part(progress, done / chosen.points, (done + chosen.of(scan)) / chosen.points),
        )
        guid = out.add_scan(
            scan.name,
            _gathered(job, chosen, [scan], part, own=True),
            columns,
            pose=pose,
            grid=grid,
            scale=float(cloud.scale[0]),
            offset=tuple(cloud.offset),
            bounds=cloud.bounds(),
            instrument=scan.record.get("instrument", ""),
            deep=chosen.params.depth == "16 bit",
        )
        for photo in job.facts("photo").values():
            if photo["scan"] == scan.id:
                with open(job.own_file("photos", photo["file"]), "rb") as f:
                    place = np.array(photo["pose"])
                    out.add_image(
                        f.read(),
                        photo["representation"],
                        photo["width"],
                        photo["height"],
                        guid,
                        place if pose is None else pose @ place,
                        photo["name"],
                        lens=photo.get("lens"),
                    )
        return guid

    @staticmethod
    def _merged(job, chosen, out, progress):
        low, high = chosen.bounds()
        middle = np.round((low + high) / 2)
        coloured = any(chosen.colours.values())
        toned = all(job.cloud(s.id).has("intensity") for s in chosen.scans)
        out.add_scan(
            job.row.name,
            _gathered(job, chosen, chosen.scans, progress, own=False),
            ["xyz"] + ["intensity"] * toned + ["native_rgb"] * coloured,
            pose=None,
            scale=MERGED_STEP,
            offset=tuple(middle),
            bounds=(low, high),
            deep=chosen.params.depth == "16 bit",
        )


def _gathered(job: Job, chosen: Selection, scans: list, progress: Progress, own: bool):
    for chunks in pieces_of(
        job, chosen, _as_e57, own, progress, min(job.fleet.points_at_once, GATHERED), scans
    ):
        yield from chunks


def _as_e57(portion: Portion, own: bool, progress: Progress) -> list[dict]:
    return [
        {
            name: values
            for name, values in (chunk | {"native_rgb": chunk["rgb"]}).items()
            if name in E57_COLUMNS
        }
        for chunk in portion.chunks(progress, own)
    ]
