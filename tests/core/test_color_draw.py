"""Photo projection against ASTM E2807's definition, the depth test, and wall lines against drawn truth."""

import numpy as np
import pytest

from terrazza.core.color import projection
from terrazza.core.color.cameras import Camera
from terrazza.core.draw import lines
from terrazza.core.geometry import rigid


@pytest.mark.parametrize(
    ("direction", "share"),
    [
        ((1, 0, 0), (0.5, 0.5)),
        ((0, 1, 0), (0.25, 0.5)),
        ((0, -1, 0), (0.75, 0.5)),
        ((1, 0, 1), (0.5, 0.25)),
        ((1, 0, -1), (0.5, 0.75)),
    ],
)
def test_spherical_pixels_follow_the_standard(direction, share):
    """ASTM E2807, spherical representation: the image spans the turn, its middle looks along +x, azimuth
    grows to the left, the top row looks up.
    """
    column, row = projection.to_pixels(np.array([direction], float) * 3, 4000, 2000)
    assert column[0] + 0.5 == pytest.approx(4000 * share[0]) and row[0] + 0.5 == pytest.approx(
        2000 * share[1]
    )


def test_sampled_colours_are_those_painted():
    height, width = 256, 512
    el, az = (
        np.pi / 2 - (np.arange(height) + 0.5) * np.pi / height,
        np.pi - (np.arange(width) + 0.5) * 2 * np.pi / width,
    )
    image = np.stack(
        np.broadcast_arrays(
            127 + 100 * np.sin(az)[None, :], 127 + 100 * np.sin(el)[:, None], np.full((height, width), 30.0)
        ),
        -1,
    ).astype(np.uint8)
    rays = np.random.default_rng(0).normal(0, 1, (2000, 3))
    got = projection.sample(image, rays).astype(float)
    angle, up = np.arctan2(rays[:, 1], rays[:, 0]), np.arcsin(rays[:, 2] / np.linalg.norm(rays, axis=1))
    inner = np.abs(up) < 1.5
    assert np.abs(got[:, 0] - 127 - 100 * np.sin(angle))[inner].max() < 3
    assert np.abs(got[:, 1] - 127 - 100 * np.sin(up)).max() < 3


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
    got = projection.sample(ramp, points, camera)
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


def test_what_a_wall_hides_takes_no_colour():
    rng = np.random.default_rng(1)
    wall = np.c_[np.full(60000, 4.0), rng.uniform(-4, 4, 60000), rng.uniform(-3, 3, 60000)]
    depth = projection.DepthPicture()
    depth.add(wall)
    depth.close()
    behind = wall[::20] * rng.uniform(1.1, 2.0, (3000, 1))
    assert depth.sees(wall[::10]).mean() > 0.995
    assert not depth.sees(behind).any()
    assert depth.sees(wall[::20] * 0.5).all(), "what stands before the wall is seen"
    assert not depth.sees(np.array([[-3.0, 0, 0]])).any(), "nothing is known where the station has no depth"


def test_gains_bring_photos_together():
    true = np.array([1.0, 1.3, 0.8])
    means = {
        a: {b: (100.0, np.log(100 * true[a]), np.log(100 * true[b])) for b in range(3) if b != a}
        for a in range(3)
    }
    gains = projection.exposure_gains(means)
    evened = np.array([true[k] * gains[k] for k in range(3)])
    assert evened.std() / evened.mean() < 0.005
    assert projection.exposure_gains({}) == {}


def test_into_camera_is_the_inverse_pose():
    pose = rigid.make(rigid.about_z(0.3), np.array([1.0, 2.0, 3.0]))
    points = np.random.default_rng(0).normal(size=(5, 3))
    assert np.allclose(rigid.apply(pose, projection.into_camera(pose, points)), points)


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
