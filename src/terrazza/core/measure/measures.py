"""What is measured between points: distances, lengths, areas and angles, in metres, square metres and
degrees.

Level parts are those in the horizontal plane; slopes are against it.
"""

from typing import Any

import numpy as np

from terrazza.core.geometry import planes


def distance(a: np.ndarray, b: np.ndarray) -> dict[str, Any]:
    """3D, level and height parts (b less a) and slope (°, up positive) between two points (3,)."""
    d = np.asarray(b, float) - np.asarray(a, float)
    level = float(np.hypot(d[0], d[1]))
    return {
        "distance": float(np.linalg.norm(d)),
        "level": level,
        "height": float(d[2]),
        "slope_deg": float(np.degrees(np.arctan2(d[2], level))),
    }


def length(points: np.ndarray) -> dict[str, Any]:
    """Length of a polyline (n, 3), in space and level."""
    steps = np.diff(points, axis=0)
    return {
        "length": float(np.linalg.norm(steps, axis=1).sum()),
        "level": float(np.hypot(steps[:, 0], steps[:, 1]).sum()),
        "height": float(points[-1, 2] - points[0, 2]),
    }


def area(points: np.ndarray) -> dict[str, Any]:
    """Area of a closed polygon (n, 3): of its best plane (vector area, Newell), level (shoelace), and its
    perimeter.
    """
    centred = points - points.mean(0)
    following = np.roll(centred, -1, axis=0)
    vector = np.cross(centred, following).sum(0) / 2
    return {
        "area": float(np.linalg.norm(vector)),
        "level_area": float(abs(vector[2])),
        "perimeter": float(np.linalg.norm(following - centred, axis=1).sum()),
    }


def angle(points: np.ndarray) -> dict[str, Any]:
    """Angle at the second of three points (3, 3) m: in space, and seen from above (°, 0 to 180)."""
    u, v = points[0] - points[1], points[2] - points[1]

    def between(p: np.ndarray, q: np.ndarray) -> float:
        return float(np.degrees(np.arctan2(np.linalg.norm(np.cross(p, q)), p @ q)))

    return {"angle_deg": between(u, v), "level_angle_deg": between(u * [1, 1, 0], v * [1, 1, 0])}


def above(point: np.ndarray, ground: np.ndarray) -> dict[str, Any]:
    """Height of a point over ground points (n, 3) around its foot: over their plane where they span one, else
    over their median.
    """
    height = float(np.median(ground[:, 2]))
    if len(ground) >= 6 and np.ptp(ground[:, :2], axis=0).min() > 0.05:
        plane = planes.fit(ground)
        if abs(plane.normal[2]) > 0.3:
            height = float((plane.distance - plane.normal[:2] @ point[:2]) / plane.normal[2])
    return {"height_above_ground": float(point[2] - height), "ground_points": int(len(ground))}


def between_walls(near: np.ndarray, far: np.ndarray) -> dict[str, Any]:
    """From the patch (n, 3) of one wall to that of another: distance along the normal of the first, from its
    middle, and how far from parallel they are (°).
    """
    a, b = planes.fit(near), planes.fit(far)
    start = near.mean(0)
    across = b.normal @ a.normal
    reach = (b.distance - b.normal @ start) / across if abs(across) > 1e-6 else np.nan
    return {
        "distance": float(abs(reach)),
        "not_parallel_deg": float(np.degrees(np.arccos(min(abs(across), 1.0)))),
        "rms": float(np.hypot(a.rms, b.rms)),
        "to": (start + reach * a.normal).tolist(),
    }
