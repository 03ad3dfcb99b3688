"""Deliver the handover folder."""

import os
import shutil
import time
from dataclasses import replace

import numpy as np

from terrazza import __version__
from terrazza.core.geometry import rigid
from terrazza.core.progress import Part as Stretch
from terrazza.core.progress import Progress
from terrazza.errors import InputError
from terrazza.formats import handover_writer as writer
from terrazza.later import later
from terrazza.operations.deliver import about as told
from terrazza.operations.deliver.chosen import pieces_of
from terrazza.operations.deliver.folders import made, zipped
from terrazza.operations.pieces import sights, stations
from terrazza.operations.pieces.floors import floors
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Portion, Selection
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table import touch

with later():
    from PIL import Image as images

PIECE = 400_000  # points that are written at once
PLAN = 4000  # pixels of a plan at most, a side
COARSE = (500, 1000)  # of those that tell how large the others will be
PAGES = 400_000  # bytes of pages, fonts and what they know of the job
STRIP, STRIPS, SPARE = 64, 7, 0.25  # rows of a view that tell its size, of which worst ones count by a share
KNOTS = 256  # directions that stand for all of a view
BELOW_CEILING = 2.0  # m above its level: what of a floor its plan shows
INSIDE = ("points", "views", "pins")


class HandoverParams(Params):
    path: str = field(
        "Folder", "handover", role="write", help="A folder; relative paths land in the job's deliverables."
    )
    most: int = field("Points at most", 5_000_000, ge=1000, le=2**40, help="Thinned evenly to this many.")
    client: str = field("Made for", "", max_length=200, help="Shown on every page.")
    firm: str = field("By", "", max_length=200, help="Shown on every page.")
    mark: str = field("Mark", "", role="read", help="A PNG or JPEG picture, shown beside the name.")
    views: bool = field("Views from stations and stops", True, help="Pictures at full resolution.")
    zip: bool = field("As a zip, too", False)
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class DeliverHandover(Operation):
    """Writes a folder that opens in any browser from the disk, without server or network: site plan and
    floors, views from stations, points in space, drawings and pins, to look, measure and take notes in.
    """

    name, title, step = "deliver.handover", "Handover folder", "Deliver"
    reads = frozenset(
        "scan pose frame crs cut column drawing pin measure tie network looked standing left_out walk".split()
    )
    looks = frozenset({"box"})
    writes = frozenset({"deliverable"})
    Params = HandoverParams

    def run(self, job: Job, params: HandoverParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to walk through")
        mark = _mark(job, params)
        said = self.promise(job, params, Stretch(progress, 0.0, 0.05))["bytes"]
        with made(job, params.path, "index.html", "handover folder", mark="job.js") as folder:
            for name in INSIDE:
                os.makedirs(os.path.join(folder.partial, name))
            parts = _points(job, params, folder.partial, Stretch(progress, 0.05, 0.6))
            about = _about(job, params, scans, parts)
            about["mark"] = "mark.png" if mark else ""
            if mark:
                mark.save(folder.file("mark.png"))
            about["plan"], about["floors"] = _plans(job, folder.partial)
            if params.views:
                about["views"] = _views(job, scans, folder.partial, Stretch(progress, 0.65, 1.0))
            writer.pages(folder.partial, about)
        points, views = sum(p.count for p in parts), len(about["views"])
        packed = zipped(job, folder.path, "handover folder") if params.zip else ""
        larger = f"It is {folder.size / 1e6:.1f} MB instead of the {said / 1e6:.1f} MB that were promised."
        return {
            "says": f"{points:,} points, {views} views, {folder.size / 1e6:.1f} MB",
            "path": folder.path,
            "zip": packed,
            "points": points,
            "bytes": folder.size,
            "promised": said,
            "views": views,
            "doubt": [larger] if folder.size > said else [],
        }

    @classmethod
    def promise(cls, job: Job, params: HandoverParams, progress: Progress) -> dict:
        """What the folder will hold, and bytes that it will not exceed."""
        chosen = Selection(job, PointParams(most=params.most, scans=params.scans))
        points = min(params.most, chosen.points)
        heads = (points // PIECE + len(chosen.scans) + 1) * len(writer.LEVELS) * writer.HEAD
        looks = stations.looks(job, chosen.scans) if params.views else []
        pictures = _plan_bytes(job) + sum(_view_bytes(job, s.id, stop) for s, stop in looks)
        return {
            "points": points,
            "exact": True,
            "bytes": int(points * writer.POINT + heads + PAGES + pictures),
            "classes": [],
            "scans": len(chosen.scans),
            "cuts": chosen.cuts,
            "files": [],
        }


def _plan_bytes(job: Job) -> float:
    """Bytes that the site plan and those of floors will not exceed, from how two coarse ones grow."""
    low, high = sights.extent(job)
    span = np.ceil((high - low)[:2] / max(float((high - low)[:2].max()) / PLAN, sights.FINEST))
    pictures = [sights.plan(job, "walls", most)[0] for most in COARSE]
    (one, two), (small, large) = (
        [np.log(v) for v in values]
        for values in ([p[..., 0].size for p in pictures], [writer.bytes_of(p, "PNG") for p in pictures])
    )
    power = np.clip((large - small) / max(two - one, 1e-9), 0.5, 1.0)
    each = np.exp(large + power * max(np.log(span.prod()) - two, 0.0))
    return float(1.2 * each * (1 + len(floors(job))))


def _view_bytes(job: Job, scan: int, stop: int) -> float:
    """Bytes that the picture of a view will not exceed, from a few of its rows."""
    rows, columns = stations.view(job, scan, stop).index.shape
    some = np.unique(np.linspace(0, max(rows - STRIP, 0), STRIPS).astype(int))
    taken = [sights.from_station(job, scan, stop, slice(int(r), int(r) + STRIP))[0] for r in some]
    each = [writer.bytes_of(t) / t[..., 0].size for t in taken]
    mean = float(np.mean(each))
    return rows * columns * (mean + SPARE * (max(each) - mean)) * 1.05 + 1000


def _points(job: Job, params: HandoverParams, partial: str, progress: Progress) -> list[writer.Part]:
    """Write the points as scripts; the list of them."""
    asked = PointParams(most=params.most, scans=params.scans)
    chosen, parts = Selection(job, asked), []
    frames = {s.id: (c.scale, c.offset) for s in chosen.scans if (c := chosen.clouds[s.id])}
    greys = {s.id: s.record.get("intensity_range") or (0, 65535) for s in chosen.scans}
    with job.scratch() as scratch:
        if params.most < chosen.points:
            chosen.thin(scratch, Stretch(progress, 0, 0.3, chosen.points))
        chosen.need_points()
        common = (frames, greys, {s.id: job.grid_pose(s) for s in chosen.scans})
        rest = Stretch(progress, 0.3, 1.0, chosen.points)
        for n, found in enumerate(pieces_of(job, chosen, _encoded, common, rest, PIECE)):
            for k, (part, data) in enumerate(found):
                named = replace(part, name=f"{n}-{k}")
                with open(os.path.join(partial, "points", f"{named.name}.js"), "wb") as out:
                    out.write(data.replace(part.name.encode(), named.name.encode(), 1))
                parts.append(named)
    return parts


def _encoded(portion: Portion, common, progress: Progress) -> list:
    """(Part, script) of a portion's points, scan by scan."""
    (frames, greys, poses), out = common, []
    for chunk in portion.chunks(progress, own=True):
        if not len(chunk["xyz"]):
            continue
        scan = int(chunk["source"][0])
        scale, offset = frames[scan]
        dark, light = greys[scan]
        rgb = chunk["rgb"]
        if "intensity" in chunk:
            grey = np.clip((chunk["intensity"].astype(float) - dark) / max(light - dark, 1), 0, 1) ** 0.8
            toned = (sights.INK + (sights.PAPER - sights.INK) * grey[:, None]).astype(np.uint8)
            rgb = np.where(rgb.any(1, keepdims=True), rgb, toned)
        stored = np.round((chunk["xyz"] - offset) / scale)
        places = rigid.apply(poses[scan], chunk["xyz"])
        out += list(writer.parts_of("part", scan, stored, rgb, places))
    return out


def _about(job: Job, params: HandoverParams, scans, parts: list[writer.Part]) -> dict:
    """What the pages know of the job."""
    low, high = sights.extent(job)
    origin = np.round((low + high) / 2)
    n = Notation.of(job)
    return {
        "name": job.row.name,
        "client": params.client,
        "firm": params.firm,
        "told": told.rows(job, params.client, params.firm),
        "made": time.strftime("%Y-%m-%d %H:%M"),
        "version": __version__,
        "system": (job.get("crs") or {}).get("name", ""),
        "georeferenced": job.georeferenced,
        "unit": {"short": n.short, "metres": n.metres, "decimals": n.decimals},
        "origin": origin.tolist(),
        "low": low.tolist(),
        "high": high.tolist(),
        "scans": [
            {
                "id": s.id,
                "name": s.name,
                "pose": job.grid_pose(s).tolist(),
                "scale": np.asarray(job.cloud(s.id).scale, float).tolist(),
                "offset": np.asarray(job.cloud(s.id).offset, float).tolist(),
            }
            for s in scans
        ],
        "views": [],
        "parts": [vars(p) for p in sorted(parts, key=lambda p: p.level)],
        "drawings": _drawings(job),
        "pins": _pins(job),
    }


def _mark(job: Job, params: HandoverParams):
    """The owner's mark as a picture, None where there is none; InputError for a file that is no picture."""
    if not params.mark:
        return None
    path = job.input(params.mark, "The mark")
    try:
        with images.open(path) as picture:
            picture.thumbnail((400, 100))
            return picture.convert("RGBA")
    except OSError as error:
        raise InputError(f"“{os.path.basename(path)}” is no picture.", "Give PNG or JPEG.") from error


def _drawings(job: Job) -> list[dict]:
    return [
        {
            "name": d["name"],
            "lines": [
                {
                    "layer": line["layer"],
                    "closed": line["closed"],
                    "at": rigid.apply(job.frame, np.array(line["vertices"])).tolist(),
                }
                for line in d["lines"]
            ],
            "texts": [
                {"text": t["text"], "at": rigid.apply(job.frame, np.array([t["at"]]))[0].tolist()}
                for t in d.get("texts", [])
            ],
        }
        for d in job.facts("drawing").values()
    ]


def _pins(job: Job) -> list[dict]:
    return [
        {k: p[k] for k in ("name", "text", "link", "picture")} | {"at": touch.place(job, p["point"]).tolist()}
        for p in job.facts("pin").values()
    ]


def _plans(job: Job, partial: str) -> tuple[dict, list[dict]]:
    """The site plan, and that of every floor with its heights (m); the pictures of pins go beside."""
    low, high = sights.extent(job)
    for pin in job.facts("pin").values():
        if pin["picture"]:
            source = job.own_file("photos", pin["picture"])
            shutil.copyfile(source, os.path.join(partial, "pins", pin["picture"]))
    levels = []
    for number, floor in enumerate(floors(job), 1):
        bottom = float(low[2]) if floor["low"] is None else floor["low"]
        top = float(high[2]) if floor["high"] is None else floor["high"]
        shown = (bottom, min(top, floor["level"] + BELOW_CEILING))
        picture = _drawn(job, partial, f"floor-{number}.png", shown)
        levels.append({"name": f"Floor {number}", "low": bottom, "high": top, "plan": picture})
    return _drawn(job, partial, "plan.png", sights.EVERYWHERE), levels


def _drawn(job: Job, partial: str, name: str, heights: tuple[float, float]) -> dict:
    made, corner, pixel = sights.plan(job, "walls", PLAN, heights)
    writer.picture(os.path.join(partial, name), made)
    size = {"width": made.shape[1], "height": made.shape[0]}
    return {"file": name, "corner": corner.tolist(), "pixel": pixel} | size


def _views(job: Job, scans, partial: str, progress: Progress) -> list[dict]:
    """Write what is seen from each station and stop; what the pages know of it."""
    out, looks = [], stations.looks(job, scans)
    for n, (scan, stop) in enumerate(looks):
        progress.advance(n, len(looks), f"View from {scan.name}")
        made, azimuth, elevation = sights.from_station(job, scan.id, stop)
        file = f"views/{scan.id}-{stop}.jpg" if stop else f"views/{scan.id}.jpg"
        writer.picture(os.path.join(partial, file), made)
        rows, columns = made.shape[:2]
        across, down = (np.linspace(0, m - 1, min(KNOTS, m)).round().astype(int) for m in (columns, rows))
        eye = rigid.make(np.eye(3), stations.eye(job, scan.id, stop))
        out.append(
            {
                "scan": scan.id,
                "stop": stop,
                "name": f"{scan.name}, stop {stop}" if stop else scan.name,
                "file": file,
                "pose": (job.grid_pose(scan) @ eye).tolist(),
                "rows": rows,
                "columns": columns,
                "across": across.tolist(),
                "azimuth": azimuth[across].tolist(),
                "down": down.tolist(),
                "elevation": elevation[down].tolist(),
            }
        )
    return out
