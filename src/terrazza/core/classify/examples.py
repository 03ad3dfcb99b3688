"""Classes learned from examples: what each thinned point looks like at several scales, and a forest of
decision trees (Breiman 2001; scikit-learn's) that is grown on those that have a class.

Of local shape: Weinmann et al. 2015, ISPRS Journal of Photogrammetry and Remote Sensing 105 (features of the
eigenvalues of neighbourhoods).
"""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree
from sklearn.ensemble import RandomForestClassifier
from sklearn.metrics import confusion_matrix

from terrazza.core.classify import shape as shapes
from terrazza.core.geometry import voxels

SCALES = (1.0, 2.5, 6.0)  # cells
WINDOWS = (2.0, 8.0)  # m, in plan: of lowest and highest
TREES, LEAF, DEEP = 60, 3, 18
MOST = 8_000  # examples of a class that are learned from
ROUNDS = 1  # of asking the neighbours
BACK = 0.25  # share of the examples kept back to be asked about
SHAPE = ("line", "plane", "scatter", "upright", "rise")


@dataclass(frozen=True)
class Look:
    """What points look like: ``values`` (n, f) f32, the f ``names``, and the neighbours (n, k) of each."""

    values: np.ndarray
    names: tuple[str, ...]
    near: np.ndarray


def look(xyz: np.ndarray, cell: float, own: dict[str, np.ndarray]) -> Look:
    """Of points (n, 3), m, z up, one to a cell of ``cell``; ``own`` are values (n,) of theirs by name."""
    columns, names, near = [], [], np.zeros((0, 1), np.int64)
    for scale in SCALES:
        size = cell * scale
        first = voxels.one_per_cell(xyz, size) if scale > 1 else np.arange(len(xyz))
        coarse = shapes.shape(xyz[first], size)
        near = coarse.near if scale == 1 else near
        found = _shape(coarse)
        back = np.arange(len(xyz)) if scale == 1 else cKDTree(xyz[first]).query(xyz, workers=-1)[1]
        columns.append(found[back])
        names += [f"{n} {scale:g}" for n in SHAPE]
    for wide in WINDOWS:
        low, high = _extremes(xyz, wide, max(cell, wide / 8))
        columns.append(np.stack([xyz[:, 2] - low, high - xyz[:, 2]], 1))
        names += [f"over {wide:g}", f"under {wide:g}"]
    for name, values in own.items():
        columns.append(np.asarray(values, float).reshape(len(xyz), -1))
        names += [name] if columns[-1].shape[1] == 1 else [f"{name} {k}" for k in range(columns[-1].shape[1])]
    return Look(np.concatenate(columns, 1).astype(np.float32), tuple(names), near)


def _shape(found: shapes.Shape) -> np.ndarray:
    """(n, 5): how far a neighbourhood is a line, a plane, neither; how its normal stands; how it rises."""
    small, middle, large = np.maximum(found.spread, 1e-12).T
    rise = np.ptp(found.xyz[found.near][:, :, 2], axis=1)
    return np.stack(
        [
            (large - middle) / large,
            (middle - small) / large,
            small / large,
            np.abs(found.normals[:, 2]),
            rise,
        ],
        1,
    )


def _extremes(xyz: np.ndarray, wide: float, cell: float) -> tuple[np.ndarray, np.ndarray]:
    """(n,) lowest and highest height within ``wide`` (m) in plan, by cells of ``cell``."""
    plan = np.floor((xyz[:, :2] - xyz[:, :2].min(0)) / cell).astype(np.int64)
    low, high = np.full(plan.max(0) + 1, np.inf), np.full(plan.max(0) + 1, -np.inf)
    np.minimum.at(low, tuple(plan.T), xyz[:, 2])
    np.maximum.at(high, tuple(plan.T), xyz[:, 2])
    size = 2 * int(np.ceil(wide / cell)) + 1
    low = ndimage.minimum_filter(low, size, mode="constant", cval=np.inf)
    high = ndimage.maximum_filter(high, size, mode="constant", cval=-np.inf)
    return low[tuple(plan.T)], high[tuple(plan.T)]


@dataclass
class Taught:
    """What was learned: the forest, the names of what it looks at, its ``codes``, and ``table`` (k, k), where
    row is what kept-back examples are and column what they were taken for.
    """

    forest: RandomForestClassifier
    names: tuple[str, ...]
    codes: np.ndarray
    table: np.ndarray

    def ask(self, found: Look) -> tuple[np.ndarray, np.ndarray]:
        """Codes (n,) u8 and how sure they are (n,) f32, 0 to 1: of each point together with its neighbours,
        since what lies among roof points is seldom a leaf.
        """
        rows = range(0, len(found.values), 200_000)
        share = np.concatenate([self.forest.predict_proba(found.values[k : k + 200_000]) for k in rows])
        share = share.astype(np.float32)
        for _ in range(ROUNDS):
            share = np.concatenate([share[found.near[k : k + 200_000]].mean(1) for k in rows])
        return self.codes[share.argmax(1)], share.max(1)


def teach(
    values: np.ndarray, codes: np.ndarray, groups: np.ndarray, names: tuple[str, ...], seed: int = 1
) -> Taught:
    """Learn from examples: ``values`` (n, f), ``codes`` (n,) of at least two classes, ``groups`` (n,) of what
    was given together.  A quarter is kept back and asked about first (whole groups where each class has
    several, since neighbours are alike), then all are learned from.
    """
    rng = np.random.default_rng(seed)
    use = np.concatenate([_some(np.flatnonzero(codes == c), rng) for c in np.unique(codes)])
    values, codes, groups = values[use], codes[use], groups[use]
    held = _held_back(codes, groups, rng)
    kinds = np.unique(codes)
    first = _grown(values[~held], codes[~held], seed)
    table = confusion_matrix(codes[held], first.predict(values[held]), labels=kinds)
    return Taught(_grown(values, codes, seed), names, kinds.astype(np.uint8), table)


def _some(index: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    return rng.choice(index, MOST, replace=False) if len(index) > MOST else index


def _grown(values: np.ndarray, codes: np.ndarray, seed: int) -> RandomForestClassifier:
    forest = RandomForestClassifier(
        TREES, max_depth=DEEP, min_samples_leaf=LEAF, n_jobs=-1, random_state=seed
    )
    return forest.fit(values, codes)


def _held_back(codes: np.ndarray, groups: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    held = np.zeros(len(codes), bool)
    for code in np.unique(codes):
        mine = np.flatnonzero(codes == code)
        sets = np.unique(groups[mine])
        if len(sets) >= 3:
            held[mine] = np.isin(groups[mine], rng.choice(sets, max(int(BACK * len(sets)), 1), replace=False))
        else:
            held[rng.choice(mine, max(int(BACK * len(mine)), 1), replace=False)] = True
    return held
