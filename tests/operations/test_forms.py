"""Deliverables in every form, read back by independent readers, and as large as was promised."""

import os
import subprocess

import copclib
import laspy
import numpy as np
import pytest
from plyfile import PlyData
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.formats import copc_tree, las_writer, xyz
from terrazza.operations.pieces.promises import statement
from terrazza.operations.spine.base import find
from tests.run import must, opened, perform
from tests.scenes import room_job

pytestmark = pytest.mark.usefixtures("alone")


@pytest.fixture
def job(workspace, tmp_path):
    return room_job(workspace, tmp_path, rows=60, columns=140)


def wanted(job):
    """All kept points in the grid with their intensities."""
    at, parts = opened(*job), []
    for scan in at.scans():
        cloud = at.cloud(scan.id)
        kept = cloud.kept()
        xyz = rigid.apply(at.grid_pose(scan), cloud.xyz())[kept]
        parts.append(np.c_[xyz, np.asarray(cloud.read("intensity"))[kept]])
    return np.concatenate(parts)


def from_ply(path):
    data = PlyData.read(path)["vertex"].data
    return np.stack([data[n].astype(float) for n in ("x", "y", "z", "intensity")], 1)


def from_pts(path):
    with open(path) as file:
        count = int(file.readline())
        table = np.loadtxt(file)
    assert len(table) == count
    return table[:, :4]


def from_ptx(path):
    """Every scan moved by the matrix of its header, echoes only; the grid's places are counted."""
    parts = []
    with open(path) as file:
        while line := file.readline():
            columns, rows = int(line), int(file.readline())
            place = np.array(file.readline().split(), float)
            axes = np.array([file.readline().split() for _ in range(3)], float)
            motion = np.array([file.readline().split() for _ in range(4)], float)
            assert np.allclose(motion[3, :3], place) and np.allclose(motion[:3, :3], axes)
            table = np.array([file.readline().split() for _ in range(rows * columns)], float)
            assert (columns, rows) == (140, 60) and table.shape[1] in (4, 7)
            echo = (table[:, :3] != 0).any(1)
            moved = np.c_[table[echo, :3], np.ones(echo.sum())] @ motion
            parts.append(np.c_[moved[:, :3], table[echo, 3] * 65535])
    return np.concatenate(parts)


def from_las(path):
    las = laspy.read(path)
    return np.c_[np.array(las.xyz), np.array(las.intensity)]


def from_copc(path):
    """By two libraries that know the hierarchy: the same points, every one once."""
    with laspy.CopcReader.open(path) as reader:
        points = reader.query()
        found = np.c_[np.array(points.x), np.array(points.y), np.array(points.z), np.array(points.intensity)]
    other = copclib.FileReader(path)
    entries = other.GetAllNodes()
    assert sum(e.point_count for e in entries) == len(found) == other.copc_config.las_header.point_count
    for entry in entries:
        inside = other.GetPoints(entry)
        box = copclib.Box(entry.key, other.copc_config.las_header)
        assert len(inside) == entry.point_count
        assert all(box.Contains(copclib.Vector3(p.x, p.y, p.z)) for p in list(inside)[::97])
    return found


FORMS = {
    "copc": from_copc,
    "ply": from_ply,
    "pts": from_pts,
    "ptx": from_ptx,
    "las": from_las,
    "laz": from_las,
}


@pytest.mark.parametrize("form", FORMS)
def test_what_was_written_is_read_by_others_as_large_as_promised(job, form):
    operation = find(f"deliver.{form}")
    promised = statement(opened(*job), form, operation.check({}), QUIET)
    figures = must(*job, operation.name)
    found, true = FORMS[form](figures["path"]), wanted(job)
    assert len(found) == len(true) == figures["points"] == promised["points"] > 20_000
    off, same = cKDTree(found[:, :3]).query(true[:, :3])
    assert off.max() < 0.0002 and len(np.unique(same)) == len(true)
    assert np.abs(found[same, 3] - true[:, 3]).max() < 0.5
    assert abs(promised["bytes"] / os.path.getsize(figures["path"]) - 1) < 0.02
    assert figures["bytes"] == os.path.getsize(figures["path"])


def test_nodes_lie_within_nodes_and_are_even_shares(job, monkeypatch):
    monkeypatch.setattr(copc_tree, "NODE", 700)
    monkeypatch.setattr(copc_tree, "LEAF", 1500)
    path = must(*job, "deliver.copc")["path"]
    assert len(from_copc(path)) == len(wanted(job))
    nodes = copclib.FileReader(path).GetAllNodes()
    many = {d: [n.point_count for n in nodes if n.key.d == d] for d in {n.key.d for n in nodes}}
    assert max(many) > 2 and 500 < many[0][0] < 900 and max(max(v) for v in many.values()) <= 1600


def test_the_grid_of_a_scan_stays_where_points_were_cut(job):
    """A cut leaves 0 0 0 in its places; all other rows and columns are those of the file that came in."""
    view = [[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0, 0], [0, 0, 0, 1]]
    must(*job, "clean.outline", view=view, polygon=[[0, 0], [0.9, 0], [0.9, 0.9], [0, 0.9]])
    figures = must(*job, "deliver.ptx", scans=[1], scale=1e-6)
    at = opened(*job)
    cloud, kept = at.cloud(1), at.cloud(1).kept()
    assert 0 < (~kept).sum()
    table = np.loadtxt(figures["path"], skiprows=10)[:, :3].reshape(140, 60, 3)
    row, column = (np.asarray(cloud.read(n)).astype(int) for n in ("row", "column"))
    assert np.abs(table[column[kept], row[kept]] - cloud.xyz()[kept]).max() < 1e-6
    assert not table[column[~kept], row[~kept]].any()


def _lost(text):
    return text[: text.rstrip("\n").rindex("\n") + 1]


def _moved(text):
    lines = text.splitlines(keepends=True)
    for k in range(0, len(lines), 7):
        x, rest = lines[k].split(" ", 1)
        lines[k] = f"{float(x) + 0.003:.4f} {rest}"
    return "".join(lines)


@pytest.mark.parametrize("spoiled, words", [(_lost, "instead of"), (_moved, "are not as they were written")])
def test_a_file_that_is_not_what_was_written_is_taken_away(job, monkeypatch, spoiled, words):
    must(*job, "deliver.xyz", path="good.xyz")
    put = xyz.Writer.put
    monkeypatch.setattr(xyz.Writer, "put", lambda self, text: put(self, spoiled(text.decode()).encode()))
    entry = perform(*job, "deliver.xyz", path="bad.xyz")
    folder = opened(*job).subfolder("deliverables")
    assert entry.state == "failed" and words in entry.message and "bad.xyz" in entry.message
    assert sorted(os.listdir(folder)) == ["good.xyz", "sha256sums.txt"]
    assert len(opened(*job).facts("deliverable")) == 1
    assert must(*job, "deliver.xyz", path="unread.xyz", verify=False)["says"].endswith("not read back")


@pytest.mark.parametrize("form", ["laz", "e57", "ptx"])
def test_what_is_thinned_or_turned_reads_back_too(job, form):
    must(*job, "georeference.level")
    told = must(*job, f"deliver.{form}", spacing=0.05)["verified"]
    assert 1000 < told["sample"] <= 4_500 < told["points"] and told["seconds"] < 30
    assert np.all(np.array(told["low"]) > -9) and np.all(np.array(told["high"]) < 9.1)


def test_checksums_are_listed_beside_as_others_check_them(job):
    folder = opened(*job).subfolder("deliverables")
    with open(os.path.join(folder, "sha256sums.txt"), "w") as out:
        out.write(f"{'0' * 64}  raum süd.xyz\n{'1' * 64}  of-others.txt\n")
    must(*job, "deliver.xyz", path="raum süd.xyz")
    must(*job, "deliver.laz", path="a.laz")
    must(*job, "deliver.laz", path="a.laz", spacing=0.1)
    lines = open(os.path.join(folder, "sha256sums.txt")).read().splitlines()
    assert [line[66:] for line in lines] == ["of-others.txt", "raum süd.xyz", "a.laz"]
    with open(os.path.join(folder, "own.txt"), "w") as out:
        out.write("\n".join(lines[1:]))
    subprocess.run(["sha256sum", "--check", "--strict", "own.txt"], cwd=folder, check=True)
    (a,) = [v for k, v in opened(*job).facts("deliverable").items() if k.endswith("a.laz")]
    assert lines[2].startswith(a["sha256"])


@pytest.mark.parametrize("dense", [0, 9000])
def test_trees_grow_deeper_where_points_are_dense(monkeypatch, dense):
    """Nodes hold points of their own cells alone, no leaf is too full, and what is dense lies below the level
    of counting.
    """
    monkeypatch.setattr(copc_tree, "NODE", 700)
    monkeypatch.setattr(copc_tree, "LEAF", 1500)
    rng, finest = np.random.default_rng(dense), 2**copc_tree.DEEPEST
    cell = rng.integers(0, finest, (20_000, 3))
    cell = np.r_[cell, finest // 3 + rng.integers(0, finest // 2**8, (dense, 3))]
    unit = copc_tree.Cube((0.0, 0.0, 0.0), float(finest))
    codes = unit.codes(cell.astype(np.int32), las_writer.Layout(1.0, (0.0, 0.0, 0.0)))
    cells = copc_tree.Cells()
    for part in np.array_split(codes, 3):
        cells.add(*cells.of(part))
    full = cells.full
    again = (p[full[p >> copc_tree.UNDER]] for p in np.array_split(codes, 3))
    tree = cells.tree(np.unique(p, return_counts=True) for p in again)
    order, each = tree.grouped(codes, np.random.default_rng(1))
    assert (np.sort(order) == np.arange(len(codes))).all()
    nodes, codes = np.repeat(tree.names, each), codes[order]
    level = np.array([(int(n).bit_length() - 1) // 3 for n in nodes])
    for n, one in zip(nodes[::97], level[::97]):
        mine = codes[nodes == n] >> 3 * int(copc_tree.DEEPEST - one)
        assert (mine == int(n) - (1 << 3 * int(one))).all(), "a point lies in another cell"
    _, many = np.unique(nodes, return_counts=True)
    assert many.max() < 1500 * 1.15 and (level.max() > copc_tree.FIRST) == (dense > 0)
    assert (level == 0).sum() == pytest.approx(700, abs=120)
