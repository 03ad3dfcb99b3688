"""Pixels that touch, as patches, against a general-purpose library on a picture that is unrolled twice."""

import numpy as np
import pytest
from scipy import ndimage

from terrazza.core.register.connected import connected
from terrazza.core.register.picture import COLUMNS, EDGES, ROWS


@pytest.mark.parametrize("share", [0.0002, 0.02, 0.12, 0.4, 0.9])
def test_patches_are_those_of_a_closing_and_a_labelling(share):
    rng = np.random.default_rng(int(share * 1e4))
    seen = ndimage.uniform_filter(rng.random((ROWS, COLUMNS)), 3, mode="wrap")
    row, column = np.nonzero(seen > np.quantile(seen, 1 - share))
    seam = rng.integers(20, 160, 6)  # some lie across the seam
    row, column = np.r_[row, seam, seam], np.r_[column, [0] * 6, [COLUMNS - 1] * 6]
    jumps = rng.integers(0, 8, (ROWS, COLUMNS)).astype(np.uint8)
    found = connected(row.astype(np.int16), column.astype(np.int16), jumps)
    mask = np.zeros((ROWS, COLUMNS), bool)
    mask[row, column] = True
    wide = np.pad(np.pad(mask, ((2, 2), (0, 0))), ((0, 0), (2, 2)), mode="wrap")
    closed = ndimage.binary_closing(wide, np.ones((3, 3)))[2:-2, 2:-2] | mask
    assert np.array_equal(found.label > 0, closed)
    labels, count = ndimage.label(closed, np.ones((3, 3)))
    for i in np.flatnonzero((labels[:, 0] > 0) & (labels[:, -1] > 0)):
        labels[labels == labels[i, -1]] = labels[i, 0]
    pairs = np.unique(np.stack([labels[closed], found.label[closed]]), axis=1)
    assert len(set(pairs[0])) == len(set(pairs[1])) == pairs.shape[1]  # one name each for the same pixels
    for bit, (axis, way) in enumerate(EDGES):
        edge = closed & ~np.roll(closed, -way, axis)
        counts = np.bincount(found.label[edge], minlength=found.edges.shape[1])
        assert np.array_equal(found.edges[bit], counts)
        there = np.bincount(found.label[edge], (jumps[edge] >> bit) & 1, found.edges.shape[1])
        assert np.array_equal(found.jumps[bit], there)
    assert (found.loose >= 0).all() and (found.loose <= 1).all()
