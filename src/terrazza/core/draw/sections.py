"""Sections: a line in plan, along which vertical slabs are laid flat, chainage to the right and height up."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid


@dataclass(frozen=True)
class Piece:
    """A straight piece of the line: from ``start`` (2,) m in plan, its ``direction`` (2,) of length 1, its
    ``length`` (m), and the chainage ``at`` (m) where it begins.
    """

    start: np.ndarray
    direction: np.ndarray
    length: float
    at: float

    def to_flat(self) -> np.ndarray:
        """4×4 from the line's frame to chainage, distance to the left of the line, height (m)."""
        (ux, uy), (x, y) = self.direction, self.start
        out = np.eye(4)
        out[:2, :2] = [[ux, uy], [-uy, ux]]
        out[:2, 3] = self.at - ux * x - uy * y, uy * x - ux * y
        return out

    def placed(self, flat: np.ndarray) -> np.ndarray:
        """(n, 3) places of chainages and heights (n, 2), m, in the plane of this piece."""
        along = np.asarray(flat)[:, 0] - self.at
        return np.c_[self.start + along[:, None] * self.direction, np.asarray(flat)[:, 1]]


def pieces(path: np.ndarray) -> list[Piece]:
    """Straight pieces of a line in plan (n, 2) m, those without length left out; ValueError where none is
    left.
    """
    out, at = [], 0.0
    for a, b in zip(path, path[1:]):
        length = float(np.linalg.norm(b - a))
        if length > 0:
            out.append(Piece(np.asarray(a, float), (b - a) / length, length, at))
            at += length
    if not out:
        raise ValueError("a section needs two places")
    return out


def across(line: list[Piece], chainage: float, reach: float) -> np.ndarray:
    """Ends (2, 2) m of the line across at a chainage (m), from left to right looking along, to a ``reach``
    (m) to either side; at a bend across the piece that begins there.
    """
    piece = next((p for p in reversed(line) if chainage >= p.at - 1e-9), line[0])
    place = piece.start + (chainage - piece.at) * piece.direction
    left = np.array([-piece.direction[1], piece.direction[0]])
    return np.array([place + reach * left, place - reach * left])


def laid_flat(path: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """(n, 2) chainage and height (m) of places (n, 3) near a line in plan, by the nearest of its pieces."""
    best, out = np.full(len(xyz), np.inf), np.zeros((len(xyz), 2))
    for piece in pieces(path):
        flat = rigid.apply(piece.to_flat(), xyz)
        along = flat[:, 0] - np.clip(flat[:, 0], piece.at, piece.at + piece.length)
        away = np.hypot(along, flat[:, 1])
        nearer = away < best - 1e-9
        best[nearer], out[nearer] = away[nearer], flat[nearer][:, [0, 2]]
    return out
