"""PTX written: scans with their grids and poses, column by column, in text (see ``ptx`` for the form)."""

from dataclasses import dataclass

import numpy as np

from terrazza.later import later

with later():
    from terrazza.formats import digits


@dataclass(frozen=True)
class Cells:
    """How the places of a grid become lines: with colours or not, and the coordinates' decimals."""

    colour: bool
    decimals: int
    deep: bool = False  # colours in 16 bits

    @property
    def kind(self) -> np.dtype:
        """Of a grid that points are put into."""
        return np.dtype([("xyz", "<f8", 3), ("intensity", "<u2"), ("rgb", "<u2" if self.deep else "u1", 3)])

    def put(self, grid: np.ndarray, place: np.ndarray, chunk: dict[str, np.ndarray]) -> None:
        """Put points into their places (n,) of a flat grid."""
        part = np.zeros(len(place), self.kind)
        part["xyz"] = chunk["xyz"]
        for name in ("intensity", "rgb"):
            if name in chunk:
                part[name] = chunk[name]
        grid[place] = part

    def text(self, grid: np.ndarray) -> bytes:
        """The lines of some places (n,); 0 0 0 where nothing is, intensities from 0 to 1."""
        columns = [(grid["xyz"], self.decimals), (grid["intensity"] / 65535, 6)]
        return digits.lines(columns + [(grid["rgb"], 0)] * self.colour)


def heading(columns: int, rows: int, pose: np.ndarray) -> bytes:
    """The ten lines before a scan: its grid, where the scanner stood and its axes, and the motion (4×4, scan
    to file) for row vectors.
    """
    line = lambda values: " ".join(f"{v:.15g}" for v in values)
    motion = np.asarray(pose, float).T
    lines = [str(columns), str(rows), line(pose[:3, 3]), *(line(pose[:3, k]) for k in range(3))]
    return ("\n".join([*lines, *(line(row) for row in motion)]) + "\n").encode("ascii")
