"""The scene for the canvases: scans with poses, ties, control, drawings; the tree of nodes and the nodes in
binary; picking.
"""

from functools import lru_cache
from hashlib import sha1
from math import gcd
from typing import Annotated

import numpy as np
from pydantic import BaseModel, Field

from terrazza.core.classify import classes
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.errors import NotFound
from terrazza.later import later
from terrazza.operations.job import Job, Scan
from terrazza.operations.stations import has_station
from terrazza.operations.table import working_box
from terrazza.operations.targets import places
from terrazza.store import octree
from terrazza.web.contexts import table

from_above = later("terrazza.core.draw.from_above")
spatial = later("scipy.spatial")

GALLERY = 45.0
WAY = 400
Number = Annotated[float, Field(allow_inf_nan=False)]
Pair, Triple, Four = (
    tuple[Number, Number],
    tuple[Number, Number, Number],
    tuple[Number, Number, Number, Number],
)
SHOWN = ("class", "cut", "photo_rgb", "position")


def versions(job: Job, scan: int) -> list[str]:
    """One word a block of the scan's columns; it changes whenever anything that is shown of the
    block does.
    """
    columns = job.facts("column")
    return _versions(tuple(tuple(columns.get(f"{scan}/{name}") or ()) for name in SHOWN))


@lru_cache(maxsize=500)
def _versions(files: tuple[tuple[str, ...], ...]) -> list[str]:
    return [
        sha1("|".join(f[k] if f else "" for f in files).encode()).hexdigest()[:8]
        for k in range(len(files[SHOWN.index("position")]))
    ]


def version_of(job: Job, scan: int) -> str:
    """One word for all that is shown of a scan."""
    return sha1("".join(versions(job, scan)).encode()).hexdigest()[:12]


def build(job: Job) -> dict:
    """Everything but the points, with coordinates relative to ``origin`` (float64, grid frame)."""
    origin = origin_of(job)
    rows = [_scan(job, scan, pose, origin) | {"placed": scan.pose is not None} for scan, pose in shown(job)]
    ties = [
        {k: t[k] for k in ("a", "b", "rms_mm", "overlap", "words", "failed")}
        for t in job.facts("tie").values()
    ]
    return (
        {
            "state": queries.state_version(job.row.id),
            "origin": origin.tolist(),
            "frame": job.frame.ravel().tolist(),
            "georeferenced": job.georeferenced,
            "scans": rows,
            "ties": ties,
            "control": control(job, origin),
            "targets": targets(job, origin),
            "drawings": _drawings(job, origin),
            "direction": _direction(job),
            "classes": {str(c): classes.name(c) for c in _classes_there(job)},
        }
        | table.scene(job, origin)
        | {"walks": _walks(job, origin), "blocks": _blocks(job, origin)}
    )


def origin_of(job: Job) -> np.ndarray:
    """What the scene takes off grid coordinates (m)."""
    placed = job.scans(placed=True)
    return np.round(np.mean([job.grid_pose(s)[:3, 3] for s in placed], axis=0)) if placed else np.zeros(3)


def shown(job: Job) -> list[tuple[Scan, np.ndarray]]:
    """Every scan with the pose at which it is shown (grid frame)."""
    scans, rows, loose = job.scans(), [], 0
    placed = [s for s in scans if s.pose is not None]
    for scan in scans:
        rows.append((scan, _aside(job, placed, loose) if scan.pose is None else job.grid_pose(scan)))
        loose += scan.pose is None
    return rows


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
        "root": int(cloud.nodes[0]["count"]),
        "bounds": scan.record["bounds"],
        "intensity": scan.record.get("intensity_range"),
        "station": has_station(scan),
        "native": cloud.has("native_rgb"),
        "photo": cloud.has("photo_rgb"),
        "out": bool(job.get("left_out", scan.id)),
        "how": scan.pose_record.get("how", ""),
    }


def tree(job: Job, scan: int) -> bytes:
    """The nodes of a scan, coarse first, little-endian planes: i32 parents, u32 points, u32 blocks, u8
    octants (x 1, y 2, z 4).
    """
    cloud = job.cloud(scan)
    nodes = cloud.nodes
    block = np.searchsorted(cloud.columns.ends, nodes["start"], side="right").clip(
        0, len(cloud.columns.ends) - 1
    )
    octant = (nodes["x"] & 1) | (nodes["y"] & 1) << 1 | (nodes["z"] & 1) << 2
    return (
        octree.parents(nodes).astype("<i4").tobytes()
        + nodes["count"].astype("<u4").tobytes()
        + block.astype("<u4").tobytes()
        + octant.astype("u1").tobytes()
    )


LEVELS = 30_000  # points of a scan that the main direction is read from


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


_directions: dict[tuple, float] = {}


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
    for entry in reversed(list(queries.done_entries(job.row))):
        rows = (entry.figures or {}).get("classes")
        if rows and entry.operation.startswith("classify."):
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
        parts = [part for part in scan.record.get("block", "").split("/") if part]
        for depth in range(1, len(parts) + 1):
            members.setdefault("/".join(parts[:depth]), []).append((pose[:2, 3], 2.5 - 0.5 * depth))
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False)
    circle = np.stack([np.cos(turn), np.sin(turn)], 1)
    out = []
    for name in sorted(members, key=lambda n: n.count("/")):
        around = np.concatenate([at - origin[:2] + max(wide, 0.8) * circle for at, wide in members[name]])
        out.append(
            {
                "name": name.rsplit("/", 1)[-1],
                "at": around[spatial.ConvexHull(around).vertices].round(3).tolist(),
            }
        )
    return out


def targets(job: Job, origin) -> list[dict]:
    return [
        {"numbers": p["targets"], "at": (rigid.apply(job.frame, p["centre"][None])[0] - origin).tolist()}
        for p in places(job)
    ]


def _drawings(job: Job, origin) -> list[dict]:
    out = []
    for key, drawing in job.facts("drawing").items():
        lines = [
            {
                "name": line["name"],
                "closed": line["closed"],
                "at": (rigid.apply(job.frame, np.array(line["vertices"])) - origin).tolist(),
            }
            for line in drawing["lines"]
        ]
        out.append(
            {"id": int(key), "name": drawing["name"], "height": drawing["height"] - origin[2], "lines": lines}
        )
    return out


def _spread(count: int) -> np.ndarray:
    """Places of a node's points, which lie along a space-filling curve, in steps of the golden section: any
    first part of them is an even sample.
    """
    step = next(n for n in range(max(round(count * 0.6180339887), 1), count + 2) if gcd(n, count) == 1)
    return (np.arange(count, dtype=np.int64) * step) % max(count, 1)


def pack(job: Job, scan: int, wanted: list[int], spread: bool = False) -> bytes:
    """Nodes one after another: header (u32 node, u32 count, 8 bytes zero), then planes u16×4 (xyz within the
    cell, intensity), u8×4 (native colour, class), u8×4 (photo colour, flags: 1 cut).  Little-endian.  With
    ``spread`` any first part of a node is an even sample of it.
    """
    cloud = job.cloud(scan)
    if max(wanted, default=0) >= len(cloud.nodes):
        raise NotFound(f"Scan {scan} has no node {max(wanted)}.", "Load the scene again.")
    nodes, ends, held, out = cloud.nodes[wanted], cloud.columns.ends, {}, []
    for k, node, block in zip(
        wanted, nodes, np.searchsorted(ends, nodes["start"], side="right").clip(0, len(ends) - 1).tolist()
    ):
        if block not in held:  # a node lies in one block
            held[block] = (
                int(ends[block - 1]) if block else 0,
                {
                    name: cloud.columns.stretch(name, block)
                    for name in ("position", "intensity", "class", "native_rgb", "photo_rgb", "cut")
                    if cloud.has(name)
                },
            )
        base, columns = held[block]
        start, count = int(node["start"]) - base, int(node["count"])
        values = {name: column[start : start + count] for name, column in columns.items()}
        if spread:
            order = _spread(count)
            values = {name: column[order] for name, column in values.items()}
        edge = cloud.size / 2.0 ** int(node["level"])
        scale, corner = 65535 / edge, cloud.low + np.array([node["x"], node["y"], node["z"]], float) * edge
        first, second, third = (
            np.zeros((count, 4), "<u2"),
            np.zeros((count, 4), np.uint8),
            np.zeros((count, 4), np.uint8),
        )
        place = values["position"] * (cloud.scale * scale)
        place += (cloud.offset - corner) * scale + 0.5
        first[:, :3] = np.clip(place, 0, 65535, out=place)
        for name, plane, where in (
            ("intensity", first, 3),
            ("class", second, 3),
            ("native_rgb", second, slice(0, 3)),
            ("photo_rgb", third, slice(0, 3)),
        ):
            if name in values:
                plane[:, where] = values[name]
        if "cut" in values:
            third[:, 3] = values["cut"] != 0
        out += [
            np.array([k, count, 0, 0], "<u4").tobytes(),
            first.tobytes(),
            second.tobytes(),
            third.tobytes(),
        ]
    return b"".join(out)


def roots(job: Job) -> bytes:
    """The coarsest points of every scan in one answer: for each u32 scan, u32 bytes, and its root as ``pack``
    gives it.
    """
    out = []
    for scan in job.scans():
        node = pack(job, scan.id, [0], spread=True)
        out += [np.array([scan.id, len(node)], "<u4").tobytes(), node]
    return b"".join(out)


class Ray(BaseModel):
    """A pick: a ray in the scene's coordinates, how wide a pixel is on it (``width`` m, growing by ``slope``
    per metre), and what is switched off.
    """

    origin: Triple
    direction: Triple
    slope: float = Field(ge=0, le=1)
    width: float = Field(ge=0, le=1000)
    scans: list[int]
    hidden_classes: list[int] = []
    slab: Pair | None = None
    wall: Four | None = None
    along: Four | None = None
    box: str = Field("", max_length=100)


RINGS = (1.5, 3.0, 6.0, 10.0)


def pick(job: Job, ray: Ray) -> dict | None:
    """The stored point that a ray means, from all points and not from those that happen to be drawn: within
    the smallest ring of pixels that holds any, the first.

    Grid coordinate, intensity, class, scan and colours; None where nothing is near.
    """
    box = working_box(job, ray.box)
    origin, direction = (
        np.array(ray.origin) + origin_of(job),
        np.array(ray.direction) / max(np.linalg.norm(ray.direction), 1e-12),
    )
    clouds = []
    for scan, pose in shown(job):
        if scan.id in ray.scans:
            cloud, back = job.cloud(scan.id), rigid.inverse(pose)
            own = rigid.apply(back, origin[None])[0], back[:3, :3] @ direction
            clouds.append(
                (scan, cloud, pose, own, cloud.along_ray(*own), _allowed(job, cloud, pose, ray, box))
            )
    for ring in RINGS:
        found = []
        for scan, cloud, pose, own, cells, allowed in clouds:
            hit = cloud.nearest_to_ray(*own, ray.slope * ring, ray.width * ring, allowed, cells)
            if hit:
                found.append((hit[1], scan, cloud, pose, hit[0]))
        if found:
            return told(*min(found, key=lambda f: f[0])[1:])
    return None


def _allowed(job: Job, cloud, pose, ray: Ray, box):
    """Mask of what may be picked of a stretch of points: what is neither cut nor switched off nor outside the
    slabs nor hidden by the box.
    """
    place = pose.copy()
    place[:3, 3] -= origin_of(job)

    def allowed(start, stop):
        mask = cloud.kept(start, stop)
        if ray.hidden_classes:
            mask &= ~np.isin(cloud.values("class", 0, start, stop), ray.hidden_classes)
        if ray.slab or ray.wall or ray.along:
            q = rigid.apply(place, cloud.xyz(start, stop))
            if ray.slab:
                mask &= (q[:, 2] >= ray.slab[0]) & (q[:, 2] <= ray.slab[1])
            if ray.wall:
                mask &= np.abs(q[:, 0] * ray.wall[0] + q[:, 1] * ray.wall[1] - ray.wall[2]) <= ray.wall[3]
            if ray.along:
                way = q[:, 0] * ray.along[0] + q[:, 1] * ray.along[1]
                mask &= (way >= ray.along[2]) & (way <= ray.along[3])
        if box is not None:
            mask &= box.holds(rigid.apply(pose, cloud.xyz(start, stop)))
        return mask

    return allowed


def told(scan: Scan, cloud, pose, at: int) -> dict:
    own = cloud.xyz(at, at + 1)
    value = lambda name: np.asarray(cloud.read(name, at, at + 1))[0].tolist() if cloud.has(name) else None  # noqa: E731
    code, intensity, back = value("class"), value("intensity"), scan.record.get("intensity_as")
    return {
        "scan": scan.id,
        "name": scan.name,
        "placed": scan.pose is not None,
        "index": at,
        "at": (rigid.apply(pose, own) if scan.pose is not None else own)[0].tolist(),
        "shown": rigid.apply(pose, own)[0].tolist(),
        "own": own[0].tolist(),
        "intensity": intensity,
        "intensity_raw": None if intensity is None else back[0] * intensity + back[1] if back else intensity,
        "class": code,
        "class_name": classes.name(code) if code is not None else None,
        "native": value("native_rgb"),
        "photo": value("photo_rgb"),
        "cut": value("cut"),
        "range": float(np.linalg.norm(own)),
    }
