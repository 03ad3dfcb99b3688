"""Places from a sketch or a map: the picture laid on the plan, and scans placed about where it has them.

A sketch says where an instrument stood to a metre or so, and nothing of its heading.  Placements come from
the plan match with each neighbour, or from headings all round at the sketched place; only those that end
near it count, and the surfaces and pictures of the neighbours decide between them.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register import like_points, offers
from terrazza.core.register.like_points import Found, Side
from terrazza.core.register.plan_match import PlanShape, candidates
from terrazza.errors import InputError

FEW = 3  # candidates: with fewer, headings all round are tried at the sketched place itself
ROUND = 12  # such headings
TRIED = 16  # candidates of the plan match a neighbour
MIRRORED = 0.3  # of the misfit: what is left where a picture is mirrored


@dataclass(frozen=True)
class Laid:
    """``matrix`` (2, 3) from pixels (x to the right, y down) to the plan (m), ``scale`` in m a pixel,
    ``residuals`` (n,) m of the known places, and whether a ``mirrored`` picture would fit them far better.
    """

    matrix: np.ndarray
    scale: float
    residuals: np.ndarray
    mirrored: bool = False

    def at(self, pixels: np.ndarray) -> np.ndarray:
        """Places (n, 2) m of pixels (n, 2)."""
        return np.asarray(pixels, float).reshape(-1, 2) @ self.matrix[:, :2].T + self.matrix[:, 2]


def lay(pixels: np.ndarray, places: np.ndarray) -> Laid:
    """A picture laid on the plan by a similarity, least squares: ``pixels`` (n, 2), ``places`` (n, 2) m.

    Raises InputError for fewer than two pairs, or where they lie in one place.
    """
    if len(pixels) < 2:
        raise InputError("One known place does not say how large a picture is, nor how it is turned.")
    fits = [_similar(pixels * [1, up], places) for up in (-1, 1)]  # y goes down in pictures
    (turn, shift, off), (_, _, otherwise) = fits
    rms, other = (float(np.sqrt(np.mean(o**2))) for o in (off, otherwise))
    matrix = np.array([[turn.real, turn.imag, shift.real], [turn.imag, -turn.real, shift.imag]])
    return Laid(matrix, abs(turn), off, len(pixels) > 2 and other < MIRRORED * rms)


def _similar(pixels: np.ndarray, places: np.ndarray) -> tuple[complex, complex, np.ndarray]:
    """Turn with scale, and shift, as complex numbers, and residuals (n,) m."""
    z, w = pixels @ [1, 1j], places @ [1, 1j]
    spread = z - z.mean()
    across = float((np.abs(spread) ** 2).sum())
    if across < 1.0 or np.ptp(places, axis=0).max() < 1e-6:
        raise InputError("The known places lie in one place.")
    turn = complex((np.conj(spread) * (w - w.mean())).sum() / across)
    shift = complex(w.mean() - turn * z.mean())
    return turn, shift, np.abs(turn * z + shift - w)


def by_length(ends: np.ndarray, length: float) -> Laid:
    """A picture with its lower side along X, its first corner at zero, as large as the distance ``length``
    (m) between two of its pixels ``ends`` (2, 2) says.
    """
    pixels = float(np.linalg.norm(np.diff(ends, axis=0)))
    if pixels < 1.0:
        raise InputError("Both ends of the known length lie in one place.")
    scale = length / pixels
    return Laid(np.array([[scale, 0.0, 0.0], [0.0, -scale, 0.0]]), scale, np.zeros(0))


@dataclass(frozen=True)
class Neighbour:
    """A placed scan: its ``pose`` (4×4) and its shape in plan."""

    pose: np.ndarray
    shape: PlanShape


def place(
    stays: Side, neighbours: list[Neighbour], moves: Side, shape: PlanShape, at: np.ndarray, off: float
) -> Found:
    """A scan placed about ``at`` (3,) m, to ``off`` m in plan, against ``neighbours`` whose surfaces and
    pictures are in ``stays``, all in one frame.
    """
    near = lambda pose: float(np.hypot(*(pose[:2, 3] - at[:2]))) <= off
    starts: list[np.ndarray] = []
    for one in neighbours:
        for candidate in candidates(one.shape, shape, TRIED):
            pose = one.pose @ candidate.pose
            if near(pose) and not any(offers.same(pose, s) for s in starts):
                starts.append(pose)
    if len(starts) < FEW:
        starts += [rigid.make(rigid.about_z(h), at) for h in np.arange(ROUND) * 2 * np.pi / ROUND]
    return like_points.place_among(stays, moves, starts, near)


def first_two(a: PlanShape, b: PlanShape, between: float, off: float) -> list[np.ndarray]:
    """Likely poses (4×4) of b in a's frame, best first, of two scans whose headings nobody knows, and which
    stand ``between`` m from each other, to 2 × ``off`` m.
    """
    return [
        c.pose for c in candidates(a, b, TRIED) if abs(float(np.hypot(*c.pose[:2, 3])) - between) <= 2 * off
    ]
