"""Deliver PTX."""

import os

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.files import whole
from terrazza.later import later
from terrazza.operations.deliver.apart import PointFile
from terrazza.operations.deliver.chosen import chosen_of, delivered
from terrazza.operations.deliver.comparing import compare
from terrazza.operations.deliver.laz import LazParams
from terrazza.operations.pieces.leaving import need_own_frames
from terrazza.operations.pieces.promises import decimals_of, step_of
from terrazza.operations.pieces.selection import Selection
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.formats import ptx_writer

LINES = 200_000  # of a grid that become text at once


class PtxParams(LazParams):
    path: str = field(
        "File", "scans.ptx", role="write", help="Relative paths land in the job's deliverables."
    )


@operation
class DeliverPtx(PointFile):
    """Writes PTX: each scan in its own frame with its grid and pose, 0 0 0 where nothing came back or a cut
    took it; scans without a grid as one row.
    """

    name, title, step = "deliver.ptx", "PTX", "Deliver"
    reads, writes = frozenset("scan pose frame crs cut column".split()), frozenset({"deliverable"})
    looks = frozenset({"box"})
    Params = PtxParams

    def write(self, job: Job, params: PtxParams, progress: Progress) -> Figures:
        need_own_frames(params)
        path = job.output(params.path, ".ptx")
        with (
            chosen_of(job, params, progress, placed=False, own=True) as (chosen, rest),
            job.scratch() as folder,
        ):
            colour = any(chosen.colours.values())
            cells = ptx_writer.Cells(colour, decimals_of(params.scale), params.depth == "16 bit")
            with whole(path) as partial, open(partial, "wb") as out:
                done = 0
                for scan in chosen.scans:
                    share = done / chosen.points, (done + chosen.of(scan)) / chosen.points
                    if chosen.of(scan):
                        _scan(job, scan, chosen, cells, folder, out, Part(rest, *share))
                    done += chosen.of(scan)
            scans = [s.id for s in chosen.scans if chosen.of(s)]
            step = step_of(params.scale)
            columns = ("intensity",) + ("rgb",) * colour
            compared = lambda path: compare(path, "PTX", _cells(folder, scans), step, columns)
            what = f"points in {len(scans)} scans"
            return delivered(job, chosen, path, "PTX", what, step, compared=compared)


def _cells(folder: str, scans: list[int]):
    """What lies in the cells of all scans, in the order of the file."""
    for scan in scans:
        table = np.load(os.path.join(folder, f"grid-{scan}.npy"), mmap_mode="r")
        for start in range(0, len(table), LINES):
            part = np.array(table[start : start + LINES])
            part = part[(part["xyz"] != 0).any(1)]
            yield {name: part[name] for name in ("xyz", "intensity", "rgb")}


def _scan(job: Job, scan: Scan, chosen: Selection, cells, folder: str, out, progress: Progress) -> None:
    cloud, grid = job.cloud(scan.id), scan.record.get("grid")
    gridded = bool(grid) and cloud.has("row") and cloud.has("column")
    rows, columns = (int(grid[0]), int(grid[1])) if gridded else (1, chosen.of(scan))
    path = os.path.join(folder, f"grid-{scan.id}.npy")
    table = np.lib.format.open_memmap(path, mode="w+", dtype=cells.kind, shape=(rows * columns,))
    done = 0
    for portion in chosen.portions(LINES, [scan]):
        for chunk in portion.chunks(Part(progress, 0.4 * done / columns / rows, 0.4), own=True):
            place = done + np.arange(len(chunk["xyz"]))
            done += len(place)
            if gridded:
                place = chunk["column"].astype(np.int64) * rows + chunk["row"]
            cells.put(table, place, chunk)
    pose = chosen.ways[scan.id].pose
    out.write(ptx_writer.heading(columns, rows, np.eye(4) if pose is None else pose))
    starts = range(0, len(table), LINES)
    pieces = [(path, start, min(start + LINES, len(table))) for start in starts]
    for text in job.fleet.each(
        _lines,
        pieces,
        [b - a for _, a, b in pieces],
        Part(progress, 0.4, 1.0),
        f"Writing {scan.name}",
        cells,
        light=True,
    ):
        out.write(text)


def _lines(piece, cells, progress: Progress) -> bytes:
    path, start, stop = piece
    text = cells.text(np.load(path, mmap_mode="r")[start:stop])
    progress.advance(stop - start, stop - start)
    return text
