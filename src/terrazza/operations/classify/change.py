"""Class to class, many at once."""

from typing import Annotated

import numpy as np
from pydantic import Field

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.operations.classify.choosing import Rule, RuleParams, need_code
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

Pair = Annotated[list[int], Field(min_length=2, max_length=2)]


class ChangeParams(RuleParams):
    pairs: list[Pair] = field("Pairs", help="[[from, to], …], all at once.", min_length=1, max_length=256)


@operation
class Change(Rule):
    """Gives the points of classes other classes, all pairs at once."""

    name, title = "classify.change", "Class to class"
    Params = ChangeParams

    def judge(self, job: Job, scans: list[Scan], params: ChangeParams, folder: str, progress: Progress):
        table = np.arange(256, dtype=np.uint8)
        for a, b in params.pairs:
            need_code(a)
            need_code(b)
            table[a] = b
        if len({a for a, _ in params.pairs}) < len(params.pairs):
            raise ParamsError("classify.change: a class stands twice on the left.", "Give each class once.")
        return changed, {}, table


def changed(cloud: Cloud, start: int, stop: int, _, table) -> np.ndarray:
    """The new codes of a stretch."""
    return table[cloud.values("class", 0, start, stop)]
