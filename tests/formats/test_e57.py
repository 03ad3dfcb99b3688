"""E57 against files written by other software, and what we write against an independent low-level reader."""

import io

import numpy as np
import pye57
import pytest
from PIL import Image
from pye57 import libe57

from terrazza import formats
from terrazza.core.geometry import rigid
from terrazza.errors import InputError
from terrazza.formats import e57, e57_writer
from tests.conftest import REFERENCES

FILES = REFERENCES / "e57"


def whole(path, index=0):
    chunks = list(e57.read_points(str(path), index))
    return {k: np.concatenate([c[k] for c in chunks]) for k in chunks[0] if k != "repairs"}


def test_the_bunny_is_read_as_its_source_says():
    """PyPI e57 0.2.3: 30,571 points; box and centre from its header (an empty minor version among it)."""
    found = formats.look(str(FILES / "bunnyFloat.e57"))
    assert [s.points for s in found.scans] == [30571]
    xyz = whole(FILES / "bunnyFloat.e57")["xyz"]
    low, high = xyz.min(0), xyz.max(0)
    assert np.allclose(high - low, [0.155698, 0.14731, 0.120672], atol=1e-6)
    assert np.allclose((high + low) / 2, [-0.016840, 0.113666, -0.001537], atol=1e-6)


def test_intensity_and_colour_of_a_file_from_elsewhere():
    """pipeSpherical: 1,220 points with intensity 0.39350566 to 0.5554979 and colour."""
    found = formats.look(str(FILES / "pipeSpherical.e57")).scans[0]
    assert found.points == 1220
    data = whole(FILES / "pipeSpherical.e57")
    assert len(data["xyz"]) == 1220 and data["native_rgb"].shape == (1220, 3)
    raw = pye57.E57(str(FILES / "pipeSpherical.e57")).read_scan_raw(0)
    order = np.argsort(raw["intensity"], kind="stable")
    assert raw["intensity"].min() == pytest.approx(0.39350566, abs=1e-6) and raw[
        "intensity"
    ].max() == pytest.approx(0.5554979, abs=1e-6)
    assert (np.diff(data["intensity"][order].astype(int)) >= 0).all() and len(
        np.unique(data["intensity"])
    ) > 20
    assert (data["native_rgb"] == np.stack([raw[f"color{c}"] for c in ("Red", "Green", "Blue")], 1)).all()


def test_spherical_points_by_the_definition():
    """ASTM E2807: x = r cos(el) cos(az), y = r cos(el) sin(az), z = r sin(el); invalid ones are dropped."""
    rng = np.random.default_rng(0)
    r, az, el = rng.uniform(1, 50, 200), rng.uniform(-np.pi, np.pi, 200), rng.uniform(-1.5, 1.5, 200)
    state = (rng.random(200) < 0.2) * 1.0
    out = e57._understood(
        {
            "sphericalRange": r,
            "sphericalAzimuth": az,
            "sphericalElevation": el,
            "sphericalInvalidState": state,
        },
        None,
        {},
    )
    good = state == 0
    assert sum(out["repairs"].values()) == (~good).sum()
    assert np.allclose(np.linalg.norm(out["xyz"], axis=1), r[good]) and np.allclose(
        np.arctan2(out["xyz"][:, 1], out["xyz"][:, 0]), az[good]
    )
    assert np.allclose(np.arcsin(out["xyz"][:, 2] / r[good]), el[good])


@pytest.mark.parametrize("name", ["empty.e57", "invalid.e57", "justxml.e57"])
def test_broken_files_are_refused_in_words(name):
    with pytest.raises(InputError, match=name) as caught:
        formats.look(str(FILES / name))
    assert caught.value.hint


@pytest.mark.parametrize("share", [0.001, 0.02, 0.3, 0.7, 0.99])
def test_truncated_files_are_refused_in_words(tmp_path, share):
    whole_file = (FILES / "bunnyFloat.e57").read_bytes()
    path = tmp_path / "cut off.e57"
    path.write_bytes(whole_file[: int(len(whole_file) * share)])
    with pytest.raises(InputError, match="cut off.e57"):
        formats.look(str(path))
        list(e57.read_points(str(path), 0))


def sample(n=5000, seed=0):
    rng = np.random.default_rng(seed)
    return {
        "xyz": rng.uniform(-40, 40, (n, 3)),
        "intensity": rng.integers(0, 65536, n).astype(np.uint16),
        "native_rgb": rng.integers(0, 256, (n, 3)).astype(np.uint8),
        "row": np.arange(n, dtype=np.uint32) // 100,
        "column": np.arange(n, dtype=np.uint32) % 100,
        "invalid": (rng.random(n) < 0.1) * 2,
    }


@pytest.fixture
def written(tmp_path):
    data, path = sample(), tmp_path / "Zwölf Örter.e57"
    pose = rigid.make(rigid.rotation_from(np.array([0.1, -0.2, 1.3])), np.array([4210.5, 8835.25, 312.125]))
    photo = io.BytesIO()
    Image.fromarray(np.zeros((16, 32, 3), np.uint8)).save(photo, "JPEG")
    with e57_writer.Writer(str(path)) as out:
        guid = out.add_scan(
            "Süd",
            [{k: v[:3000] for k, v in data.items()}, {k: v[3000:] for k, v in data.items()}],
            ["xyz", "intensity", "native_rgb", "row", "column", "invalid"],
            pose,
            (50, 100),
        )
        out.add_tie(guid, out.add_scan("Nord", [data], ["xyz"]), 0.0021, 0.4)
        out.add_image(photo.getvalue(), "spherical", 32, 16, guid, pose, "Süd photo")
    return path, data, pose, photo.getvalue()


def test_what_we_write_is_read_back_by_an_independent_reader(written):
    path, data, pose, _ = written
    file = pye57.E57(str(path))
    assert file.scan_count == 2
    header = file.get_header(0)
    assert np.allclose(header.rotation_matrix, pose[:3, :3], atol=1e-12) and np.allclose(
        header.translation, pose[:3, 3], atol=1e-12
    )
    read = file.read_scan_raw(0)
    for k, axis in enumerate("XYZ"):
        assert np.abs(read[f"cartesian{axis}"] - data["xyz"][:, k]).max() <= 0.5e-5 + 1e-9
    assert (read["intensity"] == data["intensity"]).all() and (
        read["cartesianInvalidState"] == data["invalid"]
    ).all()
    assert (read["rowIndex"] == data["row"]).all() and (read["columnIndex"] == data["column"]).all()
    for k, name in enumerate(("colorRed", "colorGreen", "colorBlue")):
        assert (read[name] == data["native_rgb"][:, k]).all()


def test_what_we_write_we_read(written):
    path, data, pose, photo = written
    found = formats.look(str(path))
    assert (
        [s.name for s in found.scans] == ["Süd", "Nord"]
        and found.scans[0].grid == (50, 100)
        and found.ties == [(0, 1)]
    )
    assert np.allclose(found.scans[0].pose, pose) and found.scans[1].pose is None
    assert found.images[0].scan_guid == found.scans[0].guid and np.allclose(found.images[0].pose, pose)
    assert e57.read_image(str(path), found.images[0]) == photo
    got, good = whole(path), data["invalid"] == 0
    assert np.abs(got["xyz"] - data["xyz"][good]).max() < 1e-5
    for name in ("intensity", "native_rgb", "row", "column"):
        assert (got[name] == data[name][good]).all()
    assert sum(sum(c["repairs"].values()) for c in e57.read_points(str(path), 0)) == (~good).sum()


@pytest.mark.parametrize("chunk", [777, 100_000])
def test_chunks_give_the_same_points(written, chunk):
    got = np.concatenate([c["xyz"] for c in e57.read_points(str(written[0]), 1, chunk)])
    assert len(got) == 5000 and np.abs(got - written[1]["xyz"]).max() < 1e-5


@pytest.mark.parametrize("raw", [True, False])
@pytest.mark.parametrize(("every", "chunk"), [(2, 777), (7, 100_000), (4000, 900)])
def test_every_so_many_points_with_the_extent_of_all(written, every, chunk, raw):
    all_of, some = whole(written[0]), list(e57.read_points(str(written[0]), 0, chunk, raw=raw, every=every))
    scale, offset = map(np.array, e57.coordinates(str(written[0]), 0)) if raw else (1.0, 0.0)
    got = np.concatenate([c["position" if raw else "xyz"] for c in some]) * scale + offset
    assert (
        np.allclose(got, all_of["xyz"][::every], atol=1e-9)
        and (np.concatenate([c["intensity"] for c in some]) == all_of["intensity"][::every]).all()
    )
    assert sum(c["seen"] for c in some) == len(all_of["xyz"]) and sum(
        c["repairs"]["invalid"] for c in some
    ) == 5000 - len(all_of["xyz"])
    for bound, of in (("low", np.min), ("high", np.max)):
        assert np.allclose(of([c[bound] for c in some], 0) * scale + offset, of(all_of["xyz"], 0), atol=1e-9)
    assert not {"row", "time"} & set(some[0]) and "column" in some[0]


@pytest.mark.parametrize("poses", [[np.eye(4)] * 3, [rigid.make(rigid.about_z(1), np.ones(3))] * 2])
def test_the_same_pose_everywhere_is_none(tmp_path, poses):
    with e57_writer.Writer(str(tmp_path / "same.e57")) as out:
        for k, pose in enumerate(poses):
            out.add_scan(f"S{k}", [{"xyz": np.ones((10, 3))}], ["xyz"], pose)
    found = formats.look(str(tmp_path / "same.e57"))
    assert all(s.pose is None for s in found.scans)
    assert any("same pose" in n for n in found.notes)


def test_stations_near_each_other_in_the_grid_are_not_one(tmp_path):
    """Far from the origin, poses some metres apart differ by less than a usual share of their coordinates."""
    poses = [rigid.make(np.eye(3), np.array([600_000.0 + 3 * k, 5_100_000.0, 100.0])) for k in range(3)]
    with e57_writer.Writer(str(tmp_path / "grid.e57")) as out:
        for k, pose in enumerate(poses):
            out.add_scan(f"S{k}", [{"xyz": np.ones((10, 3))}], ["xyz"], pose)
    found = formats.look(str(tmp_path / "grid.e57"))
    assert [s.pose[0, 3] for s in found.scans] == pytest.approx([600_000, 600_003, 600_006], abs=1e-6)


def test_a_broken_write_leaves_nothing(tmp_path):
    def failing():
        yield {"xyz": np.ones((10, 3))}
        raise RuntimeError("power")

    with pytest.raises(RuntimeError), e57_writer.Writer(str(tmp_path / "x.e57")) as out:
        out.add_scan("A", failing(), ["xyz"])
    assert list(tmp_path.iterdir()) == []


def test_nan_points_are_dropped_and_counted(tmp_path):
    xyz = np.ones((10, 3))
    with e57_writer.Writer(str(tmp_path / "n.e57")) as out:
        out.add_scan("A", [{"xyz": xyz}], ["xyz"])
    assert sum(sum(c["repairs"].values()) for c in e57.read_points(str(tmp_path / "n.e57"), 0)) == 0
    raw = {"cartesianX": np.array([1.0, np.nan]), "cartesianY": np.ones(2), "cartesianZ": np.ones(2)}
    out = e57._understood(raw, None, {})
    assert len(out["xyz"]) == 1 and sum(out["repairs"].values()) == 1


@pytest.mark.parametrize("offset", [(0.0, 0.0, 0.0), (500.0, -20.0, 7.5)])
def test_whole_numbers_are_read_as_they_are_stored(tmp_path, offset):
    """Integers times scale plus offset are the coordinates that pye57 reads, to the bit."""
    rng = np.random.default_rng(4)
    with e57_writer.Writer(str(tmp_path / "w.e57")) as out:
        out.add_scan(
            "A",
            [
                {
                    "xyz": rng.normal(0, 20, (5000, 3)) + offset,
                    "intensity": rng.integers(0, 65536, 5000).astype(np.uint16),
                }
            ],
            ["xyz", "intensity"],
            scale=1e-4,
            offset=offset,
        )
    scale, place = e57.coordinates(str(tmp_path / "w.e57"), 0)
    chunks = list(e57.read_points(str(tmp_path / "w.e57"), 0, chunk=700, raw=True))
    truth = pye57.E57(str(tmp_path / "w.e57")).read_scan_raw(0)
    position = np.concatenate([c["position"] for c in chunks])
    assert position.dtype == np.int32 and len(chunks) == 8
    for axis, name in enumerate(("cartesianX", "cartesianY", "cartesianZ")):
        assert (position[:, axis] * scale[axis] + place[axis] == truth[name]).all()
    assert (np.concatenate([c["intensity"] for c in chunks]) == truth["intensity"]).all()


@pytest.mark.parametrize(
    ("representation", "lens"),
    [
        (
            "pinhole",
            {
                "pixelWidth": 1e-5,
                "pixelHeight": 2e-5,
                "focalLength": 0.012,
                "principalPointX": 15.5,
                "principalPointY": 7.25,
            },
        ),
        ("cylindrical", {"pixelWidth": 0.01, "pixelHeight": 0.002, "radius": 1.0, "principalPointY": 8.0}),
        ("spherical", {"pixelWidth": 0.1, "pixelHeight": 0.1}),
    ],
)
def test_pictures_keep_what_their_representation_says(tmp_path, representation, lens):
    photo = io.BytesIO()
    Image.new("RGB", (32, 16), "teal").save(photo, "PNG")
    with e57_writer.Writer(str(tmp_path / "p.e57")) as out:
        guid = out.add_scan("A", [{"xyz": np.eye(3)}], ["xyz"])
        out.add_image(photo.getvalue(), representation, 32, 16, guid, np.eye(4), "photo", lens=lens)
    image = e57.look(str(tmp_path / "p.e57")).images[0]
    assert (
        image.representation == representation
        and image.lens == pytest.approx(lens)
        and e57.read_image(str(tmp_path / "p.e57"), image) == photo.getvalue()
    )


def test_the_time_a_scan_began_is_told(tmp_path):
    """GPS seconds since 1980-01-06 (ASTM E2807), 18 leap seconds ahead of UTC since 2017: the year 2020 began
    at 1 261 872 018 s (from memory).
    """
    file = libe57.ImageFile(str(tmp_path / "t.e57"), "w")
    scans = libe57.VectorNode(file, True)
    file.root().set("data3D", scans)
    scan, proto, began = libe57.StructureNode(file), libe57.StructureNode(file), libe57.StructureNode(file)
    scans.append(scan)
    began.set("dateTimeValue", libe57.FloatNode(file, 1261872018.0))
    scan.set("guid", libe57.StringNode(file, "{A}"))
    scan.set("acquisitionStart", began)
    for axis in e57_writer.CARTESIAN:
        proto.set(axis, libe57.FloatNode(file, 0.0, libe57.E57_DOUBLE, -1e300, 1e300))
    cloud = libe57.CompressedVectorNode(file, proto, libe57.VectorNode(file, True))
    scan.set("points", cloud)
    values, buffers = np.ones(3), libe57.VectorSourceDestBuffer()
    for axis in e57_writer.CARTESIAN:
        buffers.append(libe57.SourceDestBuffer(file, axis, values, 3, True, True))
    writer = cloud.writer(buffers)
    writer.write(3)
    writer.close()
    file.close()
    assert e57.look(str(tmp_path / "t.e57")).scans[0].captured == "2020-01-01 00:00:00"
