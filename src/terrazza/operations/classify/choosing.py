"""What the rules of classification have in common: which points they look at, and what moved from where to
where.
"""

from collections.abc import Callable
from typing import Any, ClassVar

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError
from terrazza.operations.clean.filtering import within_field
from terrazza.operations.clean.taking import told as taken
from terrazza.operations.clean.trying import Piece, Tried, try_on
from terrazza.operations.pieces import portions
from terrazza.operations.pieces.counting import before_after, class_counts, class_namer
from terrazza.operations.spine.base import Figures, Operation, Params, field, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.table.boxes import limit_of
from terrazza.store.cloud import Cloud

CONFIDENCE = "extra.confidence"  # how sure the last rule was that says so


class RuleParams(Params):
    scans: list[int] = scans_field("Empty: all placed scans.")
    within: str = within_field()


def from_field() -> Any:
    """The classes that a rule starts from."""
    return field("From classes", list, widget="classes", help="Empty: all.")


def to_field(default: Any = ...) -> Any:
    """The class that a rule gives."""
    return field("To class", default, ge=0, le=255, help="A LAS class code; 64 to 255 are the job's own.")


class Rule(Operation):
    """Gives classes to points by a rule; ``judge`` prepares it and returns ``(choose, args, common)``, where
    ``choose(cloud, start, stop, args of the scan, common)`` gives the new codes (n,) of a stretch, or these
    and how sure they are (n,) f32, 0 to 1, NaN where it was not asked.
    """

    step: ClassVar[str] = "Classify"
    doubts: list[str]
    more: dict[str, Any]  # figures of its own
    reads: ClassVar[frozenset[str]] = frozenset({"scan", "pose"})
    looks: ClassVar[frozenset[str]] = frozenset({"box", "drawing", "cut"})
    writes: ClassVar[frozenset[str]] = frozenset({"column"})
    tries: ClassVar[bool] = True
    sure: ClassVar[bool] = False  # ``choose`` also says how sure it is, which stays with the points

    def judge(self, job: Job, scans: list[Scan], params, folder: str, progress: Progress) -> tuple:
        """See the class."""
        raise NotImplementedError

    def preview(self, job: Job, params, piece: Piece, progress: Progress) -> Tried:
        """Which points of a piece would get another class: judged by whole scans, nothing is written."""
        scans = [s for s in self._scans(job, params) if s.id in piece.points]
        if getattr(params, "save", ""):
            params = params.model_copy(update={"save": ""})
        box = limit_of(job, params.within)
        self.doubts, self.more = [], {}
        with job.scratch() as folder:
            choose, args, common = self.judge(job, scans, params, folder, Part(progress, 0, 0.8))
            own = {s.id: (args.get(s.id), job.grid_pose(s)) for s in scans}
            rule = (choose, common, box)
            tried = try_on(job, scans, piece, _changing, own, rule, Part(progress, 0.8, 1))
        figures = taken(tried.tallies, class_namer(job)) | {"would": "have another class", "doubt": []}
        return tried.with_figures(figures | self.more, self.doubts)

    @staticmethod
    def _scans(job: Job, params) -> list[Scan]:
        return job.need_scans(params.scans, placed=True, why=", and rules work in the common frame")

    def run(self, job: Job, params, progress: Progress) -> Figures:
        scans = self._scans(job, params)
        box, before = limit_of(job, params.within), class_counts(job)
        self.doubts, self.more = [], {}
        with job.scratch() as folder:
            choose, args, common = self.judge(job, scans, params, folder, Part(progress, 0, 0.6))
            own = {s.id: (args.get(s.id), job.grid_pose(s)) for s in scans}
            columns = ("class", CONFIDENCE) if self.sure else ("class",)
            rule, rest = (choose, common, box), Part(progress, 0.6, 1)
            found = portions.rewrite(job, scans, columns, _rewritten, own, rest, "Classifying", rule)
        table = sum((t for tallies in found.values() for t in tallies), np.zeros((256, 256), np.int64))
        moves = table - np.diag(np.diag(table))
        figures = told(moves, class_namer(job)) | self.said(table.sum(0))
        return figures | before_after(job, before) | self.more | {"doubt": self.doubts}

    def said(self, counts: np.ndarray) -> Figures:
        """Figures of a run of its own, from how many kept points each class has now (256,), of the scans."""
        return {}


def _codes(cloud: Cloud, start: int, stop: int, args, common):
    """Codes (n,) of a stretch now and by the rule, how sure it is (n,) or None, and which are kept (n,)."""
    (own, pose), (choose, rest, box) = args, common
    now = np.array(cloud.values("class", 0, start, stop), np.uint8)
    new, kept = choose(cloud, start, stop, own, rest), cloud.kept(start, stop)
    use = kept
    new, sure = new if isinstance(new, tuple) else (new, None)
    if box is not None:
        use = kept & box.holds(cloud.xyz(start, stop) @ pose[:3, :3].T + pose[:3, 3])
    if sure is not None:
        sure = np.where(use, sure, cloud.values(CONFIDENCE, np.nan, start, stop)).astype(np.float32)
    return now, np.where(use, new, now).astype(np.uint8), sure, kept


def _changing(cloud: Cloud, start: int, stop: int, args, common) -> np.ndarray:
    now, new, *_ = _codes(cloud, start, stop, args, common)
    return now != new


def _rewritten(cloud: Cloud, start: int, stop: int, args, common):
    now, new, sure, kept = _codes(cloud, start, stop, args, common)
    pairs = now[kept].astype(np.int64) << 8 | new[kept]
    table = np.bincount(pairs, minlength=65536).reshape(256, 256)
    return (new if (now != new).any() else None, sure), table


def told(moves: np.ndarray, name: Callable[[int], str]) -> dict:
    """``says``, ``points`` and ``moved``: rows of from, to, count and names, the largest first."""
    rows = [
        {
            "from": int(a),
            "to": int(b),
            "count": int(moves[a, b]),
            "from_name": name(int(a)),
            "to_name": name(int(b)),
        }
        for a, b in np.argwhere(moves)
    ]
    rows.sort(key=lambda r: -r["count"])
    total = int(moves.sum())
    first = f", most of them {rows[0]['from_name']} to {rows[0]['to_name']}" if rows else ""
    return {"says": f"{total:,} points have another class{first}", "points": total, "moved": rows}


def may_change(codes: np.ndarray, wanted: list[int]) -> np.ndarray:
    """Mask of the points whose class a rule starts from."""
    return np.isin(codes, wanted) if wanted else np.ones(len(codes), bool)


def need_code(code: int) -> None:
    """ParamsError for what is no class code."""
    if not 0 <= code <= 255:
        raise ParamsError(f"A class code lies between 0 and 255, got {code}.", "Use LAS class codes.")
