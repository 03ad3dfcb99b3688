"""Break lines followed along a thing: its corners in a section across, fitted place after place both ways.

At each place the corners move to the points between them, by least squares with what does not belong left
out, held to the shape of the place before; so they bend, rise and change slowly with the thing.  Where too
little lies on them they are carried on as they go, as guesses, until they are found again or the gap grows
too wide.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

ADVANCE = 0.25  # m from one fitted place to the next
REACH = 0.25  # m: how far beyond the outer corners points count
WIDE, NARROW = 0.06, 0.02  # m: points within this of the shape belong to it, at first and in the end
BESIDE = 9.0  # m: the distance of points that lie beside the shape
ROUNDS, OUTLIER = 12, 4.0
SHAPE, SHIFT = (
    0.004,
    0.03,
)  # m: how far a corner may move against the others, and all together, between places
TOUCHED = 0.03  # m: how well corners are touched
FLOOR = 0.002  # m: noise of a section at least
FEWEST, COVER = 12, 0.5  # points of a section, and share of each piece that they have to lie on
LENGTH = 0.04  # m: stretches of the shape whose points are counted
ROUGH = 2.5  # times the usual RMS that a place may have
GAP = 4.0  # m that are bridged at most
CURVE = 0.3  # weight of a new turn against the turns so far
LARGEST = np.radians(12.0)  # turn from place to place
TURN = np.radians(7.5)  # between directions that are tried


@dataclass(frozen=True)
class Place:
    """A section ``at`` (3,) m, looking along ``heading`` (rad, counter-clockwise from x): ``corners`` (k, 2)
    m across (to the left) and up; RMS of its points (m), how many, and whether it was ``guessed``.
    """

    at: np.ndarray
    heading: float
    corners: np.ndarray
    rms: float = 0.0
    points: int = 0
    guessed: bool = False

    def placed(self) -> np.ndarray:
        """Its corners (k, 3) in space."""
        left = np.array([-np.sin(self.heading), np.cos(self.heading)])
        return np.c_[self.at[:2] + self.corners[:, :1] * left, self.at[2] + self.corners[:, 1]]


Section = Callable[[np.ndarray, float, np.ndarray], np.ndarray]


def fitted(
    points: np.ndarray, corners: np.ndarray, shape: float, shift: float
) -> tuple[np.ndarray, float, int, float]:
    """Corners (k, 2) moved to the points (n, 2) of a section; ``shape`` and ``shift`` (m) are how far each
    may move alone and all together.  Also RMS (m), number of points, and the share of the shape that they
    cover.
    """
    k, before = len(corners), corners
    if len(points) < FEWEST:
        return before, np.inf, 0, 0.0
    prior = _prior(k, shape, shift)
    now, limit = before.copy(), WIDE
    for _ in range(ROUNDS):
        piece, t, away, normal = _nearest(points, now)
        on = np.abs(away) < limit
        if on.sum() < FEWEST:
            return before, np.inf, int(on.sum()), 0.0
        sigma = max(1.4826 * float(np.median(np.abs(away[on]))), FLOOR)
        weight = np.where(on, np.maximum(1 - (away / limit) ** 2, 0) ** 2, 0) / sigma**2
        design = np.zeros((len(points), 2 * k))
        rows = np.arange(len(points))
        for c in (0, 1):
            design[rows, 2 * piece + c] += normal[:, c] * (1 - t)
            design[rows, 2 * piece + 2 + c] += normal[:, c] * t
        normal_matrix = (design * weight[:, None]).T @ design + prior
        right = (design * weight[:, None]).T @ away - prior @ (now - before).ravel()
        move = np.linalg.solve(normal_matrix, right).reshape(-1, 2)
        now = now + move
        limit = float(np.clip(OUTLIER * sigma, NARROW / 2, max(NARROW, 0.7 * limit)))
        if np.abs(move).max() < 1e-5:
            break
    piece, t, away, _ = _nearest(points, now)
    on = np.abs(away) < limit
    rms = float(np.sqrt(np.mean(away[on] ** 2))) if on.any() else np.inf
    return now, rms, int(on.sum()), _cover(now, piece[on], t[on])


def _prior(k: int, shape: float, shift: float) -> np.ndarray:
    """Information (2k, 2k) of corners that move together by ``shift`` and alone by ``shape`` (m)."""
    covariance = shape**2 * np.eye(k) + shift**2 * np.ones((k, k))
    return np.kron(np.linalg.inv(covariance), np.eye(2))


def _nearest(
    points: np.ndarray, corners: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """Of each point: the piece of the shape it is nearest to, how far along (0 to 1), its signed distance
    (m) and the unit normal there.
    """
    a, run = corners[:-1], np.diff(corners, axis=0)
    length = np.maximum(np.linalg.norm(run, axis=1), 1e-9)
    q = points[:, None] - a
    t = np.clip(np.einsum("nkc,kc->nk", q, run) / length**2, 0, 1)
    gap = np.linalg.norm(q - t[..., None] * run, axis=2)
    piece = gap.argmin(1)
    rows = np.arange(len(points))
    unit = run[piece] / length[piece][:, None]
    normal = np.stack([-unit[:, 1], unit[:, 0]], 1)
    away = np.einsum("nc,nc->n", q[rows, piece], normal)
    beyond = gap[rows, piece] > np.abs(away) + 1e-6  # beside the ends of a piece
    return piece, t[rows, piece], np.where(beyond, BESIDE, away), normal


def _cover(corners: np.ndarray, piece: np.ndarray, t: np.ndarray) -> float:
    """Share of the least covered piece of the shape on which points lie, in stretches of a few centimetres;
    short pieces do not count.
    """
    worst = 1.0
    for k, length in enumerate(np.linalg.norm(np.diff(corners, axis=0), axis=1)):
        if length < LENGTH:
            continue
        cells = int(np.ceil(length / LENGTH))
        at = np.minimum((t[piece == k] * cells).astype(int), cells - 1)
        worst = min(worst, len(np.unique(at)) / cells)
    return worst


def begin(section: Section, at: np.ndarray, heading: float, corners: np.ndarray) -> Place | None:
    """The place that was touched, its corners moved to the points; None where nothing lies on them. ``at``
    (3,) and ``corners`` (k, 2) m.
    """
    found, rms, points, cover = fitted(section(at, heading, corners), corners, TOUCHED / 3, TOUCHED)
    if not np.isfinite(rms) or cover < COVER:
        return None
    return _centred(Place(np.asarray(at, float), heading, corners), found, rms, points)


def looked_for(section: Section, at: np.ndarray, corners: np.ndarray) -> Place | None:
    """As ``begin``, in the direction in which the shape lies on its points best, by how much of it they cover
    and then by their RMS; None where it does in none. ``at`` (3,) and ``corners`` (k, 2) m.
    """
    best, found = (0.0, 0.0), None
    for heading in np.arange(0, 2 * np.pi, TURN):
        moved, rms, points, cover = fitted(section(at, heading, corners), corners, TOUCHED / 3, TOUCHED)
        if np.isfinite(rms) and cover >= COVER and (points, -rms) > best:
            best, found = (
                (points, -rms),
                _centred(Place(np.asarray(at, float), heading, corners), moved, rms, points),
            )
    return found


def _centred(place: Place, corners: np.ndarray, rms: float, points: int) -> Place:
    """A place with new corners, its origin moved along with them."""
    shift = (corners - place.corners).mean(0)
    left = np.array([-np.sin(place.heading), np.cos(place.heading)])
    at = place.at + np.array([*(shift[0] * left), shift[1]])
    return replace(place, at=at, corners=corners - shift, rms=rms, points=points, guessed=False)


def follow(
    section: Section, start: Place, longest: float, stop: Callable[[Place], bool] = lambda p: False
) -> list[Place]:
    """Places from ``start`` (not among them) on, at most ``longest`` m, to where the thing ends or ``stop``
    says so.
    """
    out: list[Place] = []
    here, rise, curve, usual = start, 0.0, 0.0, max(start.rms, FLOOR)
    for _ in range(int(longest / ADVANCE)):
        heading = here.heading + curve
        ahead = np.array([np.cos(heading), np.sin(heading)]) * ADVANCE
        guess = replace(
            here, at=here.at + np.array([*ahead, rise]), heading=heading, rms=0.0, points=0, guessed=True
        )
        found, rms, points, cover = fitted(
            section(guess.at, heading, guess.corners), guess.corners, SHAPE, SHIFT
        )
        if np.isfinite(rms) and cover >= COVER and rms < ROUGH * usual:
            place = _centred(guess, found, rms, points)
            last = next((p for p in reversed([start, *out]) if not p.guessed), start)
            way = place.at - last.at
            flat = float(np.hypot(way[0], way[1]))
            turn = (np.arctan2(way[1], way[0]) - heading + np.pi) % (2 * np.pi) - np.pi
            turn = float(np.clip(turn, -LARGEST, LARGEST))
            place = replace(place, heading=heading + 0.5 * turn)
            curve = float(np.clip(curve + CURVE * turn, -LARGEST, LARGEST))
            rise = 0.7 * rise + 0.3 * float(way[2]) / max(flat, 1e-6) * ADVANCE
            usual = 0.95 * usual + 0.05 * max(rms, FLOOR)
        else:
            place, curve = guess, 0.9 * curve
        out.append(place)
        here = place
        if stop(place) or _lost(out):
            break
    while out and out[-1].guessed:
        out.pop()
    return out


def _lost(places: list[Place]) -> bool:
    """Whether the last gap is too wide to go on."""
    guesses = next((k for k, p in enumerate(reversed(places)) if not p.guessed), len(places))
    return guesses * ADVANCE > GAP


def both_ways(
    section: Section, start: Place, longest: float, stop: Callable[..., Any] = lambda p: False
) -> list[Place]:
    """Places along a thing in the direction of the start's heading, from where it begins to where it ends."""
    ahead = follow(section, start, longest, stop)
    turned = replace(start, heading=start.heading + np.pi, corners=start.corners * [-1, 1])
    behind = [
        replace(p, heading=p.heading - np.pi, corners=p.corners * [-1, 1])
        for p in follow(section, turned, longest, stop)
    ]
    return [*reversed(behind), start, *ahead]


def bridged(places: list[Place]) -> list[Place]:
    """The same with guessed places laid smoothly between those found before and after them (cubic by their
    headings, shapes in between).
    """
    out, k = list(places), 0
    while k < len(out):
        last = next((j for j in range(k, len(out)) if not out[j].guessed), len(out))
        if out[k].guessed and 0 < k and last < len(out):
            a, b = out[k - 1], out[last]
            chord = float(np.linalg.norm(b.at - a.at))
            run = lambda p: np.array([np.cos(p.heading), np.sin(p.heading), 0.0]) * chord
            turn = (b.heading - a.heading + np.pi) % (2 * np.pi) - np.pi
            for j in range(k, last):
                t = (j - k + 1) / (last - k + 1)
                h = np.array(
                    [2 * t**3 - 3 * t**2 + 1, t**3 - 2 * t**2 + t, -2 * t**3 + 3 * t**2, t**3 - t**2]
                )
                rise = np.array([0, 0, b.at[2] - a.at[2]])  # level at both ends would make a step of a slope
                at = h[0] * a.at + h[1] * (run(a) + rise) + h[2] * b.at + h[3] * (run(b) + rise)
                corners = (1 - t) * a.corners + t * b.corners
                out[j] = replace(out[j], at=at, heading=a.heading + t * turn, corners=corners)
        k = max(last, k + 1)
    return out
