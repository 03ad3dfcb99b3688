"""The view from a station: tiles, marks and picks against the stored columns."""

import io

import numpy as np
import pytest
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.errors import NotFound, StateError
from terrazza.operations.pieces import stations
from terrazza.web.contexts import placements, station
from tests.conftest import REFERENCES
from tests.run import must, opened
from tests.scenes import write_room


@pytest.mark.parametrize("scan", [1, 5, 8])
def test_a_pick_returns_the_stored_point_behind_the_pixel(reading, scan):
    view, cloud, rng = stations.view(reading, scan), reading.cloud(scan), np.random.default_rng(scan)
    row, column = np.nonzero(view.index >= 0)
    chosen = rng.integers(len(row), size=40)
    for r, c in zip(row[chosen], column[chosen]):
        at = view.index[r, c]
        assert (int(cloud.read("row", at, at + 1)[0]), int(cloud.read("column", at, at + 1)[0])) in {
            (a, b) for a in (r, len(view.index) - 1 - r) for b in (c, view.index.shape[1] - 1 - c)
        }
        told = station.pick(reading, scan, 0, int(r), int(c), [])
        if cloud.kept(at, at + 1)[0]:
            assert (
                told["own"] == cloud.xyz(at, at + 1)[0].tolist() and told["row"] == r and told["column"] == c
            )
            assert np.allclose(
                told["at"], rigid.apply(reading.grid_pose(reading.scan(scan)), cloud.xyz(at, at + 1))[0]
            )
    assert station.pick(reading, scan, 0, -50, 3, []) is None


@pytest.mark.parametrize("mode", station.MODES)
def test_tiles_show_every_point_once(reading, mode):
    view = stations.view(reading, 2)
    image = np.array(Image.open(io.BytesIO(station.tile(reading, 2, 0, mode, 0, 1, 0))))
    part = view.index[:512, 512:1024]
    cut = reading.cloud(2).values("cut", 0) != 0
    assert (
        image.shape[:2] == part.shape
        and ((image[..., 3] > 0) == ((part >= 0) & ~cut[np.maximum(part, 0)])).all()
    )
    coarse = np.array(Image.open(io.BytesIO(station.tile(reading, 2, 0, mode, 1, 0, 0))))
    fine = np.array(Image.open(io.BytesIO(station.tile(reading, 2, 0, mode, 0, 0, 0))))
    assert (coarse[:256, :256] == fine[::2, ::2][: len(coarse)]).all()


def test_marks_are_where_things_are_seen(reading):
    about = station.build(reading, 1)
    assert (
        {m["kind"] for m in about["marks"]} == {"station", "control", "target"}
        and about["turn"]
        and about["others"] == [str(k) for k in range(1, 9)]
        and {"photo", "class"} <= set(about["modes"])
    )
    away = []
    for target in reading.facts("target").values():
        view, centre = stations.view(reading, target["scan"]), np.array(target["centre"])
        column, row = view.pixel(centre[None])[0].round().astype(int)
        at = view.index[row, column % view.index.shape[1]]
        away.append(
            np.linalg.norm(reading.cloud(target["scan"]).xyz(at, at + 1)[0] - centre) if at >= 0 else np.inf
        )
    assert len(away) > 6 and np.median(away) < 0.03 and np.mean(np.array(away) < 0.08) > 0.8, (
        "targets are seen in the pixels that are marked"
    )


def test_scans_without_grid_are_rendered_and_clouds_without_station_refused(workspace, tmp_path):
    write_room(tmp_path / "r.e57")
    row = queries.create_job(workspace, "Rendered")
    must(
        workspace,
        row,
        "import.files",
        files=[str(tmp_path / "r.e57"), str(REFERENCES / "laspy" / "simple.las")],
        take=["1:1", "2:1"],
        every=3,
    )
    job = opened(workspace, row)
    view = stations.view(job, 1)
    assert view.index.shape == (2048, 4096) and len(np.unique(view.index)) > 10_000
    r, c = (int(a[500]) for a in np.nonzero(view.index >= 0))
    assert station.pick(job, 1, 0, r, c, [])["index"] == view.index[r, c]
    with pytest.raises(StateError, match="not taken from one place"):
        stations.view(job, 2)


@pytest.mark.parametrize("how", ["plan", "slab"])
def test_placements_to_choose_from_show_what_tells_them_apart(reading, monkeypatch, how):
    """Where a scan truly stands it lies on what the others saw; a metre off it looked through them."""
    scan, get = reading.scans(placed=True)[1], reading.get
    wrong = scan.pose.copy()
    wrong[:2, 3] += [1.1, 0.8]
    offered = {"alternatives": [scan.pose.tolist(), wrong.tolist()]}
    own = lambda kind, *more: offered if kind == "standing" else get(kind, *more)
    monkeypatch.setattr(reading, "get", own)
    counts = []
    for k in (1, 2):
        picture = np.asarray(Image.open(io.BytesIO(placements.png(reading, scan.id, k, how))))
        of = lambda colour: int((picture == colour).all(2).sum())
        counts.append((of(placements.BOTH), of(placements.OWN), of(placements.AGAINST)))
    (both, alone, against), (less, more, seen_through) = counts
    assert both > 2 * less and more > alone and seen_through > 2 * against + 50, counts
    with pytest.raises(NotFound):
        placements.png(reading, scan.id, 3, how)
