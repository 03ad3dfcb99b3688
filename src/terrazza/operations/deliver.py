"""Step 8, Deliver: E57, LAZ, text and DXF files; counted before they are written."""

import contextlib
import os
from typing import Literal

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.fleet import inline
from terrazza.formats import e57, xyz
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, field, operation
from terrazza.operations.draw import write_dxf
from terrazza.operations.job import Job
from terrazza.operations.selection import PointParams, Portion, Selection, lines_of

las_writer = later("terrazza.formats.las_writer")
GATHERED = 200_000
E57_COLUMNS = {"xyz", "intensity", "native_rgb", "row", "column"}


@contextlib.contextmanager
def _chosen(job: Job, params: PointParams, progress: Progress, placed: bool = True):
    """The selection of a deliverable, thinned, with the progress that is left for writing it."""
    chosen = Selection(job, params, placed)
    thins = bool(params.spacing or params.cell or params.most)
    with job.scratch() as folder:
        if thins:
            chosen.thin(folder, Part(progress, 0, 0.5, chosen.points))
        chosen.need_points()
        yield chosen, Part(progress, 0.5 * thins, 1.0, chosen.points)


def _done(job: Job, chosen: Selection, path: str, form: str, what: str) -> Figures:
    """Enter a finished file into the deliverables; its figures."""
    job.deliver(path, format=form, points=chosen.points)
    size = os.path.getsize(path)
    return {
        "says": f"{chosen.points:,} {what}, {size / 1e6:.1f} MB",
        "path": path,
        "points": chosen.points,
        "bytes": size,
        "classes": chosen.by_class(),
    }


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
class DeliverE57(Operation):
    """Writes E57: per scan with poses, grid and photos, or merged."""

    name, title, step = "deliver.e57", "E57", "Deliver"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "column", "tie"}), frozenset({"deliverable"})
    Params = E57Params

    def run(self, job: Job, params: E57Params, progress: Progress) -> Figures:
        crs, done, path = job.get("crs"), 0, job.output(params.path, ".e57")
        with (
            _chosen(job, params, progress, params.merged) as (chosen, rest),
            e57.Writer(path, crs["wkt"] if crs and crs["metres_per_unit"] == 1 else "") as out,
        ):
            if params.merged:
                self._merged(job, chosen, out, rest)
            else:
                guids = {}
                for scan in chosen.scans:
                    if chosen.of(scan):
                        guids[scan.id] = self._one(job, scan, chosen, out, rest, done)
                    done += chosen.of(scan)
                for tie in job.facts("tie").values():
                    if not tie["failed"] and {tie["a"], tie["b"]} <= set(guids):
                        out.add_tie(guids[tie["a"]], guids[tie["b"]], tie["rms_mm"] / 1000, tie["overlap"])
        return _done(
            job,
            chosen,
            path,
            "E57",
            f"points in {1 if params.merged else sum(chosen.of(s) > 0 for s in chosen.scans)} scans",
        )

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
            job.grid_pose(scan) if scan.pose is not None else None,
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
            scale=1e-4,
            offset=tuple(middle),
            bounds=(low, high),
        )


def _pieces(job: Job, chosen: Selection, encode, common, progress: Progress, size: int, scans=None):
    """What ``encode(portion, common, progress)`` makes of the chosen points, portion after portion, by the
    fleet.
    """
    portions = chosen.portions(size, scans)
    name = (
        chosen.scans[0].name
        if len(chosen.scans) == 1
        else f"{len(chosen.scans)} scans"
        if scans is None
        else scans[0].name
    )
    return job.fleet.each(
        encode, portions, [p.points for p in portions], progress, f"Writing {name}", common, light=True
    )


def _gathered(job: Job, chosen: Selection, scans: list, progress: Progress, own: bool):
    for chunks in _pieces(
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


def _as_laz(portion: Portion, common, progress: Progress) -> "las_writer.Encoded":
    layout, scale, offset, threads = common
    return layout.encoded(portion.chunks(progress, scale=scale, offset=offset), threads)


def _as_text(portion: Portion, lines: xyz.Lines, progress: Progress) -> str:
    return "".join(lines.text(chunk) for chunk in portion.chunks(progress))


class LazParams(PointParams):
    path: str = field(
        "File",
        "cloud.laz",
        role="write",
        help="Relative paths land in the job's deliverables; .las writes without compression.",
    )
    scale: float = field(
        "Resolution", 0.0001, unit="m", ge=1e-6, le=0.1, help="Smallest step of a coordinate."
    )


@operation
class DeliverLaz(Operation):
    """Writes LAS 1.4 or LAZ in the common frame, with the job's coordinate system where it has one; the scan
    number is the point source.
    """

    name, title, step = "deliver.laz", "LAZ", "Deliver"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "column"}), frozenset({"deliverable"})
    Params = LazParams

    def run(self, job: Job, params: LazParams, progress: Progress) -> Figures:
        path = job.output(params.path, ".las" if params.path.lower().endswith(".las") else ".laz")
        crs = job.get("crs") or {"wkt": "", "metres_per_unit": 1.0}
        factor = crs["metres_per_unit"]
        with _chosen(job, params, progress) as (chosen, rest):
            low, high = chosen.bounds()
            if (high - low).max() / 2 + 1 > params.scale * 2**31:
                raise ParamsError(
                    f"A resolution of {params.scale:g} m is too fine for points {(high - low).max():.0f} m "
                    "apart: LAS counts to 2³¹.",
                    "Use 0.0001 m.",
                )
            timed = any(c.has("time") for c in chosen.clouds.values())
            offset = np.round((low + high) / 2 / factor)
            with las_writer.Writer(
                path, params.scale / factor, offset, any(chosen.colours.values()), timed, crs["wkt"]
            ) as out:
                common = (out.layout, params.scale, offset * factor, inline(chosen.points))
                for piece in _pieces(
                    job,
                    chosen,
                    _as_laz,
                    common,
                    rest,
                    max(job.fleet.points_at_once // las_writer.CHUNK, 1) * las_writer.CHUNK,
                ):
                    out.put(piece)
        return _done(job, chosen, path, "LAZ", "points")


class XyzParams(PointParams):
    path: str = field(
        "File", "cloud.xyz", role="write", help="Relative paths land in the job's deliverables."
    )
    decimals: int = field("Decimals", 4, ge=0, le=9, help="Of the coordinates, in metres.")
    delimiter: Literal["space", "comma", "semicolon", "tab"] = field("Delimiter", "space")


@operation
class DeliverXyz(Operation):
    """Writes text: X Y Z, intensity, colour and class, one line a point."""

    name, title, step = "deliver.xyz", "XYZ text", "Deliver"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "column"}), frozenset({"deliverable"})
    Params = XyzParams

    def run(self, job: Job, params: XyzParams, progress: Progress) -> Figures:
        path = job.output(
            params.path,
            ".csv"
            if params.path.lower().endswith(".csv")
            else ".txt"
            if params.path.lower().endswith(".txt")
            else ".xyz",
        )
        with (
            _chosen(job, params, progress) as (chosen, rest),
            xyz.Writer(path, lines_of(chosen, params)) as out,
        ):
            for text in _pieces(
                job, chosen, _as_text, out.lines, rest, min(job.fleet.points_at_once, GATHERED)
            ):
                out.put(text)
        return _done(job, chosen, path, "XYZ", "lines")


class DxfParams(Params):
    path: str = field("File", "plan.dxf", role="write", help="Relative paths land in the job's deliverables.")
    drawings: list[int] = field("Drawings", list, help="Their numbers; empty: all.")


@operation
class DeliverDxf(Operation):
    """Writes drawings to DXF R2010, on layers, in metres."""

    name, title, step = "deliver.dxf", "DXF", "Deliver"
    reads, writes = frozenset({"drawing", "frame"}), frozenset({"deliverable"})
    Params = DxfParams

    def run(self, job: Job, params: DxfParams, progress: Progress) -> Figures:
        drawings = {int(k): v for k, v in job.facts("drawing").items()}
        wrong = set(params.drawings) - set(drawings)
        if wrong or not drawings:
            raise StateError(
                f"There is no drawing {min(wrong)}." if wrong else "Nothing is drawn yet.",
                "Draw a plan slab first.",
            )
        chosen = [drawings[k] for k in sorted(params.drawings or drawings)]
        path = write_dxf(job, chosen, params.path)
        return {
            "says": f"{sum(len(d['lines']) for d in chosen)} lines",
            "path": path,
            "bytes": os.path.getsize(path),
        }
