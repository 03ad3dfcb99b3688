"""Panoramas from a scan's grid and from its points, against the directions in which the points lie."""

import numpy as np
import pytest

from terrazza.core.geometry import panorama
from tests.scenes import room_poses, scan_room

ROWS, COLUMNS = 120, 260


@pytest.fixture(scope="module")
def scan():
    data = scan_room(room_poses()[0], ROWS, COLUMNS)
    keep = np.random.default_rng(0).random(len(data["xyz"])) < 0.9
    order = np.random.default_rng(1).permutation(int(keep.sum()))
    return {k: v[keep][order] for k, v in data.items()}


@pytest.mark.parametrize("upside", [False, True])
@pytest.mark.parametrize("leftwards", [False, True])
@pytest.mark.parametrize("first", [0, 97])
def test_a_grid_is_seen_as_from_the_station(scan, upside, leftwards, first):
    row, column = scan["row"].astype(int), (scan["column"].astype(int) + first) % COLUMNS
    row, column = ROWS - 1 - row if upside else row, COLUMNS - 1 - column if leftwards else column
    pieces = [(0, row[:5000], column[:5000]), (5000, row[5000:], column[5000:])]
    made = panorama.from_grid(pieces, ROWS, COLUMNS, (scan["xyz"], row, column))
    assert (
        sorted(made.index[made.index >= 0]) == list(range(len(row)))
        and (np.diff(made.azimuth) < 0).all()
        and (np.diff(made.elevation) < 0).all()
        and made.whole_turn
    )
    r, c = np.nonzero(made.index >= 0)
    azimuth, elevation = panorama.directions(scan["xyz"][made.index[r, c]])
    level = np.abs(elevation) < 1.2
    assert np.abs((azimuth - made.azimuth[c] + np.pi) % (2 * np.pi) - np.pi)[level].max() < np.radians(0.2)
    assert np.abs(elevation - made.elevation[r]).max() < np.radians(0.2)
    back = made.pixel(scan["xyz"][made.index[r, c]])
    inner = level & (c > 0) & (c < COLUMNS - 1) & (r > 0) & (r < ROWS - 1)
    assert np.abs(back[inner] - np.stack([c, r], 1)[inner]).max() < 0.3


def test_half_a_turn_is_no_whole_turn(scan):
    half = scan["column"] < COLUMNS // 2
    made = panorama.from_grid(
        [(0, scan["row"][half], scan["column"][half])],
        ROWS,
        COLUMNS // 2,
        (scan["xyz"][half], scan["row"][half], scan["column"][half]),
    )
    assert (
        not made.whole_turn
        and np.isnan(made.pixel(np.array([[*(-scan["xyz"][half].mean(0)[:2] * 5), 0.0]]))).any()
    )


def test_rendered_pixels_show_the_nearest_point(scan):
    both = np.concatenate([scan["xyz"], scan["xyz"] * 2])
    made = panorama.rendered(lambda: [(0, both[:7000]), (7000, both[7000:])], 512)
    seen = made.index[made.index >= 0]
    assert (seen < len(scan["xyz"])).all(), "what lies behind is hidden"
    r, c = np.nonzero(made.index >= 0)
    azimuth, elevation = panorama.directions(both[made.index[r, c]])
    step = 2 * np.pi / 512
    assert (
        np.abs(elevation - made.elevation[r]).max() <= step / 2 + 1e-9
        and np.abs((azimuth - made.azimuth[c] + np.pi) % (2 * np.pi) - np.pi).max() <= step / 2 + 1e-9
    )
    assert np.abs(made.pixel(both[made.index[r, c]])[c > 0] - np.stack([c, r], 1)[c > 0]).max() <= 0.51
