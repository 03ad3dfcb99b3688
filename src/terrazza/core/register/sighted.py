"""What a search for targets works on and finds: a scan as a grid of ranges and intensities, and targets with
centre and σ.
"""

from dataclasses import dataclass

import numpy as np


@dataclass
class Target:
    """One detected target in a scan's frame.

    ``kind``: checkerboard, sphere or disc; ``centre`` (3, m); ``sigma`` (m) of the centre, of flat ones in
    their plane; ``normal`` of a flat one (of a sphere: towards the scanner); ``range`` (m); ``incidence``
    (rad, 0 for a sphere); ``fit`` (0 to 1): share of the intensity's variance that the pattern explains, or
    of the points near a sphere that lie on it; ``points`` used; ``edge`` (m): of the board, or diameter.
    """

    kind: str
    centre: np.ndarray
    sigma: float
    normal: np.ndarray
    range: float
    incidence: float
    fit: float
    points: int
    edge: float


@dataclass(frozen=True)
class Nearby:
    """What lies about a place: ``xyz`` (n, 3, m, scan frame), ``intensity`` (n,), and the angle (rad) from
    one ray to the next, the wider of rows and columns, as ``step``.
    """

    xyz: np.ndarray
    intensity: np.ndarray
    step: float

    def within(self, place: np.ndarray, reach: float, most: int | None = None) -> "Nearby":
        """What is left within ``reach`` (m) of a place (3,), thinned evenly to about ``most`` before."""
        some = self.thinned(most) if most else self
        near = np.linalg.norm(some.xyz - place, axis=1) < reach
        return Nearby(some.xyz[near], some.intensity[near], self.step)

    def thinned(self, most: int) -> "Nearby":
        """About ``most`` of the points, evenly in their order."""
        every = slice(None, None, max(1, len(self.xyz) // most))
        return Nearby(self.xyz[every], self.intensity[every], self.step)


@dataclass
class Grid:
    """A structured scan: ``index`` (rows, columns) of its points (-1 where none), ``ranges`` (m, 0 where
    none) and ``image`` (intensity) alike, ``xyz`` (n, 3, m, scan frame), ``intensity`` (n,), elevation of the
    lowest row and ``slope`` (rad a row), ``turn`` (rad a column).
    """

    index: np.ndarray
    ranges: np.ndarray
    image: np.ndarray
    xyz: np.ndarray
    intensity: np.ndarray
    lowest: float
    slope: float

    @classmethod
    def of(cls, row: np.ndarray, column: np.ndarray, xyz: np.ndarray, intensity: np.ndarray) -> "Grid":
        """``row``, ``column`` (n,) grid indices; ``xyz`` (n, 3) m, scan frame; ``intensity`` (n,)."""
        shape = int(row.max()) + 1, int(column.max()) + 1
        index, ranges, image = np.full(shape, -1, np.int64), np.zeros(shape), np.zeros(shape)
        distance = np.linalg.norm(xyz, axis=1)
        index[row, column], ranges[row, column], image[row, column] = np.arange(len(row)), distance, intensity
        elevation = np.arcsin(np.clip(xyz[:, 2] / np.maximum(distance, 1e-9), -1, 1))
        some = slice(None, None, max(len(row) // 20000, 1))
        slope, lowest = np.polyfit(row[some], elevation[some], 1)
        return cls(index, ranges, image, xyz, np.asarray(intensity, float), float(lowest), float(slope))

    @property
    def turn(self) -> float:
        return 2 * np.pi / self.index.shape[1]

    def around(self, row: int, column: int, reach: float) -> np.ndarray:
        """Indices of the points within ``reach`` (m) of a grid place as the scanner sees it, nearer or
        farther. Indices (n,).
        """
        centre = self.xyz[self.index[row, column]]
        half_row = int(np.ceil(reach / (np.linalg.norm(centre) * abs(self.slope)))) + 1
        half_column = int(np.ceil(reach / (max(np.linalg.norm(centre[:2]), 0.3) * self.turn))) + 1
        half_column = min(half_column, (self.index.shape[1] - 1) // 2)
        columns = np.arange(column - half_column, column + half_column + 1) % self.index.shape[1]
        window = self.index[max(row - half_row, 0) : row + half_row + 1][:, columns].ravel()
        return window[window >= 0]

    def nearby(self, row: int, column: int, reach: float) -> Nearby:
        """The points themselves of ``around``."""
        use = self.around(row, column, reach)
        return Nearby(self.xyz[use], self.intensity[use], max(abs(self.slope), self.turn))
