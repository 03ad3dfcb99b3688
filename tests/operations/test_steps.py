"""The operations on data: import, register, georeference, classify, draw and deliver."""

import json
import os

import laspy
import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.operations.spine import recipe
from tests import scenes
from tests.conftest import RECIPE, REFERENCES
from tests.run import must, opened, perform

LAS = REFERENCES / "laspy"


def test_import_takes_what_is_chosen(workspace, tmp_path):
    scenes.write_room(tmp_path / "a.e57", rows=40, columns=90)
    row = queries.create_job(workspace, "Chosen")
    figures = must(workspace, row, "import.files", files=[str(tmp_path / "a.e57")], take=["1:3", "1:1"])
    assert [r["name"] for r in figures["rows"]] == ["Küche", "Flur"] and figures["posed"] == 0
    again = must(workspace, row, "import.files", files=[str(tmp_path / "a.e57")], take=["1:1"])
    assert again["rows"][0]["scan"] == 3 and again["rows"][0]["name"] == "Küche (3)"
    for take, words in ((["2:1"], "no scan 2:1"), (["x"], "not file:scan")):
        assert (
            words
            in perform(workspace, row, "import.files", files=[str(tmp_path / "a.e57")], take=take).message
        )


@pytest.mark.parametrize(
    ("unit", "factor"),
    [("millimetre", 0.001), ("US survey foot", 1200 / 3937), ("international foot", 0.3048)],
)
def test_units_scale_points_and_poses(workspace, tmp_path, unit, factor):
    poses = scenes.write_room(tmp_path / "u.e57", posed=True, rows=40, columns=90)
    row = queries.create_job(workspace, "Units")
    must(workspace, row, "import.files", files=[str(tmp_path / "u.e57")], unit=unit)
    scan = opened(workspace, row).scan(1)
    assert np.allclose(scan.pose[:3, 3], poses[0][:3, 3] * factor, atol=1e-12)
    truth = scenes.scan_room(poses[0], rows=40, columns=90, seed=0)["xyz"] * factor
    assert (
        np.abs(np.sort(opened(workspace, row).cloud(1).xyz(), axis=0) - np.sort(truth, axis=0)).max() < 2e-5
    )


@pytest.mark.parametrize(
    "name", ["simple.las", "simple.laz", "autzen.las", "extrabytes.las", "vegetation_1_3.las"]
)
def test_las_goes_through_bit_exact(workspace, tmp_path, name):
    """Import and deliver at the file's own resolution: every coordinate, intensity and class as laspy reads
    them, in the file's unit and system.
    """
    row = queries.create_job(workspace, name)
    must(workspace, row, "import.files", files=[str(LAS / name)])
    truth = laspy.read(LAS / name)
    crs = opened(workspace, row).get("crs") or {"metres_per_unit": 1.0}
    scale = float(truth.header.scales.min()) * crs["metres_per_unit"]
    figures = must(workspace, row, "deliver.laz", path=str(tmp_path / "back.laz"), scale=scale)
    back = laspy.read(figures["path"])
    a, b = (np.asarray(x) for x in (truth.xyz, back.xyz))
    order_a, order_b = (np.lexsort((x.intensity, *np.round(np.asarray(x.xyz), 4).T)) for x in (truth, back))
    assert np.abs(a[order_a] - b[order_b]).max() < 0.6 * truth.header.scales.max()
    assert (np.asarray(truth.intensity)[order_a] == np.asarray(back.intensity)[order_b]).all()
    assert sorted(np.asarray(truth.classification).tolist()) == sorted(
        np.asarray(back.classification).tolist()
    )
    if crs.get("wkt"):
        assert back.header.parse_crs().equals(truth.header.parse_crs(), ignore_axis_order=True)
    assert opened(workspace, row).scan(1).pose_record["how"] == "file"


def test_extra_dimensions_are_kept(workspace):
    row = queries.create_job(workspace, "Extra")
    must(workspace, row, "import.files", files=[str(LAS / "extrabytes.las")])
    truth, cloud = laspy.read(LAS / "extrabytes.las"), opened(workspace, row).cloud(1)
    for dimension in truth.point_format.extra_dimension_names:
        mine, theirs = np.asarray(cloud.read(f"extra.{dimension}")), np.asarray(truth[dimension])
        assert np.allclose(np.sort(mine, axis=0), np.sort(theirs, axis=0)), dimension


def test_files_of_different_systems_are_not_mixed(workspace):
    row = queries.create_job(workspace, "Mixed")
    must(workspace, row, "import.files", files=[str(LAS / "autzen.las")])
    other = next(
        (
            n
            for n in ("simple.copc.laz", "plane.laz", "1_4_w_evlr.las")
            if laspy.open(LAS / n).header.parse_crs() is not None
            and laspy.open(LAS / n).header.parse_crs().to_epsg() != 2994
        ),
        None,
    )
    if other is None:
        pytest.skip("no second system among the references")
    entry = perform(workspace, row, "import.files", files=[str(LAS / other)])
    assert entry.state == "failed" and "different coordinate systems" in entry.message


@pytest.mark.parametrize("poses", ["refine", "trust", "forget"])
def test_posed_scans_register_as_asked(workspace, tmp_path, poses):
    truth = scenes.write_room(tmp_path / "p.e57", posed=True)
    row = queries.create_job(workspace, "Posed")
    must(workspace, row, "import.files", files=[str(tmp_path / "p.e57")])
    figures = must(workspace, row, "register.automatic", poses=poses)
    assert (
        figures["placed"] == 3
        and figures["verdict"] == "good for indoor work"
        and 1.0 < figures["rms_mm"] < 5
    )
    job = opened(workspace, row)
    if poses == "trust":
        assert all(np.allclose(s.pose, t) for s, t in zip(job.scans(), truth))
    if poses == "refine":
        assert np.allclose(job.scan(1).pose, truth[0]) and job.scan(1).pose_record["fixed"]
    for a, b in ((0, 1), (0, 2)):
        mine = rigid.inverse(job.scans()[a].pose) @ job.scans()[b].pose
        assert rigid.difference(mine, rigid.inverse(truth[a]) @ truth[b])[0] < 0.002
    assert {t["words"] for t in job.facts("tie").values()} == {"firm"}


def test_rescue_by_hand(workspace, tmp_path):
    """A scan set roughly by numbers, fitted to a neighbour, and adjusted with the rest ends where it belongs;
    one taken out stays put.
    """
    truth = scenes.write_room(tmp_path / "r.e57", posed=True)
    row = queries.create_job(workspace, "Rescue")
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    heading = np.degrees(rigid.heading(truth[1]))
    must(
        workspace,
        row,
        "register.set_pose",
        scan=2,
        x=truth[1][0, 3] + 0.2,
        y=truth[1][1, 3] - 0.15,
        z=truth[1][2, 3] + 0.1,
        heading_deg=heading + 1.5,
    )
    figures = must(workspace, row, "register.cloud_fit", scan=2, neighbour=1, width=0.6)
    assert figures["overlap"] > 0.3 and figures["moved_mm"] > 150
    assert rigid.difference(opened(workspace, row).scan(2).pose, truth[1])[0] < 0.003
    must(workspace, row, "register.leave_out", scan=3)
    figures = must(workspace, row, "register.adjust")
    assert figures["scans"] == 2
    job = opened(workspace, row)
    assert job.scan(3).pose_record["how"] == "file" and np.allclose(job.scan(3).pose, truth[2])
    assert rigid.difference(job.scan(2).pose, truth[1])[0] < 0.002


def test_poses_of_the_whole_job_agree_with_the_truth(whole, field):
    out = json.loads((whole / "out.json").read_text())
    truth = json.loads((field / "truth" / "truth.json").read_text())
    grid = np.array(truth["scene_to_grid"])
    for scan, pose in zip(out["scans"], truth["poses"]):
        mine = np.array(scan["pose"]).reshape(4, 4)
        shift, turn = rigid.difference(mine, grid @ np.array(pose))
        assert shift < 0.004 and np.degrees(turn) < 0.02, scan["name"]
        off = (mine[:3, 3] - (grid @ np.array(pose))[:3, 3]) * 1000
        assert (np.abs(off) < 5 * np.array(scan["sigma_mm"])).all() and max(scan["sigma_mm"]) < 3, (
            scan["name"],
            off,
            scan["sigma_mm"],
        )
        assert scan["placed"] and 0 < scan["kept"] <= scan["points"]


def test_control_by_hand(copied):
    """Roles, matches and dropped targets change the fit as they should."""
    row = queries.job_by(name="Whole")
    frame = opened(copied, row).get("frame")
    used = [r for r in frame["rows"] if r["role"] == "control" and r["matched"]]
    check = next(r for r in frame["rows"] if r["role"] == "check")
    figures = must(copied, row, "georeference.role", point=check["name"], check=False)
    assert figures["used"] == len(used) + 1
    figures = must(copied, row, "georeference.match", point=used[0]["name"], target=0)
    assert (
        figures["used"] == len(used)
        and next(r for r in figures["rows"] if r["name"] == used[0]["name"])["matched"] is False
    )
    figures = must(copied, row, "georeference.match", point=used[0]["name"], target=used[0]["targets"][0])
    assert figures["used"] == len(used) + 1
    must(copied, row, "georeference.drop_target", target=used[1]["targets"][0])
    assert opened(copied, row).get("target", used[1]["targets"][0])["dropped"]
    for point in [r["name"] for r in used[2:]] + [check["name"]]:
        entry = perform(copied, row, "georeference.match", point=point, target=0)
    assert entry.state == "failed" and "at least three" in entry.message


@pytest.mark.parametrize(
    ("factor", "unit", "words"),
    [(0.3048, "metre", "international foot or US survey foot"), (1.0, "millimetre", "looks like")],
)
def test_control_in_another_unit_is_loud(copied, field, tmp_path, factor, unit, words):
    lines = (field / "settegradini-control.csv").read_text().splitlines()
    rows = [line.split(",") for line in lines[2:]]
    text = "\n".join(
        [lines[1], *(",".join([r[0], *(f"{float(v) / factor:.5f}" for v in r[1:5]), r[5]]) for r in rows)]
    )
    (tmp_path / "feet.csv").write_text(text)
    row = queries.job_by(name="Whole")
    entry = perform(copied, row, "georeference.control", control=str(tmp_path / "feet.csv"), unit=unit)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}"
    if factor != 1.0:
        assert (
            must(
                copied,
                row,
                "georeference.control",
                control=str(tmp_path / "feet.csv"),
                unit="international foot",
            )["rms_mm"]
            < 3
        )


def test_levelling_without_control(copied):
    row = queries.job_by(name="Whole")
    origin = opened(copied, row).scan(1).pose[:3, 3].tolist()
    figures = must(copied, row, "georeference.level", origin=origin)
    job = opened(copied, row)
    assert abs(figures["tilt_deg"]) < 0.2 and np.allclose(
        rigid.apply(job.frame, np.array([origin]))[0], 0, atol=1e-9
    )
    assert job.get("frame")["how"] == "level"


def test_classes_before_and_after(reading):
    last = [e for e in queries.done_entries(reading.row) if e.operation == "classify.height_bands"][
        -1
    ].figures["classes"]
    kept = sum(int(reading.cloud(s.id).kept().sum()) for s in reading.scans())
    assert sum(r["before"] for r in last) == sum(r["after"] for r in last) == kept
    assert {r["code"] for r in last} >= {1, 2, 3, 4, 5} and sum(r["share"] for r in last) == pytest.approx(
        1.0
    )


def test_ground_and_colour_against_the_truth(reading, field):
    """Points joined to the simulated truth by their place in the grid: ground F1, and mixed pixels among what
    was cut.
    """
    hit = miss = false = 0
    built = np.zeros(256, np.int64)
    for k, scan in enumerate(reading.scans()):
        truth, cloud = np.load(field / "truth" / f"scan{k + 1}.npz"), reading.cloud(scan.id)
        key = truth["row"].astype(np.int64) << 20 | truth["column"]
        order = np.argsort(key)
        index = order[
            np.searchsorted(key[order], cloud.read("row").astype(np.int64) << 20 | cloud.read("column"))
        ]
        use = cloud.kept() & (truth["kind"][index] == 0) & ~truth["moved"][index]
        is_ground, said = truth["code"][index][use] == 2, np.asarray(cloud.read("class"))[use] == 2
        hit, miss, false = (
            hit + (is_ground & said).sum(),
            miss + (is_ground & ~said).sum(),
            false + (~is_ground & said).sum(),
        )
        house = truth["code"][index][use] == 6
        built += np.bincount(np.asarray(cloud.read("class"))[use][house], minlength=256)
        assert np.asarray(cloud.read("photo_rgb")).any(1).mean() > 0.8
    assert 0.8 < built[6] / built.sum() < 1 and built[[3, 4, 5]].sum() < 0.2 * built.sum(), built[:7]
    assert 2 * hit / (2 * hit + miss + false) > 0.93


def test_recipes_are_written_and_read_again(reading, tmp_path):
    entries = recipe.entries_of(reading.row)
    (tmp_path / "r.toml").write_text(recipe.write(entries, "Größe"), encoding="utf-8")
    steps, original = (recipe.read(str(p)).steps for p in (tmp_path / "r.toml", RECIPE))
    assert [s.operation for s in steps] == [s.operation for s in original]
    assert next(s for s in steps if s.operation == "georeference.control").params == {
        "control": "settegradini-control.csv"
    }
    assert "files" not in steps[0].params


def test_bound_steps_stay_out_of_recipes_unless_asked(copied):
    row = queries.job_by(name="Whole")
    must(copied, row, "register.set_pose", scan=3, x=4200, y=8830, z=315, heading_deg=5)
    entries = recipe.entries_of(row)
    assert "register.set_pose" not in recipe.write(entries, "t") and "register.set_pose" in recipe.write(
        entries, "t", bound=True
    )


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "needs \\[\\[step\\]\\]"),
        ("[[step]]\n", "names no operation"),
        ("[[step]]\noperation = 'clean.outlier'\n", "no operation “clean.outlier”"),
        ("x = [", "not valid TOML"),
        ("[[step]]\noperation = 'clean.outliers'\nneighbours = 0\n", "Step 1 of the recipe"),
        ("other = 1\n[[step]]\noperation = 'clean.outliers'\n", "knows no “other”"),
    ],
)
def test_bad_recipes_are_refused_before_they_start(tmp_path, text, words):
    from terrazza.errors import TerrazzaError

    (tmp_path / "bad.toml").write_text(text)
    with pytest.raises(TerrazzaError, match=words):
        recipe.filled(recipe.read(str(tmp_path / "bad.toml")), {})


def test_scans_are_renamed_removed_and_put_back(copied):
    from terrazza.operations.spine import fieldbook

    row = queries.job_by(name="Whole")
    must(copied, row, "import.edit_scan", scan=2, name="Est wing")
    assert "Another scan" in perform(copied, row, "import.edit_scan", scan=3, name="Est wing").message
    must(copied, row, "import.remove_scan", scan=2)
    assert 2 not in {s.id for s in opened(copied, row).scans()}
    fieldbook.undo(queries.done_entries(row)[-1])
    job = opened(copied, row)
    assert job.scan(2).name == "Est wing" and job.cloud(2).count == job.scan(2).points
    assert os.path.isdir(job.scan_folder(2))
