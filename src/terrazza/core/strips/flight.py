"""The path of a craft with its attitude, and its straight passes.

Attitude A = Rz(heading) · Ry(pitch) · Rx(roll), x forward, y left, z up, heading counter-clockwise from east;
positive pitch is nose down.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from terrazza.core.clean import outline

GAP = 2.0  # s without a place: the path is broken there
LOOK = 2.0  # s to either side over which the course is told
TURNING = np.radians(6.0)  # by which the course changes over twice that in a turn
SHARE, SHORTEST = 0.15, 20.0  # of the longest pass, and m: what is shorter is no pass


@dataclass(frozen=True)
class Flight:
    """``time`` (n,) s, rising; ``xyz`` (n, 3) m in the grid; ``attitude`` (n, 3) roll, pitch, heading, rad,
    the heading without jumps.
    """

    time: np.ndarray
    xyz: np.ndarray
    attitude: np.ndarray

    def at(self, time: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Places (m, 3) and attitudes (m, 3) at some times, between those known."""
        values = np.c_[self.xyz, self.attitude]
        found = np.stack([np.interp(time, self.time, v) for v in values.T], 1)
        return found[:, :3], found[:, 3:]


def rotation(angles: np.ndarray) -> np.ndarray:
    """(…, 3, 3) Rz(c) · Ry(b) · Rx(a) of angles (…, 3) a, b, c (rad)."""
    (sa, sb, sc), (ca, cb, cc) = (np.moveaxis(f(np.asarray(angles, float)), -1, 0) for f in (np.sin, np.cos))
    rows = [
        [cc * cb, cc * sb * sa - sc * ca, cc * sb * ca + sc * sa],
        [sc * cb, sc * sb * sa + cc * ca, sc * sb * ca - cc * sa],
        [-sb, cb * sa, cb * ca],
    ]
    return np.stack([np.stack(np.broadcast_arrays(*row), -1) for row in rows], -2)


@dataclass(frozen=True)
class Pass:
    """A straight piece of a path: times from ``start`` to ``end``, its ``course`` (rad, from east) and
    ``length`` (m).
    """

    start: float
    end: float
    course: float
    length: float


def passes(flight: Flight) -> list[Pass]:
    """The straight pieces of a path, in order: where the course over the ground hardly changes."""
    time, xy = flight.time, flight.xyz[:, :2]
    ahead = np.stack([np.interp(time + LOOK, time, c) for c in xy.T], 1)
    behind = np.stack([np.interp(time - LOOK, time, c) for c in xy.T], 1)
    before, after = _course(xy - behind), _course(ahead - xy)
    turn = np.abs((after - before + np.pi) % (2 * np.pi) - np.pi)
    moving = np.linalg.norm(ahead - behind, axis=1) > 0.5
    straight = (turn < TURNING) & moving
    broken = np.r_[False, np.diff(time) > GAP]
    edge = np.flatnonzero((straight[1:] != straight[:-1]) | broken[1:]) + 1
    out = []
    for a, b in zip(np.r_[0, edge], np.r_[edge, len(time)]):
        if straight[a] and b - a > 2:
            run = xy[b - 1] - xy[a]
            out.append(
                Pass(float(time[a]), float(time[b - 1]), float(_course(run)), float(np.linalg.norm(run)))
            )
    longest = max((p.length for p in out), default=0.0)
    return [p for p in out if p.length > max(SHARE * longest, SHORTEST)]


def within(flight: Flight, found: Sequence[Pass], areas: Sequence[np.ndarray]) -> list[Pass]:
    """The pieces of passes, of ``SHORTEST`` and more, that lie in areas, closed outlines (m, 2) in plan."""
    inside = np.zeros(len(flight.time), bool)
    for area in areas:
        inside |= outline.inside(flight.xyz[:, :2], np.asarray(area, float))
    out = []
    for one in found:
        mine = inside & (flight.time >= one.start) & (flight.time <= one.end)
        edge = np.flatnonzero(np.diff(np.r_[False, mine, False].astype(int)))
        for a, b in zip(edge[::2], edge[1::2]):
            length = float(np.linalg.norm(flight.xyz[b - 1, :2] - flight.xyz[a, :2]))
            if length >= SHORTEST:
                out.append(Pass(float(flight.time[a]), float(flight.time[b - 1]), one.course, length))
    return out


def _course(way: np.ndarray) -> np.ndarray:
    return np.arctan2(way[..., 1], way[..., 0])


def numbers(found: Sequence[Pass], time: np.ndarray) -> np.ndarray:
    """(n,) the pass that times belong to, -1 for none."""
    starts, ends = np.array([p.start for p in found]), np.array([p.end for p in found])
    k = np.searchsorted(starts, time, side="right") - 1
    return (
        np.where((k >= 0) & (time <= ends[np.maximum(k, 0)]), k, -1) if len(found) else np.full(len(time), -1)
    )


@njit(cache=True, nogil=True, parallel=True)
def _corrected(
    xyz: np.ndarray,
    when: np.ndarray,
    time: np.ndarray,
    path: np.ndarray,
    attitude: np.ndarray,
    turn: np.ndarray,
    lever: np.ndarray,
    own: np.ndarray,
    scale: float,
    gap: float,
    out: np.ndarray,
):
    for i in prange(len(xyz)):
        t = when[i]
        k = min(max(np.searchsorted(time, t) - 1, 0), len(time) - 2)
        if t < time[0] or t > time[-1] or time[k + 1] - time[k] > gap:
            for a in range(3):
                out[i, a] = xyz[i, a]
            continue
        u = (t - time[k]) / (time[k + 1] - time[k]) if time[k + 1] > time[k] else 0.0
        place, angle = np.empty(3), np.empty(3)
        for a in range(3):
            place[a] = path[k, a] + u * (path[k + 1, a] - path[k, a])
            angle[a] = attitude[k, a] + u * (attitude[k + 1, a] - attitude[k, a])
        sa, sb, sc = np.sin(angle[0]), np.sin(angle[1]), np.sin(angle[2])
        ca, cb, cc = np.cos(angle[0]), np.cos(angle[1]), np.cos(angle[2])
        r = np.empty((3, 3))
        r[0, 0], r[0, 1], r[0, 2] = cc * cb, cc * sb * sa - sc * ca, cc * sb * ca + sc * sa
        r[1, 0], r[1, 1], r[1, 2] = sc * cb, sc * sb * sa + cc * ca, sc * sb * ca - cc * sa
        r[2, 0], r[2, 1], r[2, 2] = -sb, cb * sa, cb * ca
        m, q = np.empty(3), np.empty(3)
        for a in range(3):
            m[a] = 0.0
            for b in range(3):
                m[a] += r[b, a] * (xyz[i, b] - place[b])
            m[a] -= own[a]
        for a in range(3):
            q[a] = lever[a]
            for b in range(3):
                q[a] += scale * turn[a, b] * m[b]
        for a in range(3):
            out[i, a] = place[a]
            for b in range(3):
                out[i, a] += r[a, b] * q[b]


def corrected(
    flight: Flight,
    xyz: np.ndarray,
    time: np.ndarray,
    angles: np.ndarray,
    own_lever: np.ndarray,
    lever: np.ndarray,
    scale: float = 1.0,
) -> np.ndarray:
    """Points (n, 3) in the grid as they are with the scanner turned by ``angles`` (3,) and its lever arm
    ``lever`` (3,), when they were computed without the turn and with ``own_lever``; those before or after the
    path, or in a gap of it, stay.
    """
    out = np.empty((len(xyz), 3))
    _corrected(
        np.ascontiguousarray(xyz, np.float64),
        np.ascontiguousarray(time, np.float64),
        flight.time,
        np.ascontiguousarray(flight.xyz),
        np.ascontiguousarray(flight.attitude),
        rotation(np.asarray(angles, float)),
        np.asarray(lever, float),
        np.asarray(own_lever, float),
        float(scale),
        GAP,
        out,
    )
    return out
