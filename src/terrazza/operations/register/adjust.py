"""Adjust the whole network."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.operations.pieces.surfaces import pictures, surfaces
from terrazza.operations.register.automatic import POSE_KINDS
from terrazza.operations.register.holding import held
from terrazza.operations.register.settling import settle
from terrazza.operations.register.standing import put_stood
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job


class AdjustParams(Params):
    least_overlap: float = field(
        "Least overlap for a tie",
        0.05,
        help="Share of judged points that two scans must have in common.",
        ge=0.01,
        le=0.9,
    )
    bias_sigma_mm: float = field(
        "Range bias allowed",
        0.4,
        unit="mm",
        help="Standard deviation of a constant range error of each set-up.",
        ge=0.01,
        le=20,
    )
    fixed: list[int] = field("Scans that stay", list, help="Empty: the first placed scan.", widget="scans")


@operation
class Adjust(Operation):
    """Cloud fit of all placed pairs that overlap, then one adjustment of the whole network."""

    name, title, step = "register.adjust", "Adjust the whole network", "Register"
    reads, writes = frozenset({"scan", "left_out", "tie_choice", "target"}), POSE_KINDS
    looks = frozenset({"held", "held_block"})
    Params = AdjustParams

    @classmethod
    def expected(cls, last: dict) -> float:
        """As long as the last one, or at most as the registration that it is part of."""
        known = [last[name].seconds or 0.0 for name in (cls.name, "register.automatic") if name in last]
        return known[0] if known else float("inf")

    def run(self, job: Job, params: AdjustParams, progress: Progress) -> Figures:
        scans = [
            s
            for s in job.need_scans(placed=True, why=", so there is nothing to adjust")
            if not job.get("left_out", s.id)
        ]
        if len(scans) < 2:
            raise StateError(
                "An adjustment needs two placed scans at least.", "Place another, or take one back in."
            )
        was = {s.id: s.pose for s in scans}
        before = (job.get("network") or {}).get("rms_mm")
        faces, seen = (
            surfaces(job, scans, Part(progress, 0.0, 0.4)),
            pictures(job, scans, Part(progress, 0.4, 0.5)),
        )
        fixed = {k for k, s in enumerate(scans) if s.id in set(params.fixed)} | held(job, scans)
        figures = settle(
            job,
            scans,
            faces,
            seen,
            [s.pose for s in scans],
            fixed,
            params.least_overlap,
            params.bias_sigma_mm / 1000,
            Part(progress, 0.5, 1.0),
            "adjusted",
            set(range(len(scans))),
        )
        moved = [
            {"scan": s.id, "name": s.name, "moved_mm": 1000 * shift, "turned_deg": float(np.degrees(turn))}
            for s in job.scans(placed=True)
            if s.id in was
            for shift, turn in [rigid.difference(s.pose, was[s.id])]
        ]
        figures |= {"before_mm": before, "moved": sorted(moved, key=lambda m: -m["moved_mm"])}
        return figures | put_stood(job, scans, figures)
