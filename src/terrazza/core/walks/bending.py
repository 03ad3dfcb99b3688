"""A walk that drifted, fitted to stations, to other walks and to itself in short stiff pieces with smooth
joints.

The correction along the path, a small turn about the place of the scanner and a shift, is a cubic B-spline
(de Boor 1978, A Practical Guide to Splines) over the way walked.  It is found by least squares from planes
that the walk and what stays have in common, and from planes that the walk saw more than once; neighbouring
knots differ by as much as a random walk of the drift lets expect, whose size the data tell.
"""

from dataclasses import dataclass, field, replace

import numpy as np
from scipy import linalg, sparse
from scipy.sparse.linalg import splu
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid
from terrazza.core.strips.patches import Patches
from terrazza.core.walks.path import Path

SECOND = 0.3  # m of way that a second counts, so that standing still can drift too
WIDTHS = (0.5, 0.35, 0.25, 0.15, 0.1, 0.08, 0.08)  # m along the normal that patches may lie apart, by round
ALIKE = np.cos(np.radians(12.0))
NEIGHBOURS = 10  # patches of the walk that one is compared with
APART = 2  # slots between patches of the walk that are compared
SHIFT, HEADING, TILT = 0.004, 1e-3, 3e-4  # m, rad, rad for a metre of way: of a drift as usual
LOOSE_SHIFT, LOOSE_TURN = 0.5, 0.1  # m, rad: no correction is larger, or so
LEAST, MOST = 0.05, 20.0  # usual drifts
TUKEY = 4.0
FLOOR = 0.001  # m: no patch is surer
FEWEST = 30  # pairs
ENOUGH = 100.0  # pairs of one slot beyond which more of them say little more


@dataclass(frozen=True)
class Bend:
    """Corrections ``knots`` (k, 6), turn (rad) and shift (m), every ``step`` m of the way, about the places
    of a path; axes are those of the frame in which the path is given.
    """

    path: Path
    step: float
    knots: np.ndarray

    @classmethod
    def none(cls, path: Path, step: float) -> "Bend":
        """Nothing corrected yet."""
        count = int(np.ceil(way(path, path.time[-1:])[0] / step)) + 3
        return cls(path, step, np.zeros((count, 6)))

    def weights(self, time: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """First knot (n,) and weights (n, 4) of it and the next three at some times (s)."""
        u = way(self.path, time) / self.step
        k = np.minimum(u.astype(np.int64), len(self.knots) - 4)
        t = u - k
        return k, np.stack(
            [(1 - t) ** 3, 3 * t**3 - 6 * t**2 + 4, -3 * t**3 + 3 * t**2 + 3 * t + 1, t**3], 1
        ) / 6

    def at(self, time: np.ndarray) -> np.ndarray:
        """Turns and shifts (n, 6) at some times."""
        k, w = self.weights(time)
        return (self.knots[k[:, None] + np.arange(4)] * w[:, :, None]).sum(1)

    def moved(self, xyz: np.ndarray, time: np.ndarray) -> np.ndarray:
        """Points (n, 3), measured at some times (n,), where they belong."""
        told, place = self.at(time), self.path.at(time)
        return _turned(told[:, :3], xyz - place) + place + told[:, 3:]


def way(path: Path, time: np.ndarray) -> np.ndarray:
    """Metres of way (n,) until some times, a second counted as a little way of its own."""
    own = path.along + SECOND * (path.time - path.time[0])
    return np.interp(time, path.time, own)


def _turned(turn: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """(n, 3) turned by vectors (n, 3) rad (Rodrigues)."""
    angle = np.linalg.norm(turn, axis=1)
    axis = turn / np.maximum(angle, 1e-300)[:, None]
    sine, cosine = np.sin(angle)[:, None], np.cos(angle)[:, None]
    along = (axis * xyz).sum(1)[:, None]
    return xyz * cosine + np.cross(axis, xyz) * sine + axis * along * (1 - cosine)


@dataclass
class Fitted:
    """The rigid ``pose`` (4×4) and the ``bend`` about it; ``sigma`` (m) of the place at the knots; usual
    misfits (m) to what stays and of the walk to itself, ``before`` with the pose alone and ``after``;
    ``drift`` in units of a usual one, and how many pairs there were.
    """

    pose: np.ndarray
    bend: Bend
    sigma: np.ndarray
    before: tuple[float, float]
    after: tuple[float, float]
    drift: float
    pairs: tuple[int, int]


@dataclass
class Held:
    """Patches of a walk in the frame of the job with the slot of its path that each was seen from, and
    patches that stay, all facing where they were seen from.
    """

    walk: Patches
    slot: np.ndarray
    stay: Patches
    cell: float
    tree: cKDTree = field(init=False)

    def __post_init__(self) -> None:
        self.tree = cKDTree(self.stay.at) if len(self.stay.at) else None


def fit(held: Held, path: Path, step: float, width: float = WIDTHS[0]) -> Fitted | None:
    """The pose (from the job's frame into itself) and bend of a walk; None where too little holds it.

    The pose comes first, then a stiff bend, then one as loose as the data ask.
    """
    widths = [w for w in WIDTHS if w <= width] or [width]
    pose = np.eye(4)
    for reach in [*widths, widths[-1]]:
        pose = _rigid(held, pose, reach)
        if pose is None:
            return None
    walk = replace(held.walk, at=rigid.apply(pose, held.walk.at), normal=held.walk.normal @ pose[:3, :3].T)
    own = Path(path.time, rigid.apply(pose, path.xyz), path.heading)
    bend, drift, solved = Bend.none(own, step), 1.0, None
    held = Held(walk, held.slot, held.stay, held.cell)
    before = _misfits(held, bend, widths[-1])
    for reach in [r for w in widths for r in (max(w, 0.08),) * 2] + [0.08, 0.06, 0.06]:
        solved = _step(held, bend, reach, drift)
        if solved is None:
            return None
        bend, drift = replace(bend, knots=bend.knots + solved.change), solved.drift
    after = _misfits(held, bend, widths[-1])
    return Fitted(pose, bend, solved.sigma, before[0], after[0], drift, after[1])


def _pairs(
    held: Held, bend: Bend | None, pose: np.ndarray, reach: float, itself: bool
) -> tuple[list[np.ndarray] | None, np.ndarray, np.ndarray]:
    """Pairs as (index of the walk's patch, other index or -1, place (m, 3) and normal (m, 3) of what stays or
    of the other, σ (m,)), with the walk's patches where they now are.
    """
    at, normal = _now(held.walk, bend, pose)
    out = []
    if held.tree is not None:
        i, j = _beside(at, normal, held.stay, held.tree, reach, held.cell)
        sigma = np.hypot(held.walk.sigma[i], held.stay.sigma[j])
        out.append((i, np.full(len(i), -1), held.stay.at[j], held.stay.normal[j], sigma))
    if itself:
        tree = cKDTree(at)
        far, near = tree.query(
            at, k=min(NEIGHBOURS, len(at)), distance_upper_bound=float(np.hypot(held.cell, reach))
        )
        i, j = np.nonzero(np.isfinite(far))[0], near[np.isfinite(far)]
        good = (i < j) & (np.abs(held.slot[i] - held.slot[j]) >= APART)
        i, j = i[good], j[good]
        good = _alike(at[i], normal[i], at[j], normal[j], reach, held.cell)
        i, j = i[good], j[good]
        sigma = np.hypot(held.walk.sigma[i], held.walk.sigma[j])
        out.append((i, j, at[j], normal[j], sigma))
    joined = [np.concatenate(parts) for parts in zip(*out)] if out else None
    return joined, at, normal


def _now(walk: Patches, bend: Bend | None, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Middles and normals of the walk's patches as corrected so far."""
    if bend is None:
        return rigid.apply(pose, walk.at), walk.normal @ pose[:3, :3].T
    return bend.moved(walk.at, walk.time), _turned(bend.at(walk.time)[:, :3], walk.normal)


def _beside(
    at: np.ndarray, normal: np.ndarray, stay: Patches, tree: cKDTree, reach: float, cell: float
) -> tuple[np.ndarray, np.ndarray]:
    """Indices of patches, and of the nearest of those that stay to each, where the two are alike."""
    far, near = tree.query(at, distance_upper_bound=float(np.hypot(cell, reach)))
    i = np.flatnonzero(np.isfinite(far))
    j = near[i]
    good = _alike(at[i], normal[i], stay.at[j], stay.normal[j], reach, cell)
    return i[good], j[good]


def _alike(
    at: np.ndarray, normal: np.ndarray, other: np.ndarray, facing: np.ndarray, reach: float, cell: float
) -> np.ndarray:
    """Which pairs face alike, lie within reach along the normal and beside each other within a cell."""
    apart = at - other
    off = (apart * facing).sum(1)
    beside = np.linalg.norm(apart - off[:, None] * facing, axis=1)
    return ((normal * facing).sum(1) > ALIKE) & (np.abs(off) < reach) & (beside < 0.75 * cell)


def _robust(off: np.ndarray, sigma: np.ndarray) -> np.ndarray:
    """Weights (1/m²) of misfits by Tukey's biweight, by how much larger they are than σ says."""
    sigma = np.maximum(sigma, FLOOR)
    factor = max(1.4826 * float(np.median(np.abs(off / sigma))), 1.0)
    u = off / (TUKEY * factor * sigma)
    return np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0) / (factor * sigma) ** 2


def _rigid(held: Held, pose: np.ndarray, reach: float) -> np.ndarray | None:
    found, at, _ = _pairs(held, None, pose, reach, itself=False)
    if found is None or len(found[0]) < FEWEST:
        return None
    i, _, other, normal, sigma = found
    centre = at[i].mean(0)
    design = np.c_[np.cross(at[i] - centre, normal), normal]
    off = ((at[i] - other) * normal).sum(1)
    weight = _robust(off, sigma)
    hold = np.r_[np.full(3, LOOSE_TURN**-2.0), np.full(3, LOOSE_SHIFT**-2.0)]
    step = np.linalg.solve(design.T @ (design * weight[:, None]) + np.diag(hold), -design.T @ (weight * off))
    turn = rigid.rotation_from(step[:3])
    return rigid.make(turn, centre + step[3:] - turn @ centre) @ pose


@dataclass
class _Solved:
    change: np.ndarray
    sigma: np.ndarray
    drift: float


def _step(held: Held, bend: Bend, reach: float, drift: float) -> _Solved | None:
    """One step of the knots, their σ and how large the drift is."""
    found, at, _ = _pairs(held, bend, np.eye(4), reach, itself=True)
    if found is None or (found[1] < 0).sum() < FEWEST:
        return None
    i, j, other, normal, sigma = found
    off = ((at[i] - other) * normal).sum(1)
    weight = _robust(off, sigma)
    weight /= _crowding(held.slot[i])
    design = _design(bend, held.walk, at, i, normal)
    both = np.flatnonzero(j >= 0)
    design = design - _design(bend, held.walk, at, j[both], normal[both], both, len(i))
    knots = len(bend.knots)
    usual = np.array([TILT, TILT, HEADING, SHIFT, SHIFT, SHIFT]) * np.sqrt(bend.step)
    chain = sparse.diags_array(
        [-np.ones(knots - 1), np.ones(knots - 1)], offsets=[0, 1], shape=(knots - 1, knots)
    )
    chain = sparse.kron(chain, sparse.diags_array(1 / usual), format="csr")
    loose = np.tile(np.r_[np.full(3, LOOSE_TURN**-2.0), np.full(3, LOOSE_SHIFT**-2.0)], knots)
    state = bend.knots.ravel()
    normal_matrix = (
        design.T @ design.multiply(weight[:, None]) + chain.T @ chain / drift**2 + sparse.diags_array(loose)
    ).tocsc()
    right = -design.T @ (weight * off) - chain.T @ (chain @ state) / drift**2 - loose * state
    solver = splu(normal_matrix)
    change = solver.solve(np.asarray(right))
    inverse = solver.solve(np.eye(len(state)))
    joints = chain @ (state + change)
    known = 1 - np.einsum("ij,ji->i", chain @ inverse, chain.T.toarray()) / drift**2
    size = float(np.sqrt((joints**2).sum() / max(known.clip(0).sum(), 1.0)))
    shifts = inverse.reshape(knots, 6, knots, 6)[np.arange(knots), 3:, np.arange(knots), 3:]
    return _Solved(
        change.reshape(knots, 6),
        np.sqrt(np.linalg.eigvalsh(shifts)[:, -1].clip(0)),
        float(np.clip(size, LEAST, MOST)),
    )


def _crowding(slot: np.ndarray) -> np.ndarray:
    """By how much the pairs of one slot together count too much: their errors have a part in common (a wall
    that is not flat, noise of the trajectory), so beyond some dozens more pairs say little more.
    """
    return np.maximum(np.bincount(slot)[slot] / ENOUGH, 1.0)


def _design(
    bend: Bend,
    walk: Patches,
    at: np.ndarray,
    index: np.ndarray,
    normal: np.ndarray,
    rows: np.ndarray | None = None,
    count: int | None = None,
) -> sparse.csr_array:
    """(m, 6 · knots) how misfits of patches change with the knots."""
    k, w = bend.weights(walk.time[index])
    arm = at[index] - bend.path.at(walk.time[index])
    six = np.concatenate([np.cross(arm, normal), normal], 1)
    values = w[:, :, None] * six[:, None]
    columns = 6 * (k[:, None, None] + np.arange(4)[:, None]) + np.arange(6)
    rows = np.arange(len(index)) if rows is None else rows
    row = np.broadcast_to(rows[:, None, None], values.shape)
    shape = (len(index) if count is None else count, 6 * len(bend.knots))
    return sparse.csr_array((values.ravel(), (row.ravel(), columns.ravel())), shape=shape)


def _misfits(held: Held, bend: Bend, reach: float) -> tuple[tuple[float, float], tuple[int, int]]:
    """Usual misfit (m) to what stays and of the walk to itself, and how many pairs each has."""
    found, at, _ = _pairs(held, bend, np.eye(4), max(reach, 0.15), itself=True)
    i, j, other, normal, _ = found
    off = np.abs(((at[i] - other) * normal).sum(1))
    out, many = [], []
    for mine in (j < 0, j >= 0):
        out.append(1.4826 * float(np.median(off[mine])) if mine.any() else 0.0)
        many.append(int(mine.sum()))
    return tuple(out), tuple(many)


def beside(walk: Patches, stay: Patches, cell: float, reach: float = 0.3, on: float = 0.03) -> float:
    """Of the patches of a walk that face alike and lie beside one that stays, within ``reach`` m along its
    normal, the share that lies on it, in the direction in which the fewest do; 1 where there is none.
    """
    i, j = _beside(walk.at, walk.normal, stay, cKDTree(stay.at), reach, cell)
    normal = stay.normal[j]
    off = np.abs(((walk.at[i] - stay.at[j]) * normal).sum(1))
    every, lying = normal.T @ normal, normal[off < on].T @ normal[off < on]
    return float(linalg.eigh(lying, every + 1e-6 * np.eye(3), eigvals_only=True)[0]) if len(off) else 1.0
