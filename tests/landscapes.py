"""Truth by kind: what points of simulated rooms are, and sampled streets with houses, plants, poles and
wires.
"""

import numpy as np


def kind_of_room(place, xyz: np.ndarray) -> np.ndarray:
    """(n,) 64 floor, 65 ceiling, 66 wall, 67 furniture of points of ``places.building``; 0 off all of it."""
    code, best = np.zeros(len(xyz), np.uint8), np.full(len(xyz), 0.03)
    for number, (low, high) in enumerate(place.boxes):
        low, high = np.array(low), np.array(high)
        thick = min(high[0] - low[0], high[1] - low[1])
        kind = {0: 64, 1: 65}.get(number, 66 if min(abs(thick - 0.12), abs(thick - 0.3)) < 1e-6 else 67)
        out = np.linalg.norm(np.maximum(np.maximum(low - xyz, xyz - high), 0), axis=1)
        off = np.where(out > 0, out, np.maximum(np.minimum(xyz - low, high - xyz).min(1), 0))
        code[off < best] = kind
        best = np.minimum(best, off)
    return code


def turned(angle: float) -> np.ndarray:
    return np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]])


class Sampled:
    """Points with classes as they are put together."""

    def __init__(self, rng, dense: float, side: float):
        self.rng, self.dense, self.side = rng, dense, side
        self.slope, self.parts, self.codes, self.many = rng.normal(0, 0.05, 2), [], [], []

    def ground(self, xy):
        return xy @ self.slope + 0.6 * np.sin(xy[:, 0] / 15) * np.cos(xy[:, 1] / 18)

    def put(self, xyz, code, many=0.0):
        self.parts.append(xyz)
        self.codes.append(np.full(len(xyz), code, np.uint8))
        self.many.append(self.rng.random(len(xyz)) < many)

    def amount(self, area: float) -> int:
        return max(int(area * self.dense), 4)

    def house(self, at, sides, turn, height, pitch):
        rng, frame = self.rng, turned(turn)
        base = self.ground(at[None])[0]
        q = rng.uniform(-0.5, 0.5, (self.amount(sides.prod()), 2)) * sides
        self.put(np.c_[q @ frame.T + at, base + height + pitch * (sides[1] / 2 - np.abs(q[:, 1]))], 6)
        for axis in (0, 1):
            for side in (-0.5, 0.5):
                n = self.amount(sides[1 - axis] * height)
                q = np.zeros((n, 2))
                q[:, axis], q[:, 1 - axis] = side * sides[axis], rng.uniform(-0.5, 0.5, n) * sides[1 - axis]
                z = rng.uniform(0, height, n)
                window = (np.abs(q[:, 1 - axis] % 2.5 - 1.2) < 0.5) & (np.abs(z % 2.8 - 1.6) < 0.6)
                q[:, axis] -= np.sign(side) * 0.15 * window
                self.put(np.c_[q @ frame.T + at, base + z], 6)

    def tree(self, at, radius, height):
        rng, base = self.rng, self.ground(at[None])[0]
        n = self.amount(10 * radius**2)
        way = rng.normal(size=(n, 3))
        way /= np.linalg.norm(way, axis=1)[:, None]
        crown = way * radius * rng.uniform(0.5, 1, (n, 1)) * [1, 1, 1.2] + [*at, base + height]
        self.put(crown[crown[:, 2] > base + 0.4], 5, 0.6)
        self.post(at, 0.15, max(height - radius, 0.2), 5)

    def post(self, at, radius, height, code):
        n = self.amount(2 * np.pi * radius * height)
        turn, base = self.rng.uniform(0, 2 * np.pi, n), self.ground(at[None])[0]
        z = base + self.rng.uniform(0, height, n)
        self.put(np.c_[at[0] + radius * np.cos(turn), at[1] + radius * np.sin(turn), z], code)

    def wire(self, start, end):
        share = self.rng.random((int(np.linalg.norm(end - start) * 25), 1))
        xyz = start + share * (end - start)
        xyz[:, 2] -= 4 * share[:, 0] * (1 - share[:, 0])
        self.put(xyz, 14)


def street(rng, dense: float = 120.0, side: float = 44.0):
    """(n, 3) points over sloping ground, their classes 2, 5, 6, 14, 69, which are of several returns."""
    made, houses = Sampled(rng, dense, side), []
    while len(houses) < 4:
        at, sides = rng.uniform(8, side - 8, 2), rng.uniform(6, 11, 2)
        if all(np.linalg.norm(at - h[0]) > max(sides.max(), h[1].max()) * 1.1 + 3 for h in houses):
            houses.append((at, sides, rng.uniform(0, np.pi)))
            made.house(*houses[-1], rng.uniform(3, 7), rng.uniform(0.2, 0.9))
    xy = rng.uniform(0, side, (made.amount(side * side), 2))
    free = np.ones(len(xy), bool)
    for at, sides, turn in houses:
        free &= ~(np.abs((xy - at) @ turned(turn)) < sides / 2).all(1)
    made.put(np.c_[xy, made.ground(xy)][free], 2)
    away = lambda p, d: all(np.linalg.norm(p - h[0]) > h[1].max() * 0.72 + d for h in houses)
    for p in rng.uniform(3, side - 3, (60, 2)):
        if away(p, 2.0) and len(made.parts) < 60:
            made.tree(p, rng.uniform(1.0, 2.6), rng.uniform(3, 9))
    tops = []
    for k in range(4):
        p = np.array([4 + k * side / 4.5, side / 2 + rng.normal(0, 2)])
        if away(p, 0.8):
            made.post(p, 0.08, 7.0, 69)
            tops.append(np.append(p, made.ground(p[None])[0] + 7.0))
    for a, b in zip(tops, tops[1:]):
        made.wire(a, b)
    xyz = np.concatenate(made.parts)
    return xyz + rng.normal(0, 0.004, xyz.shape), np.concatenate(made.codes), np.concatenate(made.many)
