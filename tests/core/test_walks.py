"""Paths of walked scans: stops by distance and by turn, points by time, trajectories in any shape."""

import numpy as np
import pytest

from terrazza.core.walks import path as paths
from terrazza.errors import InputError
from terrazza.formats import trajectory

TIME = np.arange(0, 20, 0.1)
SQUARE = np.array([[0, 0, 1.7], [5, 0, 1.7], [5, 5, 1.7], [0, 5, 1.7], [0, 0.01, 1.7]])


def around() -> paths.Path:
    """Once around a square of 5 m at 1 m/s."""
    along = np.r_[0, np.cumsum(np.linalg.norm(np.diff(SQUARE, axis=0), axis=1))]
    return paths.Path.of(TIME, np.stack([np.interp(TIME, along, SQUARE[:, k]) for k in range(3)], 1))


@pytest.mark.parametrize("every", [0.5, 1.0, 2.5, 7.0])
def test_stops_lie_evenly_on_the_way(every):
    path = around()
    along = np.interp(paths.stops(path, every), path.time, path.along)
    assert (
        along[0] == 0
        and (np.diff(along) >= every - 1e-6).all()
        and (np.diff(along) <= every + 0.11).all()
        and along[-1] > path.along[-1] - every - 0.11
    )


def test_stops_by_turning_come_at_the_corners():
    path = around()
    times = paths.stops(path, 0, np.radians(60))
    assert len(times) == 4 and np.allclose(times, [0, 5, 10, 15], atol=0.21)
    both = paths.stops(path, 2.5, np.radians(60))
    assert set(np.round(times[1:])) <= set(np.round(both)) and len(both) > len(times)


def test_points_belong_to_the_stop_nearest_in_time():
    times = np.random.default_rng(0).uniform(-2, 22, 4000)
    stops = np.array([0.0, 3.0, 8.0, 8.5, 20.0])
    assert (
        np.abs(stops[paths.belongs(times, stops)] - times) == np.abs(stops[None] - times[:, None]).min(1)
    ).all()


def test_a_path_is_put_in_order():
    mixed = np.random.default_rng(1).permutation(len(TIME))
    path = paths.Path.of(
        np.r_[TIME[mixed], TIME[:5], np.nan], np.r_[around().xyz[mixed], around().xyz[:5], [[0, 0, 0]]]
    )
    assert (
        (path.time == TIME).all()
        and np.array_equal(path.xyz, around().xyz)
        and abs(path.along[-1] - 19.9) < 0.2
    )
    assert np.allclose(path.at(np.array([-9.0, 2.05, 99.0])), [[0, 0, 1.7], [2.05, 0, 1.7], path.xyz[-1]])
    with pytest.raises(InputError, match="fewer than two"):
        paths.Path.of(np.array([1.0]), np.zeros((1, 3)))


@pytest.mark.parametrize(
    ("head", "rows", "columns", "degrees"),
    [
        ("", "1.0 2 3 4\n2.0 3 4 5\n", "", None),
        ("", "1.0 2 3 4 90\n2.0 3 4 5 91\n", "", [90, 91]),
        ("x;y;z;time;heading\n", "2;3;4;1,0;90\n3;4;5;2,0;91\n", "", [90, 91]),
        ("", "1.0 2 3 4 0.70710678 0 0 0.70710678\n2.0 3 4 5 0.70090926 0 0 0.71325045\n", "", [90, 91]),
        ("", "7 1.0 2 3 4 5 5 90\n7 2.0 3 4 5 5 5 91\n", "- time x y z - - heading", [90, 91]),
        ("# time x y z\n", "1.0,2,3,4\n2.0,3,4,5\n", "", None),
        ("", "1.0 2 3 4 0 0 90\n2.0 3 4 5 0 0 91\n", "", [90, 91]),
    ],
)
def test_trajectories_in_any_shape(tmp_path, head, rows, columns, degrees):
    (tmp_path / "t.txt").write_text(head + rows)
    time, xyz, heading = trajectory.read(str(tmp_path / "t.txt"), tuple(columns.split()))
    assert (
        time.tolist() == [1, 2]
        and xyz.tolist() == [[2, 3, 4], [3, 4, 5]]
        and (heading is None if degrees is None else np.allclose(np.degrees(heading), degrees, atol=1e-3))
    )


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("x y z\n1 2 3\n", "do not hold time"),
        ("1 2 3\n4 5 6\n", "3 columns and no header"),
        ("time x y z\n1 2 3 4\n" + "a b c d\n" * 9, "cannot be read"),
    ],
)
def test_what_is_no_trajectory(tmp_path, text, words):
    (tmp_path / "t.txt").write_text(text)
    with pytest.raises(InputError, match=words):
        trajectory.read(str(tmp_path / "t.txt"))
