"""The view from a station: what it shows, its tiles, and the stored point behind a pixel."""

import io

import numpy as np
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.errors import NotFound
from terrazza.operations.pieces import stations
from terrazza.operations.spine.job import Job
from terrazza.web.contexts import picking, scene

TILE = 512
INK, PAPER = np.array([23, 31, 31.0]), np.array([237, 230, 209.0])
BARE = np.array([158, 153, 140.0])
MODES = ("intensity", "native", "photo", "class", "range")
PALETTE = {
    0: 0xA8A08F,
    1: 0x8D988F,
    2: 0xA5762F,
    3: 0xC3C860,
    4: 0x8AA53D,
    5: 0x41702F,
    6: 0xB4512F,
    9: 0x2C6E8F,
}
KNOTS = 256
NEAR = 2
BEHIND = 0.3


def build(job: Job, number: int, stop: int = 0) -> dict:
    """Size, version, where directions lie (``azimuth`` and ``elevation`` at evenly spread columns and rows),
    and what is marked in the view.

    A mark's ``at`` is (column, row) in pixels; stations, control and targets that the grid does not reach are
    left out.
    """
    scan, view = job.scan(number), stations.view(job, number, stop)
    eye = stations.eye(job, number, stop)
    rows, columns = view.index.shape
    cloud = job.cloud(number)
    across, down = (
        np.linspace(0, columns - 1, min(KNOTS, columns)).round().astype(int),
        np.linspace(0, rows - 1, min(KNOTS, rows)).round().astype(int),
    )
    return {
        "scan": number,
        "stop": stop,
        "key": key(number, stop),
        "eye": eye.tolist(),
        "name": f"{scan.name}, stop {stop}" if stop else scan.name,
        "rows": rows,
        "columns": columns,
        "tile": TILE,
        "version": scene.version_of(job, number),
        "turn": bool(view.whole_turn),
        "across": across.tolist(),
        "azimuth": view.azimuth[across].tolist(),
        "down": down.tolist(),
        "elevation": view.elevation[down].tolist(),
        "modes": [
            m
            for m in MODES
            if m in ("intensity", "range")
            or cloud.has({"native": "native_rgb", "photo": "photo_rgb", "class": "class"}[m])
        ],
        "marks": _marks(job, scan, view, eye, stop),
        "others": places(job),
    }


def key(scan: int, stop: int = 0) -> str:
    """How addresses name a station, “5”, or a stop of a walk, “9-3”."""
    return f"{scan}-{stop}" if stop else str(scan)


def places(job: Job) -> list[str]:
    """Every station and stop one can look from, in order."""
    out = []
    for scan in job.scans():
        walk = job.get("walk", scan.id)
        if stations.has_station(scan):
            out.append(key(scan.id))
        out += [key(scan.id, n + 1) for n in range(len(walk["stops"]) if walk else 0)]
    return out


def _marks(job: Job, scan, view, eye: np.ndarray, stop: int) -> list[dict]:
    steps = [
        ("station", f"{scan.id}-{n}", f"stop {n}", np.array(s["at"]), key(scan.id, n))
        for n, s in enumerate(job.get("walk", scan.id, {"stops": []})["stops"], 1)
        if n != stop
    ]
    if scan.pose is None:
        return _put(job, scan, view, eye, [(s, s[3]) for s in steps])
    origin = scene.origin_of(job)
    found = [
        ("station", f"{s.id}", s.name, job.grid_pose(s)[:3, 3], key(s.id))
        for s in job.scans(placed=True)
        if s.id != scan.id and stations.has_station(s)
    ]
    found += [
        (
            "control",
            c["name"],
            "check point" if c["check"] else "control point",
            np.array(c["at"]) + origin,
            None,
        )
        for c in scene.control(job, origin)
    ]
    found += [
        ("target", " ".join(map(str, t["numbers"])), "target", np.array(t["at"]) + origin, None)
        for t in scene.targets(job, origin)
    ]
    own = rigid.apply(rigid.inverse(job.grid_pose(scan)), np.array([f[3] for f in found])) if found else []
    return _put(job, scan, view, eye, [(s, s[3]) for s in steps] + list(zip(found, own)))


def _put(job: Job, scan, view, eye: np.ndarray, things: list) -> list[dict]:
    """Marks of things given with their places in the scan's frame."""
    if not things:
        return []
    own = np.array([p for _, p in things]) - eye
    at, away = view.pixel(own), np.linalg.norm(own, axis=1)
    return [
        {
            "kind": kind,
            "name": name,
            "says": says,
            "at": p.tolist(),
            "range": float(r),
            "scan": other,
            "hidden": _hidden(job, scan, view, eye, p, r),
        }
        for ((kind, name, says, _, other), _), p, r in zip(things, at, away)
        if np.isfinite(p).all() and r > 0.05
    ]


def _hidden(job: Job, scan, view, eye: np.ndarray, at: np.ndarray, away: float) -> bool:
    """Whether something nearer is seen where a mark is."""
    row, column = min(int(at[1].round()), len(view.elevation) - 1), int(at[0].round()) % len(view.azimuth)
    seen = int(view.index[row, column])
    return seen >= 0 and bool(np.linalg.norm(job.cloud(scan.id).xyz(seen, seen + 1) - eye) < away - BEHIND)


def tile(job: Job, number: int, stop: int, mode: str, level: int, x: int, y: int) -> bytes:
    """PNG of one tile: at level 0 a pixel of the grid is a pixel of the picture, each level more takes every
    second one; what was not hit, or is cut, is see-through.
    """
    view, cloud, scan = stations.view(job, number, stop), job.cloud(number), job.scan(number)
    step = 2**level
    index = view.index[
        y * TILE * step : (y + 1) * TILE * step : step, x * TILE * step : (x + 1) * TILE * step : step
    ]
    if mode not in MODES or not index.size:
        raise NotFound("There is no such tile.", "Open the station again.")
    flat = np.asarray(index).ravel()
    there = np.flatnonzero(flat >= 0)
    order = there[np.argsort(flat[there], kind="stable")]
    chosen = flat[order]
    picture = np.zeros((flat.size, 4), np.uint8)
    picture[order, :3] = _colours(cloud, scan.record, mode, chosen)
    picture[order, 3] = np.where(np.isin(chosen, cloud.kept_of(chosen), assume_unique=True), 255, 0)
    out = io.BytesIO()
    Image.fromarray(picture.reshape(*index.shape, 4)).save(out, "PNG", compress_level=1)
    return out.getvalue()


def _colours(cloud, record: dict, mode: str, chosen: np.ndarray) -> np.ndarray:
    """(n, 3) colours of the points with these indices (sorted)."""
    if mode == "range":
        away = np.linalg.norm(cloud.at(chosen), axis=1)
        tone = 1 - np.clip(np.log(away + 0.3) / np.log(80), 0, 1)
        return INK + (PAPER - INK) * tone[:, None]
    low, high = record.get("intensity_range", (0, 65535))
    value = (
        cloud.pick("intensity", chosen).astype(float)
        if cloud.has("intensity")
        else np.full(len(chosen), (low + high) / 2)
    )
    tone = np.clip((value - low) / max(high - low, 1), 0, 1)[:, None]
    if mode in ("native", "photo"):
        name = f"{mode}_rgb"
        colour = cloud.pick(name, chosen).astype(float) if cloud.has(name) else np.zeros((len(chosen), 3))
        return np.where(colour.sum(1, keepdims=True) > 0, colour, BARE * (0.6 + 0.4 * tone))
    if mode == "class":
        codes = cloud.pick("class", chosen) if cloud.has("class") else np.zeros(len(chosen), int)
        table = np.array([PALETTE.get(c, 0x8A6D96) for c in range(256)])[codes]
        return np.stack([table >> 16 & 255, table >> 8 & 255, table & 255], 1) * (0.75 + 0.25 * tone)
    return INK + (PAPER - INK) * tone**0.8


def pick(job: Job, number: int, stop: int, row: int, column: int, hidden: list[int]) -> dict | None:
    """The stored point behind a pixel, or behind the nearest pixel within ``NEAR`` that shows one; None where
    there is none.
    """
    view, cloud, scan = stations.view(job, number, stop), job.cloud(number), job.scan(number)
    rows, columns = view.index.shape
    around = [(row + r, column + c) for r in range(-NEAR, NEAR + 1) for c in range(-NEAR, NEAR + 1)]
    for r, c in sorted(around, key=lambda p: (p[0] - row) ** 2 + (p[1] - column) ** 2):
        at = int(view.index[r, c]) if 0 <= r < rows and 0 <= c < columns else -1
        if (
            at >= 0
            and cloud.kept(at, at + 1)[0]
            and int(cloud.values("class", 0, at, at + 1)[0]) not in hidden
        ):
            pose = next(p for s, p in scene.shown(job) if s.id == number)
            return picking.told(job, scan, cloud, pose, at) | {"row": r, "column": c}
    return None
