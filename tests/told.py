"""Scans along a line, of which is given what pairs say by how far apart they are."""

from types import SimpleNamespace

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import contradiction
from terrazza.core.register.assembly import Assembly


def verdict(told, cost, shared=0.5):
    return contradiction.Verdict((shared, shared), told, told, cost / 20, cost, [])


def at(x):
    return rigid.make(np.eye(3), np.array([x, 0, 0.0]))


class Told(Assembly):
    """An assembly whose verdicts are given by relative position along x, as a line of places one of which
    explains most.
    """

    def __init__(self, n, says):
        super().__init__([SimpleNamespace(around=1.0, xyz=np.full(3, k)) for k in range(n)], set())
        self.says = says

    def verdict(self, a, b, pose):
        return self.says(round(float(pose[0, 3] if a < b else -pose[0, 3]), 1))

    def covered(self, moved, others):
        case = self.against(moved, others)
        return case.evidence + case.cost

    def gross(self, a, b, pose):
        return False
