"""Photo colours for points: pictures laid on points and a depth test against what the camera's own station
saw.
"""

import numpy as np
from numba import njit, prange

from terrazza.core.color.cameras import Camera
from terrazza.core.geometry import rigid

DEPTH_STEP = np.radians(0.30)


def to_pixels(direction: np.ndarray, width: int, height: int) -> tuple[np.ndarray, np.ndarray]:
    """Continuous column and row of directions (n, 3, camera frame) in a spherical image (ASTM E2807: middle
    looks along +x, azimuth grows to the left).
    """
    r = np.linalg.norm(direction, axis=1)
    az = np.arctan2(direction[:, 1], direction[:, 0])
    el = np.arcsin(np.clip(direction[:, 2] / np.maximum(r, 1e-12), -1, 1))
    return (np.pi - az) * width / (2 * np.pi) - 0.5, (np.pi / 2 - el) * height / np.pi - 0.5


class DepthPicture:
    """What a camera can see, from the points of its own station: nearest and farthest range per pixel and its
    neighbours.
    """

    def __init__(self, step: float = DEPTH_STEP):
        self.height, self.width = int(round(np.pi / step)), int(round(2 * np.pi / step))
        self.near = np.full((self.height, self.width), np.inf)

    def add(self, xyz_camera: np.ndarray) -> None:
        """Take some points of the station (n, 3, camera frame)."""
        cell, r = self._cell(xyz_camera)
        np.minimum.at(self.near.reshape(-1), cell, r)

    def close(self) -> "DepthPicture":
        """All points are there: make the picture of what stands in front."""
        self.front = self.near.copy()
        for dr in (-1, 0, 1):
            for dc in (-1, 0, 1):
                self.front = np.minimum(self.front, np.roll(np.roll(self.near, dr, 0), dc, 1))
        return self

    def _cell(self, xyz):
        column, row = to_pixels(xyz, self.width, self.height)
        row = np.clip(np.rint(row).astype(int), 0, self.height - 1)
        return row * self.width + np.rint(column).astype(int) % self.width, np.linalg.norm(xyz, axis=1)

    def sees(self, xyz_camera: np.ndarray, slack: float = 0.05) -> np.ndarray:
        """Mask of points (camera frame) with nothing clearly before them; unseen where the station has no
        depth there.
        """
        cell, r = self._cell(xyz_camera)
        front = self.front.ravel()[cell]
        return np.isfinite(self.near.ravel()[cell]) & (r <= front * 1.01 + slack) & (r > 0.2)


@njit(cache=True, parallel=True, nogil=True)
def _bilinear(image, column, row, turns, out):
    h, w, _ = image.shape
    for i in prange(len(column)):
        c0, r0 = int(np.floor(column[i])), int(np.floor(row[i]))
        fc, fr = column[i] - c0, row[i] - r0
        ra, rb = min(max(r0, 0), h - 1), min(max(r0 + 1, 0), h - 1)
        ca, cb = (c0 % w, (c0 + 1) % w) if turns else (min(max(c0, 0), w - 1), min(max(c0 + 1, 0), w - 1))
        for k in range(3):
            top = image[ra, ca, k] * (1 - fc) + image[ra, cb, k] * fc
            low = image[rb, ca, k] * (1 - fc) + image[rb, cb, k] * fc
            out[i, k] = np.uint8(min(max(top * (1 - fr) + low * fr, 1.0), 255.0))


def sample(image: np.ndarray, xyz_camera: np.ndarray, camera: Camera | None = None) -> np.ndarray:
    """Colours (n, 3, u8, at least 1: black is kept apart from "no colour") of points from an image, by
    default one that spans the full sphere; nothing outside it.
    """
    camera = camera or Camera(
        "spherical", image.shape[1], image.shape[0], (2 * np.pi / image.shape[1], np.pi / image.shape[0])
    )
    column, row, inside = camera.pixels(xyz_camera)
    across, down = image.shape[1] / camera.width, image.shape[0] / camera.height
    out = np.zeros((len(xyz_camera), 3), np.uint8)
    _bilinear(image, (column + 0.5) * across - 0.5, (row + 0.5) * down - 0.5, camera.turns, out)
    out[~inside] = 0
    return out


def exposure_gains(means: dict[int, dict[int, tuple[float, float, float]]]) -> dict[int, float]:
    """Brightness gains per photo so that photos agree where they see the same points.

    ``means[a][b]`` is (weight, mean of log brightness in a, in b) over common points; the gains
    average to one.  Least squares on the logarithms.
    """
    names = sorted(set(means) | {b for row in means.values() for b in row})
    index = {n: i for i, n in enumerate(names)}
    normal, rhs = np.zeros((len(names),) * 2), np.zeros(len(names))
    for a, row in means.items():
        for b, (w, la, lb) in row.items():
            i, j = index[a], index[b]
            normal[i, i] += w
            normal[j, j] += w
            normal[i, j] -= w
            normal[j, i] -= w
            rhs[i] -= w * (la - lb)
            rhs[j] += w * (la - lb)
    if not names:
        return {}
    normal += 1e-3 * (np.trace(normal) / len(names) + 1e-9) * np.eye(len(names))
    gain = np.linalg.solve(normal, rhs)
    return {n: float(np.exp(gain[index[n]] - gain.mean())) for n in names}


def into_camera(camera_pose: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """Points (n, 3) in the frame that ``camera_pose`` maps the camera to, seen from the camera."""
    return rigid.apply(rigid.inverse(camera_pose), xyz)
