"""Classes by what a point itself says."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.classify.choosing import Rule, RuleParams, from_field, may_change, to_field
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

PLAIN = (
    "intensity",
    "reduced intensity",
    "return",
    "returns",
    "which return",
    "red",
    "green",
    "blue",
    "range",
    "height",
    "scan",
    "time",
)
WHICH = {"only": 1, "first": 2, "intermediate": 3, "last": 4}
NEAREST = 0.3  # m: of the range that intensity is reduced by


class ByItselfParams(RuleParams):
    what: str = field(
        "What",
        "intensity",
        max_length=100,
        help=f"One of {', '.join(PLAIN)}, or the name of any dimension that came in the file.  Which return: "
        "1 only, 2 first, 3 intermediate, 4 last.",
    )
    low: float | None = field("From", None, help="Lowest value; empty: no limit.")
    high: float | None = field("To", None, help="Highest value; empty: no limit.")
    from_classes: list[int] = from_field()
    to: int = to_field()


@operation
class ByItself(Rule):
    """Gives a class to the points whose own value lies in a range: intensity, return, colour, range, height,
    time, or any dimension that came in the file.
    """

    name, title = "classify.by_itself", "By itself"
    reads = frozenset({"scan", "pose", "frame"})
    dimensions = True
    Params = ByItselfParams

    def judge(self, job: Job, scans: list[Scan], params: ByItselfParams, folder: str, progress: Progress):
        if params.low is None and params.high is None:
            raise ParamsError("classify.by_itself: neither a lowest nor a highest value.", "Give one.")
        low = -np.inf if params.low is None else params.low
        high = np.inf if params.high is None else params.high
        if low > high:
            raise ParamsError(f"classify.by_itself: from {low:g} to {high:g} is no range.", "Exchange them.")
        without = [s.name for s in scans if not has(job.cloud(s.id), params.what)]
        if len(without) == len(scans):
            there = sorted({c for s in scans for c in names(job.cloud(s.id))})
            raise ParamsError(
                f"No scan has “{params.what}”.",
                f"There is {', '.join((*PLAIN, *there))}, where scans have it.",
            )
        if without:
            self.doubts.append(f"{len(without)} scans have no {params.what} and stay: {without[0]} first.")
        args = {s.id: (s.id, job.grid_pose(s)) for s in scans}
        return by_value, args, (params.what, low, high, params.from_classes, params.to)


def names(cloud: Cloud) -> list[str]:
    """Names of the dimensions that came in a file under names of its own."""
    there = (*cloud.columns.pointers, *cloud.columns.constants)
    return [c.removeprefix("extra.") for c in there if c.startswith("extra.")]


def _needs(what: str) -> str:
    """The column that a value comes from; empty where every scan has it."""
    return {
        "intensity": "intensity",
        "reduced intensity": "intensity",
        "return": "returns",
        "returns": "returns",
        "which return": "returns",
        "red": "native_rgb",
        "green": "native_rgb",
        "blue": "native_rgb",
        "time": "time",
        "range": "",
        "height": "",
        "scan": "",
    }.get(what, f"extra.{what}")


def has(cloud: Cloud, what: str) -> bool:
    """Whether a scan has a value of that name."""
    column = _needs(what)
    return not column or cloud.has(column)


def values(cloud: Cloud, start: int, stop: int, what: str, number: int, pose: np.ndarray) -> np.ndarray:
    """(n,) float64 values of a stretch of points; those of ``PLAIN`` or of a dimension of the file."""
    column = _needs(what)
    held = np.asarray(cloud.values(column, 0, start, stop)) if column else None
    if what == "scan":
        return np.full(stop - start, float(number))
    if what in {"range", "reduced intensity"}:
        r = np.linalg.norm(cloud.xyz(start, stop), axis=1)
        return r if what == "range" else held * (np.maximum(r, NEAREST) / 10.0) ** 2
    if what == "height":
        return rigid.apply(pose, cloud.xyz(start, stop))[:, 2]
    if what in {"red", "green", "blue"}:
        return held[:, ("red", "green", "blue").index(what)].astype(float)
    if column == "returns":
        mine, of = (held & 15).astype(int), (held >> 4).astype(int)
        if what == "return":
            return mine.astype(float)
        if what == "returns":
            return of.astype(float)
        out = np.full(len(mine), float(WHICH["intermediate"]))
        out[mine == 1] = WHICH["first"]
        out[mine >= of] = WHICH["last"]
        out[of <= 1] = WHICH["only"]
        return out
    return held.astype(float)


def by_value(cloud: Cloud, start: int, stop: int, args, common) -> np.ndarray:
    """The new codes of a stretch."""
    (number, pose), (what, low, high, wanted, to) = args, common
    codes = np.array(cloud.values("class", 0, start, stop), np.uint8)
    if not has(cloud, what):
        return codes
    value = values(cloud, start, stop, what, number, pose)
    codes[(value >= low) & (value <= high) & may_change(codes, wanted)] = to
    return codes
