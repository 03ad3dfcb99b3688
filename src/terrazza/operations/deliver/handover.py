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
from terrazza.errors import StateError
from terrazza.files import disk
from terrazza.formats import handover_writer as writer
from terrazza.operations.deliver.chosen import pieces_of
from terrazza.operations.pieces import sights
from terrazza.operations.pieces.selection import PointParams, Portion, Selection
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.table import touch

PIECE = 400_000  # points that are written at once
PLAN = 6000  # pixels of the plan at most
KNOTS = 256  # directions that stand for all of a view
INSIDE = ("points", "views", "pins")


class HandoverParams(Params):
    path: str = field(
        "Folder", "handover", role="write", help="A folder; relative paths land in the job's deliverables."
    )
    most: int = field("Points at most", 5_000_000, ge=1000, le=2**40, help="Thinned evenly to this many.")
    client: str = field("Made for", "", max_length=200, help="Shown on the first page.")
    views: bool = field("Views from stations", True, help="Pictures at full resolution.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class DeliverHandover(Operation):
    """Writes a folder that opens in any browser from the disk, without server or network: site plan, views
    from stations, points in space, drawings and pins, to look, measure and take notes in.
    """

    name, title, step = "deliver.handover", "Handover folder", "Deliver"
    reads = frozenset({"scan", "pose", "frame", "crs", "cut", "column", "drawing", "pin", "measure"})
    looks = frozenset({"box", "walk"})
    writes = frozenset({"deliverable"})
    Params = HandoverParams

    def run(self, job: Job, params: HandoverParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to walk through")
        index = job.output(os.path.join(params.path, "index.html"), ".html")
        folder = os.path.dirname(index)
        if os.path.exists(folder) and not _ours(folder):
            raise StateError(f"“{folder}” is there and no handover folder.", "Choose another name.")
        partial = f"{folder}.making"
        shutil.rmtree(partial, ignore_errors=True)
        for name in INSIDE:
            os.makedirs(os.path.join(partial, name))
        try:
            parts = _points(job, params, partial, Stretch(progress, 0.0, 0.6))
            about = _about(job, params, scans, parts)
            about["plan"] = _plan(job, partial)
            if params.views:
                _views(job, scans, about, partial, Stretch(progress, 0.65, 1.0))
            writer.pages(partial, about)
            size = _put(partial, folder)
        finally:
            shutil.rmtree(partial, ignore_errors=True)
        job.deliver(index, format="handover folder")
        points = sum(p.count for p in parts)
        views = sum("view" in s for s in about["scans"])
        return {
            "says": f"{points:,} points, {views} views, {len(about['pins'])} pins, {size / 1e6:.1f} MB",
            "path": folder,
            "points": points,
            "bytes": size,
            "views": views,
        }


def _ours(folder: str) -> bool:
    return not os.listdir(folder) or os.path.exists(os.path.join(folder, "job.js"))


def _put(partial: str, folder: str) -> int:
    """Put a finished folder in the place of an older one; its size in bytes."""
    size = 0
    for where, _, names in os.walk(partial):
        for name in names:
            size += os.path.getsize(os.path.join(where, name))
            disk.sync(os.path.join(where, name))
        disk.sync(where)
    old = f"{folder}.before"
    shutil.rmtree(old, ignore_errors=True)
    if os.path.exists(folder):
        os.rename(folder, old)
    os.rename(partial, folder)
    disk.sync(os.path.join(folder, "index.html"))
    disk.sync(os.path.dirname(folder))
    shutil.rmtree(old, ignore_errors=True)
    return size


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
                "stationed": has_station(s),
            }
            for s in scans
        ],
        "parts": [vars(p) for p in sorted(parts, key=lambda p: p.level)],
        "drawings": _drawings(job),
        "pins": _pins(job),
    }


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


def _plan(job: Job, partial: str) -> dict:
    made, corner, pixel = sights.plan(job, "walls", PLAN)
    writer.picture(os.path.join(partial, "plan.png"), made)
    for pin in job.facts("pin").values():
        if pin["picture"]:
            source = job.own_file("photos", pin["picture"])
            shutil.copyfile(source, os.path.join(partial, "pins", pin["picture"]))
    return {"corner": corner.tolist(), "pixel": pixel, "width": made.shape[1], "height": made.shape[0]}


def _views(job: Job, scans, about: dict, partial: str, progress: Progress) -> None:
    """Write what is seen from each station, and tell the pages where directions lie in it."""
    for n, (scan, told) in enumerate(zip(scans, about["scans"])):
        progress.advance(n, len(scans), f"View from {scan.name}")
        if not told["stationed"]:
            continue
        made, azimuth, elevation = sights.from_station(job, scan.id)
        writer.picture(os.path.join(partial, "views", f"{scan.id}.jpg"), made)
        rows, columns = made.shape[:2]
        across, down = (np.linspace(0, m - 1, min(KNOTS, m)).round().astype(int) for m in (columns, rows))
        told["view"] = {
            "rows": rows,
            "columns": columns,
            "across": across.tolist(),
            "azimuth": azimuth[across].tolist(),
            "down": down.tolist(),
            "elevation": elevation[down].tolist(),
        }
