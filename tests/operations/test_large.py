"""What large jobs rest on: imports in many runs, wrong headers, neighbours by tiles, edits by blocks; each
against the plain way.
"""

import os

import laspy
import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.clean import outliers
from terrazza.core.geometry import rigid
from terrazza.core.geometry.nearest import Nearest
from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.fleet import Local
from terrazza.formats import e57, e57_writer
from terrazza.operations.pieces import neighbours, portions, sources
from terrazza.web.contexts import scene
from terrazza.work import runner
from tests.run import must, opened, perform


def hall(n=200_000, seed=0):
    """A floor, two walls, a ball, and some points far from all others (m)."""
    rng = np.random.default_rng(seed)
    parts = [
        np.c_[rng.uniform(-12, 12, (n // 2, 2)), rng.normal(0, 0.002, n // 2)],
        np.c_[rng.uniform(-12, 12, n // 4), np.full(n // 4, 7.0), rng.uniform(0, 5, n // 4)],
        rng.normal(0, 1, (n // 4 - 40, 3)),
        rng.uniform(-40, 40, (40, 3)),
    ]
    ball = parts[2]
    parts[2] = [3, -4, 1.5] + 0.5 * ball / np.linalg.norm(ball, axis=1)[:, None]
    return np.concatenate(parts)


def write(path, xyz, bounds="true", scale=1e-5, offset=(0.0, 0.0, 0.0), **columns):
    bounds = (xyz.min(0), xyz.max(0)) if bounds == "true" else bounds
    with e57_writer.Writer(str(path)) as out:
        out.add_scan(
            "Hall", [{"xyz": xyz} | columns], ["xyz", *columns], bounds=bounds, scale=scale, offset=offset
        )
    return str(path)


@pytest.fixture
def little(monkeypatch):
    """Everything in pieces of fifty thousand points, the fewest there are."""
    monkeypatch.setattr(runner, "fleet", lambda _: Local(cores=1, memory=1))
    assert Local(memory=1).points_at_once == 50_000


def brought(workspace, path, name="Hall"):
    row = queries.create_job(workspace, name)
    figures = must(workspace, row, "import.files", files=[path])
    return row, figures, opened(workspace, row).cloud(1)


def sorted_rows(xyz):
    rounded = np.rint(xyz / 1e-5).astype(np.int64)
    return rounded[np.lexsort(rounded.T)]


def test_import_in_many_runs_loses_and_moves_nothing(workspace, tmp_path, little):
    xyz = hall()
    row, figures, cloud = brought(
        workspace, write(tmp_path / "h.e57", xyz, intensity=(np.arange(len(xyz)) % 60000).astype(np.uint16))
    )
    assert (
        figures["points"] == len(xyz) == cloud.count
        and len(cloud.record["blocks"]) >= 4
        and max(cloud.record["blocks"]) <= 50_000
    )
    assert np.abs(sorted_rows(cloud.xyz()) - sorted_rows(xyz)).max() <= 1
    tone = np.arange(len(xyz)) % 60000
    mine, theirs = np.lexsort(np.rint(cloud.xyz() / 1e-5).T), np.lexsort(np.rint(xyz / 1e-5).T)
    assert (np.asarray(cloud.read("intensity"))[mine] == tone[theirs]).mean() > 0.9999, (
        "values stay with their points (up to equal coordinates)"
    )
    assert not os.path.exists(os.path.join(opened(workspace, row).scan_folder(1), "scratch.e1")), (
        "scratch files are gone"
    )
    low, high = np.quantile(tone, [0.02, 0.98])
    assert cloud.record["intensity_range"] == pytest.approx([low, high], abs=17)


@pytest.mark.parametrize(
    ("bounds", "note"),
    [((np.full(3, -1.0), np.full(3, 1.0)), True), (None, False), ((np.full(3, 5e9), np.full(3, 6e9)), False)],
)
def test_wrong_bounds_in_a_header_are_found_out(workspace, tmp_path, bounds, note):
    """Bounds that the points leave, that are absent, that cannot be: the points' own are taken."""
    xyz = hall(20_000)
    _, figures, cloud = brought(workspace, write(tmp_path / "b.e57", xyz, bounds=bounds))
    assert figures["points"] == len(xyz) and np.abs(sorted_rows(cloud.xyz()) - sorted_rows(xyz)).max() <= 1
    assert any("bounds in the header are wrong" in n for n in figures["notes"]) == note
    assert np.allclose(cloud.record["bounds"], [xyz.min(0), xyz.max(0)], atol=1e-5)
    corner, size = cloud.low, cloud.size
    assert (cloud.xyz() >= corner).all() and (cloud.xyz() <= corner + size).all()


def test_points_too_far_to_be_real_are_counted_and_left_out(workspace, tmp_path):
    xyz = hall(5000)
    xyz[[7, 99]] = [[1e9, 0, 0], [0, -3e5, 0]]
    path = str(tmp_path / "f.e57")
    from pye57 import libe57

    image = libe57.ImageFile(path, "w")
    image.extensionsAdd("", libe57.E57_V1_0_URI)
    scan, points = libe57.StructureNode(image), libe57.StructureNode(image)
    for key, value in (("formatName", "ASTM E57 3D Imaging Data File"), ("guid", "{A}")):
        image.root().set(key, libe57.StringNode(image, value))
    scans = libe57.VectorNode(image, True)
    image.root().set("data3D", scans)
    scans.append(scan)
    scan.set("guid", libe57.StringNode(image, "{B}"))
    for axis in e57_writer.CARTESIAN:
        points.set(axis, libe57.FloatNode(image, 0.0, libe57.E57_DOUBLE, -1e300, 1e300))
    cloud = libe57.CompressedVectorNode(image, points, libe57.VectorNode(image, True))
    scan.set("points", cloud)
    columns, buffers = [np.ascontiguousarray(xyz[:, k]) for k in range(3)], libe57.VectorSourceDestBuffer()
    for axis, values in zip(e57_writer.CARTESIAN, columns):
        buffers.append(libe57.SourceDestBuffer(image, axis, values, len(xyz), True, True))
    writer = cloud.writer(buffers)
    writer.write(len(xyz))
    writer.close()
    image.close()
    _, figures, _ = brought(workspace, path)
    assert (
        figures["points"] == len(xyz) - 2
        and figures["dropped"] == 2
        and any("2 points too far out to be real" in n for n in figures["notes"])
    )


@pytest.mark.parametrize("offset", [(0.0, 0.0, 0.0), (523_400.0, 4_981_200.0, 310.0)])
@pytest.mark.parametrize("unit", ["as the file says", "international foot"])
def test_whole_numbers_keep_their_exact_value(workspace, tmp_path, offset, unit):
    """Integer coordinates of a file are stored as they are, far from zero and in feet too."""
    factor = 0.3048 if unit != "as the file says" else 1.0
    xyz = hall(4000) + offset
    path = write(tmp_path / "w.e57", xyz, scale=1e-4, offset=offset)
    row = queries.create_job(workspace, "W")
    must(workspace, row, "import.files", files=[path], unit=unit)
    job = opened(workspace, row)
    scan, cloud = job.scan(1), job.cloud(1)
    back = rigid.apply(scan.pose, cloud.xyz()) if scan.pose is not None else cloud.xyz()
    truth = np.concatenate([c["xyz"] for c in e57.read_points(path, 0)]) * factor
    assert np.abs(np.sort(back, axis=0) - np.sort(truth, axis=0)).max() < 2e-9 * max(
        1, np.abs(truth).max() / 1e6
    )
    assert np.abs(cloud.xyz()).max() < 2000 and (scan.pose is not None) == any(offset)


@pytest.mark.parametrize("colour", ["eight bits", "sixteen bits", "eight bits twice"])
def test_las_columns_that_say_nothing_cost_nothing(workspace, tmp_path, colour):
    """Dimensions with one value throughout go into the record; 16-bit colour is kept only where it says more
    than its eight bits.
    """
    n, rng = 3000, np.random.default_rng(1)
    las = laspy.LasData(laspy.LasHeader(point_format=7, version="1.4"))
    las.x, las.y, las.z = rng.uniform(0, 9, (3, n))
    deep = (
        rng.integers(0, 256, (n, 3)).astype(np.uint16)
        * {"eight bits": 1, "sixteen bits": 250, "eight bits twice": 257}[colour]
    )
    las.red, las.green, las.blue = deep.T
    las.user_data, las.scan_angle = np.full(n, 5), rng.integers(-9, 9, n)
    las.write(tmp_path / "c.laz")
    row, _, cloud = brought(workspace, str(tmp_path / "c.laz"))
    assert (
        cloud.record["constants"]["extra.user_data"] == 5
        and "extra.scan_angle" in cloud.columns.pointers
        and "extra.user_data" not in cloud.columns.pointers
    )
    assert (cloud.read("extra.user_data", 10, 30) == 5).all() and cloud.has("extra.user_data")
    assert cloud.has("extra.rgb16") == (colour == "sixteen bits")
    expected = deep if colour == "eight bits" else deep >> 8
    assert np.array_equal(np.sort(np.asarray(cloud.read("native_rgb")), axis=0), np.sort(expected, axis=0))


def test_a_large_las_is_read_in_stretches(tmp_path):
    n = 230_000
    las = laspy.LasData(laspy.LasHeader(point_format=6, version="1.4"))
    las.x, las.y, las.z = np.random.default_rng(0).uniform(0, 20, (3, n))
    las.write(tmp_path / "s.laz")
    source = sources.Source(str(tmp_path / "s.laz"), "LAZ", 0, 1.0, str(tmp_path / "out"), "e1", n, 50_000)
    parts = sources.stretches(source)
    assert [(p.start, p.stop) for p in parts] == [
        (k, min(k + 50_000, n)) for k in range(0, n, 50_000)
    ] and sum(p.points for p in parts) == n


@pytest.mark.parametrize(("k", "over_all"), [(4, False), (8, True)])
def test_neighbours_by_tiles_are_those_of_one_search(workspace, tmp_path, monkeypatch, k, over_all):
    """Mean distances from tiles with margins equal those of a tree over all points, for lone points far from
    any too; no tree holds many more than a piece may.
    """
    held = []
    monkeypatch.setattr(Local, "points_at_once", 25_000)
    monkeypatch.setattr(neighbours, "Nearest", lambda points: held.append(len(points)) or Nearest(points))
    pose = rigid.make(rigid.about_z(0.3), np.array([1.0, -2.0, 0.1]))
    with e57_writer.Writer(str(tmp_path / "n.e57")) as out:
        out.add_scan(
            "A",
            [{"xyz": hall(70_000)}],
            ["xyz"],
            pose=np.eye(4),
            bounds=(np.full(3, -41.0), np.full(3, 41.0)),
        )
        out.add_scan(
            "B", [{"xyz": hall(40_000, 5)}], ["xyz"], pose=pose, bounds=(np.full(3, -41.0), np.full(3, 41.0))
        )
    row = queries.create_job(workspace, "N")
    must(workspace, row, "import.files", files=[str(tmp_path / "n.e57")])
    must(
        workspace,
        row,
        "clean.outline",
        view=np.diag([0.1, 0.1, 0.1, 1]).tolist(),
        polygon=[[0.3, 0.3], [0.6, 0.3], [0.6, 0.6]],
    )
    job = opened(workspace, row)
    job.fleet = Local(cores=1, memory=1)
    found = neighbours.distances(job, job.scans(), k, over_all, str(tmp_path), QUIET)
    assert len(held) > 100 and max(held) <= 50_000
    places = [rigid.apply(s.pose, job.cloud(s.id).xyz()) for s in job.scans()]
    kept = [job.cloud(s.id).kept() for s in job.scans()]
    for n, scan in enumerate(job.scans()):
        everything = np.concatenate([p[m] for p, m in zip(places, kept)]) if over_all else places[n][kept[n]]
        truth = cKDTree(everything).query(places[n][kept[n]], k=k + 1)[0][:, 1:].mean(1)
        mine = np.load(found[scan.id])
        assert np.isnan(mine[~kept[n]]).all() and (~kept[n]).sum() > 100
        wrong = ~np.isclose(mine[kept[n]], truth, rtol=2e-6, atol=1e-7)
        assert not wrong.any(), (
            wrong.sum(),
            mine[kept[n]][wrong][:5],
            truth[wrong][:5],
            places[n][kept[n]][wrong][:5],
        )


def test_what_is_usual_is_gathered_piece_by_piece():
    rng = np.random.default_rng(0)
    distance, ranges = rng.lognormal(-5, 0.4, 50_000), rng.uniform(0.5, 40, 50_000)
    whole = outliers.Spread().add(distance, ranges)
    parts = outliers.Spread()
    for start in range(0, 50_000, 7_000):
        parts.merge(outliers.Spread().add(distance[start : start + 7_000], ranges[start : start + 7_000]))
    assert (
        parts.limit(2.0)
        == pytest.approx(distance.mean() + 2 * distance.std(ddof=1), rel=1e-12)
        == whole.limit(2.0)
    )
    assert parts.limits_by_range(2.2) == whole.limits_by_range(2.2)
    for band, limit in whole.limits_by_range(2.2).items():
        here = np.log(distance[np.floor(np.log(np.maximum(ranges, 0.3)) / np.log(1.35)) == band])
        low, high = np.quantile(here, [0.5, 0.8413])
        assert len(here) < 1000 or np.log(limit) == pytest.approx(
            max(low + 2.2 * max(high - low, 0.15), np.quantile(here, 1 - 0.012)), abs=0.02
        )


def _marked(cloud, start, stop, args, common):
    values = cloud.values("class", 0, start, stop).astype(np.uint8)
    values[cloud.xyz(start, stop)[:, 0] > args] = common
    return values, int((values == common).sum())


def test_an_edit_writes_only_the_blocks_it_changes(workspace, tmp_path, little):
    """And the view learns which: only versions of changed blocks change."""
    row, _, cloud = brought(workspace, write(tmp_path / "e.e57", hall()))
    from terrazza.operations.spine.job import Job

    def edit(limit, code):
        entry = queries.add_entry(row, "clean.outliers", 1, {}, "test", state="running")
        job = Job(workspace, row, entry, fleet=Local(cores=1))
        before = job.get("column", "1/class"), scene.versions(job, 1)
        tallies = portions.rewrite(job, job.scans(), "class", _marked, {1: limit}, QUIET, "x", code)
        job.commit({"says": ""}, 0.1)
        return (
            before,
            (opened(workspace, row).get("column", "1/class"), scene.versions(opened(workspace, row), 1)),
            tallies,
        )

    edit(-1e9, 3)
    (files, words), (new_files, new_words), tallies = edit(11.0, 6)
    x = cloud.xyz()[:, 0]
    touched = [bool((x[a:b] > 11).any()) for a, b in cloud.blocks()]
    assert 0 < sum(touched) < len(touched) and sum(tallies[1]) == (x > 11).sum()
    assert [a != b for a, b in zip(files, new_files)] == touched == [a != b for a, b in zip(words, new_words)]
    assert (np.asarray(opened(workspace, row).cloud(1).read("class")) == np.where(x > 11, 6, 3)).all()
    _, (same, _), _ = edit(11.0, 6)
    assert same == new_files, "nothing changed, nothing written"


def test_a_disk_without_room_is_told_before_the_start(workspace, tmp_path, monkeypatch):
    import shutil

    path, row = write(tmp_path / "d.e57", hall(5000)), queries.create_job(workspace, "D")
    monkeypatch.setattr(shutil, "disk_usage", lambda _: shutil._ntuple_diskusage(10**9, 10**9, 1000))
    entry = perform(workspace, row, "import.files", files=[path])
    assert (
        entry.state == "failed"
        and "free; this import needs about" in entry.message
        and "Make room" in entry.hint
    )
    assert not os.path.isdir(os.path.join(opened(workspace, row).folder, "scans", "1"))
