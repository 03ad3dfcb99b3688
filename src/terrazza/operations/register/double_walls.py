"""Look for double walls."""

from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.operations.pieces.surfaces import kept_points
from terrazza.operations.register.judging import doubled
from terrazza.operations.spine.base import Figures, Operation, Params, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation


class DoubleWallsParams(Params):
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class DoubleWalls(Operation):
    """Looks through all placed scans for surfaces that show twice, the farthest apart first."""

    name, title, step = "register.double_walls", "Look for double walls", "Register"
    reads, writes = frozenset({"scan", "pose", "cut", "left_out"}), frozenset({"network"})
    Params = DoubleWallsParams

    def run(self, job: Job, params: DoubleWallsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to look through")
        if len(scans) < 2:
            raise StateError("Double walls need two placed scans at least.", "Place another.")
        rows = doubled(
            job,
            [
                (s, kept_points(job.cloud(s.id)), s.pose, float(s.pose_record.get("bias") or 0.0))
                for s in scans
            ],
            progress,
        )
        n = Notation.of(job)
        if not rows:
            return {"says": f"No double wall in {len(scans)} scans", "double_walls": []}
        worst = rows[0]
        return {
            "says": f"{len(rows)} double walls, the worst {n.residual(abs(worst['offset_mm']))} in scans "
            f"{worst['a']} and {worst['b']}",
            "double_walls": rows,
            "doubt": [
                f"Scan {d['off']} shows a {d['what']} twice with scan {d['a'] + d['b'] - d['off']}, "
                f"{n.residual(abs(d['offset_mm']))} apart over {d['area']:.1f} m²."
                for d in rows[:5]
            ],
        }
