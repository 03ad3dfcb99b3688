"""Step 1, Import: bring scans and their photos from files into the job."""

import os
import shutil
from dataclasses import replace
from typing import Literal

import numpy as np

from terrazza import formats
from terrazza.core.geometry import rigid
from terrazza.core.geometry.axes import Axes
from terrazza.core.progress import Progress
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.files import checksum, disk
from terrazza.formats import las
from terrazza.formats.contents import DOUBTED, LEFT_OUT, REPAIRS, Contents, Repair
from terrazza.formats.glimpse import stationed
from terrazza.operations import reading
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.ingest import Source, bring
from terrazza.operations.job import Job, plain
from terrazza.units import FACTORS as UNITS
from terrazza.units import metres_per

AS_FILE = "as the file says"
BYTES_A_POINT = 60
MOST_LOST = 0.01


class ImportParams(Params):
    files: list[str] = field(
        "Files",
        list,
        help=f"Paths of {formats.KNOWN} files; empty: the inputs of the command line.",
        widget="files",
        role="read",
    )
    take: list[str] = field(
        "Scans to take",
        list,
        help="Each as file:scan, counted from 1, for example 1:3. Empty: all.",
        widget="take",
    )
    unit: Literal[
        "as the file says", "metre", "millimetre", "international foot", "US survey foot", "inch"
    ] = field(
        "Unit",
        AS_FILE,
        help="What one unit in the files is. E57 counts in metres by its standard; LAS says so only through "
        "its coordinate system; other files do not say.",
    )
    units: list[str] = field(
        "Units of single files",
        list,
        help="Where files differ, each as file:unit, for example 2:millimetre.",
        widget="units",
    )
    axes: str = field(
        "Axes",
        "+x +y +z",
        help="Which axis of the file becomes x, y and z, with its sign: +x -z +y brings a file with y up "
        "upright.",
        widget="axes",
    )
    columns: str = field(
        "Columns of text files",
        "",
        help="A word for each column: x y z intensity red green blue class time, a name of your own, or - to "
        "pass it by. Empty: as found.",
        widget="columns",
    )
    every: int = field(
        "Every n-th point",
        1,
        ge=1,
        le=10_000,
        help="1 takes all. More makes a test import, which can be completed later without starting over.",
    )
    nearest: float = field(
        "Nearest",
        0.0,
        unit="m",
        blank="no limit",
        ge=0,
        le=10_000,
        help="Of scans with a station: leave out points nearer than this.",
    )
    farthest: float = field(
        "Farthest",
        0.0,
        unit="m",
        blank="no limit",
        ge=0,
        le=100_000,
        help="Of scans with a station: leave out points farther than this; 0: no limit.",
    )
    losses: Literal["refuse", "take the rest"] = field(
        "Losses",
        "refuse",
        help="Whether an import that would lose more than 1 % of a scan's returns ends, or goes on and tells "
        "of them.",
    )
    broken: Literal["refuse", "leave out"] = field(
        "Broken files",
        "refuse",
        help="Whether a file or scan that cannot be read ends the import, or is left out and told of.",
    )
    view_width: int = field(
        "Station view",
        0,
        unit="px",
        blank="as scanned",
        ge=0,
        le=32_768,
        help="Most columns of the view from a station; 0: every column of a scan's grid, or 4096 where it "
        "has none.",
    )


@operation
class ImportFiles(Operation):
    """Reads scans with all their columns, poses and photos; files stay where they are."""

    name, title, step = "import.files", "Import files", "Import"
    writes = frozenset({"scan", "column", "pose", "photo", "crs"})
    Params = ImportParams

    def run(self, job: Job, params: ImportParams, progress: Progress) -> Figures:
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
        columns, axes = tuple(params.columns.split()), Axes.named(params.axes)
        found, repairs = _looked(paths, columns, params.broken == "leave out")
        chosen, units = _chosen(found, params.take), _units(params, len(found))
        _need_room(job, [found[f].scans[s].points // params.every for f, s in chosen])
        first = job.next_number("scan")
        numbers = {pick: first + n for n, pick in enumerate(chosen)}
        pieces = []
        for f, s in chosen:
            pieces.append(
                _source(
                    job,
                    found[f],
                    s,
                    job.scan_folder(numbers[f, s]),
                    units[f],
                    axes,
                    columns,
                    params.every,
                    _within(found[f], s, params),
                    params.broken == "leave out",
                )
            )
        records, mended = bring([(p, found[f]) for p, (f, _) in zip(pieces, chosen)], job.fleet, progress)
        _need_whole(params, [(found[f].scans[s].name, r) for (f, s), r in zip(chosen, records)])
        empty = [found[f].scans[s].name for (f, s), r in zip(chosen, records) if r["points"] == 0]
        if len(empty) == len(records):
            raise InputError(
                "None of the scans holds a valid point.",
                next((r.says for m in mended for r in m if r.code == "scan"), "Export them again."),
            )
        for folder in {p.folder for p in pieces} | {os.path.dirname(job.scan_folder(first))}:
            disk.sync(folder)
        rows = []
        for (f, s), record, piece, mine in zip(chosen, records, pieces, mended):
            mine += [r for r in found[f].repairs if r.scan == s]
            if record["points"]:
                rows.append(
                    self._enter(
                        job,
                        found[f],
                        s,
                        numbers[f, s],
                        record | {"view_width": params.view_width},
                        piece,
                        mine,
                    )
                )
            repairs += _listed(mine, found[f].scans[s].name, numbers[f, s] if record["points"] else None)
        repairs += [
            row
            for c in found
            for row in _listed([r for r in c.repairs if r.scan is None], os.path.basename(c.path), None)
        ]
        photos, notes = self._photos(job, found, numbers, records, dict(zip(chosen, pieces)))
        self._crs(job, found, chosen)
        notes += (
            [note for c in found for note in c.notes]
            + [f"“{n}” holds no valid point and was left out." for n in empty]
            + [_sentence(r) for r in repairs if r["code"] not in LEFT_OUT[:3]]
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
            "doubt": [_sentence(row) for row in repairs if row["code"] in DOUBTED],
        }

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
                "index": index,
                "grid": grid,
                "captured": inside.captured,
                "instrument": inside.instrument,
                "posed": posed,
                "intensity_as": inside.intensity_as,
                "taken": _taken(piece),
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
                {"wkt": wkt, "metres_per_unit": las.metres_per_unit(wkt), "name": CRS.from_wkt(wkt).name},
            )


def _factor(contents: Contents, unit: str) -> float:
    if unit != AS_FILE:
        return metres_per(unit)
    return las.metres_per_unit(contents.crs_wkt) if contents.crs_wkt else 1.0


def _looked(paths: list[str], columns: tuple[str, ...], lenient: bool) -> tuple[list[Contents], list[dict]]:
    """What the files hold; with ``lenient`` those that cannot be read are listed among the
    repairs instead.
    """
    found, repairs = [], []
    for path in paths:
        try:
            found.append(reading.look(path, columns))
        except InputError as error:
            if not lenient:
                raise
            found.append(Contents(path=path, format=""))
            repairs += _listed([Repair("scan", None, 1, str(error))], os.path.basename(path), None)
    if not any(c.scans for c in found):
        raise InputError("None of the files can be read.", repairs[0]["says"])
    return found, repairs


def _source(
    job: Job,
    contents: Contents,
    index: int,
    folder: str,
    unit: str,
    axes: Axes,
    columns: tuple[str, ...],
    every: int,
    within,
    lenient: bool,
) -> Source:
    return Source(
        contents.path,
        contents.format,
        index,
        _factor(contents, unit),
        folder,
        job.version,
        contents.scans[index].points,
        job.fleet.points_at_once,
        axes=axes,
        every=every,
        within=within,
        columns=columns,
        lenient=lenient,
    )


def _within(contents: Contents, index: int, params: ImportParams) -> tuple[float, float] | None:
    """Range limits, for scans that have their station at the origin."""
    if not (params.nearest or params.farthest) or not stationed(contents.format, contents.scans[index]):
        return None
    return params.nearest, params.farthest or np.inf


def _taken(piece: Source) -> dict:
    """How a scan was read, for completing it later."""
    return {
        "factor": piece.factor,
        "axes": [list(piece.axes.order), list(piece.axes.sign)],
        "every": piece.every,
        "columns": list(piece.columns),
        "within": [piece.within[0], None if np.isinf(piece.within[1]) else piece.within[1]]
        if piece.within
        else None,
    }


def _listed(repairs: list[Repair], name: str, number: int | None) -> list[dict]:
    """Repairs as rows of the import report."""
    return [
        {
            "scan": number,
            "name": name,
            "code": r.code,
            "count": r.count,
            "what": REPAIRS[r.code],
            "says": r.says,
        }
        for r in repairs
    ]


def _sentence(row: dict) -> str:
    return f"“{row['name']}”: {row['says'] or '{:,} {}.'.format(row['count'], row['what'])}"


def _need_whole(params: ImportParams, found: list[tuple[str, dict]]) -> None:
    """InputError where more of a scan's returns would be lost than may be without being asked for."""
    for name, record in found:
        lost, returns = record["lost"], record["points"] * params.every + record["lost"]
        if params.losses == "refuse" and lost > MOST_LOST * returns:
            raise InputError(
                f"“{name}” would lose {lost:,} of {returns:,} returns: {record['losses']}.",
                "Look whether unit, columns and file are right; “take the rest” under Losses imports what "
                "is left.",
            )


def _chosen(found: list[Contents], take: list[str]) -> list[tuple[int, int]]:
    """(file, scan) index pairs, in file order."""
    everything = [(f, s.index) for f, c in enumerate(found) for s in c.scans]
    if not take:
        return everything
    chosen = set()
    for word in take:
        try:
            f, s = (int(p) - 1 for p in word.split(":"))
        except ValueError as error:
            raise ParamsError(
                f"import.files: “take” holds {word!r}, which is not file:scan.", "Write for example 1:3."
            ) from error
        if (f, s) not in everything:
            raise ParamsError(
                f"import.files: there is no scan {word} in the files.",
                f"They hold {', '.join(f'{a + 1}:{b + 1}' for a, b in everything[:20])}.",
            )
        chosen.add((f, s))
    return [pick for pick in everything if pick in chosen]


def _units(params: ImportParams, count: int) -> list[str]:
    """The unit of each file."""
    out = [params.unit] * count
    for word in filter(None, params.units):
        number, _, unit = word.partition(":")
        if not number.isdigit() or not 1 <= int(number) <= count or (unit != AS_FILE and unit not in UNITS):
            raise ParamsError(
                f"import.files: “units” holds {word!r}, which is not file:unit.",
                f"Write for example 1:millimetre; units are {', '.join(UNITS)}.",
            )
        out[int(number) - 1] = unit
    return out


def _need_room(job: Job, points: list[int]) -> None:
    needed, free = sum(points) * BYTES_A_POINT, shutil.disk_usage(job.folder).free
    if needed > free:
        raise StateError(
            f"The disk has {free / 1e9:.1f} GB free; this import needs about {needed / 1e9:.1f} GB.",
            "Make room, or choose fewer scans.",
        )


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
            piece = _source(
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
        _need_room(job, [p.points for p in pieces])
        by_path = {contents.path: contents for contents in found.values()}
        records, mended = bring([(p, by_path[p.path]) for p in pieces], job.fleet, progress)
        _need_whole(ImportParams(), [(s.name, r) for s, r in zip(scans, records)])
        doubt = [
            _sentence(row)
            for s, mine in zip(scans, mended)
            for row in _listed(mine, s.name, s.id)
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
        files, prefix = record.pop("columns"), f"{scan.id}/"
        before = {k[len(prefix) :] for k in job.facts("column") if k.startswith(prefix)}
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
            kept | record | {"grid": list(inside.grid) if inside.grid else None, "taken": _taken(piece)},
            scan=scan.id,
        )
        return {
            {"cut": "cuts", "class": "classes", "photo_rgb": "photo colours"}[name]
            for name in before - set(files)
            if name in {"cut", "class", "photo_rgb"}
        }


class EditScanParams(Params):
    scan: int = field("Scan", ge=1, help="Its number.", widget="scan")
    name: str = field("Name", "", help="Empty: unchanged.", max_length=120)
    instrument: str = field("Instrument", "", help="Empty: unchanged.", max_length=120)
    captured: str = field("Captured", "", help="Day and time; empty: unchanged.", max_length=40)
    notes: str = field("Notes", "", help="Empty: unchanged.", max_length=2000)
    view_width: int | None = field(
        "Station view",
        None,
        unit="px",
        blank="unchanged",
        ge=0,
        le=32_768,
        help="Most columns of the view from its station; 0: as scanned; empty: unchanged.",
    )
    block: str = field(
        "Block",
        "",
        help="The block it belongs to, nested with “/”, for example house/upper floor; - takes it out of "
        "any; empty: unchanged.",
        max_length=120,
    )


@operation
class EditScan(Operation):
    """Renames a scan or corrects what is noted about it."""

    name, title, step = "import.edit_scan", "Edit a scan's notes", "Import"
    writes = frozenset({"scan"})
    Params = EditScanParams

    def run(self, job: Job, params: EditScanParams, progress: Progress) -> Figures:
        record = dict(job.scan(params.scan).record)
        new = {
            k: getattr(params, k).strip()
            for k in ("name", "instrument", "captured", "notes", "block")
            if getattr(params, k).strip()
        }
        if params.view_width is not None:
            new["view_width"] = params.view_width
        if not new:
            raise ParamsError(
                "import.edit_scan: nothing to change was given.",
                "Give a name, an instrument, a time, a note or a block.",
            )
        if "block" in new:
            new["block"] = "/".join(
                part.strip() for part in new["block"].split("/") if part.strip()
            ).removeprefix("-")
        if any(s.name == new.get("name") and s.id != params.scan for s in job.scans()):
            raise ParamsError(f"Another scan is named “{new['name']}”.", "Choose a name of its own.")
        job.put("scan", params.scan, record | new, scan=params.scan)
        return {"says": f"Scan {params.scan}: " + ", ".join(f"{k} “{v}”" for k, v in new.items())}


class RemoveScanParams(Params):
    scan: int = field("Scan", ge=1, help="Its number.", widget="scan")


@operation
class RemoveScan(Operation):
    """Takes a scan out of the job; undo puts it back."""

    name, title, step = "import.remove_scan", "Remove a scan", "Import"
    writes = frozenset(
        {
            "scan",
            "column",
            "pose",
            "photo",
            "target",
            "tie",
            "walk",
            "array",
            "left_out",
            "standing",
            "tie_choice",
        }
    )
    Params = RemoveScanParams

    def run(self, job: Job, params: RemoveScanParams, progress: Progress) -> Figures:
        scan = job.scan(params.scan)
        for kind in ("column", "photo", "target", "tie", "tie_choice"):
            for key, value in list(job.facts(kind).items()):
                mine = (
                    key.split("/")[0] == str(scan.id)
                    if kind == "column"
                    else scan.id in (value.get("scan"), value.get("a"), value.get("b"))
                )
                if mine:
                    job.put(kind, key, None)
        for kind, key in (
            ("pose", scan.id),
            ("left_out", scan.id),
            ("standing", scan.id),
            ("walk", scan.id),
            ("array", f"path-{scan.id}"),
            ("scan", scan.id),
        ):
            job.put(kind, key, None)
        return {"says": f"Scan {scan.id}, {scan.name}, removed; undo puts it back"}
