"""LAS and LAZ against laspy on files written by other software, and what we write against laspy, value by
value.
"""

import laspy
import numpy as np
import pytest
from pyproj import CRS

from terrazza import formats
from terrazza.errors import InputError
from terrazza.formats import las, las_writer, naming, systems
from tests.conftest import REFERENCES

FILES = REFERENCES / "laspy"
READABLE = [
    "1_4_w_evlr.las",
    "1_4_w_evlr.laz",
    "autzen.las",
    "extra.laz",
    "extrabytes.las",
    "plane.laz",
    "simple.las",
    "simple.laz",
    "simple1_1.las",
    "simple.copc.laz",
    "unregistered_extra_bytes.las",
    "vegetation_1_3.las",
]


def whole(path, chunk=1_000_000):
    chunks = list(las.read_points(str(path), chunk=chunk))
    return {k: np.concatenate([c[k] for c in chunks]) for k in chunks[0]}


@pytest.mark.parametrize("name", READABLE)
@pytest.mark.parametrize("chunk", [137, 1_000_000])
def test_every_value_is_that_of_laspy(name, chunk):
    truth, got = laspy.read(FILES / name), whole(FILES / name, chunk)
    assert (got["position"] == np.stack([truth.X, truth.Y, truth.Z], 1)).all()
    assert (got["intensity"] == truth.intensity).all() and (
        got["class"] == np.asarray(truth.classification)
    ).all()
    assert ((got["returns"] & 15) == np.asarray(truth.return_number)).all() and (
        (got["returns"] >> 4) == np.asarray(truth.number_of_returns)
    ).all()
    seen = {
        "X",
        "Y",
        "Z",
        "intensity",
        "classification",
        "return_number",
        "number_of_returns",
        "gps_time",
        "red",
        "green",
        "blue",
    }
    for dimension in truth.point_format.dimension_names:
        if dimension not in seen:
            assert (got[f"extra.{dimension}"] == np.asarray(truth[dimension])).all(), (
                f"{dimension} is lost or changed"
            )
    if "gps_time" in set(truth.point_format.dimension_names):
        assert (got["time"] == np.asarray(truth.gps_time)).all()


@pytest.mark.parametrize("name", ["simple.las", "simple.laz", "simple1_1.las", "simple.copc.laz"])
def test_one_cloud_in_several_encodings(name):
    """laspy 2.7 test data: 1,065 points, x 635619.85 to 638982.55, y 848899.70 to 853535.43, z 406.59 to
    586.38, classes 1: 789, 2: 276.
    """
    got = whole(FILES / name)
    scale, offset = las.coordinates(str(FILES / name))
    xyz = got["position"] * scale + offset
    assert len(xyz) == 1065 == formats.look(str(FILES / name)).scans[0].points
    assert np.allclose(xyz.min(0), [635619.85, 848899.70, 406.59]) and np.allclose(
        xyz.max(0), [638982.55, 853535.43, 586.38]
    )
    assert np.bincount(got["class"]).tolist() == [0, 789, 276]


def test_a_tiny_scale_is_kept():
    assert (
        las.coordinates(str(FILES / "1_4_w_evlr.las"))[0].min()
        == laspy.open(FILES / "1_4_w_evlr.las").header.scales.min()
    )


def test_units_come_from_the_coordinate_system():
    """autzen.las: EPSG:2994, international feet."""
    found = formats.look(str(FILES / "autzen.las"))
    assert found.unit == "international foot" and systems.metres_per_unit(found.crs_wkt) == pytest.approx(
        0.3048, abs=1e-12
    )
    assert systems.metres_per_unit("") == 1.0 and systems.metres_per_unit("nonsense") == 1.0
    assert systems.metres_per_unit(CRS.from_epsg(4326).to_wkt()) == 1.0


@pytest.mark.parametrize(
    ("name", "share"),
    [("simple.las", 0.0), ("simple.las", 0.003), *(("simple.laz", s) for s in (0.0, 0.05, 0.5, 0.95))],
)
def test_truncated_files_are_refused_in_words(tmp_path, name, share):
    data, path = (FILES / name).read_bytes(), tmp_path / name
    path.write_bytes(data[: int(len(data) * share)])
    with pytest.raises(InputError, match=name) as caught:
        formats.look(str(path))
        whole(path)
    assert caught.value.hint


@pytest.mark.parametrize("share", [0.05, 0.5, 0.95])
def test_uncompressed_files_cut_off_give_what_is_there(tmp_path, share):
    data, path = (FILES / "simple.las").read_bytes(), tmp_path / "simple.las"
    path.write_bytes(data[: int(len(data) * share)])
    found, there = formats.look(str(path)), whole(FILES / "simple.las")
    n = found.scans[0].points
    assert (
        n == (int(len(data) * share) - (len(data) - 1065 * 34)) // 34
        and found.repairs[0].code == "count"
        and found.repairs[0].count == 1065 - n
    )
    assert np.array_equal(whole(path)["position"], there["position"][:n])


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.e57", b"", "empty"),
        ("b.las", b"hello there", "does not begin with three numbers"),
        ("c.bin", b"\0\1 2 3\n", "neither E57"),
        ("d.las", b"LASF", "cannot be read"),
    ],
)
def test_files_of_no_known_kind(tmp_path, name, content, words):
    (tmp_path / name).write_bytes(content)
    with pytest.raises(InputError, match=words):
        formats.look(str(tmp_path / name))


def test_missing_files_and_folders(tmp_path):
    with pytest.raises(InputError, match="not there"):
        formats.look(str(tmp_path / "nothing.las"))
    with pytest.raises(InputError, match="folder"):
        formats.look(str(tmp_path))


@pytest.mark.parametrize(("ending", "n"), [(".las", 4000), (".laz", 4000), (".laz", 1_130_000)])
def test_what_we_write_is_read_by_laspy(tmp_path, ending, n):
    rng = np.random.default_rng(0)
    path = tmp_path / f"out{ending}"
    chunk = {
        "xyz": rng.uniform(0, 300, (n, 3)) + [4210, 8835, 312],
        "intensity": rng.integers(0, 65536, n).astype(np.uint16),
        "class": rng.integers(0, 20, n).astype(np.uint8),
        "rgb": rng.integers(0, 256, (n, 3)).astype(np.uint8),
        "time": rng.uniform(0, 1e6, n),
        "source": rng.integers(0, 9, n).astype(np.uint16),
        "returns": np.full(n, 2 | 3 << 4, np.uint8),
    }
    with las_writer.Writer(
        str(path), 1e-4, np.array([4300.0, 8900.0, 400.0]), True, True, CRS.from_epsg(25832).to_wkt()
    ) as out:
        for part in (slice(0, 1500), slice(1500, n // 2), slice(n // 2, n)):
            out.write({k: v[part] for k, v in chunk.items()})
    read = laspy.read(path)
    assert str(read.header.version) == "1.4" and read.header.parse_crs().to_epsg() == 25832
    assert np.abs(np.asarray(read.xyz) - chunk["xyz"]).max() <= 0.5e-4 + 1e-9
    for mine, theirs in (
        ("intensity", "intensity"),
        ("class", "classification"),
        ("time", "gps_time"),
        ("source", "point_source_id"),
    ):
        assert (np.asarray(read[theirs]) == chunk[mine]).all()
    assert (np.stack([read.red, read.green, read.blue], 1) == chunk["rgb"].astype(int) * 257).all()
    assert (
        np.allclose(
            [read.header.mins, read.header.maxs], [np.asarray(read.xyz).min(0), np.asarray(read.xyz).max(0)]
        )
        and read.header.number_of_points_by_return[1] == n
    )
    assert (np.asarray(read.return_number) == 2).all() and (np.asarray(read.number_of_returns) == 3).all()


def test_a_broken_write_leaves_nothing(tmp_path):
    with pytest.raises(RuntimeError), las_writer.Writer(str(tmp_path / "x.laz"), 0.001, np.zeros(3)):
        raise RuntimeError("power")
    assert list(tmp_path.iterdir()) == []


@pytest.mark.parametrize(
    ("deep", "colour", "shallow"), [(True, [0, 256, 65535], [0, 1, 255]), (False, [0, 17, 255], [0, 17, 255])]
)
def test_colour_of_eight_bits(deep, colour, shallow):
    assert naming.eight_bit(np.array(colour, np.uint16), deep).tolist() == shallow


@pytest.mark.parametrize("name", ["simple.las", "simple.laz", "plane.laz"])
@pytest.mark.parametrize(("start", "stop"), [(0, 7), (100, 900), (1000, None)])
def test_a_file_is_read_from_the_middle(name, start, stop):
    part = np.concatenate(
        [c["position"] for c in las.read_points(str(FILES / name), start=start, stop=stop, chunk=300)]
        or [np.zeros((0, 3), np.int32)]
    )
    assert (part == whole(FILES / name)["position"][start:stop]).all()


@pytest.mark.parametrize("ending", [".las", ".laz"])
def test_pieces_encoded_apart_make_the_file_that_is_streamed(tmp_path, ending):
    """Wherever a piece is encoded, and on however many threads, the file has the same bytes."""
    rng = np.random.default_rng(1)
    n, step = 130_000, las_writer.CHUNK
    chunk = {
        "position": rng.integers(-(10**6), 10**6, (n, 3)).astype(np.int32),
        "intensity": rng.integers(0, 65536, n).astype(np.uint16),
        "class": np.full(n, 2, np.uint8),
    }
    parts = [
        {name: values[start : start + step] for name, values in chunk.items()} for start in range(0, n, step)
    ]
    with las_writer.Writer(str(tmp_path / f"a{ending}"), 0.001, np.zeros(3)) as streamed:
        for part in parts:
            streamed.write(part)
    with las_writer.Writer(str(tmp_path / f"b{ending}"), 0.001, np.zeros(3)) as pieced:
        for k, part in enumerate(parts):
            pieced.put(pieced.layout.encoded([part], threads=bool(k % 2)))
    assert (tmp_path / f"a{ending}").read_bytes() == (tmp_path / f"b{ending}").read_bytes()
    read = laspy.read(tmp_path / f"b{ending}")
    assert (np.stack([read.X, read.Y, read.Z], 1) == chunk["position"]).all() and read.header.point_count == n


def test_a_short_piece_can_only_be_the_last(tmp_path):
    part = {"position": np.zeros((70, 3), np.int32)}
    with (
        pytest.raises(ValueError, match="whole chunks"),
        las_writer.Writer(str(tmp_path / "x.laz"), 0.001, np.zeros(3)) as out,
    ):
        for _ in range(2):
            out.put(out.layout.encoded([part]))
    assert list(tmp_path.iterdir()) == []


def test_a_file_without_points_is_whole(tmp_path):
    with las_writer.Writer(str(tmp_path / "none.laz"), 0.001, np.zeros(3)) as out:
        out.put(out.layout.encoded([{"xyz": np.zeros((0, 3))}]))
    read = laspy.read(tmp_path / "none.laz")
    assert len(read.x) == 0 and (read.header.mins == 0).all()
