"""The scene for the canvases: scans with poses, ties, control, drawings."""

from dataclasses import asdict
from functools import lru_cache
from hashlib import sha1

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.later import later
from terrazza.operations.georeference.sightings import places
from terrazza.operations.pieces.counting import choosable, class_namer
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.register.holding import blocks_of, holder
from terrazza.operations.spine.job import Job, Scan
from terrazza.store import schema
from terrazza.web.contexts import shades, surfaces, table

with later():
    from scipy import spatial

    from terrazza.core.draw import from_above

GALLERY = 45.0
WAY = 400
LEVELS = 30_000  # points of a scan that the main direction is read from
_directions: dict[tuple, float] = {}


def versions(job: Job, scan: int) -> list[str]:
    """One word a block of the scan's columns; it changes whenever anything that is shown of the
    block does.
    """
    columns = job.columns(scan)
    files = tuple(tuple(columns.get(name) or ()) for name in schema.SHOWN)
    return _versions(files, job.apart() if "shelf" in columns else ())


@lru_cache(maxsize=500)
def _versions(files: tuple[tuple[str, ...], ...], apart: tuple[int, ...]) -> list[str]:
    more = f"|{apart}" if apart else ""
    return [
        sha1(("|".join(f[k] if f else "" for f in files) + more).encode()).hexdigest()[:8]
        for k in range(len(files[schema.SHOWN.index("position")]))
    ]


def version_of(job: Job, scan: int) -> str:
    """One word for all that is shown of a scan."""
    return sha1("".join(versions(job, scan)).encode()).hexdigest()[:12]


def build(job: Job) -> dict:
    """Everything but the points, with coordinates relative to ``origin`` (float64, grid frame)."""
    origin, name = origin_of(job), class_namer(job)
    rows = [_scan(job, scan, pose, origin) for scan, pose in shown(job)]
    ties = [
        {k: t[k] for k in ("a", "b", "rms_mm", "overlap", "words", "failed")}
        for t in job.facts("tie").values()
    ]
    return (
        {
            "state": queries.revision(job.row.id),
            "origin": origin.tolist(),
            "frame": job.frame.ravel().tolist(),
            "georeferenced": job.georeferenced,
            "scans": rows,
            "ties": ties,
            "control": control(job, origin),
            "targets": targets(job, origin),
            "drawings": _drawings(job, origin),
            "surfaces": surfaces.listed(job),
            "direction": _direction(job),
            "layout": schema.layout(),
            "shades": [asdict(s) for s in shades.listed(job)],
            "returns": any("returns" in job.columns(s.id) for s in job.scans()),
            "classes": {str(c): name(c) for c in _classes_there(job)},
            "all_classes": [[c, name(c)] for c in choosable(job)],
        }
        | table.scene(job, origin)
        | {"walks": _walks(job, origin), "blocks": _blocks(job, origin), "sketches": sketches(job, origin)}
    )


def origin_of(job: Job) -> np.ndarray:
    """What the scene takes off grid coordinates (m)."""
    placed = job.scans(placed=True)
    return np.round(np.mean([job.grid_pose(s)[:3, 3] for s in placed], axis=0)) if placed else np.zeros(3)


def shown(job: Job) -> list[tuple[Scan, np.ndarray]]:
    """Every scan with the pose at which it is shown (grid frame)."""
    return job.once("shown", lambda: _places(job), ("scan", "pose", "frame", "sketch"))


def _places(job: Job) -> list[tuple[Scan, np.ndarray]]:
    scans, rows, loose = job.scans(), [], 0
    placed, drawn = [s for s in scans if s.pose is not None], _drawn(job)
    for scan in scans:
        pose = job.grid_pose(scan) if scan.pose is not None else drawn.get(scan.id)
        rows.append((scan, _aside(job, placed, loose) if pose is None else pose))
        loose += pose is None
    return rows


def _drawn(job: Job) -> dict[int, np.ndarray]:
    """Where sketches have scans, as poses (4×4, grid) whose heading says nothing."""
    found: dict[int, np.ndarray] = {}
    level = float(np.median([s.pose[2, 3] for s in job.scans(placed=True)] or [0.0]))
    for sketch in job.facts("sketch").values():
        matrix = np.array(sketch["matrix"])
        for scan, pixel in sketch["stations"].items():
            at = matrix[:, :2] @ pixel + matrix[:, 2]
            found[int(scan)] = job.frame @ rigid.make(np.eye(3), np.array([*at, level]))
    return found


def _aside(job: Job, placed: list[Scan], number: int) -> np.ndarray:
    """Where an unplaced scan is shown: in a row beside the placed ones."""
    frame = np.eye(4)
    x = max((job.grid_pose(s)[0, 3] for s in placed), default=-GALLERY) + GALLERY
    y = np.mean([job.grid_pose(s)[1, 3] for s in placed]) if placed else 0.0
    frame[:3, 3] = [
        x + GALLERY * (number % 4),
        y - GALLERY * (number // 4),
        placed and job.grid_pose(placed[0])[2, 3] or 0.0,
    ]
    return frame


def _scan(job: Job, scan: Scan, pose: np.ndarray, origin: np.ndarray) -> dict:
    cloud = job.cloud(scan.id)
    relative = pose.copy()
    relative[:3, 3] -= origin
    return {
        "id": scan.id,
        "name": scan.name,
        "points": scan.points,
        "pose": relative.ravel().tolist(),
        "version": version_of(job, scan.id),
        "blocks": versions(job, scan.id),
        "low": cloud.low.tolist(),
        "size": cloud.size,
        "drift": cloud.drift,
        "root": int(cloud.nodes[0]["count"]),
        "bounds": scan.record["bounds"],
        "intensity": scan.record.get("intensity_range"),
        "station": has_station(scan),
        "native": cloud.has("native_rgb"),
        "photo": cloud.has("photo_rgb"),
        "out": bool(job.get("left_out", scan.id)),
        "around": blocks_of(scan),
        "held": holder(job, scan),
        "how": scan.pose_record.get("how", ""),
        "placed": scan.pose is not None,
    }


def _direction(job: Job) -> float:
    """The building's main direction in plan (rad, −45° to 45°, grid frame), from the walls at the stations'
    height; 0 where nothing shows any.
    """
    found = [(scan, pose) for scan, pose in shown(job) if scan.pose is not None][:12] or shown(job)[:1]
    return (
        _direction_of(
            tuple(
                (
                    job.scan_folder(s.id),
                    tuple(job.get("column", f"{s.id}/position") or ()),
                    s.id,
                    tuple(map(tuple, pose.round(6))),
                )
                for s, pose in found
            ),
            job,
        )
        if found
        else 0.0
    )


def _direction_of(key: tuple, job: Job) -> float:
    if key not in _directions:
        parts = []
        for _, _, number, pose in key:
            cloud, pose = job.cloud(number), np.array(pose)
            xyz = rigid.apply(pose, cloud.at(cloud.sample(LEVELS)))
            parts.append(xyz[np.abs(xyz[:, 2] - pose[2, 3]) < 0.7, :2] - pose[:2, 3])
        if len(_directions) > 200:
            _directions.clear()
        _directions[key] = from_above.main_direction(np.concatenate(parts))
    return _directions[key]


def _classes_there(job: Job) -> list[int]:
    last = job.last_of_step("classify.", "classes")
    if last is not None and (rows := (last.figures or {}).get("classes")):
        return [r["code"] for r in rows if r.get("after")]
    there: set[int] = set()
    for scan in job.scans():
        cloud = job.cloud(scan.id)
        if cloud.has("class"):
            there |= set(np.unique(cloud.pick("class", cloud.sample(200_000))).tolist())
    return sorted(there)


def control(job: Job, origin) -> list[dict]:
    if job.get("frame", "", {}).get("how") != "control":
        return []
    rows = {r["name"]: r for r in job.get("frame")["rows"]}
    return [
        {
            "name": n,
            "at": (np.array(c["grid"]) + [0, 0, c["target_height"]] - origin).tolist(),
            "check": c["check"],
            "matched": rows.get(n, {}).get("matched", False),
        }
        for n, c in job.facts("control").items()
    ]


def _walks(job: Job, origin) -> list[dict]:
    """Ways and stops of walked scans as they are shown, at most ``WAY`` places each."""
    poses, out = {s.id: p for s, p in shown(job)}, []
    for number, walk in job.facts("walk").items():
        path = job.array(f"path-{number}")
        if int(number) in poses and path is not None:
            way = path[:: max(len(path) // WAY, 1), 1:4]
            out.append(
                {
                    "scan": int(number),
                    "at": (rigid.apply(poses[int(number)], way) - origin).round(3).tolist(),
                    "stops": (
                        rigid.apply(poses[int(number)], np.array([s["at"] for s in walk["stops"]])) - origin
                    ).tolist(),
                }
            )
    return out


def _blocks(job: Job, origin) -> list[dict]:
    """Outlines of blocks of scans about their stations, outer ones first; a nested block also belongs to
    those around it.
    """
    members: dict[str, list] = {}
    for scan, pose in shown(job):
        for depth, name in enumerate(blocks_of(scan), 1):
            members.setdefault(name, []).append((pose[:2, 3], 2.5 - 0.5 * depth))
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    circle = np.stack([np.cos(turn), np.sin(turn)], 1)
    out = []
    for name in sorted(members, key=lambda n: n.count("/")):
        around = np.concatenate([at - origin[:2] + max(wide, 0.8) * circle for at, wide in members[name]])
        out.append(
            {
                "name": name.rsplit("/", 1)[-1],
                "held": bool(job.get("held_block", name)),
                "at": around[spatial.ConvexHull(around).vertices].round(3).tolist(),
            }
        )
    return out


def sketches(job: Job, origin) -> list[dict]:
    """Sketches under the plan, their matrix (6) from pixels to the plan as it is shown."""
    return [
        {
            "id": int(number),
            "url": f"/jobs/{job.row.id}/pictures/sketch/{number}?of={sketch['file']}",
            "matrix": _on_plan(job, np.array(sketch["matrix"]), origin).ravel().tolist(),
            **{k: sketch[k] for k in ("name", "width", "height", "stations")},
        }
        for number, sketch in job.facts("sketch").items()
    ]


def _on_plan(job: Job, matrix: np.ndarray, origin) -> np.ndarray:
    """(2, 3) from pixels to the plan as it is shown, of one to the plan of the job frame."""
    turn, shift = job.frame[:2, :2], job.frame[:2, 3] - origin[:2]
    return np.c_[turn @ matrix[:, :2], turn @ matrix[:, 2] + shift]


def targets(job: Job, origin) -> list[dict]:
    return [
        {"numbers": p["targets"], "at": (rigid.apply(job.frame, p["centre"][None])[0] - origin).tolist()}
        for p in places(job)
    ]


def _drawings(job: Job, origin) -> list[dict]:
    kept, out = job.once(("drawings shown", *origin), dict, ("frame", "layer")), []
    for key, drawing in job.facts("drawing").items():
        if id(drawing) not in kept:
            kept[id(drawing)] = drawing, _drawing(job, int(key), drawing, origin)
        out.append(kept[id(drawing)][1])
    return out


def _coloured(layer: dict) -> dict:
    """The colour of an office's layer, where it is one that browsers know."""
    return {"colour": layer["colour"]} if layer.get("colour", "").startswith("#") else {}


def _drawing(job: Job, number: int, drawing: dict, origin) -> dict:
    lines, office = drawing["lines"], job.facts("layer")
    ends = np.cumsum([len(line["vertices"]) for line in lines])[:-1]
    at = np.array([v for line in lines for v in line["vertices"]], float).reshape(-1, 3)
    parts = np.split((rigid.apply(job.frame, at) - origin).round(5), ends)
    placed = lambda p: (rigid.apply(job.frame, np.array([p]))[0] - origin).round(5).tolist()
    return {
        "id": number,
        "name": drawing["name"],
        "followed": bool(drawing.get("shape")),
        "height": None if drawing.get("height") is None else round(drawing["height"] - float(origin[2]), 5),
        "lines": [
            {"name": line["name"], "closed": line["closed"], "at": part.tolist()}
            | _coloured(office.get(line["layer"], {}))
            for line, part in zip(lines, parts)
        ],
        "texts": [{"text": t["text"], "at": placed(t["at"])} for t in drawing.get("texts", [])],
    }
