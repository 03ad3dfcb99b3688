"""A simulated spherical camera on the scanner's tripod, with an exposure of its own."""

import numpy as np
from numba import njit

from terrazza.instruments.scene import FOLIAGE, WATER, World
from terrazza.instruments.tracing import albedo, cast, facing, meet

BLOCK = 4


@njit(cache=True, nogil=True)
def _direction(pose, col, row, width, height):
    az, el = np.pi - (col + 0.5) * 2 * np.pi / width, np.pi / 2 - (row + 0.5) * np.pi / height
    x, y, z = np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)
    return (
        pose[0, 0] * x + pose[0, 1] * y + pose[0, 2] * z,
        pose[1, 0] * x + pose[1, 1] * y + pose[1, 2] * z,
        pose[2, 0] * x + pose[2, 1] * y + pose[2, 2] * z,
    )


@njit(cache=True, nogil=True)
def _corner(arrays, epoch, pose, col, row, width, height):
    kind, table, style, epochs, tree = arrays
    dx, dy, dz = _direction(pose, col, row, width, height)
    salt = np.uint64(col) * np.uint64(7919) + np.uint64(row)
    _, i, _, _ = cast(
        kind, table, style, epochs, tree, epoch, pose[0, 3], pose[1, 3], pose[2, 3], dx, dy, dz, salt
    )
    return i


TONES = (255 * np.linspace(0.0, 1.0, 2049) ** 0.8).astype(np.uint8)


@njit(cache=True, nogil=True, fastmath=True)
def _expose(arrays, material, epoch, pose, width, height, exposure, sun, tones, image):
    kind, table, style, epochs, tree = arrays
    across, down = (width + BLOCK - 1) // BLOCK, (height + BLOCK - 1) // BLOCK
    ox, oy, oz = pose[0, 3], pose[1, 3], pose[2, 3]
    turns = np.empty((width, 2))
    for col in range(width):
        az = np.pi - (col + 0.5) * 2 * np.pi / width
        turns[col, 0], turns[col, 1] = np.cos(az), np.sin(az)
    met = np.empty((down + 1, across + 1), np.int32)
    for b in range(down + 1):
        for a in range(across + 1):
            met[b, a] = _corner(
                arrays, epoch, pose, min(a * BLOCK, width - 1), min(b * BLOCK, height - 1), width, height
            )
    for b in range(down):
        for a in range(across):
            i = met[b, a]
            plain = (
                i >= 0
                and kind[i] != FOLIAGE
                and met[b + 1, a] == i
                and met[b, a + 1] == i
                and met[b + 1, a + 1] == i
            )
            empty = i < 0 and met[b + 1, a] < 0 and met[b, a + 1] < 0 and met[b + 1, a + 1] < 0
            for row in range(b * BLOCK, min(b * BLOCK + BLOCK, height)):
                el = np.pi / 2 - (row + 0.5) * np.pi / height
                flat, up = np.cos(el), np.sin(el)
                for col in range(a * BLOCK, min(a * BLOCK + BLOCK, width)):
                    lx, ly = flat * turns[col, 0], flat * turns[col, 1]
                    dx = pose[0, 0] * lx + pose[0, 1] * ly + pose[0, 2] * up
                    dy = pose[1, 0] * lx + pose[1, 1] * ly + pose[1, 2] * up
                    dz = pose[2, 0] * lx + pose[2, 1] * ly + pose[2, 2] * up
                    salt = np.uint64(col) * np.uint64(7919) + np.uint64(row)
                    j, t, u, v = -1, 1e30, 0.0, 0.0
                    if plain:
                        t, u, v = meet(kind[i], table[i], style[i], ox, oy, oz, dx, dy, dz, salt)
                        j = i if t < 1e29 else -1
                    if j < 0 and not empty:
                        t, j, u, v = cast(
                            kind, table, style, epochs, tree, epoch, ox, oy, oz, dx, dy, dz, salt
                        )
                    if j < 0:
                        glow = max(dz, 0.0)
                        r, g, c = 0.80 - 0.35 * glow, 0.86 - 0.22 * glow, 0.93 - 0.05 * glow
                        light = 1.15
                    else:
                        x, y, z = ox + t * dx, oy + t * dy, oz + t * dz
                        nx, ny, nz = facing(kind[j], table[j], style[j], x, y, z, u, v)
                        side = 1.0 if nx * dx + ny * dy + nz * dz < 0 else -1.0
                        lit = max(0.0, side * (nx * sun[0] + ny * sun[1] + nz * sun[2]))
                        r, g, c, _ = albedo(material[j], table[j], x, y, z, u, v)
                        light = 0.55 + 0.6 * lit
                        if material[j] == WATER:
                            r, g, c = 0.4 * r + 0.3, 0.4 * g + 0.35, 0.4 * c + 0.4
                    image[row, col, 0] = tones[int(2048 * min(r * light * exposure, 1.0))]
                    image[row, col, 1] = tones[int(2048 * min(g * light * exposure, 1.0))]
                    image[row, col, 2] = tones[int(2048 * min(c * light * exposure, 1.0))]


def photograph(
    world: World, pose: np.ndarray, epoch: int, exposure: float, width: int = 4096, height: int = 2048
) -> np.ndarray:
    """A spherical photo (height × width × 3, u8) from ``pose`` (4×4, camera to scene).

    The middle column looks along the camera's +x axis, azimuth grows to the left
    and the top row looks to +z: the spherical representation of ASTM E2807.
    """
    image = np.empty((height, width, 3), np.uint8)
    sun = np.array([-0.35, -0.62, 0.70])
    _expose(world.arrays(), world.material, epoch, pose, width, height, exposure, sun, TONES, image)
    return image
