"""Draw paint on the ground: stripes, crossings, bays, arrows."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.base import Figures, Operation, Params, Triple, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from scipy import ndimage
    from scipy import spatial as trees

    from terrazza.core.draw import paint as marks

GROUND, OFF = 0.25, 0.04  # m: cells of the ground, and how far off it paint may lie
TALL = 1.5  # m: the ground rises or falls by no more within a cell's reach of the touched place
STEEP = 0.25  # of the distance: how much the ground may rise


class PaintParams(Params):
    at: Triple = field("Touched", unit="m", help="[E, N, H] on one mark.")
    reach: float = field("As far as", 25.0, unit="m", gt=0.5, le=200, help="Others are looked for so far.")
    which: Literal["like it", "it alone", "all as bright"] = field(
        "Which", "like it", help="Of its width, direction and size; or it alone; or all that is as bright."
    )
    dark: bool = field("Darker than the ground", False, help="Marks that send back less than the ground.")
    repeat: int = field(
        "Repeat", 0, ge=0, le=500, help="Draw the touched one so many times more, as a guess, across itself."
    )
    spacing: float = field(
        "Spacing of repeats",
        0.0,
        unit="m",
        blank="as found",
        ge=-100,
        le=100,
        help="Across the touched one; negative: to the other side.",
    )
    layer: str = field("Layer", "PAINT", min_length=1, max_length=60)
    path: str = field("DXF file", "", role="write", help="Also write them to this file, in space.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Paint(Operation):
    """Draws painted marks like a touched one as closed outlines at ground height, from intensity compared
    with the ground about them; stripes side by side also as the area of their crossing.
    """

    name, title, step = "draw.paint", "Paint on the ground", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    bound_to_place = True
    Params = PaintParams

    def run(self, job: Job, params: PaintParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so the place cannot be found in them")
        if params.path:
            job.output(params.path, ".dxf")
        at = np.array(params.at, float)
        xyz, contrast = _ground(job, scans, at, params, progress)
        progress.advance(0.7, 1, "Looking for paint")
        picture = marks.Picture.of(xyz[:, :2], contrast)
        one, others = marks.found(picture, at[:2])
        if one is None:
            raise StateError(
                "Nothing painted lies at the touched place: no intensity there stands out of the ground's.",
                "Touch the middle of a mark, or say that it is darker than the ground.",
            )
        if params.which == "it alone":
            others = []
        elif params.which == "like it":
            others = marks.alike(one, others)
        drawn = [one, *(m for m in others if np.linalg.norm(m.middle - at[:2]) < params.reach)]
        area, spacing = marks.crossing(drawn) if params.which != "all as bright" else (None, None)
        height = _Heights(xyz)
        rows = [
            _line(m.ring, f"Mark {n}", params.layer, height, job) | {"points": m.points}
            for n, m in enumerate(drawn, 1)
        ]
        rows += self._repeated(params, one, spacing, height, job)
        if area is not None:
            rows.append(_line(area, "Crossing", f"{params.layer} AREA"[:60], height, job))
        number = job.next_number("drawing")
        job.put("drawing", number, {"name": f"Paint {number}", "lines": rows})
        figures = _figures(number, one, drawn, spacing, area, rows, picture, Notation.of(job))
        if params.path:
            figures["path"] = write_dxf(job, [job.get("drawing", number)], params.path)
        return figures

    @staticmethod
    def _repeated(params: PaintParams, one, spacing, height, job) -> list[dict]:
        if not params.repeat:
            return []
        step = params.spacing or spacing
        if not step:
            raise StateError("The marks have no common spacing.", "Give the spacing of the repeats.")
        across = np.array([-np.sin(one.turn), np.cos(one.turn)])
        return [
            _line(one.ring + k * step * across, f"Repeat {k}", params.layer, height, job) | {"guessed": True}
            for k in range(1, params.repeat + 1)
        ]


def _ground(job: Job, scans, at, params: PaintParams, progress: Progress):
    """Points (n, 3; grid) on the ground within reach, and how they stand out of it."""
    reach = params.reach + marks.AROUND
    low, high = at - [reach, reach, TALL + STEEP * reach], at + [reach, reach, TALL + STEEP * reach]
    parts = []
    for number, scan in enumerate(scans):
        cloud, pose = job.cloud(scan.id), job.grid_pose(scan)
        progress.advance(0.6 * number / len(scans), 1, f"Reading {scan.name}")
        if not cloud.has("intensity"):
            continue
        index = cloud.kept_of(cloud.inside(low, high, pose))
        xyz = rigid.apply(pose, cloud.at(index))
        near = np.linalg.norm(xyz[:, :2] - at[:2], axis=1) < reach
        if near.sum() > 100:
            tone = np.asarray(cloud.pick("intensity", index[near]), float)
            away = np.linalg.norm(xyz[near] - pose[:3, 3], axis=1) if has_station(scan) else None
            parts.append((xyz[near], tone, away))
    if not parts:
        raise StateError("No scan with intensity shows this place.", "Touch a place that scans show.")
    ground = _Lowest(np.concatenate([p[0] for p in parts]), at)
    out = []
    for xyz, tone, away in parts:
        on = ground.holds(xyz)
        if on.sum() > 100:
            out.append(
                (
                    xyz[on],
                    marks.contrasts(xyz[on, :2], tone[on], away if away is None else away[on], params.dark),
                )
            )
    if not out:
        raise StateError("There is no ground at the touched place.", "Touch a mark on the ground.")
    return tuple(np.concatenate(v) for v in zip(*out))


class _Lowest:
    """The ground about a touched place: cell by cell the lowest fullest height, grown from the place."""

    def __init__(self, xyz: np.ndarray, at: np.ndarray):
        self.low = xyz[:, :2].min(0)
        cell = np.floor((xyz[:, :2] - self.low) / GROUND).astype(int)
        self.shape = tuple(cell.max(0) + 1)
        flat = cell[:, 0] * self.shape[1] + cell[:, 1]
        there, level, _ = marks.lower(flat, xyz[:, 2], 0.2)
        height = np.full(self.shape[0] * self.shape[1], np.nan)
        height[there] = level
        self.height = height.reshape(self.shape)
        start = np.minimum(((at[:2] - self.low) / GROUND).astype(int), np.array(self.shape) - 1)
        if not np.isfinite(self.height[tuple(start)]) or abs(self.height[tuple(start)] - at[2]) > 0.3:
            self.height[tuple(start)] = at[2]
        self._grow(tuple(start))

    def _grow(self, start) -> None:
        """Keep only what is reached from a cell by steps no higher than a kerb."""
        known = np.isfinite(self.height)
        flat = np.where(known, self.height, 0)
        smooth = ndimage.median_filter(flat, 3)
        joined = known & (np.abs(flat - smooth) < 0.12)
        joined[start] = True
        rough = np.hypot(*np.gradient(smooth))
        even = joined & (rough < 0.15)
        even[start] = True
        label, _ = ndimage.label(even)
        self.height = np.where(label == label[start], self.height, np.nan)

    def holds(self, xyz: np.ndarray) -> np.ndarray:
        """Mask of points on the ground: by the height of the cells about them, sloped as they are."""
        at = (xyz[:, :2] - self.low) / GROUND - 0.5
        known = np.isfinite(self.height)
        weight = ndimage.gaussian_filter(known.astype(float), 1.0)
        even = ndimage.gaussian_filter(np.where(known, self.height, 0), 1.0) / np.maximum(weight, 1e-9)
        level = ndimage.map_coordinates(even, at.T, order=1, mode="nearest")
        sure = ndimage.map_coordinates(weight, at.T, order=1, mode="nearest") > 0.3
        return sure & (np.abs(xyz[:, 2] - level) < OFF)


class _Heights:
    """Height of the ground at any place, by the points about it."""

    def __init__(self, xyz: np.ndarray):
        self.xyz, self.tree = xyz, trees.cKDTree(xyz[:, :2])

    def __call__(self, xy: np.ndarray) -> np.ndarray:
        """(n,) medians of the fifteen nearest points' heights."""
        return np.median(
            self.xyz[self.tree.query(xy, min(15, len(self.xyz)))[1], 2].reshape(len(xy), -1), axis=1
        )


def _line(ring, name: str, layer: str, height, job: Job) -> dict:
    grid = np.c_[ring, height(ring)]
    return {
        "name": name,
        "layer": layer.upper(),
        "vertices": rigid.apply(rigid.inverse(job.frame), grid).tolist(),
        "closed": True,
        "space": True,
        "guessed": False,
        "rms_mm": None,
        "points": 0,
        "length": float(np.linalg.norm(np.diff(np.vstack([ring, ring[:1]]), axis=0), axis=1).sum()),
    }


def _figures(number, one, drawn, spacing, area, rows, picture, notation: Notation) -> Figures:
    doubt = []
    if one.contrast < 3 * marks.LEAST:
        doubt.append("The touched mark hardly stands out of the ground: its edges are weak.")
    if picture.cell >= marks.COARSEST and one.width < 4 * picture.cell:
        doubt.append(f"Points lie too far apart for a mark {notation.length(one.width)} wide.")
    return {
        "says": f"{len(drawn)} mark{'s' if len(drawn) > 1 else ''} {notation.length(one.width)} wide"
        + (f", every {notation.length(spacing)}" if spacing else "")
        + (f"; {notation.length(sum(m.area for m in drawn), square=True)} of paint"),
        "drawing": number,
        "marks": len(drawn),
        "lines": len(rows),
        "width_m": one.width,
        "length_m": one.length,
        "turn_deg": float(np.degrees(one.turn)),
        "area_m2": float(sum(m.area for m in drawn)),
        "spacing_m": spacing,
        "crossing": area is not None,
        "cell_m": picture.cell,
        "rows": [
            {
                "name": r["name"],
                "width_m": m.width,
                "length_m": m.length,
                "area_m2": m.area,
                "contrast": m.contrast,
            }
            for r, m in zip(rows, drawn)
        ],
        "doubt": doubt,
    }
