"""An invented world for the simulated instruments: primitives, materials and a box tree over them.

Primitives are rows of a float table (one layout per kind, see the constants of
``tracing``); a ``Scene`` is built once and is read-only afterwards.  Lengths in
metres, z up.
"""

from dataclasses import dataclass, field

import numpy as np

QUAD, CYLINDER, BALL, FOLIAGE = 0, 1, 2, 3

# materials: what a surface looks like and how it answers a laser
(
    STONE,
    PLASTER,
    TIMBER,
    TILE,
    EARTH,
    COBBLE,
    KERB,
    PAINT,
    IRON,
    LEAF,
    CLAY,
    WATER,
    GLASS,
    BOARD,
    WHITE,
    CLOTH,
    GRASS,
    BARK,
    MIRROR,
) = range(19)

# displacement styles: unevenness of a face along its normal
FLAT, UNDULATING, DRYSTONE, COBBLED, HEWN = range(5)
AMPLITUDE = np.array([0.0, 0.03, 0.022, 0.008, 0.002])

ALWAYS = np.uint64(0xFFFFFFFFFFFFFFFF)
WIDTH = 20


@dataclass
class Scene:
    """Primitives under construction; ``finish`` turns them into arrays and a box tree."""

    rows: list[tuple] = field(default_factory=list)

    def _add(self, kind, values, low, high, material, code, style, epochs, moved):
        table = np.zeros(WIDTH)
        table[: len(values)] = values
        pad = AMPLITUDE[style] + 1e-4
        self.rows.append(
            (kind, table, np.asarray(low) - pad, np.asarray(high) + pad, material, code, style, epochs, moved)
        )

    def quad(
        self, origin, u, v, material, code, style=FLAT, hole=None, triangle=False, epochs=ALWAYS, moved=False
    ):
        """A rectangle (or, cut along its diagonal, a triangle) spanned by ``u`` and ``v``, optionally with a
        round hole.

        ``hole`` is (distance along u, distance along v, radius).
        """
        o, u, v = (np.asarray(a, float) for a in (origin, u, v))
        lu, lv = np.linalg.norm(u), np.linalg.norm(v)
        n = np.cross(u, v)
        corners = np.array([o, o + u, o + v] + ([] if triangle else [o + u + v]))
        values = [
            *o,
            *(u / lu),
            *(v / lv),
            *(n / np.linalg.norm(n)),
            lu,
            lv,
            *(hole or (0, 0, 0)),
            float(triangle),
        ]
        self._add(QUAD, values, corners.min(0), corners.max(0), material, code, style, epochs, moved)

    def box(
        self,
        low,
        high,
        material,
        code,
        style=FLAT,
        yaw=0.0,
        about=None,
        faces="xXyYzZ",
        epochs=ALWAYS,
        moved=False,
    ):
        """An upright box between two corners, turned by ``yaw`` about its middle (or ``about``); ``faces``
        picks sides.
        """
        low, high = np.asarray(low, float), np.asarray(high, float)
        c, s = np.cos(yaw), np.sin(yaw)
        turn = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        mid = np.asarray(about, float) if about is not None else np.array([*(low + high)[:2] / 2, 0.0])
        d = high - low
        x, y, z = np.eye(3) * d
        sides = {
            "x": (low, z, y),
            "X": (low + x, y, z),
            "y": (low, x, z),
            "Y": (low + y, z, x),
            "z": (low, y, x),
            "Z": (low + z, x, y),
        }
        for f in faces:
            o, u, v = sides[f]
            self.quad(
                turn @ (o - mid) + mid, turn @ u, turn @ v, material, code, style, epochs=epochs, moved=moved
            )

    def cylinder(
        self, base, axis, radius, material, code, facing=None, caps=True, epochs=ALWAYS, moved=False
    ):
        """A tube from ``base`` along ``axis``; with ``facing`` only the half on that side of the axis (a
        vault).
        """
        base, axis = np.asarray(base, float), np.asarray(axis, float)
        length = np.linalg.norm(axis)
        w = axis / length
        reach = radius * np.sqrt(np.clip(1 - w**2, 0, 1))
        ends = np.array([base, base + axis])
        values = [
            *base,
            *w,
            length,
            radius,
            *(facing if facing is not None else (0, 0, 0)),
            float(facing is not None),
            float(caps),
        ]
        self._add(
            CYLINDER, values, ends.min(0) - reach, ends.max(0) + reach, material, code, FLAT, epochs, moved
        )

    def ball(self, centre, radius, material, code, epochs=ALWAYS, moved=False):
        c = np.asarray(centre, float)
        self._add(BALL, [*c, radius], c - radius, c + radius, material, code, FLAT, epochs, moved)

    def foliage(self, centre, radii, free_path, code, material=LEAF):
        """Leaves scattered through an ellipsoid; a ray meets one after ``free_path`` metres on average."""
        c, r = np.asarray(centre, float), np.asarray(radii, float)
        self._add(FOLIAGE, [*c, *r, 1.0 / free_path], c - r, c + r, material, code, FLAT, ALWAYS, False)

    def finish(self) -> "World":
        kind, table, low, high, material, code, style, epochs, moved = zip(*self.rows)
        low, high = np.array(low), np.array(high)
        order, tree = _box_tree(low, high)
        pick = lambda a, t: np.array(a, t)[order]
        return World(
            kind=pick(kind, np.int8),
            table=np.array(table)[order],
            material=pick(material, np.int16),
            code=pick(code, np.uint8),
            style=pick(style, np.int8),
            epochs=pick(epochs, np.uint64),
            moved=pick(moved, np.bool_),
            low=low[order],
            high=high[order],
            tree=tree,
        )


@dataclass(frozen=True)
class World:
    """A finished scene: one array per property of its primitives, in the order of the box tree's leaves."""

    kind: np.ndarray
    table: np.ndarray
    material: np.ndarray
    code: np.ndarray
    style: np.ndarray
    epochs: np.ndarray
    moved: np.ndarray
    low: np.ndarray
    high: np.ndarray
    tree: np.ndarray

    def arrays(self):
        return self.kind, self.table, self.style, self.epochs, self.tree


def _box_tree(low, high, leaf=3):
    """A binary tree of boxes by splitting at the median centre.

    Returns the primitive order and an (n, 8) table of low, high, a, b: for an
    inner node a and b are its children; for a leaf a = -(first + 1), b = count.
    """
    centre = (low + high) / 2
    order, nodes = [], []

    def build(index):
        me = len(nodes)
        nodes.append(None)
        lo, hi = low[index].min(0), high[index].max(0)
        if len(index) <= leaf:
            nodes[me] = (*lo, *hi, -(len(order) + 1), len(index))
            order.extend(index)
        else:
            spread = centre[index].max(0) - centre[index].min(0)
            ranked = index[np.argsort(centre[index, np.argmax(spread)], kind="stable")]
            half = len(ranked) // 2
            a, b = build(ranked[:half]), build(ranked[half:])
            nodes[me] = (*lo, *hi, a, b)
        return me

    build(np.arange(len(low)))
    return np.array(order), np.array(nodes, float)
