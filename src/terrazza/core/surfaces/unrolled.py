"""A round thing laid flat: places along its axis and around it, from the crown, and how far off they are."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.clean.shells import Vault

PALE = (246, 244, 238)
UPRIGHT = 0.9  # of the axis along the plumb line from which on "up" is north: a shaft


@dataclass(frozen=True)
class Flat:
    """Of points (n,): ``along`` the axis (m), ``around`` it (m on the mean radius: 0 at the crown, to the
    right positive, looking along), and ``away`` from the design, positive inside (m).
    """

    along: np.ndarray
    around: np.ndarray
    away: np.ndarray


class Unrolling:
    """How points are laid flat about a vault's axis."""

    def __init__(self, vault: Vault):
        self.vault = vault
        run = np.diff(vault.axis, axis=0)
        length = np.linalg.norm(run, axis=1)
        self.start, self.length, self.radius = np.r_[0, np.cumsum(length)], length, float(vault.radius.mean())
        self.way = run / length[:, None]
        up = np.where(np.abs(self.way[:, 2:]) > UPRIGHT, [[0.0, 1, 0]], [[0.0, 0, 1]])
        up = up - (up * self.way).sum(1)[:, None] * self.way
        self.up = up / np.linalg.norm(up, axis=1)[:, None]
        self.right = np.cross(self.way, self.up)

    @property
    def total(self) -> float:
        """Length of the axis, m."""
        return float(self.start[-1])

    def flat(self, xyz: np.ndarray) -> Flat:
        """Points (n, 3) laid flat; beyond the ends of the axis ``along`` lies outside 0 to ``total``."""
        piece, share, off = self.vault.foot(xyz)
        inner = np.clip(share, 0, 1)
        out = xyz - self.vault.axis[piece] - (share * self.length[piece])[:, None] * self.way[piece]
        angle = np.arctan2((out * self.right[piece]).sum(1), (out * self.up[piece]).sum(1))
        radius = (1 - inner) * self.vault.radius[piece] + inner * self.vault.radius[piece + 1]
        along = self.start[piece] + share * self.length[piece]
        return Flat(along, angle * self.radius, radius - off)


@dataclass
class Sums:
    """By pixel (``name``, sorted): how many values, their sum."""

    name: np.ndarray
    many: np.ndarray
    total: np.ndarray


def sums(found: Flat, values: np.ndarray, pixel: float, shape: tuple[int, int], radius: float) -> Sums:
    """Values (n,) by pixels of ``pixel`` m, rows from the left of the crown downwards in the picture (its top
    is the right), columns along.
    """
    row = np.floor((np.pi * radius - found.around) / pixel).astype(np.int64)
    column = np.floor(found.along / pixel).astype(np.int64)
    good = (row >= 0) & (row < shape[0]) & (column >= 0) & (column < shape[1]) & np.isfinite(values)
    name, back = np.unique(row[good] * shape[1] + column[good], return_inverse=True)
    many = np.bincount(back, minlength=len(name))
    return Sums(name, many, np.bincount(back, values[good], len(name)))


def picture(parts: list[Sums], shape: tuple[int, int]) -> np.ndarray:
    """Mean values (rows, columns) f32, NaN where there is none."""
    many, total = np.zeros(shape[0] * shape[1], np.int64), np.zeros(shape[0] * shape[1])
    for part in parts:
        many[part.name] += part.many
        total[part.name] += part.total
    mean = total / np.maximum(many, 1)
    return np.where(many > 0, mean, np.nan).astype(np.float32).reshape(shape)


def coloured(values: np.ndarray, scale: float, at_zero: tuple[int, int, int] = PALE) -> np.ndarray:
    """(rows, columns, 4) u8: blue below zero, red above, pale ``at_zero``, full at ``scale``; clear where
    NaN.
    """
    share = np.clip(np.nan_to_num(values) / scale, -1, 1)[..., None]
    low, middle, high = (np.array(c, float) for c in ((33, 84, 160), at_zero, (176, 42, 48)))
    tone = np.where(share < 0, middle + (low - middle) * -share, middle + (high - middle) * share)
    alpha = np.where(np.isnan(values), 0, 255)[..., None]
    return np.concatenate([tone, alpha], -1).round().astype(np.uint8)
