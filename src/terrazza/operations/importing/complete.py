"""Import the rest of what an import left out."""

import os
from dataclasses import replace

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.axes import Axes
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.files import disk
from terrazza.formats.contents import DOUBTED
from terrazza.operations.importing.asked import (
    AS_FILE,
    ImportParams,
    need_room,
    need_whole,
    source,
    taken_of,
)
from terrazza.operations.importing.losses import listed_rows, sentence
from terrazza.operations.pieces import reading
from terrazza.operations.pieces.ingest import bring
from terrazza.operations.spine.base import Figures, Operation, Params, operation, scans_field
from terrazza.operations.spine.job import Job, plain
from terrazza.store.schema import COLUMNS


class CompleteParams(Params):
    scans: list[int] = scans_field("Scans of a test import; empty: all of them.")


@operation
class Complete(Operation):
    """Reads the scans of a test import again, this time every point; names, poses and photos stay, cuts,
    classes and photo colours have to be made again.
    """

    name, title, step = "import.complete", "Complete a test import", "Import"
    reads = frozenset()
    writes = frozenset({"scan", "column"})
    Params = CompleteParams

    def run(self, job: Job, params: CompleteParams, progress: Progress) -> Figures:
        scans = [s for s in job.need_scans(params.scans) if s.record.get("taken", {}).get("every", 1) > 1]
        if not scans:
            raise StateError("No scan comes from a test import.", "All points are there already.")
        found, pieces = {}, []
        for scan in scans:
            path, taken = scan.record["path"], scan.record["taken"]
            if path not in found:
                found[path] = reading.look(job.input(path, "The file"), tuple(taken["columns"]))
            axes, within = Axes(*map(tuple, taken["axes"])), taken["within"]
            if scan.record["index"] >= len(found[path].scans):
                raise StateError(
                    f"“{os.path.basename(path)}” no longer holds scan “{scan.name}”.",
                    "Bring the file back as it was, or import it anew.",
                )
            piece = source(
                job,
                found[path],
                scan.record["index"],
                job.scan_folder(scan.id),
                AS_FILE,
                axes,
                tuple(taken["columns"]),
                1,
                tuple(np.inf if w is None else w for w in within) if within else None,
                False,
            )
            pieces.append(replace(piece, factor=taken["factor"]))
        need_room(job, [p.points for p in pieces])
        by_path = {contents.path: contents for contents in found.values()}
        records, mended = bring([(p, by_path[p.path]) for p in pieces], job.fleet, progress)
        need_whole(ImportParams(), [(s.name, r) for s, r in zip(scans, records)])
        doubt = [
            sentence(row)
            for s, mine in zip(scans, mended)
            for row in listed_rows(mine, s.name, s.id)
            if row["code"] in DOUBTED
        ]
        rows, lost = [], set()
        for scan, piece, record in zip(scans, pieces, records):
            lost |= self._replace(job, scan, found[piece.path].scans[piece.index], piece, record)
            rows.append(
                {"scan": scan.id, "name": scan.name, "before": scan.points, "after": record["points"]}
            )
        return {
            "says": f"{len(rows)} scans completed: {sum(r['after'] for r in rows):,} points instead of "
            f"{sum(r['before'] for r in rows):,}",
            "rows": rows,
            "doubt": doubt,
            "notes": [f"{', '.join(sorted(lost))} of the test import were left behind: make them again."]
            if lost
            else [],
        }

    @staticmethod
    def _replace(job, scan, inside, piece, record) -> set[str]:
        """Point the scan to its new columns; returns what of the old ones could not be kept."""
        disk.sync(piece.folder)
        files, before = record.pop("columns"), set(job.columns(scan.id))
        for name in before - set(files):
            job.put("column", f"{scan.id}/{name}", None)
        for name, names in files.items():
            job.put("column", f"{scan.id}/{name}", names, scan=scan.id)
        moved = np.array(record["shift"]) - np.array(scan.record["shift"])
        if scan.pose is not None and np.any(moved):
            job.put(
                "pose",
                scan.id,
                scan.pose_record | {"matrix": plain(scan.pose @ rigid.make(np.eye(3), moved))},
                scan=scan.id,
            )
        kept = {k: v for k, v in scan.record.items() if k not in record and k not in {"intensity_range"}}
        job.put(
            "scan",
            scan.id,
            kept | record | {"grid": list(inside.grid) if inside.grid else None, "taken": taken_of(piece)},
            scan=scan.id,
        )
        return {COLUMNS[name].made for name in before - set(files) if name in COLUMNS and COLUMNS[name].made}
