"""What plans and sections share: how lines are fitted to the points of a slab, and what is said of them."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.later import later
from terrazza.operations.spine.base import Params, field

with later():
    from terrazza.core.draw import lines as lines_of

FEWEST = 20  # points that a slab needs


class FittingParams(Params):
    thickness: float = field(
        "Thickness",
        0.05,
        unit="m",
        ge=0.005,
        le=5,
        help="Thin slabs give sharp lines, thick ones more of them.",
    )
    least: float = field(
        "Shortest line", 0.30, unit="m", ge=0.05, le=100, help="Shorter straight pieces are left out."
    )
    width: float = field(
        "Straightness",
        0.02,
        unit="m",
        ge=0.002,
        le=0.5,
        help="Points within this distance belong to one line.",
    )
    gap: float = field(
        "Largest gap", 0.35, unit="m", ge=0.01, le=10, help="A line ends where its points leave a wider gap."
    )
    join: float = field(
        "Joining distance",
        0.25,
        unit="m",
        ge=0.0,
        le=5,
        help="Lines whose ends meet within this become one polyline with a corner.",
    )

    @property
    def fit(self) -> tuple[float, float, float, float]:
        """What the fit of lines takes: shortest line, straightness, largest gap, joining distance (m)."""
        return self.least, self.width, self.gap, self.join


def row(number: int, line, layer: str, placed, back: np.ndarray) -> dict:
    """A fitted line as a drawing keeps it; ``placed`` takes its flat vertices (n, 2) to (n, 3) in the grid,
    ``back`` (4×4) from there to the job frame.
    """
    flat = line.vertices
    closed = len(flat) > 3 and bool(np.linalg.norm(flat[0] - flat[-1]) < 1e-6)
    xyz = placed(flat[:-1] if closed else flat)
    around = np.concatenate([xyz, xyz[:1]]) if closed else xyz
    return {
        "name": f"Line {number}",
        "layer": layer,
        "vertices": rigid.apply(back, xyz).tolist(),
        "closed": closed,
        "rms_mm": line.rms * 1000,
        "points": line.points,
        "length": float(np.linalg.norm(np.diff(around, axis=0), axis=1).sum()),
    }


def rows_of(flat: np.ndarray, params: FittingParams, piece, back: np.ndarray, first: int = 1) -> list[dict]:
    """Lines fitted to the points of a vertical slab laid flat (n, 2) along a ``piece`` of a section's line,
    as a drawing keeps them, numbered from ``first``.
    """
    rows, middle = [], flat.mean(0) if len(flat) else np.zeros(2)
    for line in lines_of.fit_lines(flat - middle, *params.fit):
        line.vertices = line.vertices + middle
        rows.append(row(first + len(rows), line, "SECTION", piece.placed, back))
    return rows


def figures(rows: list[dict], points: int) -> dict:
    """What is told of fitted lines: how many, their length (m), the RMS of their points (mm)."""
    weights = [r["points"] for r in rows]
    squares = [r["rms_mm"] ** 2 for r in rows]
    return {
        "lines": len(rows),
        "length_m": sum(r["length"] for r in rows),
        "points": points,
        "rms_mm": float(np.sqrt(np.average(squares, weights=weights))) if rows else None,
    }
