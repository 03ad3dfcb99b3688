"""Draw break lines along a thing: a kerb, a rail, a ditch."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.draw.slab import box_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import (
    Figures,
    Operation,
    Pair,
    Params,
    Triple,
    field,
    operation,
    scans_field,
)
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from scipy import spatial as trees

    from terrazza.core.draw import tracing

THICK = 0.3  # m: of a section across
TILE, INNER = (
    10.0,
    3.5,
)  # m: points are fetched by squares, and anew when a section comes so far from their middle
TALL = 1.5  # m: above and below
LONGEST = 5000.0  # m
KNOWN = 1.0  # m: a place nearer to a line that is there belongs to it
MISFIT = 0.008  # m: RMS beyond which a place is told


class BreakLinesParams(Params):
    at: list[Triple] = field(
        "Places",
        unit="m",
        min_length=1,
        max_length=100,
        help="[[E, N, H], …]: one a place where it is touched.",
    )
    heading_deg: float | None = field(
        "Direction",
        None,
        unit="°",
        ge=-360,
        le=360,
        help="Along the thing at the first place, counter-clockwise from east; empty: looked for.",
    )
    corners: list[Pair] = field(
        "Corners",
        list,
        unit="m",
        max_length=20,
        help="[[across, up], …] about the place, in order; across positive to the left.",
    )
    like: str = field(
        "As drawn in",
        "",
        max_length=100,
        help="Instead of corners: number or name of a drawing of break lines whose shape is taken over.",
    )
    names: list[str] = field("Names", list, max_length=20, help="One a corner; empty: line 1, line 2 …")
    step: float = field("Spacing", 0.5, unit="m", ge=0.05, le=100, help="From vertex to vertex.")
    path: str = field("DXF file", "", role="write", help="Also write them to this file, in space.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class BreakLines(Operation):
    """Follows the corners of a thing from touched places both ways, as far as points show it: one line a
    corner, bending, rising and changing shape with it; gaps are bridged as guesses.
    """

    name, title, step = "draw.break_lines", "Break lines", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "drawing"})
    writes = frozenset({"drawing", "deliverable"})
    bound_to_place = True
    Params = BreakLinesParams

    def run(self, job: Job, params: BreakLinesParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to follow")
        shape, names = _shape(job, params)
        if params.path:
            job.output(params.path, ".dxf")
        chains, lost, shape = _traced(job, scans, params, shape, progress)
        if not chains:
            raise StateError(
                "Nothing of this shape lies at the touched places.",
                "Look at a section across it, and touch its corners in order.",
            )
        number, back = job.next_number("drawing"), rigid.inverse(job.frame)
        rows = [row for chain in chains for row in _rows(chain, names, params.step, back)]
        kept = {"corners": shape.tolist(), "names": names}
        job.put("drawing", number, {"name": f"Break lines {number}", "lines": rows, "shape": kept})
        figures = {"drawing": number} | _figures(chains, lost, Notation.of(job), len(names))
        if params.path:
            figures["path"] = write_dxf(job, [job.get("drawing", number)], params.path)
        return figures


def _shape(job: Job, params: BreakLinesParams) -> tuple[np.ndarray, list[str]]:
    """Corners (k, 2) m, as touched or as drawn before, and their names."""
    corners, names = np.array(params.corners, float).reshape(-1, 2), params.names
    if not len(corners) and params.like:
        drawn = (
            v for k, v in job.facts("drawing").items() if params.like in (k, v["name"]) and v.get("shape")
        )
        if (known := next(drawn, None)) is None:
            raise ParamsError(
                f"draw.break_lines: no drawing “{params.like}” of break lines.",
                "Draw them once by their corners.",
            )
        corners, names = np.array(known["shape"]["corners"]), names or known["shape"]["names"]
    if len(corners) < 2:
        raise ParamsError(
            "draw.break_lines: it takes two corners at least.", "Touch them in order, across it."
        )
    names = names or [f"Line {k}" for k in range(1, len(corners) + 1)]
    if len(names) != len(corners):
        raise ParamsError(
            f"draw.break_lines: {len(names)} names for {len(corners)} corners.", "Give one a corner."
        )
    return corners, names


def _traced(job: Job, scans, params: BreakLinesParams, shape: np.ndarray, progress: Progress):
    """Places along the thing, a list for each stretch; numbers of touched places where it was not found; and
    its shape (k, 2) m where it was first.
    """
    section, chains, lost, first = _Sections(job, scans), [], [], None
    heading = None if params.heading_deg is None else np.radians(params.heading_deg)
    for number, at in enumerate(np.array(params.at, float), 1):
        known = [p for chain in chains for p in chain]
        gaps = np.array([np.linalg.norm(p.at - at) for p in known])
        if len(gaps):
            nearest = known[int(gaps.argmin())]
            if gaps.min() < KNOWN and not nearest.guessed:
                continue
            way = at - nearest.at
            along = np.array([np.cos(nearest.heading), np.sin(nearest.heading)])
            heading = np.arctan2(*(way[1::-1] * (1 if way[:2] @ along > 0 else -1)))
            shape = nearest.corners
        start = (
            tracing.looked_for(section, at, shape)
            if heading is None
            else tracing.begin(section, at, heading, shape)
        )
        if start is None:
            lost.append(number)
            continue
        first = start.corners if first is None else first
        progress.advance(number, len(params.at), f"Following from place {number}")
        meets = lambda p: any(np.linalg.norm(p.at - q.at) < tracing.ADVANCE for q in known if not q.guessed)
        chains.append(tracing.bridged(tracing.both_ways(section, start, LONGEST, meets)))
    return chains, lost, first


class _Sections:
    """Sections across at any place, out of points fetched square by square."""

    def __init__(self, job: Job, scans):
        self.job, self.scans, self.middle, self.points, self.tree = job, scans, None, None, None

    def __call__(self, at: np.ndarray, heading: float, corners: np.ndarray) -> np.ndarray:
        if (
            self.middle is None
            or np.abs(at - self.middle)[:2].max() > INNER
            or abs(at[2] - self.middle[2]) > 0.5
        ):
            self.middle = np.array(at, float)
            half = np.array([TILE / 2, TILE / 2, TALL])
            self.points = box_points(self.job, self.scans, self.middle - half, self.middle + half)
            self.tree = trees.cKDTree(self.points[:, :2]) if len(self.points) else None
        if self.tree is None:
            return np.zeros((0, 2))
        reach = float(np.abs(corners).max()) + tracing.REACH
        near = self.points[self.tree.query_ball_point(at[:2], np.hypot(reach, THICK))] - at
        along = near[:, 0] * np.cos(heading) + near[:, 1] * np.sin(heading)
        across = near[:, 1] * np.cos(heading) - near[:, 0] * np.sin(heading)
        keep = (np.abs(along) < THICK / 2) & (np.abs(across) < reach) & (np.abs(near[:, 2]) < reach)
        return np.c_[across, near[:, 2]][keep]


def _rows(chain: list, names: list[str], step: float, back: np.ndarray) -> list[dict]:
    """Lines of a stretch as a drawing keeps them: one a corner and run, found or guessed."""
    every = max(1, round(step / tracing.ADVANCE))
    runs, first = [], 0
    for k in range(1, len(chain) + 1):
        if k == len(chain) or chain[k].guessed != chain[first].guessed:
            runs.append((max(first - chain[first].guessed, 0), min(k + chain[first].guessed, len(chain))))
            first = k
    rows = []
    for start, stop in runs:
        part = chain[start:stop]
        guessed = part[len(part) // 2].guessed
        places = np.array(
            [p.placed() for p in part[::every] + ([part[-1]] if (len(part) - 1) % every else [])]
        )
        good = [p for p in part if not p.guessed]
        for j, name in enumerate(names):
            if len(places) < 2:
                continue
            xyz = places[:, j]
            rows.append(
                {
                    "name": name,
                    "layer": name.upper()[:60] or "BREAK",
                    "vertices": rigid.apply(back, xyz).tolist(),
                    "closed": False,
                    "space": True,
                    "guessed": guessed,
                    "rms_mm": float(np.sqrt(np.mean([p.rms**2 for p in good]))) * 1000 if good else None,
                    "points": sum(p.points for p in good),
                    "length": float(np.linalg.norm(np.diff(xyz, axis=0), axis=1).sum()),
                }
            )
    return rows


def _figures(chains: list, lost: list[int], notation: Notation, lines: int) -> Figures:
    places = [p for chain in chains for p in chain]
    found = [p for p in places if not p.guessed]
    length = sum((len(chain) - 1) * tracing.ADVANCE for chain in chains)
    guessed = (len(places) - len(found)) * tracing.ADVANCE
    rough = [p for p in found if p.rms > MISFIT]
    rms = float(np.sqrt(np.mean([p.rms**2 for p in found])))
    doubt = [f"Place {k}: nothing of this shape lies there." for k in lost]
    if guessed:
        doubt.append(f"{notation.length(guessed)} are bridged: too little of it was seen there.")
    if rough:
        doubt.append(
            f"{len(rough)} places fit to more than {notation.residual(MISFIT * 1000)}, the worst at "
            f"{notation.coordinate(max(rough, key=lambda p: p.rms).at)}."
        )
    return {
        "says": f"{lines} lines over {notation.length(length)}, RMS {notation.residual(rms * 1000)}"
        + (f", {notation.length(guessed)} of it bridged" if guessed else ""),
        "lines": lines,
        "length_m": length,
        "bridged_m": guessed,
        "rms_mm": rms * 1000,
        "residuals": [
            {"at": p.at.tolist(), "rms_mm": None if p.guessed else p.rms * 1000, "points": p.points}
            for p in places[:: max(1, len(places) // 400)]
        ],
        "doubt": doubt,
    }
