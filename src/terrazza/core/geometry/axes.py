"""Axis orders and flips: which file axis, with which sign, becomes x, y and z."""

from dataclasses import dataclass

import numpy as np

from terrazza.errors import ParamsError

UPRIGHT = {
    "+z": "+x +y +z",
    "-z": "+x -y -z",
    "+y": "+x -z +y",
    "-y": "+x +z -y",
    "+x": "+y +z +x",
    "-x": "-y +z -x",
}


@dataclass(frozen=True)
class Axes:
    """New axis k is ``sign[k]`` times old axis ``order[k]``."""

    order: tuple[int, int, int] = (0, 1, 2)
    sign: tuple[int, int, int] = (1, 1, 1)

    @classmethod
    def named(cls, words: str) -> "Axes":
        """From words such as “+x -z +y”; ParamsError where an axis is missing or named twice."""
        parts = words.lower().replace(",", " ").split()
        bare = [p.lstrip("+-") for p in parts]
        if sorted(bare) != ["x", "y", "z"] or any(len(p) > 2 for p in parts):
            raise ParamsError(
                f"“{words}” is no order of axes.",
                "Name each file axis once with its sign, in the order that gives x, y and z, for example "
                "+x -z +y.",
            )
        return cls(tuple("xyz".index(b) for b in bare), tuple(-1 if p.startswith("-") else 1 for p in parts))

    @property
    def plain(self) -> bool:
        return self == Axes()

    @property
    def mirrored(self) -> bool:
        """Whether right becomes left: such a choice suits only left-handed files."""
        return bool(np.linalg.det(self.matrix) < 0)

    @property
    def matrix(self) -> np.ndarray:
        """3×3, old to new."""
        m = np.zeros((3, 3))
        m[np.arange(3), self.order] = self.sign
        return m

    def turned(self, values: np.ndarray) -> np.ndarray:
        """(…, 3) values in the new order, of the same type."""
        values = np.asarray(values)
        return values[..., list(self.order)] * np.array(self.sign, values.dtype)

    def reordered(self, values: list[int] | np.ndarray) -> np.ndarray:
        """(3,) sizes in the new order, without signs."""
        return np.asarray(values)[list(self.order)]

    def pose(self, pose: np.ndarray) -> np.ndarray:
        """A 4×4 between two frames that both change their axes."""
        a = np.eye(4)
        a[:3, :3] = self.matrix
        return a @ pose @ a.T
