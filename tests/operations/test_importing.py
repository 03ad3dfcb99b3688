"""Import in depth: every format into a job, choices, test imports, and repairs as data."""

import numpy as np
import pytest
from PIL import Image
from plyfile import PlyData
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid
from terrazza.core.geometry.axes import UPRIGHT, Axes
from terrazza.errors import ParamsError
from terrazza.formats import e57_writer
from terrazza.units import metres_per
from tests.conftest import REFERENCES
from tests.run import must, opened, perform
from tests.scenes import PLACES, room_poses, scan_room, write_room


def all_xyz(job, number=1):
    """Every point in the job frame, in an order of its own."""
    scan, cloud = job.scan(number), job.cloud(number)
    return rigid.apply(scan.pose if scan.pose is not None else np.eye(4), cloud.xyz(0, scan.points))


def apart(a, b) -> float:
    """The largest distance between points of two sets that belong together one to one."""
    away, which = cKDTree(a).query(b)
    assert len(a) == len(b) == len(np.unique(which))
    return float(away.max())


@pytest.mark.parametrize(
    ("name", "points", "columns"),
    [
        ("pcl/bun0.xyz", 397, set()),
        ("pcl/bun0.pcd", 397, {"extra.curvature"}),
        ("cgal/b9_training.ply", 22300, {"extra.label"}),
        ("laspy/simple.copc.laz", 1065, {"native_rgb", "time"}),
        ("laspy/simple.las", 1065, {"native_rgb", "time"}),
        ("e57/bunnyFloat.e57", 30571, set()),
    ],
)
def test_formats_become_scans(workspace, row, name, points, columns):
    figures = must(workspace, row, "import.files", files=[str(REFERENCES / name)])
    job = opened(workspace, row)
    assert figures["points"] == points == job.scan(1).points and columns <= {
        k.split("/")[1] for k in job.facts("column")
    } | set(job.scan(1).record["constants"])
    other = {
        "xyz": lambda p: np.loadtxt(p)[:, :3],
        "ply": lambda p: np.stack([PlyData.read(p)["vertex"][a] for a in "xyz"], 1),
    }.get(name[-3:])
    assert other is None or apart(all_xyz(job), other(REFERENCES / name)) < 0.9e-5


@pytest.mark.parametrize("up", ["+y", "-z", "-x"])
@pytest.mark.parametrize("unit", ["international foot", "inch"])
def test_unit_and_axes_turn_scans_photos_and_poses_alike(workspace, row, tmp_path, up, unit):
    """The same room, once upright in metres and once turned in another unit, must come out as the
    same room.
    """
    axes, factor = Axes.named(UPRIGHT[up]), metres_per(unit)
    back = np.eye(4)
    back[:3, :3] = axes.matrix.T
    data = scan_room(rigid.make(np.eye(3), PLACES[0]), 60, 120)
    pose = rigid.make(rigid.about_z(0.7), np.array([3.0, -2.0, 1.0]))
    turned = back @ pose @ back.T
    turned[:3, 3] /= factor
    with e57_writer.Writer(str(tmp_path / "t.e57")) as out:
        out.add_scan(
            "A",
            [data | {"xyz": data["xyz"] @ axes.matrix / factor}],
            ["xyz", "intensity", "row", "column"],
            pose=turned,
            grid=(60, 120),
            scale=1e-6,
        )
        out.add_scan(
            "B",
            [data | {"xyz": data["xyz"] @ axes.matrix / factor}],
            ["xyz", "intensity", "row", "column"],
            pose=np.eye(4),
            grid=(60, 120),
            scale=1e-6,
        )
    must(workspace, row, "import.files", files=[str(tmp_path / "t.e57")], unit=unit, axes=UPRIGHT[up])
    job = opened(workspace, row)
    assert np.allclose(job.scan(1).pose, pose, atol=1e-9)
    assert apart(all_xyz(job, 2), data["xyz"]) < 2e-6


def test_every_nth_point_and_ranges_then_completed(workspace, row, tmp_path):
    write_room(tmp_path / "r.e57", posed=True)
    figures = must(
        workspace, row, "import.files", files=[str(tmp_path / "r.e57")], every=10, take=["1:1", "1:2"]
    )
    job = opened(workspace, row)
    assert (
        job.scan(1).points == 5400 and job.scan(1).record["grid"] is None and "as a test" in figures["says"]
    )
    must(
        workspace,
        row,
        "import.edit_scan",
        scan=1,
        name="Named",
        block="house / upper floor",
        notes="by the door",
        captured="2026-05-04 10:12",
    )
    must(workspace, row, "clean.outliers")
    done = must(workspace, row, "import.complete", scans=[1])
    job = opened(workspace, row)
    scan = job.scan(1)
    assert (scan.points, job.scan(2).points, scan.name, scan.record["grid"]) == (
        54000,
        5400,
        "Named",
        [150, 360],
    ) and done["rows"][0]["before"] == 5400
    assert (
        scan.record["block"] == "house/upper floor"
        and scan.record["notes"] == "by the door"
        and scan.pose is not None
    )
    assert "cuts" in done["notes"][0] and not job.get("column", "1/cut") and job.get("column", "2/cut")
    assert apart(all_xyz(job), rigid.apply(room_poses()[0], scan_room(room_poses()[0], seed=0)["xyz"])) < 2e-5
    assert perform(workspace, row, "import.complete", scans=[1]).state == "failed"


@pytest.mark.parametrize(("nearest", "farthest"), [(0, 2.5), (2.0, 0), (1.5, 3.0)])
def test_ranges_are_kept(workspace, row, tmp_path, nearest, farthest):
    write_room(tmp_path / "r.e57")
    figures = must(
        workspace,
        row,
        "import.files",
        files=[str(tmp_path / "r.e57")],
        take=["1:1"],
        nearest=nearest,
        farthest=farthest,
    )
    away = np.linalg.norm(scan_room(room_poses()[0], seed=0)["xyz"], axis=1)
    inside = (away >= nearest) & (away <= (farthest or np.inf))
    assert (
        abs(figures["points"] - inside.sum()) <= 2
        and figures["rows"][0]["beyond"] == 54000 - figures["points"]
        and figures["dropped"] == 0
    )


def test_repairs_are_data(workspace, row, tmp_path):
    lines = [f"{k % 40} {k // 40} {1.5} {k} 10 20 30" for k in range(4000)]
    lines[3], lines[2100], lines[5] = "nan 0 0 1 2 3 4", "what", "1 2 3 4 5 6 900"
    (tmp_path / "a b é.xyz").write_text("\n".join(lines))
    figures = must(
        workspace,
        row,
        "import.files",
        files=[str(tmp_path / "a b é.xyz")],
        columns="x y z intensity red green blue",
    )
    found = {r["code"]: (r["count"], r["scan"]) for r in figures["repairs"]}
    assert found.pop("unreadable") == (1, 1) and found.pop("not_finite") == (1, 1) and figures["dropped"] == 2
    assert set(found) <= {"colour_range", "bounds", "count"} and any(
        "could not be read" in n for n in figures["notes"]
    )
    twice = must(workspace, row, "import.files", files=[str(tmp_path / "a b é.xyz")])
    assert any(r["code"] == "name" for r in twice["repairs"])


def test_broken_files_take_nothing_with_them(workspace, row, tmp_path):
    write_room(tmp_path / "good.e57")
    data = (tmp_path / "good.e57").read_bytes()
    (tmp_path / "cut.e57").write_bytes(data[: len(data) // 2])
    (tmp_path / "empty.las").write_bytes(b"")
    files = [str(tmp_path / n) for n in ("cut.e57", "good.e57", "empty.las")]
    refused = perform(workspace, row, "import.files", files=files)
    assert refused.state == "failed" and "cut.e57" in refused.message and not opened(workspace, row).scans()
    figures = must(workspace, row, "import.files", files=files, broken="leave out")
    assert figures["scans"] == 3 and sorted(r["name"] for r in figures["repairs"] if r["code"] == "scan") == [
        "cut.e57",
        "empty.las",
    ]
    nothing = perform(workspace, row, "import.files", files=[files[0], files[2]], broken="leave out")
    assert nothing.state == "failed" and "None of the files" in nothing.message


def test_a_scan_damaged_inside_is_left_out_alone(workspace, row, tmp_path):
    """One scan's packets are overwritten; the others of the file come in."""
    write_room(tmp_path / "r.e57")
    data = bytearray((tmp_path / "r.e57").read_bytes())
    data[len(data) // 3 : len(data) // 3 + 4000] = b"\xff" * 4000
    (tmp_path / "r.e57").write_bytes(bytes(data))
    assert perform(workspace, row, "import.files", files=[str(tmp_path / "r.e57")]).state in {
        "failed",
        "done",
    }
    figures = must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")], broken="leave out")
    assert figures["scans"] >= 2


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"axes": "x x y"}, "no order of axes"),
        ({"nearest": 5, "farthest": 3}, "not beyond"),
        ({"every": 0}, "greater than or equal"),
    ],
)
def test_choices_that_cannot_be(workspace, row, tmp_path, params, words):
    write_room(tmp_path / "r.e57")
    with pytest.raises((ParamsError, AssertionError), match=words):
        must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")], **params)


def test_each_file_has_its_own_unit(workspace, row, tmp_path):
    for name, factor in (("a", 1.0), ("b", 1000.0), ("c", 1 / 0.3048)):
        np.savetxt(
            tmp_path / f"{name}.xyz", np.random.default_rng(1).uniform(0, 8, (300, 3)) * factor, fmt="%.5f"
        )
    must(
        workspace,
        row,
        "import.files",
        files=[str(tmp_path / f"{n}.xyz") for n in "abc"],
        units=["", "2:millimetre", "3:international foot"],
    )
    job = opened(workspace, row)
    assert apart(all_xyz(job, 1), all_xyz(job, 2)) < 2e-5 and apart(all_xyz(job, 1), all_xyz(job, 3)) < 2e-5
    for words in ("4:metre", "2:foot", "millimetre"):
        assert (
            "is not file:unit"
            in perform(workspace, row, "import.files", files=[str(tmp_path / "a.xyz")], units=[words]).message
        )


@pytest.mark.parametrize(
    ("name", "gain", "start"), [("pts", 1.0, -2048.0), ("xyz", 1 / 65535, 0.0), ("csv", 1.0, 0.0)]
)
def test_the_files_own_intensities_are_read_back(workspace, row, tmp_path, name, gain, start):
    """Whatever 16 bits hold, a pick tells the value that the file has."""
    from terrazza.web.contexts import picking

    rng, path = np.random.default_rng(2), tmp_path / f"i.{name}"
    values = {
        "pts": rng.integers(-2048, 2048, 500),
        "xyz": rng.random(500),
        "csv": rng.integers(0, 4096, 500),
    }[name]
    lines = [
        f"{x:.3f} {y:.3f} {z:.3f} {v:.9g}" + (" 1 2 3" if name == "pts" else "")
        for (x, y, z), v in zip(rng.uniform(0, 5, (500, 3)), values)
    ]
    path.write_text("\n".join((["500"] if name == "pts" else []) + lines) + "\n")
    must(workspace, row, "import.files", files=[str(path)])
    job = opened(workspace, row)
    scan, cloud = job.scan(1), job.cloud(1)
    told = np.array([picking.told(job, scan, cloud, np.eye(4), k)["intensity_raw"] for k in range(500)])
    back = scan.record["intensity_as"]
    assert np.allclose(np.sort(told), np.sort(values), atol=max(gain, 1e-9) * 0.51) and (
        back is None if name == "csv" else np.allclose(back, (gain, start))
    )


@pytest.mark.parametrize(("width", "columns"), [(0, 360), (120, 120), (100, 90)])
def test_the_view_from_a_station_is_as_wide_as_wanted(workspace, row, tmp_path, width, columns):
    from terrazza.operations.pieces import stations

    write_room(tmp_path / "r.e57", posed=True)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")], take=["1:1"], view_width=width)
    view = stations.view(opened(workspace, row), 1)
    assert view.index.shape[1] == columns and (view.index >= 0).mean() > 0.95
    must(workspace, row, "import.edit_scan", scan=1, view_width=0)
    assert stations.view(opened(workspace, row), 1).index.shape == (150, 360)


def test_photos_are_added_turned_and_taken_away(workspace, row, tmp_path):
    """A photo that shows the scan's own directions colours its points with them; turned, it colours others;
    taken away, it is gone until undone.
    """
    rows, columns = 150, 360
    write_room(tmp_path / "r.e57", posed=True, rows=rows, columns=columns)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")], take=["1:1"])
    azimuth = np.pi - 2 * np.pi * (np.arange(512) + 0.5) / 512
    picture = np.zeros((256, 512, 3), np.uint8)
    picture[..., 0] = np.rint(127.5 + 127.5 * np.cos(azimuth))
    picture[..., 1] = np.rint(127.5 + 127.5 * np.sin(azimuth))
    Image.fromarray(picture).save(tmp_path / "pano.png")
    Image.fromarray(picture[:, :500]).save(tmp_path / "narrow.png")
    assert (
        "twice as wide"
        in perform(workspace, row, "import.add_photo", scan=1, picture=str(tmp_path / "narrow.png")).message
    )
    assert (
        must(workspace, row, "import.add_photo", scan=1, picture=str(tmp_path / "pano.png"))["photo"] == "1-0"
    )
    for turn in (0, 90):
        if turn:
            must(workspace, row, "import.edit_photo", photo="1-0", turn_deg=turn, name="Turned")
        must(workspace, row, "colorize.photos", even=False)
        job = opened(workspace, row)
        xyz, rgb = job.cloud(1).xyz(), job.cloud(1).read("photo_rgb").astype(float)
        seen = np.arctan2(xyz[:, 1], xyz[:, 0]) - np.radians(turn)
        lit = rgb.any(1)
        assert (
            lit.mean() > 0.9
            and np.abs(rgb[lit, 0] - 127.5 - 127.5 * np.cos(seen[lit])).max() < 4
            and np.abs(rgb[lit, 1] - 127.5 - 127.5 * np.sin(seen[lit])).max() < 4
        )
    assert (
        job.get("photo", "1-0")["name"] == "Turned"
        and "nothing to change" in perform(workspace, row, "import.edit_photo", photo="1-0").message
    )
    must(workspace, row, "import.edit_photo", photo="1-0", remove=True)
    assert (
        not opened(workspace, row).facts("photo")
        and "no photo 1-0" in perform(workspace, row, "import.edit_photo", photo="1-0").message
    )
