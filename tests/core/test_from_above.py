"""The plan's picture against histograms of numpy and against what stands and what lies."""

import numpy as np
import pytest

from terrazza.core.draw.from_above import INK, RAMP, TONES, Sheet
from terrazza.core.geometry import rigid

STEP = np.full(3, 1e-4)


def sheet_of(
    xyz,
    pixel=0.05,
    corner=(-1.0, 4.0),
    size=100,
    allowed=None,
    weight=None,
    heights=(-1e6, 1e6),
    pose=np.eye(4),
    intensity=None,
):
    sheet, n = Sheet(corner, pixel, size, size), len(xyz)
    sheet.add(
        np.rint(xyz / STEP).astype(np.int32),
        STEP,
        np.zeros(3),
        pose,
        np.full(n, 0.5, np.float32) if intensity is None else intensity,
        np.ones(n, bool) if allowed is None else allowed,
        np.ones(n, np.float32) if weight is None else weight,
        heights,
    )
    return sheet


@pytest.mark.parametrize("turned", [0.0, 0.7])
@pytest.mark.parametrize("heights", [(-1e6, 1e6), (0.5, 2.0)])
def test_pixels_are_the_histogram_of_numpy(turned, heights):
    rng = np.random.default_rng(3)
    xyz, weight, allowed, tone = (
        rng.uniform(-3, 5, (20_000, 3)),
        rng.uniform(1, 5, 20_000).astype(np.float32),
        rng.random(20_000) < 0.7,
        rng.random(20_000).astype(np.float32),
    )
    pose = rigid.make(rigid.about_z(turned), np.array([0.30003, -0.20003, 0.1]))
    sheet = sheet_of(xyz, allowed=allowed, weight=weight, heights=heights, pose=pose, intensity=tone)
    seen = rigid.apply(pose, np.rint(xyz / STEP) * STEP)
    mask = allowed & (seen[:, 2] >= heights[0]) & (seen[:, 2] <= heights[1])
    edges = [4 - 0.05 * np.arange(100, -1, -1), -1 + 0.05 * np.arange(101)]
    for found, told in ((sheet.weight, weight), (sheet.tone, weight * tone)):
        counted = np.histogram2d(seen[mask, 1], seen[mask, 0], edges, weights=told[mask])[0][::-1]
        assert np.allclose(found, counted, rtol=1e-3, atol=0.02) and found.sum() > 100
    i, j = np.unravel_index(np.argmax(sheet.top), sheet.top.shape)
    assert (
        sheet.top.max()
        == pytest.approx(
            seen[mask & (np.abs(seen[:, 0] - 1.5) < 2.5) & (np.abs(seen[:, 1] - 1.5) < 2.5), 2].max(),
            abs=1e-4,
        )
        and sheet.weight[i, j] > 0
    )


@pytest.mark.parametrize("pixel", [0.2, 0.05, 0.01, 0.002])
def test_walls_stand_out_from_floors_and_ceilings_at_any_zoom(pixel):
    rng, width = np.random.default_rng(1), 200 * pixel
    flat = rng.uniform(0, width, (60_000, 2))
    floor, ceiling = (
        np.c_[flat[:30_000], rng.normal(0.0, 0.004, 30_000)],
        np.c_[flat[30_000:], rng.normal(2.7, 0.004, 30_000)],
    )
    wall = np.c_[rng.uniform(0, width, 40_000), np.full(40_000, width / 2), rng.uniform(0, 2.7, 40_000)]
    sheet = Sheet((0.0, width), pixel, 200, 200)
    xyz = np.concatenate([floor, ceiling, wall])
    sheet.add(
        np.rint(xyz / STEP).astype(np.int32),
        STEP,
        np.zeros(3),
        np.eye(4),
        np.ones(len(xyz), np.float32),
        np.ones(len(xyz), bool),
        np.ones(len(xyz), np.float32),
        (-1e6, 1e6),
    )
    ink = sheet.picture("walls", (0, 3))[..., 3].astype(int)
    there = sheet.weight > 0
    away = np.abs((np.arange(200) + 0.5) * pixel - width / 2) > max(0.05, 1.5 * pixel)
    on_wall = ink[99:101].max(0)
    assert np.median(on_wall) > 190 and np.median(ink[away][there[away]]) < 75, (
        np.median(on_wall),
        np.median(ink[away][there[away]]),
    )


@pytest.mark.parametrize("how", TONES)
def test_empty_pixels_are_seen_through_and_colours_follow_the_values(how):
    xyz = np.array([[0.0, 0.0, z] for z in (1.0, 3.0)] + [[1.0, 0.0, 1.0]])
    picture = sheet_of(xyz, intensity=np.array([1, 1, 0], np.float32)).picture(how, (1.0, 3.0))
    assert (picture[..., 3] > 0).sum() == 2
    here, there = picture[80, 20], picture[80, 40]
    if how == "height":
        assert (
            here[:3].tolist() == RAMP[3].astype(int).tolist()
            and there[:3].tolist() == RAMP[0].astype(int).tolist()
        )
    elif how == "intensity":
        assert here[0] > 220 and there[:3].tolist() == INK.astype(int).tolist()
    elif how == "density":
        assert here[3] > there[3]
