"""Compiled ray kernels: what a ray meets, where, and what that surface looks like."""

import numpy as np
from numba import njit

from terrazza.instruments.scene import (
    BALL,
    BARK,
    BOARD,
    CLAY,
    CLOTH,
    COBBLE,
    COBBLED,
    CYLINDER,
    DRYSTONE,
    EARTH,
    GLASS,
    GRASS,
    HEWN,
    IRON,
    KERB,
    LEAF,
    MIRROR,
    PAINT,
    PLASTER,
    QUAD,
    STONE,
    TILE,
    TIMBER,
    UNDULATING,
    WATER,
    WHITE,
)

FAR = 1e30
fast = njit(cache=True, nogil=True, fastmath=False)


@fast
def noise01(a, b):
    """A reproducible number in (0, 1) for a pair of integers (splitmix64 finaliser)."""
    z = (
        np.uint64(a) * np.uint64(0x9E3779B97F4A7C15)
        + np.uint64(b) * np.uint64(0xBF58476D1CE4E5B9)
        + np.uint64(0x94D049BB133111EB)
    )
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    return (float(z >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)


@fast
def gauss(a, b):
    """A reproducible standard normal number for a pair of integers (Box-Muller)."""
    return np.sqrt(-2.0 * np.log(noise01(a, b))) * np.cos(
        2 * np.pi * noise01(a, np.uint64(b) + np.uint64(0x51ED27))
    )


@fast
def relief(style, u, v):
    """Height of an uneven face over its plane and its slopes along u and v (m, -, -)."""
    if style == UNDULATING:
        return (
            0.018 * np.sin(1.9 * u + 0.4) * np.cos(1.3 * v) + 0.008 * np.sin(4.1 * u - 2.3 * v),
            0.0342 * np.cos(1.9 * u + 0.4) * np.cos(1.3 * v) + 0.0328 * np.cos(4.1 * u - 2.3 * v),
            -0.0234 * np.sin(1.9 * u + 0.4) * np.sin(1.3 * v) - 0.0184 * np.cos(4.1 * u - 2.3 * v),
        )
    if style == DRYSTONE:
        a, b = 14.0 * u + 2.0 * np.sin(3.1 * v), 26.0 * v
        return 0.012 * np.sin(a) * np.sin(b), 0.168 * np.cos(a) * np.sin(b), 0.312 * np.sin(a) * np.cos(b)
    if style == COBBLED:
        return (
            0.005 * np.sin(40 * u) * np.sin(40 * v),
            0.2 * np.cos(40 * u) * np.sin(40 * v),
            0.2 * np.sin(40 * u) * np.cos(40 * v),
        )
    if style == HEWN:
        return 0.001 * np.sin(9 * u + 5 * v), 0.009 * np.cos(9 * u + 5 * v), 0.005 * np.cos(9 * u + 5 * v)
    return 0.0, 0.0, 0.0


@fast
def meet(kind, p, style, ox, oy, oz, dx, dy, dz, salt):
    """Distance along a ray to one primitive (FAR where missed) and its two surface coordinates."""
    if kind == QUAD:
        dn = dx * p[9] + dy * p[10] + dz * p[11]
        if abs(dn) < 1e-9:
            return FAR, 0.0, 0.0
        t = ((p[0] - ox) * p[9] + (p[1] - oy) * p[10] + (p[2] - oz) * p[11]) / dn
        for step in range(5):
            x, y, z = ox + t * dx - p[0], oy + t * dy - p[1], oz + t * dz - p[2]
            u = x * p[3] + y * p[4] + z * p[5]
            v = x * p[6] + y * p[7] + z * p[8]
            if style == 0 or step == 4:
                break
            h, hu, hv = relief(style, u, v)
            gap = x * p[9] + y * p[10] + z * p[11] - h
            slope = dn - hu * (dx * p[3] + dy * p[4] + dz * p[5]) - hv * (dx * p[6] + dy * p[7] + dz * p[8])
            if abs(slope) < 0.25 * abs(dn):
                slope = dn
            t -= gap / slope
        if t < 1e-6 or u < 0 or v < 0 or u > p[12] or v > p[13]:
            return FAR, 0.0, 0.0
        if p[17] > 0 and u / p[12] + v / p[13] > 1:
            return FAR, 0.0, 0.0
        if p[16] > 0 and (u - p[14]) ** 2 + (v - p[15]) ** 2 < p[16] ** 2:
            return FAR, 0.0, 0.0
        return t, u, v
    if kind == CYLINDER:
        return _meet_cylinder(p, ox, oy, oz, dx, dy, dz)
    if kind == BALL:
        x, y, z = ox - p[0], oy - p[1], oz - p[2]
        b, c = x * dx + y * dy + z * dz, x * x + y * y + z * z - p[3] ** 2
        q = b * b - c
        if q < 0:
            return FAR, 0.0, 0.0
        t = -b - np.sqrt(q)
        if t < 1e-6:
            t = -b + np.sqrt(q)
        return (t, 0.0, 0.0) if t > 1e-6 else (FAR, 0.0, 0.0)
    x, y, z = (ox - p[0]) / p[3], (oy - p[1]) / p[4], (oz - p[2]) / p[5]
    ex, ey, ez = dx / p[3], dy / p[4], dz / p[5]
    a, b, c = ex * ex + ey * ey + ez * ez, x * ex + y * ey + z * ez, x * x + y * y + z * z - 1
    q = b * b - a * c
    if q < 0:
        return FAR, 0.0, 0.0
    root = np.sqrt(q)
    t0, t1 = max((-b - root) / a, 1e-6), (-b + root) / a
    if t1 < t0:
        return FAR, 0.0, 0.0
    t = t0 - np.log(noise01(salt, 77)) / p[6]
    return (t, noise01(salt, 78), noise01(salt, 79)) if t < t1 else (FAR, 0.0, 0.0)


@fast
def _meet_cylinder(p, ox, oy, oz, dx, dy, dz):
    x, y, z = ox - p[0], oy - p[1], oz - p[2]
    along, run = x * p[3] + y * p[4] + z * p[5], dx * p[3] + dy * p[4] + dz * p[5]
    ax, ay, az = x - along * p[3], y - along * p[4], z - along * p[5]
    bx, by, bz = dx - run * p[3], dy - run * p[4], dz - run * p[5]
    best, hu, hv = FAR, 0.0, 0.0
    a, b, c = (
        bx * bx + by * by + bz * bz,
        ax * bx + ay * by + az * bz,
        ax * ax + ay * ay + az * az - p[7] ** 2,
    )
    q = b * b - a * c
    if q >= 0 and a > 1e-12:
        for sign in (-1.0, 1.0):
            t = (-b + sign * np.sqrt(q)) / a
            s = along + t * run
            if t < 1e-6 or s < 0 or s > p[6] or t >= best:
                continue
            if p[11] > 0 and (ax + t * bx) * p[8] + (ay + t * by) * p[9] + (az + t * bz) * p[10] < 0:
                continue
            best, hu, hv = t, s, 0.0
    if p[12] > 0 and abs(run) > 1e-9:
        for end in (0.0, p[6]):
            t = (end - along) / run
            if 1e-6 < t < best:
                ex, ey, ez = ax + t * bx, ay + t * by, az + t * bz
                if ex * ex + ey * ey + ez * ez < p[7] ** 2:
                    best, hu, hv = t, end, 1.0
    return best, hu, hv


@fast
def cast(kind, table, style, epochs, tree, epoch, ox, oy, oz, dx, dy, dz, salt):
    """First primitive along a ray: (distance, index or -1, surface u, surface v)."""
    ix, iy, iz = (
        1.0 / (dx if abs(dx) > 1e-12 else 1e-12),
        1.0 / (dy if abs(dy) > 1e-12 else 1e-12),
        1.0 / (dz if abs(dz) > 1e-12 else 1e-12),
    )
    best, which, bu, bv = FAR, -1, 0.0, 0.0
    stack = np.empty(48, np.int32)
    stack[0] = 0
    top = 1
    bit = np.uint64(1) << np.uint64(epoch)
    while top > 0:
        top -= 1
        n = tree[stack[top]]
        a, b = (n[0] - ox) * ix, (n[3] - ox) * ix
        t0, t1 = min(a, b), max(a, b)
        a, b = (n[1] - oy) * iy, (n[4] - oy) * iy
        t0, t1 = max(t0, min(a, b)), min(t1, max(a, b))
        a, b = (n[2] - oz) * iz, (n[5] - oz) * iz
        t0, t1 = max(t0, min(a, b)), min(t1, max(a, b))
        if t1 < max(t0, 0.0) or t0 > best:
            continue
        if n[6] >= 0:
            stack[top] = int(n[6])
            stack[top + 1] = int(n[7])
            top += 2
            continue
        first = -int(n[6]) - 1
        for i in range(first, first + int(n[7])):
            if epochs[i] & bit:
                t, u, v = meet(
                    kind[i],
                    table[i],
                    style[i],
                    ox,
                    oy,
                    oz,
                    dx,
                    dy,
                    dz,
                    np.uint64(salt) + np.uint64(i) * np.uint64(1315423911),
                )
                if t < best:
                    best, which, bu, bv = t, i, u, v
    return best, which, bu, bv


@fast
def facing(kind, p, style, x, y, z, u, v):
    """Unit normal of a primitive at a point on it."""
    if kind == QUAD:
        _, hu, hv = relief(style, u, v)
        nx, ny, nz = (
            p[9] - hu * p[3] - hv * p[6],
            p[10] - hu * p[4] - hv * p[7],
            p[11] - hu * p[5] - hv * p[8],
        )
    elif kind == CYLINDER:
        if v > 0:
            return p[3], p[4], p[5]
        s = (x - p[0]) * p[3] + (y - p[1]) * p[4] + (z - p[2]) * p[5]
        nx, ny, nz = x - p[0] - s * p[3], y - p[1] - s * p[4], z - p[2] - s * p[5]
    elif kind == BALL:
        nx, ny, nz = x - p[0], y - p[1], z - p[2]
    else:
        nx, ny, nz = 2 * u - 1, 2 * v - 1, 2 * ((u * 7.31 + v * 3.17) % 1.0) - 0.6
    length = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-9)
    return nx / length, ny / length, nz / length


@fast
def grain(x, y, z, size):
    """Blocky value noise in (0, 1): the speckle of stone, earth and leaves."""
    i, j, k = np.int64(np.floor(x / size)), np.int64(np.floor(y / size)), np.int64(np.floor(z / size))
    return noise01((i * 73856093) ^ (j * 19349663), k * 83492791)


@fast
def albedo(material, p, x, y, z, u, v):
    """Colour (0 to 1) and laser reflectance of a material at a point."""
    g = 0.6 * grain(x, y, z, 0.043) + 0.4 * grain(x, y, z, 0.31)
    k = 0.82 + 0.36 * (g - 0.5)
    if material == BOARD:
        a, b = u - p[12] / 2, v - p[13] / 2
        dark = (0.866 * a + 0.5 * b > 0) != (
            0.866 * b - 0.5 * a > 0
        )  # turned by 30°, so that no edge runs along a scan line
        edge = min(min(u, p[12] - u), min(v, p[13] - v)) < 0.02
        if edge:
            return 0.9, 0.9, 0.88, 0.88
        return (0.05, 0.05, 0.06, 0.06) if dark else (0.93, 0.93, 0.92, 0.9)
    if material == STONE:
        joint = 0.72 if (abs((z % 0.24) - 0.12) > 0.112) else 1.0
        return 0.66 * k * joint, 0.61 * k * joint, 0.52 * k * joint, 0.45 * k * joint
    if material == PLASTER:
        return 0.86 * k, 0.78 * k, 0.62 * k, 0.62 * k
    if material == TIMBER:
        return 0.45 * k, 0.32 * k, 0.21 * k, 0.38 * k
    if material == TILE:
        wave = 0.85 + 0.15 * np.sin(u * 28)
        return 0.72 * k * wave, 0.40 * k * wave, 0.28 * k * wave, 0.42 * k
    if material == EARTH:
        return 0.52 * k, 0.43 * k, 0.32 * k, 0.34 * k
    if material == GRASS:
        return 0.36 * k, 0.46 * k, 0.22 * k, 0.42 * k
    if material == COBBLE:
        joint = 0.7 if (abs((x % 0.16) - 0.08) > 0.07 or abs((y % 0.16) - 0.08) > 0.07) else 1.0
        return 0.55 * k * joint, 0.54 * k * joint, 0.53 * k * joint, 0.33 * k * joint
    if material == KERB:
        return 0.74 * k, 0.73 * k, 0.70 * k, 0.5 * k
    if material == PAINT:
        return 0.92, 0.90, 0.82, 0.85
    if material == IRON:
        return 0.16 * k, 0.19 * k, 0.19 * k, 0.15
    if material == LEAF:
        return 0.20 + 0.16 * g, 0.36 + 0.22 * g, 0.13 + 0.1 * g, 0.5 + 0.2 * g
    if material == CLAY:
        return 0.76 * k, 0.45 * k, 0.32 * k, 0.45 * k
    if material == WATER:
        return 0.20, 0.32, 0.36, 0.03
    if material == MIRROR:
        return 0.70, 0.73, 0.74, 0.05
    if material == GLASS:
        return 0.62, 0.72, 0.70, 0.08
    if material == WHITE:
        return 0.94, 0.94, 0.93, 0.85
    if material == CLOTH:
        return 0.25 * k, 0.33 * k, 0.55 * k, 0.3
    if material == BARK:
        return 0.38 * k, 0.30 * k, 0.24 * k, 0.35 * k
    return 0.5 * k, 0.5 * k, 0.5 * k, 0.4 * k
