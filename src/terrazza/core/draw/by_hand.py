"""What is done to lines by hand: made parallel, square or straight, thinned, parted, joined, brought to a
crossing; arcs through three places.

Lines are vertices (n, 3) in metres; what concerns directions is done in plan, heights go along.
"""

import numpy as np

ARC_ERROR = 0.0005  # m: how far the chords of an arc may lie off it
SAME = 1e-9
FLAT = np.radians(0.05)  # lines that differ by less have no crossing to be brought to


def length(xyz: np.ndarray, closed: bool = False) -> float:
    """Length (m) of a line, or of the rim of a closed one. ``xyz`` (n, 3) m."""
    ring = np.r_[xyz, xyz[:1]] if closed else xyz
    return float(np.linalg.norm(np.diff(ring, axis=0), axis=1).sum())


def parallel(xyz: np.ndarray, closed: bool, by: float) -> np.ndarray:
    """The line ``by`` m to the left of it in plan (to the right below 0), corners where the sides meet.

    ValueError where a side of no length has no left. Vertices (n, 3) m.
    """
    ring = np.r_[xyz, xyz[:1]] if closed else xyz
    run = np.diff(ring[:, :2], axis=0)
    wide = np.linalg.norm(run, axis=1)
    if (wide < SAME).any():
        raise ValueError("two corners lie in one place")
    left = np.stack([-run[:, 1], run[:, 0]], 1) / wide[:, None]
    ends = [left[-1:], left[:1]] if closed else [left[:1], left[-1:]]
    before, after = np.r_[ends[0], left][: len(xyz)], np.r_[left, ends[1]][: len(xyz)]
    middle = before + after
    out = xyz.copy()
    out[:, :2] += 2 * by * middle / np.maximum((middle**2).sum(1), 1e-6)[:, None]
    return out


def square(xyz: np.ndarray, closed: bool) -> tuple[np.ndarray, float]:
    """The line with all sides along or across its main direction, each turned about its middle; and how far
    the farthest corner moved (m). Vertices (n, 3) m.
    """
    ring = np.r_[xyz, xyz[:1]] if closed else xyz
    run = np.diff(ring[:, :2], axis=0)
    wide = np.linalg.norm(run, axis=1)
    bearing = np.arctan2(run[:, 1], run[:, 0])
    main = np.angle((wide * np.exp(4j * bearing)).sum()) / 4
    turned = main + np.round((bearing - main) / (np.pi / 2)) * np.pi / 2
    way = np.stack([np.cos(turned), np.sin(turned)], 1)
    middle = (ring[:-1, :2] + ring[1:, :2]) / 2
    out, n = xyz.copy(), len(run)
    for k in range(len(xyz)):
        a, b = (k - 1) % n if closed or k else None, k % n if closed or k < n else None
        if a is None or b is None:
            side = b if a is None else a
            out[k, :2] = middle[side] + way[side] * (way[side] @ (xyz[k, :2] - middle[side]))
            continue
        met = crossing(middle[a], way[a], middle[b], way[b])
        if met is None:  # two sides go on in one direction: halfway between them
            foot = [middle[s] + way[s] * (way[s] @ (xyz[k, :2] - middle[s])) for s in (a, b)]
            met = (foot[0] + foot[1]) / 2
        out[k, :2] = met
    return out, float(np.linalg.norm(out - xyz, axis=1).max())


def straight(xyz: np.ndarray) -> tuple[np.ndarray, float]:
    """The two ends of the line that fits the vertices best, and how far off it the farthest lies (m).
    Vertices (n, 3), ends (2, 3) m.
    """
    middle = xyz.mean(0)
    way = np.linalg.svd(xyz - middle)[2][0]
    at = (xyz - middle) @ way
    way, at = (way, at) if at[-1] > at[0] else (-way, -at)
    off = np.linalg.norm(xyz - middle - at[:, None] * way, axis=1).max()
    return np.array([middle + at[0] * way, middle + at[-1] * way]), float(off)


def fewer(xyz: np.ndarray, closed: bool, most: float) -> np.ndarray:
    """As few of the vertices as leave none farther than ``most`` m off the line (Douglas & Peucker 1973).
    Vertices (n, 3) m.
    """
    ring = np.r_[xyz, xyz[:1]] if closed else xyz
    keep = np.zeros(len(ring), bool)
    first = int(np.linalg.norm(xyz - xyz[0], axis=1).argmax()) if closed else 0
    keep[[0, first, len(ring) - 1]] = True
    waiting = [(0, first), (first, len(ring) - 1)] if first else [(0, len(ring) - 1)]
    while waiting:
        a, b = waiting.pop()
        if b - a < 2:
            continue
        run, rest = ring[b] - ring[a], ring[a + 1 : b] - ring[a]
        t = np.clip(rest @ run / max(run @ run, SAME**2), 0, 1)
        off = np.linalg.norm(rest - t[:, None] * run, axis=1)
        if off.max() > most:
            middle = a + 1 + int(off.argmax())
            keep[middle] = True
            waiting += [(a, middle), (middle, b)]
    return ring[keep][: -1 if closed else None]


def parted(xyz: np.ndarray, closed: bool, at: int) -> list[np.ndarray]:
    """The two lines that end and begin at a vertex; of a closed one the line that begins and ends there.

    ValueError at an end, where there is nothing to part. Vertices (n, 3) m.
    """
    if closed:
        return [np.r_[xyz[at:], xyz[: at + 1]]]
    if not 0 < at < len(xyz) - 1:
        raise ValueError("a line is parted at a corner between its ends")
    return [xyz[: at + 1], xyz[at:]]


def joined(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """One line of two, over their nearest ends, which become one vertex where they lie in one place. Vertices
    (n, 3) m.
    """
    ways = [(a, b) for a in (one[::-1], one) for b in (other, other[::-1])]
    a, b = min(ways, key=lambda ab: float(np.linalg.norm(ab[0][-1] - ab[1][0])))
    if np.linalg.norm(a[-1] - b[0]) <= SAME:
        return np.r_[a[:-1], b]
    return np.r_[a, b]


def crossing(p: np.ndarray, u: np.ndarray, q: np.ndarray, v: np.ndarray) -> np.ndarray | None:
    """Where two lines in plan, through p along u and through q along v (unit), meet; None where they are as
    good as parallel. All (2,), m.
    """
    across = u[0] * v[1] - u[1] * v[0]
    if abs(across) < np.sin(FLAT):
        return None
    off = q - p
    return p + u * (off[0] * v[1] - off[1] * v[0]) / across


def brought(xyz: np.ndarray, other: np.ndarray) -> np.ndarray:
    """The line lengthened or shortened in plan, at the end that is nearer, to where its last side meets a
    side of another line (m, 3); heights go on in its own slope.  ValueError where they do not meet.
    """
    best = None
    for ends in (xyz, xyz[::-1]):
        last, run = ends[-1], ends[-1] - ends[-2]
        wide = float(np.linalg.norm(run[:2]))
        if wide < SAME:
            continue
        for a, b in zip(other[:-1], other[1:]):
            side = float(np.linalg.norm((b - a)[:2]))
            if side < SAME:
                continue
            met = crossing(last[:2], run[:2] / wide, a[:2], (b - a)[:2] / side)
            if met is None:
                continue
            beyond = float((met - last[:2]) @ run[:2]) / wide
            along = float((met - a[:2]) @ (b - a)[:2]) / side
            off = max(-along, along - side, 0.0)  # beyond the other's end
            if beyond <= -wide:
                continue
            cost = abs(beyond) + 10 * off
            if best is None or cost < best[0]:
                best = cost, np.r_[ends[:-1], [[*met, last[2] + run[2] * beyond / wide]]], ends is xyz
    if best is None:
        raise ValueError("the lines do not meet")
    return best[1] if best[2] else best[1][::-1]


def arc(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray:
    """Vertices (n, 3) of the arc from a over b to c, close enough that chords lie within ``ARC_ERROR``.

    ValueError where the three lie in a line.
    """
    u, v = b - a, c - a
    normal = np.cross(u, v)
    twice = float(normal @ normal)
    if twice < (1e-4 * np.linalg.norm(u) * np.linalg.norm(v)) ** 2 or not twice:
        raise ValueError("the three places lie in a line")
    middle = a + np.cross((u @ u) * v - (v @ v) * u, normal) / (2 * twice)
    x = (a - middle) / np.linalg.norm(a - middle)
    y = np.cross(normal / np.sqrt(twice), x)
    radius = float(np.linalg.norm(a - middle))
    angle = lambda p: float(np.arctan2((p - middle) @ y, (p - middle) @ x)) % (2 * np.pi)
    sweep = angle(c)
    step = 2 * np.arccos(max(1 - ARC_ERROR / radius, 0.0))
    turn = np.linspace(0, sweep, max(int(np.ceil(sweep / step)), 2) + 1)
    turn = np.sort(np.r_[turn, angle(b)])
    return middle + radius * (np.cos(turn)[:, None] * x + np.sin(turn)[:, None] * y)


def dimension(
    a: np.ndarray, b: np.ndarray, beside: float, way: np.ndarray | None, tall: float
) -> tuple[list[np.ndarray], np.ndarray, float] | None:
    """A dimension of what lies between two places (3,), in plan: lines (each (n, 3)) for the measure, its two
    ends and their strokes, where its text of ``tall`` m belongs (3,), and the length (m).

    It stands ``beside`` m to the left of the way from a to b, or with ``way`` (2,), a unit direction, along
    that: then only what lies along it counts.  ValueError where nothing does.
    """
    run = (b - a)[:2]
    if way is None:
        way = run / max(float(np.linalg.norm(run)), 1e-12)
    length = float(run @ way)
    if abs(length) < 1e-6:
        raise ValueError("nothing lies between the places that way")
    if length < 0:
        a, b, length = b, a, -length
    left, height = np.array([-way[1], way[0]]), max(a[2], b[2])
    across = max(left @ a[:2], left @ b[:2]) if beside >= 0 else min(left @ a[:2], left @ b[:2])
    ends = [(way @ p[:2]) * way + (across + beside) * left for p in (a, b)]
    over, stroke = np.sign(beside or 1.0) * 0.5 * tall * left, 0.4 * tall * (way + left)
    flat = [np.array(ends)]
    flat += [np.array([p[:2], end + over]) for p, end in zip((a, b), ends)]
    flat += [np.array([end - stroke, end + stroke]) for end in ends]
    text = (ends[0] + ends[1]) / 2 + 0.8 * tall * left
    return [np.c_[line, np.full(len(line), height)] for line in flat], np.r_[text, height], length
