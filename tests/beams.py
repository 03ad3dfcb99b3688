"""A scanner whose beam has a width, for places of ``tests.places``: mixed pixels with their truth, mirrors,
and scans written to E57.
"""

from dataclasses import dataclass, field

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.formats import e57_writer
from tests.boxes import Place, cast


@dataclass
class Scanner:
    """Grid (rows, columns; elevations in degrees), beam (m at the instrument, rad), noise (m at 0 and 40 m
    more of it each); ``rays`` across a beam.
    """

    rows: int = 300
    columns: int = 720
    low: float = -62.0
    high: float = 75.0
    beam: float = 0.005
    spread: float = 0.0006
    noise: float = 0.002
    rays: int = 5


@dataclass
class Seen:
    """(rows, columns) of one scan: range (m, 0 for none), how far a point is from the nearest surface that
    its beam met (m), from the nearest to the farthest of these (m), and whether it is the image in a mirror.
    """

    r: np.ndarray
    away: np.ndarray
    wide: np.ndarray
    image: np.ndarray
    directions: np.ndarray = field(repr=False)

    @property
    def mixed(self) -> np.ndarray:
        return (self.away > 0.05) & (self.r > 0)

    @property
    def good(self) -> np.ndarray:
        """Points whose whole beam met one thing."""
        return (self.away < 0.02) & (self.wide < 0.05) & (self.r > 0)


def met_by(cast, ways: np.ndarray, beam: float, spread: float, rays: int = 5) -> tuple[np.ndarray, ...]:
    """What beams along ``ways`` (n, 3) measure: range (n,) m, infinite for none, how far that is from the
    nearest surface that the beam met, from the nearest to the farthest of these, and the range along its
    middle; ``beam`` m wide at the instrument and ``spread`` rad, of ``rays`` by ``rays`` thin ones.
    """
    middle = cast(ways)
    turn = np.arctan2(ways[:, 1], ways[:, 0])
    u = np.stack([-np.sin(turn), np.cos(turn), 0 * turn], -1)
    v = np.cross(ways, u)
    half = (beam / np.where(np.isfinite(middle), middle, 20.0) + spread) / 2
    met, weight = [middle], [1.0]
    for a, b in np.argwhere(np.ones((rays, rays))) * 2 / (rays - 1) - 1 if rays > 1 else ():
        if a * a + b * b <= 1.01:
            way = ways + (a * half)[:, None] * u + (b * half)[:, None] * v
            met.append(cast(way / np.linalg.norm(way, axis=1)[:, None]))
            weight.append(np.exp(-2 * (a * a + b * b)))
    met, weight = np.stack(met), np.array(weight)[:, None] * np.isfinite(met)
    finite = np.where(np.isfinite(met), met, 0)
    none = weight.sum(0) == 0
    r = np.where(none, np.inf, (finite * weight).sum(0) / np.maximum(weight.sum(0), 1e-9))
    away = np.where(np.isfinite(met), np.abs(met - np.where(none, 0, r)), np.inf).min(0)
    wide = np.where(np.isfinite(met), met, -np.inf).max(0) - met.min(0)
    return r, away, wide, middle


def look(place: Place, origin, scanner: Scanner, seed: int, mirrors=(), first: bool = False) -> Seen:
    """What a scanner at ``origin`` sees.  ``mirrors`` are (axis, at, from, to, from, to, share reflected,
    share let through) upright or level rectangles; ``first`` casts a thin beam.
    """
    rng, origin = np.random.default_rng(seed), np.asarray(origin, float)
    up = np.radians(
        scanner.low + (scanner.high - scanner.low) * (np.arange(scanner.rows) + 0.5) / scanner.rows
    )
    turn = 2 * np.pi * np.arange(scanner.columns) / scanner.columns
    up, turn = np.meshgrid(up, turn, indexing="ij")
    ways = np.stack([np.cos(up) * np.cos(turn), np.cos(up) * np.sin(turn), np.sin(up)], -1).reshape(-1, 3)
    parts = [np.array([b[k] for b in place.boxes], float).reshape(-1, 3) for k in (0, 1)]
    arrays = (
        *parts,
        *(
            np.array(v, float).reshape(-1, n)
            for v, n in zip((place.posts, place.balls, place.waves), (5, 4, 4))
        ),
    )
    through = lambda o, w: cast(np.asarray(o, float), np.ascontiguousarray(w), *arrays)
    r, away, wide, middle = met_by(
        lambda w: through(origin, w), ways, scanner.beam, scanner.spread, 1 if first else scanner.rays
    )
    image = np.zeros(len(ways), bool)
    for axis, at, a0, a1, b0, b1, back, on in mirrors:
        reach = (at - origin[axis]) / np.where(np.abs(ways[:, axis]) < 1e-9, 1e-9, ways[:, axis])
        hit, others = origin + reach[:, None] * ways, [k for k in range(3) if k != axis]
        mine = (reach > 0) & (reach < np.where(np.isfinite(middle), middle, np.inf) + 0.2)
        for k, (low, high) in zip(others, ((a0, a1), (b0, b1))):
            mine &= (hit[:, k] > low) & (hit[:, k] < high)
        chance = rng.random(len(ways))
        mirrored, surface = mine & (chance < back), mine & (chance > back + on)
        bent = ways[mirrored].copy()
        bent[:, axis] *= -1
        r[mirrored] = reach[mirrored] + [through(o, w[None])[0] for o, w in zip(hit[mirrored], bent)]
        r[surface], image[mirrored] = reach[surface], True
        away[mine], wide[mine] = 0, 0
    r = r + rng.normal(0, scanner.noise, len(r)) * (1 + np.where(np.isfinite(r), r, 0) / 40)
    r[~np.isfinite(r) | (r > 70)] = 0
    shape = up.shape
    return Seen(r.reshape(shape), away.reshape(shape), wide.reshape(shape), image.reshape(shape), ways)


def write(path, scans: list[Seen], origins, seed: int = 0) -> None:
    """An E57 of structured, posed scans, each with a heading of its own."""
    rng = np.random.default_rng(seed)
    with e57_writer.Writer(str(path)) as out:
        for number, (seen, origin) in enumerate(zip(scans, origins), 1):
            row, column = np.nonzero(seen.r > 0)
            pose = rigid.make(rigid.about_z(rng.uniform(-3, 3)), np.array(origin, float))
            xyz = (seen.directions * seen.r.reshape(-1, 1))[(seen.r > 0).ravel()] @ pose[:3, :3]
            data = {"xyz": xyz, "row": row.astype(np.uint32), "column": column.astype(np.uint32)}
            out.add_scan(f"S{number}", [data], ["xyz", "row", "column"], pose=pose, grid=seen.r.shape)


def gone(cloud, shape, number: int) -> np.ndarray:
    """(rows, columns) mask of what a cut has taken of a structured scan."""
    out = np.zeros(shape, bool)
    cut = np.asarray(cloud.values("cut", 0)) == number
    out[np.asarray(cloud.read("row"))[cut], np.asarray(cloud.read("column"))[cut]] = True
    return out


def person(x: float, y: float, z: float = 0.0) -> list:
    """Boxes of somebody who stands."""
    parts = ((0.12, 0.12, 0, 0.85), (0.2, 0.15, 0.85, 1.5), (0.1, 0.1, 1.5, 1.75))
    return [([x - a, y - b, z + lo], [x + a, y + b, z + hi]) for a, b, lo, hi in parts]
