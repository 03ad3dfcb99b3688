"""Flatness, plumb and level of touched surfaces, in a table."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.clean.surface import SurfaceParams, found
from terrazza.operations.deliver.listing import listed_rows
from terrazza.operations.draw.slab import box_points
from terrazza.operations.pieces.stations import has_station
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

with later():
    from terrazza.core.surfaces import flatness

ABOVE = np.array([0.0, 0.0, 1000.0])  # m: where one looks from where no station is known
GAPS = ("gap_mm", "gap_by_noise_mm", "noise_mm")
NOISY = 0.5  # share of a gap that noise alone would make, from which on it is told
SEEN = 0.7  # share of a surface's rectangle that points show, below which it is told


class FlatnessParams(Params):
    at: list[Triple] = touched_field(
        help="One on each wall, floor or ceiling: E, N, H (or in the job frame).", min_length=1
    )
    reach: float = field("Reach", 5.0, unit="m", ge=0.2, le=100, help="How far about each it is followed.")
    straightedge: float = field("Straightedge", 2.0, unit="m", ge=0.1, le=20)
    path: str = field("CSV file", "", role="write", help="Also write the table to this file; empty: not yet.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Flatness(Operation):
    """Works out of each touched wall, floor or ceiling how far it leans or falls, how uneven it is, and the
    largest gap under a straightedge.
    """

    name, title, step = "surface.flatness", "Flatness and plumb", "Draw"
    reads = frozenset({"scan", "pose", "frame", "cut"})
    writes = frozenset({"deliverable"})
    bound_to_place = True
    Params = FlatnessParams

    def run(self, job: Job, params: FlatnessParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to measure")
        if params.path:
            job.output(params.path, ".csv")
        n, rows, doubt = Notation.of(job), [], []
        stations = np.array([job.grid_pose(s)[:3, 3] for s in scans if has_station(s)]).reshape(-1, 3)
        for k, at in enumerate(np.array(params.at, float), 1):
            progress.advance(k - 1, len(params.at), f"Measuring surface {k}")
            plane = found(job, SurfaceParams(kind="plane", patches=[tuple(at)]))
            points = box_points(job, scans, at - params.reach, at + params.reach)
            viewer = (
                stations[np.linalg.norm(stations - at, axis=1).argmin()]
                if len(stations)
                else at + [0, 0, 1e3]
            )
            surface = flatness.measured(points, at, plane.normal, viewer)
            if surface is None:
                doubt.append(f"Surface {k}: too few points lie in a plane there.")
                continue
            rows.append(_row(k, surface, params.straightedge))
            if rows[-1]["gap_by_noise_mm"] > NOISY * rows[-1]["gap_mm"]:
                doubt.append(f"Surface {k}: most of the gap under the straightedge may be noise.")
            seen = float(np.isfinite(surface.grid).mean())
            if seen < SEEN:
                doubt.append(f"Surface {k}: only {seen:.0%} of its rectangle is shown by points.")
        if not rows:
            raise StateError("Too few points lie in a plane at the touched places.", "Touch the surface.")
        worst = max(rows, key=lambda r: r["gap_mm"])
        figures = {
            "says": f"{len(rows)} surfaces; largest gap under {n.length(params.straightedge)}: "
            f"{n.residual(worst['gap_mm'])} (surface {worst['surface']})",
            "rows": rows,
            "doubt": doubt,
        }
        return figures | (self._listed(job, params.path, rows) if params.path else {})

    @staticmethod
    def _listed(job: Job, path: str, rows: list[dict]) -> Figures:
        """Write the table."""
        head = [
            "surface",
            "kind",
            "width (m)",
            "height (m)",
            "lean or fall (mm/m)",
            "sigma (mm/m)",
            "falls towards (degrees)",
            "RMS (mm)",
            "lowest (mm)",
            "highest (mm)",
            "largest gap (mm)",
            "of it by noise (mm)",
            "noise (mm)",
            "points",
        ]
        keys = "width_m height_m lean_mm_m lean_sigma_mm_m falls_deg rms_mm low_mm high_mm"
        n = Notation.of(job)
        table = [
            [
                r["surface"],
                r["kind"],
                *("" if r[k] is None else n.number(r[k]) for k in [*keys.split(), *GAPS]),
                r["points"],
            ]
            for r in rows
        ]
        return {"path": listed_rows(job, path, head, table, "surfaces", len(rows))["path"]}


def _row(number: int, surface, length: float) -> dict:
    """Figures of one surface; lengths in m, what is small in mm."""
    gap, alone, where = surface.gap(length)
    width, height = surface.size
    wall = surface.kind == "wall"
    about = surface.turn[0] if wall else float(np.hypot(*surface.turn))
    return {
        "surface": number,
        "kind": surface.kind,
        "width_m": width,
        "height_m": height,
        "lean_mm_m": 1000 * surface.lean,
        "lean_sigma_mm_m": 1000 * float(about),
        "falls_deg": None if wall else float(np.degrees(surface.fall)) % 360,
        "rms_mm": 1000 * float(np.sqrt(np.nanmean(surface.grid**2))),
        "low_mm": 1000 * float(np.nanmin(surface.grid)),
        "high_mm": 1000 * float(np.nanmax(surface.grid)),
        "gap_mm": 1000 * gap,
        "gap_by_noise_mm": 1000 * alone,
        "gap_at": where.tolist(),
        "noise_mm": 1000 * surface.sigma,
        "points": surface.points,
    }
