"""The path of a walked scan: where the scanner was at a time, and the stops on it, virtual stations from
which one looks around.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.errors import InputError

ROUNDING = 1e-3


@dataclass(frozen=True)
class Path:
    """``time`` (n,) s, rising; ``xyz`` (n, 3) m in the scan's frame; ``heading`` (n,) rad, counter-clockwise
    from x.
    """

    time: np.ndarray
    xyz: np.ndarray
    heading: np.ndarray

    @classmethod
    def of(cls, time: np.ndarray, xyz: np.ndarray, heading: np.ndarray | None = None) -> "Path":
        """Sorted by time, times given twice once; headings along the way where there are none. InputError for
        fewer than two places. ``time`` (n,) s, ``xyz`` (n, 3) m, ``heading`` (n,) rad.
        """
        good = np.isfinite(time) & np.isfinite(xyz).all(1)
        _, first = np.unique(time[good], return_index=True)
        time, xyz = time[good][first], xyz[good][first]
        if len(time) < 2:
            raise InputError(
                "The trajectory holds fewer than two places.", "Choose the file of the whole walk."
            )
        if heading is None:
            ahead = np.gradient(xyz[:, :2], axis=0)
            heading = np.arctan2(ahead[:, 1], ahead[:, 0])
        else:
            heading = heading[good][first]
        return cls(time, xyz, np.unwrap(heading))

    @property
    def along(self) -> np.ndarray:
        """Metres walked until each place. (n,)."""
        return np.r_[0.0, np.cumsum(np.linalg.norm(np.diff(self.xyz, axis=0), axis=1))]

    def at(self, time: np.ndarray) -> np.ndarray:
        """(n, 3) where the scanner was at some times; before the start and after the end, its first and last
        place.
        """
        return np.stack([np.interp(time, self.time, self.xyz[:, k]) for k in range(3)], 1)


def stops(path: Path, every: float, turn: float = 0.0) -> np.ndarray:
    """Times (n,) of the stops: one at the start, and one whenever ``every`` metres (0: never) have been
    walked or the heading has turned by ``turn`` rad (0: never) since the last.
    """
    along, found, last, heading = path.along, [path.time[0]], 0.0, path.heading[0]
    for k in range(1, len(along)):
        while every > 0 and along[k] - last >= every * (1 - ROUNDING):
            last += every
            found.append(np.interp(last, along, path.time))
            heading = np.interp(found[-1], path.time, path.heading)
        if turn > 0 and abs(path.heading[k] - heading) >= turn:
            found.append(path.time[k])
            last, heading = along[k], path.heading[k]
    return np.array(found)


def belongs(time: np.ndarray, stop_times: np.ndarray) -> np.ndarray:
    """The stop (index) each point belongs to: the one nearest in time. ``time`` (n,) and ``stop_times`` (k,)
    s; index (n,).
    """
    middles = (stop_times[1:] + stop_times[:-1]) / 2
    return np.searchsorted(middles, time, side="right")
