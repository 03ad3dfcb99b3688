"""How far the cloud lies from a surface."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.clean.surface import SurfaceParams, found
from terrazza.operations.pieces import portions
from terrazza.operations.spine.base import (
    Figures,
    Operation,
    Params,
    Triple,
    field,
    operation,
    scans_field,
    touched_field,
)
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.operations.surface.ground import surface_of
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import shells
    from terrazza.core.surfaces import spread

FITTED = ("plane", "sphere", "cylinder")
COLUMN = "extra.deviation"
BEYOND = 0.05  # share of the points about a surface that lie farther than the reach, beyond which it is told


class DeviationParams(Params):
    against: str = field(
        "Against",
        "",
        role="read",
        max_length=400,
        help="plane, sphere or cylinder through touched points, the number or name of a surface, or "
        "a file of "
        "triangles; empty: the last surface.",
    )
    reach: float = field(
        "Reach",
        0.1,
        unit="m",
        gt=0,
        le=100,
        help="What lies farther off is not judged: it is something else.",
    )
    tolerance: float = field("Tolerance", 0.01, unit="m", gt=0, le=100, help="What is nearer is within it.")
    patches: list[Triple] = touched_field(
        help="Of a plane, sphere or cylinder: E, N, H (or in the job frame), as for the surface filter."
    )
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Deviation(Operation):
    """Signed distances of the points from a plane, sphere, cylinder or surface: kept with the points as the
    dimension “deviation” (m), with histogram and the share within a tolerance.
    """

    name, title, step = "surface.deviation", "Deviation from a surface", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut", "surface", "array"})
    writes = frozenset({"column"})
    bound_to_place = True
    Params = DeviationParams

    def run(self, job: Job, params: DeviationParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to compare")
        shell, named = against(job, params)
        poses = {s.id: job.grid_pose(s) for s in scans}
        common = (shell, params.reach, params.tolerance)
        tallies = portions.rewrite(job, scans, COLUMN, _measure, poses, progress, "Measuring", common)
        total = spread.together([t for s in scans for t in tallies[s.id]])
        if not total.count:
            raise StateError(
                f"No point lies within {params.reach:g} m of it.", "Give a larger reach, or another surface."
            )
        n = Notation.of(job)
        share = total.within / total.count
        beyond = total.beyond / (total.count + total.beyond)
        doubt = (
            [f"{beyond:.0%} of the points up to twice the reach lie beyond it: they are not judged."]
            if beyond > BEYOND
            else []
        )
        return {
            "says": f"{total.count:,} points against {named}: {share:.1%} within "
            f"±{n.length(params.tolerance)}, mean "
            f"{n.residual(total.mean * 1000)}, RMS {n.residual(total.rms * 1000)}",
            "points": total.count,
            "within": share,
            "mean_mm": total.mean * 1000,
            "rms_mm": total.rms * 1000,
            "sigma_mm": total.sigma * 1000,
            "median_mm": total.quantile(0.5) * 1000,
            "low_mm": total.quantile(0.025) * 1000,
            "high_mm": total.quantile(0.975) * 1000,
            "histogram": {
                "edges_mm": (total.edges * 1000).tolist(),
                "counts": total.counts.tolist(),
            },
            "rows": [
                {"scan": s.id, "points": one.count, "mean_mm": one.mean * 1000, "rms_mm": one.rms * 1000}
                for s in scans
                if (one := spread.together(tallies[s.id])).count
            ],
            "doubt": doubt,
        }


def against(job: Job, params: DeviationParams):
    """The surface that parameters mean (grid or job frame), and its name in words."""
    given = params.against.strip()
    if given in FITTED:
        if not params.patches:
            raise ParamsError(
                f"surface.deviation: a {given} needs touched points.", "Touch it where it is clear."
            )
        return found(job, SurfaceParams(kind=given, patches=params.patches)), f"a {given}"
    there = job.facts("surface")
    if not given or any(given in (k, v["name"]) for k, v in there.items()):
        surface = surface_of(job, given)
        shell = shells.Triangles(surface.vertices, surface.triangles, 2 * params.reach)
        return shell, f"surface {given}" if given else "the last surface"
    asked = SurfaceParams(kind="file", path=given, reach=2 * params.reach)
    return found(job, asked), "the surface of the file"


def _measure(cloud: Cloud, start: int, stop: int, pose, common):
    shell, reach, tolerance = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    away = np.where(shell.along(xyz), shell.away(xyz), np.nan)
    kept = cloud.kept(start, stop)
    tally = spread.Spread.of(away[kept], reach, tolerance)
    with np.errstate(invalid="ignore"):
        near = np.abs(away) <= reach
    return np.where(near, away, np.nan).astype(np.float32), tally
