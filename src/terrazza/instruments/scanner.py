"""A simulated tripod laser scanner with a tilt compensator.

What it gets wrong on purpose: range noise, a constant range bias per set-up, a
small residual tilt (part of the pose that the caller hands in), dropouts at
grazing incidence and on dark things, mixed pixels where the beam straddles an
edge, mirror images behind water and reflections in glass.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from terrazza.instruments.scene import BOARD, FOLIAGE, GLASS, MIRROR, WATER, World
from terrazza.instruments.tracing import FAR, albedo, cast, facing, gauss, noise01

REAL, MIXED, MIRRORED = 0, 1, 2


@dataclass(frozen=True)
class Setup:
    """Angular grid and errors of one scan; angles in radians, lengths in metres.

    ``columns`` run once around from the scanner's +x axis, counter-clockwise; ``rows`` run from ``lowest`` to
    ``highest`` elevation.  ``beam`` is the width of the beam at the instrument, 0 for one so thin that no
    pixel is mixed; it widens by ``spread``.
    """

    columns: int = 1250
    rows: int = 530
    lowest: float = np.radians(-60.0)
    highest: float = np.radians(90.0)
    noise: float = 0.002
    bias: float = 0.0
    beam: float = 0.003
    spread: float = 0.0003
    reach: float = 70.0
    colour: bool = True


@njit(cache=True, nogil=True)
def _first_pass(
    arrays,
    material,
    epoch,
    poses,
    azimuths,
    rows,
    lowest,
    highest,
    seed,
    reach,
    out_t,
    out_i,
    out_uv,
    out_kind,
):
    kind, table, style, epochs, tree = arrays
    for c in range(len(azimuths)):
        az, pose = azimuths[c], poses[c]
        for r in range(rows):
            el = lowest + (highest - lowest) * (r + 0.5) / rows
            sx, sy, sz = np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)
            dx = pose[0, 0] * sx + pose[0, 1] * sy + pose[0, 2] * sz
            dy = pose[1, 0] * sx + pose[1, 1] * sy + pose[1, 2] * sz
            dz = pose[2, 0] * sx + pose[2, 1] * sy + pose[2, 2] * sz
            ox, oy, oz = pose[0, 3], pose[1, 3], pose[2, 3]
            salt = np.uint64(seed) * np.uint64(1000003) + np.uint64(c * rows + r)
            total = 0.0
            mirrored = 0
            for bounce in range(4):
                t, i, u, v = cast(
                    kind, table, style, epochs, tree, epoch, ox, oy, oz, dx, dy, dz, salt + np.uint64(bounce)
                )
                if i < 0 or total + t > reach:
                    total = FAR
                    break
                total += t
                ox, oy, oz = ox + t * dx, oy + t * dy, oz + t * dz
                m = material[i]
                chance = noise01(salt, 900 + bounce)
                back = 0.97 if m == MIRROR else 0.8 if m == WATER else 0.25 if m == GLASS else 0.0
                if chance < back:
                    nx, ny, nz = facing(kind[i], table[i], style[i], ox, oy, oz, u, v)
                    dot = 2 * (dx * nx + dy * ny + dz * nz)
                    dx, dy, dz = dx - dot * nx, dy - dot * ny, dz - dot * nz
                    mirrored = 1
                elif m == GLASS and chance < 0.85:
                    pass
                else:
                    nx, ny, nz = facing(kind[i], table[i], style[i], ox, oy, oz, u, v)
                    cosine = abs(dx * nx + dy * ny + dz * nz)
                    if kind[i] != FOLIAGE and noise01(salt, 33) > cosine / 0.10:
                        total = FAR
                    break
                ox, oy, oz = ox + 1e-5 * dx, oy + 1e-5 * dy, oz + 1e-5 * dz
            out_t[c, r] = total
            out_i[c, r] = i if total < FAR else -1
            out_uv[c, r, 0], out_uv[c, r, 1] = u, v
            out_kind[c, r] = 2 if mirrored else 0


@njit(cache=True, nogil=True)
def _at_edge(t_in, i_in, c, r):
    """Whether a ray's neighbour in the grid met something else, or the same elsewhere."""
    columns, rows = t_in.shape
    for k in range(4):
        cc = (c + (1 if k == 0 else -1 if k == 1 else 0)) % columns
        rr = r + (1 if k == 2 else -1 if k == 3 else 0)
        if 0 <= rr < rows and (abs(t_in[cc, rr] - t_in[c, r]) > 0.05 or i_in[cc, rr] != i_in[c, r]):
            return True
    return False


@njit(cache=True, nogil=True)
def _second_pass(
    arrays,
    material,
    epoch,
    poses,
    azimuths,
    rows,
    lowest,
    highest,
    seed,
    noise,
    bias,
    beam,
    spread,
    t_in,
    i_in,
    uv,
    kinds,
    out_r,
    out_intensity,
    out_rgb,
    out_clear,
):
    kind, table, style, epochs, tree = arrays
    for c in range(len(azimuths)):
        az, pose = azimuths[c], poses[c]
        for r in range(rows):
            t, i = t_in[c, r], i_in[c, r]
            if i < 0:
                out_r[c, r] = 0.0
                continue
            el = lowest + (highest - lowest) * (r + 0.5) / rows
            sx, sy, sz = np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)
            dx = pose[0, 0] * sx + pose[0, 1] * sy + pose[0, 2] * sz
            dy = pose[1, 0] * sx + pose[1, 1] * sy + pose[1, 2] * sz
            dz = pose[2, 0] * sx + pose[2, 1] * sy + pose[2, 2] * sz
            ox, oy, oz = pose[0, 3], pose[1, 3], pose[2, 3]
            salt = np.uint64(seed) * np.uint64(1000003) + np.uint64(c * rows + r)
            x, y, z = ox + t * dx, oy + t * dy, oz + t * dz
            nx, ny, nz = facing(kind[i], table[i], style[i], x, y, z, uv[c, r, 0], uv[c, r, 1])
            cosine = abs(dx * nx + dy * ny + dz * nz)
            p = table[i]
            red, green, blue, reflect = albedo(material[i], p, x, y, z, uv[c, r, 0], uv[c, r, 1])
            edge = material[i] == BOARD or _at_edge(t_in, i_in, c, r)
            if edge and beam > 0 and kinds[c, r] == 0 and kind[i] != FOLIAGE:
                # four more rays over the footprint of the beam: do they all meet the same surface?
                wide = beam + spread * t
                ex, ey = -np.sin(az), np.cos(az)
                near, far, n_far, weight = t, t, 0, reflect
                for k in range(4):
                    s1, s2 = (wide if k < 2 else -wide) / t, (wide if k % 2 else -wide) / t
                    qx = sx + s1 * ex - s2 * np.sin(el) * np.cos(az)
                    qy = sy + s1 * ey - s2 * np.sin(el) * np.sin(az)
                    qz = sz + s2 * np.cos(el)
                    ax = pose[0, 0] * qx + pose[0, 1] * qy + pose[0, 2] * qz
                    ay = pose[1, 0] * qx + pose[1, 1] * qy + pose[1, 2] * qz
                    az_ = pose[2, 0] * qx + pose[2, 1] * qy + pose[2, 2] * qz
                    tk, ik, uk, vk = cast(
                        kind,
                        table,
                        style,
                        epochs,
                        tree,
                        epoch,
                        ox,
                        oy,
                        oz,
                        ax,
                        ay,
                        az_,
                        salt + np.uint64(5 + k),
                    )
                    if ik < 0:
                        continue
                    _, _, _, rk = albedo(
                        material[ik], table[ik], ox + tk * ax, oy + tk * ay, oz + tk * az_, uk, vk
                    )
                    weight += rk
                    if ik != i and abs(tk - t) > 0.03:
                        n_far, far = n_far + 1, tk
                reflect = weight / 5.0
                if n_far > 0 and abs(far - near) < 4.0:
                    share = (n_far / 4.0) * (0.6 + 0.8 * noise01(salt, 41))
                    share = min(max(share, 0.05), 0.95)
                    t = near + share * (far - near)
                    kinds[c, r] = 1
                    out_clear[c, r] = min(abs(t - near), abs(t - far))
            out_r[c, r] = t + bias + noise * gauss(salt, 11)
            signal = reflect * (0.35 + 0.65 * cosine) / (1.0 + (t / 45.0) ** 2) * (1 + 0.04 * gauss(salt, 12))
            out_r[c, r] = 0.0 if signal < 0.012 else out_r[c, r]
            out_intensity[c, r] = np.uint16(min(max(signal, 0.0), 1.0) * 60000)
            shade = 0.75 + 0.25 * abs(nz)
            out_rgb[c, r, 0] = np.uint8(min(255.0, 225 * red * shade + 8))
            out_rgb[c, r, 1] = np.uint8(min(255.0, 225 * green * shade + 8))
            out_rgb[c, r, 2] = np.uint8(min(255.0, 225 * blue * shade + 12))


def sweep(world: World, pose: np.ndarray, setup: Setup, epoch: int, seed: int) -> dict[str, np.ndarray]:
    """One structured scan from ``pose`` (4×4, scanner to scene); columns as ``turn`` gives them."""
    return turn(
        world,
        np.repeat(pose[None], setup.columns, 0),
        2 * np.pi * np.arange(setup.columns) / setup.columns,
        setup,
        epoch,
        seed,
    )


def turn(
    world: World, poses: np.ndarray, azimuths: np.ndarray, setup: Setup, epoch: int, seed: int
) -> dict[str, np.ndarray]:
    """What a head sees that looks along ``azimuths`` (n,) one after the other, from the pose (n, 4, 4, head
    to scene) that it has at each of them.

    Returns columns over all grid cells in column-major order: ``x y z`` (m,
    in the head's frame of that column), ``intensity`` u16, ``rgb`` u8×3, ``row``, ``column``, ``valid``
    and, for the truth file, ``kind`` (0 real, 1 mixed, 2 mirrored), ``code`` (LAS
    class), ``moved`` and ``clear`` (m, of a mixed pixel from the nearer surface).
    """
    shape = (len(azimuths), setup.rows)
    t, i = np.empty(shape), np.empty(shape, np.int32)
    uv, kind = np.empty((*shape, 2)), np.zeros(shape, np.uint8)
    grid = (np.ascontiguousarray(poses), azimuths, setup.rows, setup.lowest, setup.highest, seed)
    _first_pass(world.arrays(), world.material, epoch, *grid, setup.reach, t, i, uv, kind)
    ranges, intensity = np.zeros(shape), np.zeros(shape, np.uint16)
    rgb, clear = np.zeros((*shape, 3), np.uint8), np.zeros(shape)
    _second_pass(
        world.arrays(),
        world.material,
        epoch,
        *grid,
        setup.noise,
        setup.bias,
        setup.beam,
        setup.spread,
        t,
        i,
        uv,
        kind,
        ranges,
        intensity,
        rgb,
        clear,
    )
    az = azimuths[:, None]
    el = setup.lowest + (setup.highest - setup.lowest) * (np.arange(setup.rows)[None, :] + 0.5) / setup.rows
    column, row = np.meshgrid(np.arange(len(azimuths)), np.arange(setup.rows), indexing="ij")
    hit = np.maximum(i, 0)
    out = {
        "x": ranges * np.cos(el) * np.cos(az),
        "y": ranges * np.cos(el) * np.sin(az),
        "z": ranges * np.sin(el),
        "intensity": intensity,
        "row": row,
        "column": column,
        "valid": ranges > 0,
        "kind": kind,
        "code": world.code[hit],
        "moved": world.moved[hit],
        "clear": clear,
    }
    out = {name: a.reshape(-1) for name, a in out.items()}
    out["rgb"] = rgb.reshape(-1, 3)
    return out


__all__ = ["MIRRORED", "MIXED", "REAL", "Setup", "sweep", "turn"]
