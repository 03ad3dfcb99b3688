"""A frame without control: level by the floor, turn by the longest wall."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import StateError


def floor_normal(xyz: np.ndarray, normals: np.ndarray, flat: np.ndarray) -> np.ndarray:
    """Upward unit normal of the most common level surface (median of the normals within 3° of vertical).
    ``xyz`` and ``normals`` (n, 3), ``flat`` (n,) mask; normal (3,).
    """
    up = flat & (normals[:, 2] > np.cos(np.radians(5.0)))
    if up.sum() < 200:
        raise StateError(
            "No floor was found to level by: fewer than 200 level points.",
            "Choose a scan that stands on a floor.",
        )
    z = xyz[up, 2]
    counts, edges = np.histogram(z, bins=np.arange(z.min(), z.max() + 0.2, 0.1))
    k = int(np.argmax(counts))
    chosen = normals[up][(z >= edges[k] - 0.05) & (z <= edges[k + 1] + 0.05)]
    n = np.median(chosen, axis=0)
    return n / np.linalg.norm(n)


def level(normal: np.ndarray) -> np.ndarray:
    """The smallest 3×3 rotation that brings ``normal`` upright."""
    axis = np.cross(normal, [0.0, 0.0, 1.0])
    s = np.linalg.norm(axis)
    return np.eye(3) if s < 1e-12 else rigid.rotation_from(axis / s * np.arctan2(s, normal[2]))


def wall_heading(xyz: np.ndarray, normals: np.ndarray, flat: np.ndarray) -> float:
    """Direction (rad, modulo 90°) of the longest straight wall seen: the heading with most wall length in
    plan.
    """
    wall = flat & (np.abs(normals[:, 2]) < 0.15)
    if wall.sum() < 200:
        raise StateError("No wall was found to turn by.", "Give the turn as a number instead.")
    cells = np.unique(np.floor(np.c_[xyz[wall, :2] / 0.2]).astype(int), axis=0, return_index=True)[1]
    angle = np.arctan2(normals[wall][cells, 1], normals[wall][cells, 0]) % (np.pi / 2)
    counts = np.bincount((np.degrees(angle) * 4).astype(int) % 360, minlength=360).astype(float)
    smooth = sum(np.roll(counts, k) for k in range(-4, 5))
    peak = np.radians((np.argmax(smooth) + 0.5) / 4)
    off = (angle - peak + np.pi / 4) % (np.pi / 2) - np.pi / 4
    return float(peak + np.median(off[np.abs(off) < np.radians(2)]))
