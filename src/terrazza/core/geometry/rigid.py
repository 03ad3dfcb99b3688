"""Rigid motions as 4×4 matrices in float64, unit quaternions (w, x, y, z) and small rotations.

A pose maps coordinates of a scan's own frame to the job frame: ``q = pose[:3, :3] @ p + pose[:3, 3]``.
"""

from collections.abc import Iterable

import numpy as np

from terrazza.later import later

with later():
    from scipy.spatial import transform as turns

NEAR_HALF = -0.9  # cosine of an angle: turns beyond it lose their axis in the sine


def make(rotation: np.ndarray, translation: np.ndarray) -> np.ndarray:
    """4×4 from a 3×3 rotation and a 3-vector."""
    m = np.zeros((4, 4))
    m[:3, :3], m[:3, 3], m[3, 3] = rotation, translation, 1.0
    return m


def apply(pose: np.ndarray, points: np.ndarray) -> np.ndarray:
    """(n, 3) points mapped by a 4×4 pose, in float64."""
    return points @ pose[:3, :3].T + pose[:3, 3]


def inverse(pose: np.ndarray) -> np.ndarray:
    """The pose that undoes ``pose``. Both (4, 4)."""
    r = pose[:3, :3].T
    return make(r, -r @ pose[:3, 3])


def about_z(angle: float) -> np.ndarray:
    """3×3 turn by ``angle`` (rad) about +z, counter-clockwise from above."""
    c, s = np.cos(angle), np.sin(angle)
    return np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])


def skew(v: np.ndarray) -> np.ndarray:
    """3×3 matrix with ``skew(v) @ a == cross(v, a)``."""
    x, y, z = v
    return np.array([[0.0, -z, y], [z, 0.0, -x], [-y, x, 0.0]])


def motion_of(points: np.ndarray) -> np.ndarray:
    """(3n, 6) what a small rotation about the origin (3, rad) and a shift (3) do to the coordinates of points
    (n, 3).
    """
    return np.concatenate([np.concatenate([-skew(p), np.eye(3)], 1) for p in points])


def rotation_from(vector: np.ndarray) -> np.ndarray:
    """3×3 rotation of a rotation vector (rad), Rodrigues' formula."""
    angle = np.linalg.norm(vector)
    if angle < 1e-12:
        return np.eye(3) + skew(vector)
    k = skew(vector / angle)
    return np.eye(3) + np.sin(angle) * k + (1 - np.cos(angle)) * (k @ k)


def vector_from(rotation: np.ndarray) -> np.ndarray:
    """Rotation vector (rad) of a 3×3 rotation; exact for small angles, angle in [0, π]."""
    m = rotation
    sine = np.array([m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1]]) / 2  # times the axis
    s, c = np.linalg.norm(sine), (m[0, 0] + m[1, 1] + m[2, 2] - 1) / 2
    if c > NEAR_HALF:
        return sine if s < 1e-12 else sine * (np.arctan2(s, c) / s)
    k = int(np.argmax(np.diag(m)))  # about half a turn the axis shows in the symmetric part
    axis = ((m + m.T) / 2 - c * np.eye(3))[k]
    axis /= np.linalg.norm(axis)
    return axis * (np.arctan2(s, c) * (1.0 if axis @ sine >= 0 else -1.0))


def step(pose: np.ndarray, turn: np.ndarray, shift: np.ndarray, about: np.ndarray) -> np.ndarray:
    """``pose`` moved by a rotation vector ``turn`` about the point ``about`` and then by ``shift`` (target
    frame). ``pose`` (4, 4), the others (3,), rad and m.
    """
    r = rotation_from(turn)
    return make(r @ pose[:3, :3], r @ (pose[:3, 3] - about) + about + shift)


def to_quaternion(rotation: np.ndarray) -> np.ndarray:
    """Unit quaternion (w, x, y, z) of a 3×3 rotation."""
    return turns.Rotation.from_matrix(rotation).as_quat(scalar_first=True)


def from_quaternion(q: np.ndarray) -> np.ndarray:
    """3×3 rotation of a quaternion (w, x, y, z), normalised here; ValueError where it has no length."""
    q = np.asarray(q, float)
    length = np.linalg.norm(q)
    if not np.isfinite(length) or length < 1e-9:
        raise ValueError("a rotation quaternion of length zero")
    return turns.Rotation.from_quat(q, scalar_first=True).as_matrix()


def fit(
    source: np.ndarray,
    target: np.ndarray,
    weights: np.ndarray | None = None,
    scale: bool = False,
    level: bool = False,
) -> tuple[np.ndarray, float]:
    """Least-squares rigid motion from ``source`` to ``target`` points, both (n, 3).

    Umeyama 1991 (IEEE PAMI 13:376).  With ``scale`` a seventh parameter is
    estimated; with ``level`` the rotation is about z only.  Returns (pose, scale).
    """
    w = np.ones(len(source)) if weights is None else np.asarray(weights, float)
    w = w / w.sum()
    a, b = w @ source, w @ target
    p, q = source - a, target - b
    cov = (q * w[:, None]).T @ p
    if level:
        angle = np.arctan2(cov[1, 0] - cov[0, 1], cov[0, 0] + cov[1, 1])
        r = about_z(angle)
    else:
        u, _, vt = np.linalg.svd(cov)
        d = np.diag([1, 1, np.sign(np.linalg.det(u @ vt))])
        r = u @ d @ vt
    k = float(np.sum(w[:, None] * q * (p @ r.T)) / np.sum(w[:, None] * p * p)) if scale else 1.0
    return make(r, b - k * r @ a), k


def heading(pose: np.ndarray) -> float:
    """Plan direction (rad) of the frame's x axis. ``pose`` (4, 4)."""
    return float(np.arctan2(pose[1, 0], pose[0, 0]))


def difference(a: np.ndarray, b: np.ndarray) -> tuple[float, float]:
    """How far two poses are apart: metres between their origins, radians between their attitudes. Both (4,
    4).
    """
    return float(np.linalg.norm(a[:3, 3] - b[:3, 3])), float(
        np.linalg.norm(vector_from(a[:3, :3].T @ b[:3, :3]))
    )


def within(a: np.ndarray, b: np.ndarray, reach: tuple[float, float]) -> bool:
    """Whether two poses are nearer to each other than a shift (m) and a turn (rad). Both (4, 4)."""
    shift = a[:3, 3] - b[:3, 3]
    if not shift @ shift < reach[0] ** 2:  # of most asked, which need no angle
        return False
    return bool(difference(a, b)[1] < reach[1])  # no bool of numpy, which is not True


def distinct(poses: Iterable[np.ndarray], reach: tuple[float, float], most: int) -> list[np.ndarray]:
    """The first ``most`` of some poses (4, 4) of which none is within a shift (m) and a turn (rad) of one
    before it.
    """
    out: list[np.ndarray] = []
    for pose in poses:
        if len(out) == most:
            break
        if not any(within(pose, o, reach) for o in out):
            out.append(pose)
    return out


def nearest(pose: np.ndarray) -> np.ndarray:
    """The rigid motion nearest to a 4×4 that is one but for rounding (polar decomposition)."""
    u, _, vt = np.linalg.svd(pose[:3, :3])
    return make(u @ np.diag([1.0, 1.0, np.linalg.det(u @ vt)]) @ vt, pose[:3, 3])
