"""Placing scans of what is built of meshes, by a scanner with mixed pixels: what is placed without doubt is
right, and mixed pixels contradict nothing.
"""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import contradiction, plan_match, search, surface
from terrazza.core.register.picture import COLUMNS, PIXEL, ROWS, Picture
from tests import built, meshes, places
from tests.core.test_placing import errors


def test_the_caster_of_meshes_sees_what_that_of_boxes_sees():
    rng = np.random.default_rng(1)
    boxes = [(low := rng.uniform(-6, 6, 3), low + rng.uniform(0.5, 3, 3)) for _ in range(12)]
    mesh = meshes.Mesh()
    for low, high in boxes:
        mesh.block(*(low + high)[:2] / 2, low[2], high[2], *(high - low)[:2])
    place, origin = places.Place(boxes), np.array([8.0, 8.0, 0.0])
    rays = rng.normal(size=(3000, 3)) - 0.1 * origin
    rays /= np.linalg.norm(rays, axis=1)[:, None]
    seen, expected = mesh.clear()(origin, rays), places.cast(origin, rays, *place.solids(boxes))
    assert np.isfinite(expected).sum() > 300
    # rays along an edge may miss it
    assert (np.isclose(seen, expected) | (np.isinf(seen) & np.isinf(expected))).mean() > 0.999


def _pictured(ranges: np.ndarray) -> Picture:
    """The picture of ranges (rows, columns) m, one a pixel; NaN where there is nothing."""
    row, column = np.nonzero(np.isfinite(ranges))
    up = (row + 0.5) * PIXEL - np.pi / 2
    way = (column + 0.5) * PIXEL - np.pi
    rays = np.stack([np.cos(up) * np.cos(way), np.cos(up) * np.sin(way), np.sin(up)], 1)
    return Picture.of(rays * ranges[row, column][:, None])


@pytest.mark.parametrize("thing", ["mixed", "pole", "edge", "floor", "leaves"])
def test_pixels_that_span_an_edge_are_alone_and_thin_or_flat_things_and_leaves_are_not(thing):
    rng = np.random.default_rng(2)
    ranges = np.full((ROWS, COLUMNS), 8.0)
    down = np.arange(ROWS) < 80
    where = np.zeros(ranges.shape, bool)
    if thing == "floor":  # seen as flat as it gets: rows far apart
        up = (np.arange(ROWS) + 0.5) * PIXEL - np.pi / 2
        ranges[down] = (1.5 / np.sin(-up[down]))[:, None]
        where[down] = True
    elif thing == "leaves":
        where[60:120, 60:100] = True
        ranges[where] = rng.uniform(3.0, 7.0, 2400)
    else:
        where[60:120, 100] = True
        ranges[:, 101:] = 3.0 if thing == "mixed" else 8.0
        ranges[where] = rng.uniform(3.3, 7.7, 60) if thing == "mixed" else 5.0
        ranges[60:120, 95:100] = 5.0 if thing == "edge" else 8.0
    picture = _pictured(ranges + rng.normal(0, 0.002, ranges.shape))
    assert picture.alone[where[picture.row, picture.column]].mean() == pytest.approx(
        float(thing == "mixed"), abs=0.15
    )
    assert picture.alone[~where[picture.row, picture.column]].mean() < 0.001


def test_no_picture_has_no_pixels_alone_and_no_faces():
    points = np.random.default_rng(1).uniform(-5, 5, (20_000, 3)) * [1, 1, 0] - [0, 0, 1]
    seen, walked = Picture.of(points), Picture.of(points, station=False)
    assert seen.facing.any() and not walked.alone.any() and not walked.facing.any()


def test_what_several_saw_of_a_scan_counts_once():
    row, column = np.radians(np.mgrid[-60:60, -180:180] + 0.5)
    ball = 3 * np.stack([np.cos(row) * np.cos(column), np.cos(row) * np.sin(column), np.sin(row)], -1)
    ball = ball.reshape(-1, 3)
    whole, left, right = (Picture.of(p) for p in (ball, ball[ball[:, 1] > 0], ball[ball[:, 1] < 0]))
    share = lambda *others: contradiction.covered(whole, [(o, np.eye(4)) for o in others])
    assert share(whole) == 1.0
    assert share(left) == share(left, left) == pytest.approx(0.5, abs=0.02)
    assert share(left, right, whole) == pytest.approx(share(left, right), abs=0.02) == 1.0


@pytest.fixture(scope="module")
def swept():
    """By family and seed: the true poses and points of some of its stations."""

    def of(family, seed, choose):
        _, _, sweeps = built.swept(family, np.random.default_rng([seed, 5]))
        return [sweeps[k][0] for k in choose], [sweeps[k][3] for k in choose]

    return of


@pytest.mark.parametrize("family", ["garden", "nave"])
def test_hardly_anything_contradicts_the_truth_beside_mixed_pixels(family, swept, monkeypatch):
    truth, clouds = swept(family, 1, range(4))
    seen = [Picture.of(xyz) for xyz in clouds]
    pairs = [(a, b) for a in range(4) for b in range(a + 1, 4)]
    worst = lambda: max(
        contradiction.judge(seen[a], seen[b], rigid.inverse(truth[a]) @ truth[b]).area for a, b in pairs
    )
    assert (now := worst()) < 1.2
    for picture in seen:
        monkeypatch.setitem(picture.__dict__, "alone", np.zeros(len(picture.xyz), bool))
    assert worst() > now


@pytest.mark.parametrize(
    ("family", "seed", "choose", "right"),
    [("nave", 1, (1, 2, 3), 3), ("garage", 1, (0, 1, 2, 3), 3)],
)
def test_what_is_placed_without_doubt_in_what_is_built_is_right(family, seed, choose, right, swept):
    truth, clouds = swept(family, seed, choose)
    faces = [surface.prepare(xyz) for xyz in clouds]
    shapes, seen = [plan_match.PlanShape(f) for f in faces], [Picture.of(x) for x in clouds]
    found = search.place(faces, shapes, seen)
    off = errors(found, truth)
    sure = [k for k in off if not found.doubt[k]]
    assert all(off[k][0] < 0.12 and off[k][1] < np.radians(0.7) for k in sure), (off, found.doubt)
    assert len(sure) >= right
