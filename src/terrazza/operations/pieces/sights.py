"""Pictures of a job: the plan as a whole, and what is seen from a station."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.later import later
from terrazza.operations.pieces import stations
from terrazza.operations.spine.job import Job

with later():
    from terrazza.core.draw import from_above

EVERYWHERE = (-1e6, 1e6)
INK, PAPER = np.array([23, 31, 31.0]), np.array([237, 230, 209.0])
GROUND = np.array([251, 249, 243], np.uint8)  # of the plan where nothing lies
BARE = np.array([158, 153, 140], np.uint8)  # of a view where nothing came back
ROWS = 256  # of a plan that are toned at once
FINEST = 0.01  # m: pixels of a plan are no smaller


def extent(job: Job, turned: np.ndarray | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest coordinates (3,) of all placed scans, grid (or job frame), or in the frame that
    ``turned`` (4×4) takes it to.
    """
    corners = []
    for scan in job.scans(placed=True):
        sides = np.array(scan.record["bounds"])
        box = np.stack(np.meshgrid(*sides.T, indexing="ij"), -1).reshape(-1, 3)
        pose = job.grid_pose(scan) if turned is None else turned @ job.grid_pose(scan)
        corners.append(rigid.apply(pose, box))
    whole = np.concatenate(corners)
    return whole.min(0), whole.max(0)


def plan(
    job: Job, how: str, most: int, heights: tuple[float, float] = EVERYWHERE
) -> tuple[np.ndarray, np.ndarray, float]:
    """The plan of all placed scans, between two ``heights`` (m): picture (rows, columns, 3) u8 of at most
    ``most`` pixels a side, its upper left corner (2,) m and the edge of a pixel (m).
    """
    low, high = extent(job)
    pixel = max(float((high - low)[:2].max()) / most, FINEST)
    width, height = (int(np.ceil(v / pixel)) for v in (high - low)[:2])
    sheet = from_above.Sheet((low[0], high[1]), pixel, width, height)
    for scan in job.scans(placed=True):
        add(sheet, job.cloud(scan.id), scan.record, job.grid_pose(scan), low - 1, high + 1, heights)
    toned = sheet.picture(how, (max(low[2], heights[0]), min(high[2], heights[1])))
    for start in range(0, height, ROWS):
        part = toned[start : start + ROWS]
        share = part[..., 3:] / np.float32(255)
        part[..., :3] = part[..., :3] * share + GROUND * (1 - share)
    return np.ascontiguousarray(toned[..., :3]), np.array([low[0], high[1]]), pixel


def add(sheet, cloud, record: dict, pose, low, high, heights, hidden: list[int] | tuple = ()) -> None:
    """Gather a scan's kept points in a box (grid) into a sheet, classes in ``hidden`` left out."""
    dark, light = record.get("intensity_range") or (0, 65535)
    for start, stop, weight in cloud.even(low, high, pose, sheet.pixel):
        allowed = cloud.kept(start, stop)
        if hidden:
            allowed &= ~np.isin(cloud.values("class", 0, start, stop), hidden)
        intensity = cloud.values("intensity", light, start, stop).astype(np.float32)
        tone = np.clip((intensity - dark) / max(light - dark, 1), 0, 1)
        position = np.asarray(cloud.read("position", start, stop))
        sheet.add(position, cloud.scale, cloud.offset, pose, tone, allowed, weight, heights)


def from_station(
    job: Job, number: int, stop: int = 0, rows: slice = slice(None)
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """What is seen from a station (or only some ``rows`` of it) at full resolution, in colour where there is
    any: picture (rows, columns, 3) u8, azimuth (columns,) and elevation (rows,) in rad in the scan's frame.
    """
    view, cloud, record = stations.view(job, number, stop), job.cloud(number), job.scan(number).record
    index = np.asarray(view.index[rows])
    seen = index >= 0
    wanted, where = np.unique(index[seen], return_inverse=True)
    rgb = None
    for column in ("photo_rgb", "native_rgb"):
        if cloud.has(column):
            own = np.asarray(cloud.pick(column, wanted))
            rgb = own if rgb is None else np.where(rgb.any(1, keepdims=True), rgb, own)
    dark, light = record.get("intensity_range") or (0, 65535)
    grey = np.full(len(wanted), 0.5)
    if cloud.has("intensity"):
        grey = (cloud.pick("intensity", wanted).astype(float) - dark) / max(light - dark, 1)
    grey = np.clip(grey, 0, 1) ** 0.8
    toned = (INK + (PAPER - INK) * grey[:, None]).astype(np.uint8)
    colour = toned if rgb is None else np.where(rgb.any(1, keepdims=True), rgb, toned)
    out = np.broadcast_to(BARE, (*index.shape, 3)).copy()
    out[seen] = colour[where]
    return out, view.azimuth, view.elevation[rows]
