"""Faces of walls around a room: straight pieces and arcs fitted in the order in which they follow each
other, and corners where they meet.

A face is fitted to the points near a stretch of the room's border, by least squares with what stands off left
out; corners are intersections, square only where the faces are.
"""

from dataclasses import dataclass, replace

import numpy as np

from terrazza.core.draw import lines
from terrazza.core.measure.fits import circle

NEAR = 0.14  # m: how far from the border of a room its faces may lie
LEAST, WIDTH, GAP = (
    0.25,
    0.015,
    0.6,
)  # m: shortest straight piece, its straightness, and the gap it may bridge
STRETCH = 3  # steps of the border that a piece has to follow at least
REACH = 0.4  # m: how far beyond the stretch of border that follows it a piece may go on
ALONG = 0.94  # cosine between a border and a piece that it follows
OUTLIER, FLOOR = 3.0, 0.001  # standard deviations, and m, within which points belong to a face
ROUNDS = 8
ONE_LINE = np.radians(0.6), 0.012  # two pieces that differ by less (rad, m) are one face
MEETING = 0.6  # m: how far a corner may lie from the ends of the pieces that make it
SPUR, SPAN = 3, 3.0  # faces that hang loose at most, and m that what goes on behind them may span
TURN = np.radians(0.7), np.radians(40.0)  # between pieces that may be chords of one arc
CROSSING = np.radians(3.0)  # between faces that make a corner, at least
RADII = (0.2, 60.0)  # m
ARC_RMS = 1.6  # times the RMS of straight faces that an arc may have
ARC_STEP = np.radians(2.0)  # between the vertices that an arc is drawn with


@dataclass(frozen=True)
class Face:
    """A piece of a room's border: from ``start`` to ``end`` (2,) m with the room to the left; ``centre``
    (2,) and ``radius`` (m) of an arc, None of a straight one; ``rms`` (m) and number of ``points`` that it
    was fitted to (0: guessed), and the standard deviation ``turn`` (rad) of its direction.
    """

    start: np.ndarray
    end: np.ndarray
    rms: float
    points: int
    turn: float = 0.0
    centre: np.ndarray | None = None
    radius: float = 0.0

    @property
    def length(self) -> float:
        return float(np.linalg.norm(self.end - self.start))

    @property
    def along(self) -> np.ndarray:
        return (self.end - self.start) / max(self.length, 1e-9)

    @property
    def inward(self) -> np.ndarray:
        """Unit normal towards the room. In plan, (2,)."""
        return np.array([-self.along[1], self.along[0]])

    def vertices(self) -> np.ndarray:
        """The way along it (n, 2), an arc by many."""
        if self.centre is None:
            return np.array([self.start, self.end])
        a, b = (np.arctan2(*(p - self.centre)[::-1]) for p in (self.start, self.end))
        turn = (b - a + np.pi) % (2 * np.pi) - np.pi
        angles = a + np.linspace(0, turn, max(int(abs(turn) / ARC_STEP), 2) + 1)
        way = self.centre + self.radius * np.stack([np.cos(angles), np.sin(angles)], 1)
        way[0], way[-1] = self.start, self.end
        return way


def straight(xy: np.ndarray) -> list[Face]:
    """Straight pieces in points (m, 2) of walls."""
    found = lines.fit_lines(xy, LEAST, WIDTH, GAP, 0.0)
    return [p for p in (_fitted(Face(*line.vertices, 0.0, 0), xy) for line in found) if p is not None]


def around(border: np.ndarray, pieces: list[Face], xy: np.ndarray) -> list[Face]:
    """Faces along a closed ``border`` (n, 2) m, the room to its left, out of straight pieces of its walls
    and the points ``xy`` (m, 2) that they were fitted to.
    """
    way = _smooth(border)
    runs = _runs(way, pieces)
    once = np.bincount([k for k, _ in runs], minlength=len(pieces)) == 1
    faces = [f for k, run in runs if (f := _followed(pieces[k], way[run], xy, once[k])) is not None]
    return _met(_without_spurs(_bent(_merged(faces, xy), xy), xy))


def _fitted(face: Face, xy: np.ndarray, width: float = WIDTH) -> Face | None:
    middle, along, limit = (face.start + face.end) / 2, face.along, width
    half = face.length / 2
    for _ in range(ROUNDS):
        q = xy - middle
        t, d = q @ along, q @ np.array([-along[1], along[0]])
        on = (np.abs(d) < limit) & (np.abs(t) < half + 0.02)
        if on.sum() < 8:
            return None
        used = xy[on]
        middle = used.mean(0)
        values, vectors = np.linalg.eigh(np.cov((used - middle).T))
        along = vectors[:, 1] * np.sign(vectors[:, 1] @ along)
        rms = float(np.sqrt(max(values[0], 0.0)))
        before, limit = limit, float(np.clip(OUTLIER * rms, FLOOR, width))
        if abs(before - limit) < 1e-5:
            break
    t = (used - middle) @ along
    turn = rms / np.sqrt(len(used)) / max(float(t.std()), 1e-6)
    return Face(middle + t.min() * along, middle + t.max() * along, rms, len(used), turn)


def _smooth(border: np.ndarray) -> np.ndarray:
    """A border without the steps of its raster: each place the mean of nine."""
    wide = np.concatenate([border[-4:], border, border[:4]])
    total = np.cumsum(np.r_[np.zeros((1, 2)), wide], axis=0)
    return (total[9:] - total[:-9]) / 9


def _runs(way: np.ndarray, pieces: list[Face]) -> list[tuple[int, list[int]]]:
    """(piece, places on the way) in the order in which a closed way follows them."""
    if not pieces:
        return []
    ahead = np.roll(way, -3, 0) - np.roll(way, 3, 0)
    ahead /= np.maximum(np.linalg.norm(ahead, axis=1), 1e-9)[:, None]
    start, along = np.array([p.start for p in pieces]), np.array([p.along for p in pieces])
    length = np.array([p.length for p in pieces])
    q = way[:, None] - start
    t = np.einsum("nkj,kj->nk", q, along)
    side = q[..., 1] * along[:, 0] - q[..., 0] * along[:, 1]
    beyond = np.maximum(np.maximum(-t, t - length), 0.0)
    cost = np.hypot(side, beyond)
    cost[(np.abs(ahead @ along.T) < ALONG) | (cost > NEAR)] = np.inf
    best = np.where(np.isfinite(cost.min(1)), cost.argmin(1), -1)
    # begin where a run begins, so that none is cut in two
    cut = np.flatnonzero(best != np.roll(best, 1))
    if not len(cut):
        return [(int(best[0]), list(range(len(best))))] if best[0] >= 0 else []
    order = np.roll(np.arange(len(best)), -cut[0])
    runs: list[tuple[int, list[int]]] = []
    for i in order:
        if best[i] < 0:
            continue
        if runs and runs[-1][0] == best[i]:
            runs[-1][1].append(int(i))
        else:
            runs.append((int(best[i]), [int(i)]))
    merged: list[tuple[int, list[int]]] = []
    for k, run in runs:
        if len(run) < STRETCH:
            continue
        if merged and merged[-1][0] == k:
            merged[-1][1].extend(run)
        else:
            merged.append((k, run))
    if len(merged) > 1 and merged[0][0] == merged[-1][0]:
        merged[0] = (merged[0][0], merged.pop()[1] + merged[0][1])
    return merged


def _followed(piece: Face, way: np.ndarray, xy: np.ndarray, whole: bool) -> Face | None:
    """The part of a piece, or the ``whole``, that a stretch of the border (n, 2) follows, in its
    direction.
    """
    if (way[-1] - way[0]) @ piece.along < 0:
        piece = replace(piece, start=piece.end, end=piece.start)
    if whole:
        return piece
    t = (way - piece.start) @ piece.along
    low, high = max(t.min() - REACH, 0.0), min(t.max() + REACH, piece.length)
    if high - low < LEAST / 2:
        return None
    part = replace(piece, start=piece.start + low * piece.along, end=piece.start + high * piece.along)
    return _fitted(part, xy)


def _merged(faces: list[Face], xy: np.ndarray) -> list[Face]:
    """Faces that follow each other in one line put together."""
    out: list[Face] = []
    for face in faces:
        if out and _one_line(out[-1], face):
            out[-1] = _fitted(replace(out[-1], end=face.end), xy) or out[-1]
        else:
            out.append(face)
    if len(out) > 2 and _one_line(out[-1], out[0]):
        last = out.pop()
        out[0] = _fitted(replace(last, end=out[0].end), xy) or out[0]
    return out


def _one_line(a: Face, b: Face) -> bool:
    offset = max(abs((b.start - a.end) @ a.inward), abs((b.start - a.end) @ b.inward))
    return abs(_turn(a, b)) < max(ONE_LINE[0], 3 * np.hypot(a.turn, b.turn)) and offset < ONE_LINE[1]


def _turn(a: Face, b: Face) -> float:
    """By how much (rad, counter-clockwise) the way turns from one face to the next."""
    return float(np.arctan2(a.along[0] * b.along[1] - a.along[1] * b.along[0], a.along @ b.along))


def _bent(faces: list[Face], xy: np.ndarray) -> list[Face]:
    """Chains of straight pieces that are chords of one arc, replaced by it."""
    if len(faces) < 4:
        return faces
    turns = [_turn(f, faces[(k + 1) % len(faces)]) for k, f in enumerate(faces)]
    chord = [TURN[0] < abs(t) < TURN[1] for t in turns]
    if all(chord):
        return faces
    first = next(k + 1 for k, c in enumerate(chord) if not c) % len(faces)
    order, out, usual = np.roll(np.arange(len(faces)), -first), [], float(np.median([f.rms for f in faces]))
    chain: list[int] = []
    for k in order:
        chain.append(int(k))
        after = chord[k] and (len(chain) < 2 or turns[chain[-2]] * turns[k] > 0)
        if not after:
            out += _as_arc([faces[i] for i in chain], xy, usual)
            chain = []
    return out + [faces[i] for i in chain]


def _as_arc(chain: list[Face], xy: np.ndarray, usual: float) -> list[Face]:
    """An arc through a chain of pieces, with what at its ends is straight; the chain itself where it is
    none.
    """
    for drop_first, drop_last in ((0, 0), (1, 0), (0, 1), (1, 1)):
        mine = chain[drop_first : len(chain) - drop_last]
        if len(mine) < 3:
            continue
        arc = _arc(mine, xy, max(ARC_RMS * usual, 2 * FLOOR))
        if arc is not None:
            return [*chain[:drop_first], arc, *chain[len(chain) - drop_last :]]
    return chain


def _arc(chain: list[Face], xy: np.ndarray, most: float) -> Face | None:
    near = np.zeros(len(xy), bool)
    for face in chain:
        q = xy - face.start
        t = q @ face.along
        near |= (np.abs(q @ face.inward) < 2 * WIDTH) & (t > 0) & (t < face.length)
    if near.sum() < 20 or (fitted := circle(xy[near])) is None:
        return None
    centre, radius, *_ = fitted
    for _ in range(ROUNDS):
        away = np.abs(np.linalg.norm(xy[near] - centre, axis=1) - radius)
        used = xy[near][away < max(OUTLIER * 1.4826 * float(np.median(away)), FLOOR)]
        if (fitted := circle(used)) is None:
            return None
        centre, radius, rms, _ = fitted
    if not RADII[0] < radius < RADII[1] or rms > most:
        return None
    at = lambda p: centre + radius * (p - centre) / np.linalg.norm(p - centre)
    return Face(at(chain[0].start), at(chain[-1].end), float(rms), len(used), 0.0, centre, float(radius))


def _met(faces: list[Face]) -> list[Face]:
    """Faces carried on to the corners where they meet; where they do not, a guessed piece between them."""
    n = len(faces)
    if n < 2:
        return faces
    corners = [_corner(faces[k], faces[(k + 1) % n]) for k in range(n)]
    out: list[Face] = []
    for k, face in enumerate(faces):
        before, after = corners[k - 1], corners[k]
        out.append(
            replace(
                face,
                start=face.start if before is None else before,
                end=face.end if after is None else after,
            )
        )
        if after is None:
            out.append(Face(face.end, faces[(k + 1) % n].start, 0.0, 0))
    return [f for f in out if f.length > 1e-6]


def _without_spurs(faces: list[Face], xy: np.ndarray) -> list[Face]:
    """Faces without those that hang loose between two which go on in one line or meet in a corner: things
    that stand before a wall, and what lies beyond a wide opening.
    """
    at = 0
    while len(faces) > 3 and at < len(faces):
        shorter = _spur_dropped(faces[at:] + faces[:at], xy)
        faces, at = (faces, at + 1) if shorter is None else (shorter, 0)
    return faces


def _spur_dropped(faces: list[Face], xy: np.ndarray) -> list[Face] | None:
    """Without what hangs loose after the first face, None where nothing does."""
    before = faces[0]
    for many in range(1, min(SPUR, len(faces) - 3) + 1):
        inner, after = faces[1 : many + 1], faces[many + 1]
        if before.centre is not None or after.centre is not None:
            continue
        if _corner(before, inner[0]) is not None or _corner(inner[-1], after) is not None:
            continue
        gap = float(np.linalg.norm(after.start - before.end))
        if _one_line(before, after) and gap < SPAN:
            whole = replace(before, end=after.end)
            return [_fitted(whole, xy) or whole, *faces[many + 2 :]]
        corner = _corner(before, after, SPAN)
        if corner is not None:
            return [replace(before, end=corner), replace(after, start=corner), *faces[many + 2 :]]
    return None


def _corner(a: Face, b: Face, reach: float = MEETING) -> np.ndarray | None:
    """Where two faces meet, if that is near the ends of both."""
    if a.centre is not None and b.centre is not None:
        return (a.end + b.start) / 2 if np.linalg.norm(a.end - b.start) < reach else None
    if a.centre is not None or b.centre is not None:
        arc, straight = (a, b) if a.centre is not None else (b, a)
        places = _on_circle(straight, arc.centre, arc.radius)
    else:
        cross = a.along[0] * b.along[1] - a.along[1] * b.along[0]
        if abs(cross) < np.sin(CROSSING):
            return None
        d = b.start - a.start
        places = [a.start + (d[0] * b.along[1] - d[1] * b.along[0]) / cross * a.along]
    best = min(places, key=lambda p: np.linalg.norm(p - a.end) + np.linalg.norm(p - b.start), default=None)
    if best is None or max(np.linalg.norm(best - a.end), np.linalg.norm(best - b.start)) > reach:
        return None
    return best


def _on_circle(face: Face, centre: np.ndarray, radius: float) -> list[np.ndarray]:
    """Where the line of a straight face crosses a circle; its nearest place where it only touches."""
    middle = (centre - face.start) @ face.along
    away = (centre - face.start) @ face.inward
    half = np.sqrt(max(radius**2 - away**2, 0.0))
    return [face.start + (middle + way * half) * face.along for way in (1, -1)]
