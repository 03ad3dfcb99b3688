"""Classes by the size of what hangs together."""

from typing import Annotated

import numpy as np
from pydantic import Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams, from_field, may_change, to_field
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial

    from terrazza.core.clean import specks

Size = Annotated[list[float], Field(min_length=3, max_length=3)]
ANY = 1e9


class BySizeParams(RuleParams):
    from_classes: list[int] = from_field()
    to: int = to_field()
    least: Size = field("At least", lambda: [0.0, 0.0, 0.0], unit="m", help="Length, width and height.")
    most: Size = field(
        "At most", lambda: [0.0, 0.0, 0.0], unit="m", help="Length, width and height; 0: no limit."
    )
    gap: float = field("Gap", 0.3, unit="m", gt=0, le=100, help="What is nearer than this hangs together.")


@operation
class BySize(Rule):
    """Gives a class to groups of connected points within limits of length, width and height: “about 3 m high
    and under 1 m across”.
    """

    name, title = "classify.by_size", "By size"
    Params = BySizeParams

    def judge(self, job: Job, scans: list[Scan], params: BySizeParams, folder: str, progress: Progress):
        least, most = np.array(params.least), np.array(params.most)
        most = np.where(most > 0, most, ANY)
        if (least > most).any():
            raise ParamsError("classify.by_size: a least size is above the most.", "Exchange them.")
        edge = params.gap / 2  # cells that touch hold points nearer than √12 of this
        poses = {s.id: job.grid_pose(s) for s in scans}
        low = _lowest(job, scans, poses) - edge
        code, sides = _cells(job, scans, poses, params, low, edge, progress)
        chosen = _chosen(code, sides, least, most)
        return by_group, poses, (code[chosen], low, edge, params.from_classes, params.to)


def _lowest(job: Job, scans: list[Scan], poses) -> np.ndarray:
    corners = [
        rigid.apply(poses[s.id], np.array(np.meshgrid(*zip(*job.cloud(s.id).bounds()))).reshape(3, -1).T)
        for s in scans
    ]
    return np.concatenate(corners).min(0)


def _cells(job: Job, scans, poses, params: BySizeParams, low, edge, progress: Progress):
    """Sorted codes of the cells that hold points of the classes, and their bounds (m, 6) (m)."""
    code, bounds = np.zeros(0, np.int64), np.zeros((0, 6))
    for n, scan in enumerate(scans):
        cloud = job.cloud(scan.id)
        for start, stop in cloud.blocks():
            progress.advance(0.4 * n, len(scans), f"Putting groups together: {scan.name}")
            codes = cloud.values("class", 0, start, stop)
            use = cloud.kept(start, stop) & may_change(codes, params.from_classes)
            xyz = rigid.apply(poses[scan.id], cloud.xyz(start, stop)[use])
            mine = specks.codes(specks.plain(xyz, edge, low))
            code, back = np.unique(np.concatenate([code, mine]), return_inverse=True)
            both = np.concatenate([bounds, np.c_[xyz, xyz]])
            bounds = np.c_[np.full((len(code), 3), np.inf), np.full((len(code), 3), -np.inf)]
            np.minimum.at(bounds[:, :3], back.ravel(), both[:, :3])
            np.maximum.at(bounds[:, 3:], back.ravel(), both[:, 3:])
    return code, bounds


def _chosen(code: np.ndarray, bounds: np.ndarray, least: np.ndarray, most: np.ndarray) -> np.ndarray:
    """Mask of the cells whose group lies within the limits; length and width along its own main direction."""
    if not len(code):
        return np.zeros(0, bool)
    group = specks.clusters(code)
    order = np.argsort(group, kind="stable")
    ends = np.searchsorted(group[order], np.arange(group.max() + 2))
    good = np.zeros(group.max() + 1, bool)
    for k in range(len(good)):
        mine = bounds[order[ends[k] : ends[k + 1]]]
        height = mine[:, 5].max() - mine[:, 2].min()
        corners = np.concatenate([mine[:, [0, 1]], mine[:, [3, 4]], mine[:, [0, 4]], mine[:, [3, 1]]])
        size = np.array([*_across(corners), height])
        good[k] = (size >= least).all() and (size <= most).all()
    return good[group]


def _across(xy: np.ndarray) -> tuple[float, float]:
    """Length and width of the smallest rectangle about places (n, 2)."""
    try:
        hull = xy[spatial.ConvexHull(xy).vertices]
    except (spatial.QhullError, ValueError):
        span = float(np.ptp(xy, axis=0).max()) if len(xy) else 0.0
        return span, 0.0
    edges = np.diff(np.r_[hull, hull[:1]], axis=0)
    turns = np.unique(np.round(np.arctan2(edges[:, 1], edges[:, 0]) % (np.pi / 2), 6))
    best = None
    for turn in turns:
        c, s = np.cos(turn), np.sin(turn)
        spans = np.ptp(hull @ np.array([[c, -s], [s, c]]), axis=0)
        if best is None or spans.prod() < best.prod():
            best = spans
    return float(best.max()), float(best.min())


def by_group(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """The new codes of a stretch."""
    chosen, low, edge, wanted, to = common
    codes = np.array(cloud.values("class", 0, start, stop), np.uint8)
    if not len(chosen):
        return codes
    mine = specks.codes(specks.plain(rigid.apply(pose, cloud.xyz(start, stop)), edge, low))
    at = np.searchsorted(chosen, mine)
    at[at == len(chosen)] = 0
    codes[(chosen[at] == mine) & may_change(codes, wanted)] = to
    return codes
