"""Flat pictures cut out of a camera's: what a pinhole camera at its place, looking elsewhere, would have
taken.
"""

import numpy as np

from terrazza.core.color.cameras import Camera


def pinhole(size: int, angle: float) -> Camera:
    """A square pinhole camera of ``size`` pixels that sees ``angle`` rad across; its focal length is 1."""
    edge = 2 * np.tan(angle / 2) / size
    return Camera("pinhole", size, size, (edge, edge), (size / 2, size / 2), 1.0)


def looking(azimuth: float, elevation: float) -> np.ndarray:
    """3×3 from a pinhole camera (along -z, +y up) that looks so into a frame with x ahead and z up; azimuth
    counter-clockwise from x, both rad.
    """
    a, e = azimuth, elevation
    ahead = np.array([np.cos(a) * np.cos(e), np.sin(a) * np.cos(e), np.sin(e)])
    right = np.array([np.sin(a), -np.cos(a), 0.0])
    return np.stack([right, np.cross(right, ahead), -ahead], axis=1)


def directions(camera: Camera) -> np.ndarray:
    """(rows, columns, 3) from a pinhole camera through the middles of its pixels, in its frame."""
    across = (np.arange(camera.width) + 0.5 - camera.principal[0]) * camera.pixel[0] / camera.focal
    down = (np.arange(camera.height) + 0.5 - camera.principal[1]) * camera.pixel[1] / camera.focal
    x, y = np.meshgrid(across, down)
    return np.stack([x, -y, -np.ones_like(x)], axis=-1)


def cut(picture: np.ndarray, camera: Camera, flat: Camera, turn: np.ndarray) -> tuple[np.ndarray, float]:
    """What ``flat`` sees of a camera's picture (rows, columns, 3) u8, and which share of it the picture
    holds; black elsewhere.  ``turn`` is 3×3 from the flat camera's frame to the other's.  Bilinear.
    """
    toward = directions(flat) @ np.asarray(turn).T
    column, row, inside = camera.pixels(toward.reshape(-1, 3))
    height, width = picture.shape[:2]
    low_c, low_r = np.floor(column).astype(np.int64), np.floor(row).astype(np.int64)
    share_c, share_r = (column - low_c)[:, None], (row - low_r)[:, None]
    side = (lambda c: c % width) if camera.turns else (lambda c: np.clip(c, 0, width - 1))
    over = lambda r: np.clip(r, 0, height - 1)
    at = lambda r, c: picture[over(r), side(c)].astype(np.float32)
    upper = at(low_r, low_c) * (1 - share_c) + at(low_r, low_c + 1) * share_c
    lower = at(low_r + 1, low_c) * (1 - share_c) + at(low_r + 1, low_c + 1) * share_c
    out = np.rint(upper * (1 - share_r) + lower * share_r).astype(np.uint8)
    out[~inside] = 0
    return out.reshape(flat.height, flat.width, 3), float(inside.mean())
