"""Import files."""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.axes import Axes
from terrazza.core.progress import Progress
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.files import checksum, disk
from terrazza.formats.contents import DOUBTED, LEFT_OUT, Contents, Repair
from terrazza.later import later
from terrazza.operations.importing.asked import (
    ImportParams,
    chosen_of,
    looked,
    need_room,
    need_whole,
    source,
    taken_of,
    units_of,
    within_of,
)
from terrazza.operations.importing.losses import listed_rows, sentence
from terrazza.operations.pieces import reading
from terrazza.operations.pieces.ingest import bring
from terrazza.operations.pieces.sources import Source
from terrazza.operations.spine.base import Figures, Operation, operation
from terrazza.operations.spine.job import Job, plain

with later():
    from terrazza.formats import systems


@operation
class ImportFiles(Operation):
    """Reads scans with all their columns, poses and photos; files stay where they are."""

    name, title, step = "import.files", "Import files", "Import"
    writes = frozenset({"scan", "column", "pose", "photo", "crs"})
    Params = ImportParams

    def run(self, job: Job, params: ImportParams, progress: Progress) -> Figures:
        paths = _paths(job, params)
        columns, axes = tuple(params.columns.split()), Axes.named(params.axes)
        found, repairs = looked(paths, columns, params.broken == "leave out")
        chosen, units = chosen_of(found, params.take), units_of(params, len(found))
        need_room(job, [found[f].scans[s].points // params.every for f, s in chosen])
        first = job.next_number("scan")
        numbers = {pick: first + n for n, pick in enumerate(chosen)}
        broken = params.broken == "leave out"
        pieces = [
            source(
                job,
                found[f],
                s,
                job.scan_folder(numbers[f, s]),
                units[f],
                axes,
                columns,
                params.every,
                within_of(found[f], s, params),
                broken,
            )
            for f, s in chosen
        ]
        records, mended = bring([(p, found[f]) for p, (f, _) in zip(pieces, chosen)], job.fleet, progress)
        need_whole(params, [(found[f].scans[s].name, r) for (f, s), r in zip(chosen, records)])
        empty = [found[f].scans[s].name for (f, s), r in zip(chosen, records) if r["points"] == 0]
        if len(empty) == len(records):
            raise InputError(
                "None of the scans holds a valid point.",
                next((r.says for m in mended for r in m if r.code == "scan"), "Export them again."),
            )
        for folder in {p.folder for p in pieces} | {os.path.dirname(job.scan_folder(first))}:
            disk.sync(folder)
        rows, listed = self._entered(job, params, found, numbers, zip(chosen, records, pieces, mended))
        repairs += listed
        photos, notes = self._photos(job, found, numbers, records, dict(zip(chosen, pieces)))
        self._crs(job, found, chosen)
        notes += (
            [note for c in found for note in c.notes]
            + [f"“{n}” holds no valid point and was left out." for n in empty]
            + [sentence(r) for r in repairs if r["code"] not in LEFT_OUT[:3]]
        )
        total, posed = sum(r["points"] for r in rows), sum(r["posed"] for r in rows)
        return {
            "says": f"{len(rows)} scans, {total:,} points, {photos} photos; {posed or 'none'} posed"
            + (f"; every {params.every}th point, as a test" if params.every > 1 else ""),
            "scans": len(rows),
            "points": total,
            "dropped": sum(r["dropped"] for r in rows),
            "lost": sum(r["lost"] for r in rows),
            "photos": photos,
            "posed": posed,
            "rows": rows,
            "notes": notes,
            "repairs": repairs,
            "doubt": [sentence(row) for row in repairs if row["code"] in DOUBTED],
        }

    def _entered(self, job, params: ImportParams, found, numbers, brought) -> tuple[list[dict], list[dict]]:
        """Enter the scans that came in; what is told of each, and all repairs as rows."""
        rows, repairs = [], []
        for (f, s), record, piece, mine in brought:
            mine += [r for r in found[f].repairs if r.scan == s]
            if record["points"]:
                about = record | {"view_width": params.view_width}
                rows.append(self._enter(job, found[f], s, numbers[f, s], about, piece, mine))
            number = numbers[f, s] if record["points"] else None
            repairs += listed_rows(mine, found[f].scans[s].name, number)
        for contents in found:
            of_file = [r for r in contents.repairs if r.scan is None]
            repairs += listed_rows(of_file, os.path.basename(contents.path), None)
        return rows, repairs

    def _enter(self, job, contents: Contents, index, number, record, piece: Source, mine: list[Repair]):
        inside = contents.scans[index]
        files = record.pop("columns")
        taken = {s.name for s in job.scans()}
        name = inside.name
        while name in taken:
            name = f"{inside.name} ({number})"
            taken.discard(name)
        if name != inside.name:
            mine.append(Repair("name", index, 1, f"The name “{inside.name}” is taken; it is now “{name}”."))
        shift = np.array(record["shift"])
        posed = inside.pose is not None or bool(np.any(shift))
        grid = list(inside.grid) if inside.grid and piece.every == 1 else None
        job.put(
            "scan",
            number,
            record
            | {
                "name": name,
                "file": os.path.basename(contents.path),
                "path": os.path.abspath(contents.path),
                "format": contents.format,
                "stationed": inside.stationed,
                "shared": contents.shared,
                "index": index,
                "grid": grid,
                "captured": inside.captured,
                "instrument": inside.instrument,
                "posed": posed,
                "intensity_as": inside.intensity_as,
                "taken": taken_of(piece),
            },
            scan=number,
        )
        for column, names in files.items():
            job.put("column", f"{number}/{column}", names, scan=number)
        if posed:
            pose = np.eye(4) if inside.pose is None else inside.pose.copy()
            pose[:3, 3] = pose[:3, 3] * piece.factor
            job.put(
                "pose",
                number,
                {"matrix": plain(piece.axes.pose(pose) @ rigid.make(np.eye(3), shift)), "how": "file"},
                scan=number,
            )
        return {
            "scan": number,
            "name": name,
            "points": record["points"],
            "dropped": record["dropped"],
            "lost": record["lost"],
            "beyond": record["beyond"],
            "posed": posed,
            "columns": sorted(files),
        }

    def _photos(self, job, found, numbers, records, pieces):
        count, notes = 0, []
        for f, contents in enumerate(found):
            guids = {s.guid: s.index for s in contents.scans if s.guid}
            for image in contents.images:
                index = guids.get(
                    image.scan_guid, image.index if len(contents.images) == len(contents.scans) else None
                )
                number = numbers.get((f, index))
                if index is None:
                    notes.append(f"Photo “{image.name}” names no scan and is left out.")
                elif number is not None:
                    if pieces[f, index].axes.mirrored:
                        notes.append(f"Photo “{image.name}” is left out: the axes chosen mirror its scan.")
                        continue
                    self._photo(
                        job,
                        contents,
                        image,
                        contents.scans[index],
                        number,
                        pieces[f, index],
                        records[list(numbers).index((f, index))],
                    )
                    count += 1
        return count, notes

    def _photo(self, job, contents, image, inside, number, piece: Source, record):
        data, ending = reading.photo(contents.path, image)
        key = f"{number}-{image.index}"
        folder = job.subfolder("photos")
        file = f"photo.{key}.{job.version}.{checksum(data)}.{ending}"
        disk.write_bytes(os.path.join(folder, file), data)
        disk.sync(folder)
        scan_pose = np.eye(4) if inside.pose is None else inside.pose
        pose = rigid.inverse(scan_pose) @ (scan_pose if image.pose is None else image.pose)
        pose[:3, 3] *= piece.factor
        pose = rigid.make(piece.axes.matrix, -np.array(record["shift"])) @ pose
        job.put(
            "photo",
            key,
            {
                "scan": number,
                "name": image.name,
                "file": file,
                "width": image.width,
                "height": image.height,
                "representation": image.representation,
                "lens": image.lens,
                "pose": plain(pose),
            },
            scan=number,
        )

    def _crs(self, job, found, chosen):
        texts = {found[f].crs_wkt for f, _ in chosen if found[f].crs_wkt}
        known = job.get("crs")
        if len(texts | ({known["wkt"]} if known else set())) > 1:
            raise StateError(
                "The files are in different coordinate systems.",
                "Import them into separate jobs, or bring them to one system first.",
            )
        if texts and not known:
            from pyproj import CRS

            wkt = texts.pop()
            job.put(
                "crs",
                "",
                {"wkt": wkt, "metres_per_unit": systems.metres_per_unit(wkt), "name": CRS.from_wkt(wkt).name},
            )


def _paths(job: Job, params: ImportParams) -> list[str]:
    """The files to import; ParamsError where there are none, or no range is left."""
    paths = [job.input(path, "The file") for path in params.files] or job.inputs
    if not paths:
        raise ParamsError(
            "import.files has no files to import.",
            "Name them in “files”, or after the recipe on the command line.",
        )
    if params.farthest and params.farthest <= params.nearest:
        raise ParamsError(
            "import.files: “farthest” is not beyond “nearest”.",
            "Give a larger distance, or 0 for no limit.",
        )
    return paths
