"""What is written is what was promised, and others read it."""

import laspy
import numpy as np
import pye57
import pytest
from scipy.spatial import cKDTree

from terrazza import formats
from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.operations.deliver.e57 import E57Params
from terrazza.operations.deliver.laz import LazParams
from terrazza.operations.deliver.xyz import XyzParams
from terrazza.operations.pieces.promises import statement
from tests.run import must, opened, perform


@pytest.mark.parametrize(
    ("form", "kind", "params"),
    [
        ("laz", LazParams, {}),
        ("laz", LazParams, {"spacing": 0.08, "scans": [1, 2, 5]}),
        ("xyz", XyzParams, {"classes": [2], "scans": [1, 2]}),
        ("xyz", XyzParams, {"cell": 0.2, "scans": [1, 2, 5]}),
        ("e57", E57Params, {"merged": True, "most": 100_000}),
        ("e57", E57Params, {"scans": [3, 4]}),
        ("laz", LazParams, {"box": [0.0] * 6, "classes": [2, 4]}),
    ],
)
def test_statement_is_what_is_written(copied, tmp_path, form, kind, params):
    row = queries.job_by(name="Whole")
    job, params = opened(copied, row), params | {"path": str(tmp_path / f"s.{form}")}
    if "box" in params:
        middle = np.mean([job.grid_pose(s)[:3, 3] for s in job.scans()], axis=0)
        params["box"] = [*(middle - [6, 9, 2]), *(middle + [7, 5, 4])]
    said = statement(job, form, kind(**params), QUIET)
    figures = must(copied, row, f"deliver.{form}", **params)
    exact = not (params.get("spacing") or params.get("cell"))
    assert said["exact"] == exact and (
        said["points"] == figures["points"]
        if exact
        else said["points"] == pytest.approx(figures["points"], rel=0.02)
    )
    assert said["bytes"] == pytest.approx(figures["bytes"], rel=0.05)
    if "box" in params:
        low, high = np.array(params["box"]).reshape(2, 3)
        inside = 0
        for s in job.scans():
            cloud = job.cloud(s.id)
            q = rigid.apply(job.grid_pose(s), cloud.xyz())
            inside += int(
                (
                    ((q >= low) & (q <= high)).all(1)
                    & cloud.kept()
                    & np.isin(cloud.values("class", 0), [2, 4])
                ).sum()
            )
        assert figures["points"] == inside > 1000
    if "most" in params:
        assert figures["points"] == params["most"]


def _delivered(path):
    read = laspy.read(path)
    return np.stack([read.x, read.y, read.z], 1)


@pytest.mark.parametrize("spacing", [0.05, 0.3])
def test_thinning_keeps_its_definition(copied, tmp_path, spacing):
    """No two kept points closer than the spacing, across scans and tiles; every point has a kept one within
    it.
    """
    row = queries.job_by(name="Whole")
    must(copied, row, "deliver.laz", path=str(tmp_path / "t.laz"), spacing=spacing, scans=[5, 6])
    must(copied, row, "deliver.laz", path=str(tmp_path / "a.laz"), scans=[5, 6])
    kept, every = _delivered(tmp_path / "t.laz"), _delivered(tmp_path / "a.laz")
    tree = cKDTree(kept)
    nearest, _ = tree.query(kept, k=2)
    assert nearest[:, 1].min() >= spacing - 2e-4 and len(kept) < len(every) / 2
    assert tree.query(every)[0].max() <= spacing + 2e-4


def test_one_point_a_cell(copied, tmp_path):
    row = queries.job_by(name="Whole")
    must(copied, row, "deliver.laz", path=str(tmp_path / "c.laz"), cell=0.25, scale=1e-5, scans=[1, 2])
    must(copied, row, "deliver.laz", path=str(tmp_path / "a.laz"), scale=1e-5, scans=[1, 2])
    kept, every = (np.floor(_delivered(tmp_path / n) / 0.25).astype(int) for n in ("c.laz", "a.laz"))
    there = np.unique(every, axis=0)
    assert abs(len(np.unique(kept, axis=0)) - len(there)) <= 0.001 * len(there) and abs(
        len(kept) - len(there)
    ) <= 0.001 * len(there), "up to points that rounding moves over an edge"


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"box": [0, 0, 0, -1, 1, 1]}, "three lowest"),
        ({"box": [1, 2]}, "three lowest"),
        ({"spacing": 1, "most": 5}, "not by several"),
    ],
)
def test_impossible_selections_are_refused(copied, params, words):
    entry = perform(copied, queries.job_by(name="Whole"), "deliver.laz", **params)
    assert entry.state == "failed" and words in entry.message


def red(cloud):
    """Red of the photo where one showed the point, else of the scanner's own colour, where it has one."""
    photo = np.asarray(cloud.read("photo_rgb"))
    return np.where(
        photo.any(1),
        photo[:, 0],
        np.asarray(cloud.read("native_rgb"))[:, 0] if cloud.has("native_rgb") else 0,
    )


def test_deliverables_of_the_whole_job_read_back_elsewhere(whole, reading):
    kept = {s.name: int(reading.cloud(s.id).kept().sum()) for s in reading.scans()}
    file = pye57.E57(str(whole / "out" / "scans.e57"))
    assert formats.look(str(whole / "out" / "scans.e57")).ties == [
        (t["a"] - 1, t["b"] - 1) for t in reading.facts("tie").values() if not t["failed"]
    ]
    for k, scan in enumerate(reading.scans()):
        header, raw = file.get_header(k), file.read_scan_raw(k)
        assert header["name"].value() == scan.name and len(raw["cartesianX"]) == kept[scan.name]
        pose = reading.grid_pose(scan)
        assert np.allclose(header.rotation_matrix, pose[:3, :3], atol=1e-12) and np.allclose(
            header.translation, pose[:3, 3]
        )
        cloud, mask = reading.cloud(scan.id), reading.cloud(scan.id).kept()
        assert np.abs(raw["cartesianX"] - cloud.xyz()[mask][:, 0]).max() < 1e-9
        assert (raw["intensity"] == np.asarray(cloud.read("intensity"))[mask]).all() and (
            raw["colorRed"] == red(cloud)[mask]
        ).all()
    laz = laspy.read(whole / "out" / "cloud.laz")
    assert (
        len(laz) == sum(kept.values()) and (np.bincount(laz.point_source_id)[1:] == list(kept.values())).all()
    )
    scan = reading.scans()[2]
    mine = rigid.apply(reading.grid_pose(scan), reading.cloud(scan.id).xyz()[reading.cloud(scan.id).kept()])
    assert np.abs(np.asarray(laz.xyz)[np.asarray(laz.point_source_id) == scan.id] - mine).max() < 0.6e-4


def test_merged_e57(copied, tmp_path):
    row = queries.job_by(name="Whole")
    figures = must(copied, row, "deliver.e57", merged=True, spacing=0.1, path=str(tmp_path / "m.e57"))
    file = pye57.E57(str(tmp_path / "m.e57"))
    assert file.scan_count == 1 and file.get_header(0).point_count == figures["points"]


def test_colour_comes_off_for_all_at_once(copied):
    row = queries.job_by(name="Whole")
    must(copied, row, "colorize.take_off")
    job = opened(copied, row)
    assert not any(job.cloud(s.id).has("photo_rgb") for s in job.scans()) and job.cloud(1).has("native_rgb")
    assert "has photo colour" in perform(copied, row, "colorize.take_off").message


def test_lines_are_renamed_and_written(copied, tmp_path):
    import ezdxf

    row = queries.job_by(name="Whole")
    must(copied, row, "draw.rename", drawing=1, line=1, name="Südwand", layer="AUSSEN")
    must(copied, row, "draw.rename", drawing=1, name="Erdgeschoss")
    must(copied, row, "deliver.dxf", path=str(tmp_path / "plan.dxf"))
    lines = list(ezdxf.readfile(tmp_path / "plan.dxf").layouts.get("Model"))
    drawing = opened(copied, row).get("drawing", 1)
    assert drawing["name"] == "Erdgeschoss" and len(lines) == len(drawing["lines"])
    assert lines[0].dxf.layer == "AUSSEN" and lines[0].get_xdata("TERRAZZA")[0].value == "Südwand"
    first = rigid.apply(opened(copied, row).frame, np.array(drawing["lines"][0]["vertices"]))
    assert np.allclose(list(lines[0].get_points("xy")), first[:, :2], atol=1e-9)
    assert "no line 999" in perform(copied, row, "draw.rename", drawing=1, line=999, name="x").message


def test_report_tells_the_job(whole):
    import pypdf

    text = "".join(p.extract_text() for p in pypdf.PdfReader(whole / "out" / "report.pdf").pages)
    for words in (
        "Whole: registration report",
        "Lemon house west",
        "Redundancy".lower(),
        "L1",
        "check",
        "Field book",
        "Outlier filter",
        "Ground",
    ):
        assert words in text, words
