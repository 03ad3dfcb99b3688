"""Every point column that the product itself reads or writes, declared once.

The check of a job, the words for what a new import loses, the versions of nodes, the bytes that go to the
browser and their layout there are made from this table.  Columns that a file brought under other names
(``extra.…``) are kept beside these as they are.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np


@dataclass(frozen=True)
class PointColumn:
    """One column: ``dtype`` and ``width`` (0: one number a point), and the value of points without it.

    ``plane`` and ``slot`` say where a node that is sent to the browser carries it; ``flag`` is the bit that a
    value other than 0 sets in the flags there, which hide a point.  ``made`` names in words what of it the
    job itself has made, which a new import of the scan's file loses.  ``ramp`` makes it a colouring of its
    own, under that name, from 0 to the largest number of its type.  ``pulse``: its values say which of how
    many returns of a pulse a point is (low and high four bits), which two bits of the flags tell.
    """

    name: str
    dtype: str
    width: int = 0
    default: int = 0
    plane: str = ""
    slot: int = 0
    flag: int = 0
    made: str = ""
    ramp: str = ""
    pulse: bool = False

    def filled(self, count: int) -> np.ndarray:
        """The column of ``count`` points that have no values. (n,) or (n, k)."""
        shape = (count, self.width) if self.width else (count,)
        return np.full(shape, self.default, np.dtype(self.dtype))


COLUMNS: dict[str, PointColumn] = {
    c.name: c
    for c in (
        PointColumn("position", "i4", 3, plane="first", slot=0),
        PointColumn("intensity", "u2", plane="first", slot=3),
        PointColumn("class", "u1", plane="second", slot=3, made="classes"),
        PointColumn("cut", "u2", flag=1, made="cuts"),
        PointColumn("shelf", "u1", flag=2, made="shelves"),
        PointColumn("native_rgb", "u1", 3, plane="second", slot=0),
        PointColumn("photo_rgb", "u1", 3, plane="third", slot=0, made="photo colours"),
        PointColumn("returns", "u1", pulse=True),
        PointColumn("time", "f8"),
        PointColumn("row", "u4"),
        PointColumn("column", "u4"),
    )
}
FLAGS = ("third", 3)  # plane and slot of the flags
FIRST_BYTES = 8  # of the first plane in a node: three coordinates and the intensity, u16 each
PLANES = tuple(dict.fromkeys(["first", "second", "third", *(c.plane for c in COLUMNS.values() if c.plane)]))
STRIDE = FIRST_BYTES + 4 * (len(PLANES) - 1)  # bytes of a point in a node
NOT_FIRST, NOT_LAST = 4, 8  # flags of a return of a pulse
SHOWN = tuple(sorted(c.name for c in COLUMNS.values() if c.plane or c.flag or c.pulse))
SHADE = "shade"  # a further plane, of nodes that are asked for with a dimension


def layout() -> dict[str, Any]:
    """What the browser needs to know of the planes: ``planes`` with their names, ``stride`` (bytes of a
    point in a node), ``slots`` by column (plane, item), ``flags`` (plane, item), what ``hides`` a point in
    them, ``ramps`` by column and the plane of a ``shade``.
    """
    return {
        "planes": list(PLANES),
        "stride": STRIDE,
        "slots": {c.name: [c.plane, c.slot] for c in COLUMNS.values() if c.plane},
        "flags": list(FLAGS),
        "hides": sum(c.flag for c in COLUMNS.values()),
        "not_first": NOT_FIRST,
        "not_last": NOT_LAST,
        "shade": SHADE,
        "ramps": {c.name: c.ramp for c in COLUMNS.values() if c.ramp and c.plane},
    }


def pulse_flags(returns: np.ndarray) -> np.ndarray:
    """Flags (n,) u8 of points by which of how many returns they are."""
    number, of = returns & 15, returns >> 4
    marks = np.where(number > 1, NOT_FIRST, 0) | np.where(number < of, NOT_LAST, 0)
    return marks.astype(np.uint8)


def planes(values: Mapping[str, np.ndarray], count: int) -> list[np.ndarray]:
    """The planes after the first, (count, 4) uint8 each, of points with these column values; the flags of a
    point are the bits of the columns in ``values`` that hide it, and which return it is.
    """
    out = {name: np.zeros((count, 4), np.uint8) for name in PLANES[1:]}
    for name, column in values.items():
        known = COLUMNS.get(name)
        if known is None:
            continue
        if known.flag:
            out[FLAGS[0]][:, FLAGS[1]] |= (column != 0).astype(np.uint8) * np.uint8(known.flag)
        elif known.pulse:
            out[FLAGS[0]][:, FLAGS[1]] |= pulse_flags(column)
        elif known.plane in out:
            where = slice(known.slot, known.slot + known.width) if known.width else known.slot
            out[known.plane][:, where] = column
    return list(out.values())
