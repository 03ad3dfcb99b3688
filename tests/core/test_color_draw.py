"""Photo projection against ASTM E2807's definition, the depth test, and wall lines against drawn truth."""

import numpy as np
import pytest

from terrazza.core.color import seen
from terrazza.core.color.cameras import Camera
from terrazza.core.draw import lines
from terrazza.core.geometry import rigid

LENSES = {
    "spherical": {},
    "cylindrical": {
        "pixelWidth": 2 * np.pi / 400,
        "pixelHeight": 0.01,
        "radius": 1.0,
        "principalPointY": 150.0,
    },
    "pinhole": {
        "pixelWidth": 1e-5,
        "pixelHeight": 1e-5,
        "focalLength": 0.003,
        "principalPointX": 210.0,
        "principalPointY": 140.0,
    },
}


@pytest.mark.parametrize(
    ("kind", "point", "column", "row"),
    [
        ("spherical", (5, 0, 0), 200, 150),
        ("spherical", (0, 5, 0), 100, 150),
        ("spherical", (1, 0, 1), 200, 75),
        ("cylindrical", (2, 0, 0), 200, 150),
        ("cylindrical", (2, 0, 1), 200, 100),
        ("cylindrical", (0, -2, -1), 300, 200),
        ("pinhole", (0, 0, -4), 210, 140),
        ("pinhole", (1, 0, -4), 285, 140),
        ("pinhole", (0, 1, -4), 210, 65),
        ("pinhole", (0, 0, 4), None, None),
        ("pinhole", (9, 0, -4), None, None),
    ],
)
def test_pictures_show_directions_where_the_standard_says(kind, point, column, row):
    """Worked by hand from the three representations of ASTM E2807."""
    got = Camera.of({"representation": kind, "width": 400, "height": 300, "lens": LENSES[kind]}).pixels(
        np.array([point], float)
    )
    assert got[2][0] == (column is not None) and (
        column is None or (got[0][0] + 0.5, got[1][0] + 0.5) == pytest.approx((column, row))
    )


@pytest.mark.parametrize("kind", LENSES)
def test_colours_lie_where_each_kind_of_picture_shows_them(kind):
    camera = Camera.of({"representation": kind, "width": 400, "height": 300, "lens": LENSES[kind]})
    assert camera.usable and camera.turns == (kind != "pinhole")
    ramp = np.stack(
        np.broadcast_arrays(
            np.linspace(1, 250, 400)[None, :], np.linspace(1, 250, 300)[:, None], np.full((300, 400), 9.0)
        ),
        -1,
    ).astype(np.uint8)
    points = np.random.default_rng(2).normal(0, 1, (3000, 3)) - [0, 0, 1.5 * (kind == "pinhole")]
    column, row, inside = camera.pixels(points)
    got = seen.sample(ramp, points, camera.numbers, camera.turns)
    inner = inside & (column > 1) & (column < 398) & (row > 1) & (row < 298)
    assert inner.sum() > 400 and (got[~inside] == 0).all()
    assert (
        np.abs(got[inner, 0] - (1 + 249 * column[inner] / 399)).max() < 2
        and np.abs(got[inner, 1] - (1 + 249 * row[inner] / 299)).max() < 2
    )


def test_pictures_that_say_too_little_are_not_used():
    assert (
        not Camera.of({"representation": "pinhole", "width": 400, "height": 300, "lens": {}}).usable
        and not Camera.of({"representation": "visualReference", "width": 4, "height": 3}).usable
    )


def walls(corners, noise, seed=0, per_metre=200):
    rng = np.random.default_rng(seed)
    parts = []
    for a, b in zip(corners[:-1], corners[1:]):
        n = int(np.linalg.norm(b - a) * per_metre)
        t, d = rng.uniform(0, 1, n), (b - a) / np.linalg.norm(b - a)
        parts.append(a + t[:, None] * (b - a) + rng.normal(0, noise, n)[:, None] * [-d[1], d[0]])
    return np.concatenate(parts)


ROOM = np.array([[0, 0], [6, 0], [6, 4], [2.5, 4], [2.5, 3], [0, 3], [0, 0]], float)


@pytest.mark.parametrize("turn", [0.0, 0.35, 1.1])
def test_a_room_becomes_one_closed_line(turn):
    r = rigid.about_z(turn)[:2, :2]
    found = lines.fit_lines(walls(ROOM @ r.T, 0.003))
    assert len(found) == 1
    line = found[0]
    assert np.allclose(line.vertices[0], line.vertices[-1])
    gap = np.linalg.norm(line.vertices[:-1, None] @ r - ROOM[None, :-1], axis=2)
    assert len(line.vertices) == 7 and gap.min(1).max() < 0.003, "corners within three millimetres"
    assert 0.0024 < line.rms < 0.0036, "the RMS is the noise of the points"


def test_a_door_leaves_a_gap():
    found = lines.fit_lines(
        np.concatenate(
            [walls(np.array([[0, 0], [2.0, 0]]), 0.002), walls(np.array([[2.9, 0], [5.0, 0]]), 0.002, 1)]
        )
    )
    ends = sorted(float(v) for line in found for v in line.vertices[[0, -1], 0])
    assert len(found) == 2
    assert np.allclose(ends, [0, 2.0, 2.9, 5.0], atol=0.02)


@pytest.mark.parametrize("n", [0, 5, 400])
def test_scatter_gives_no_lines(n):
    xy = np.random.default_rng(0).uniform(0, 10, (n, 2))
    assert (
        sum(np.linalg.norm(np.diff(line.vertices, axis=0), axis=1).sum() for line in lines.fit_lines(xy))
        < 1.0
    )
