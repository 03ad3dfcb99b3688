"""Points in text, PTX, PTS, PLY and PCD against independent readers (numpy.loadtxt, plyfile) and against
files written by other software.
"""

import struct

import numpy as np
import pytest
from plyfile import PlyData, PlyElement

from terrazza import formats
from terrazza.errors import InputError
from terrazza.formats import naming, pcd, text
from tests.conftest import REFERENCES

N = 2500


def whole(path, columns=()):
    found = formats.look(str(path), columns)
    reader, more = (
        formats.named(found.format),
        {"columns": columns} if found.mapped else {},
    )
    chunks = list(reader.read_points(str(path), 0, **more))
    repairs = {}
    for chunk in chunks:
        for code, n in chunk.pop("repairs").items():
            repairs[code] = repairs.get(code, 0) + n
    return found, {k: np.concatenate([c[k] for c in chunks]) for k in chunks[0]}, repairs


@pytest.fixture(scope="module")
def truth():
    rng = np.random.default_rng(4)
    return {
        "xyz": rng.uniform(-50, 900, (N, 3)).round(4),
        "intensity": rng.integers(0, 4096, N),
        "rgb": rng.integers(0, 256, (N, 3)),
    }


def rows(truth, order="xyzirgb", mark=" ", decimal="."):
    columns = {
        "x": truth["xyz"][:, 0],
        "y": truth["xyz"][:, 1],
        "z": truth["xyz"][:, 2],
        "i": truth["intensity"],
        "r": truth["rgb"][:, 0],
        "g": truth["rgb"][:, 1],
        "b": truth["rgb"][:, 2],
    }
    return (
        "\n".join(
            mark.join(
                (f"{columns[c][k]:.4f}" if c in "xyz" else f"{columns[c][k]}").replace(".", decimal)
                for c in order
            )
            for k in range(N)
        )
        + "\n"
    )


@pytest.mark.parametrize(
    ("head", "order", "mark", "decimal", "columns"),
    [
        ("", "xyzirgb", " ", ".", ""),
        ("", "xyzrgb", "\t", ".", ""),
        ("X,Y,Z,Intensity,R,G,B\n", "xyzirgb", ",", ".", ""),
        ("# x y z intensity\n", "xyzi", " ", ".", ""),
        ("northing;easting;height;red;green;blue\n", "yxzrgb", ";", ",", ""),
        ("", "zyx", " ", ".", "z y x"),
        ("some words\n", "xyzirgb", "  ", ".", "x y z intensity - - -"),
        ("", "xyzi", " ", ",", ""),
        ("\ufeffx\ty\tz\treflectance\n", "xyzi", "\t", ",", ""),
        (f"{N}\n", "xyzirgb", " ", ".", ""),
    ],
)
def test_text_with_any_columns(tmp_path, truth, head, order, mark, decimal, columns):
    path = tmp_path / "pünkte 1.txt"
    path.write_text(head + rows(truth, order, mark, decimal), encoding="utf-8")
    found, got, repairs = whole(path, tuple(columns.split()))
    assert np.allclose(got["xyz"], truth["xyz"], atol=1e-9) and not repairs
    assert abs(found.scans[0].points - N) <= N * 0.02 and found.format == (
        "PTS" if head == f"{N}\n" else "text"
    )
    if "i" in order:
        assert (got["intensity"] == truth["intensity"]).all()
    assert ("native_rgb" in got) == ("r" in order and "-" not in columns) and (
        "native_rgb" not in got or (got["native_rgb"] == truth["rgb"]).all()
    )


def test_text_like_numpy_reads_it():
    path = REFERENCES / "pcl" / "bun0.xyz"
    assert np.array_equal(whole(path)[1]["xyz"], np.loadtxt(path)[:, :3])


def test_lines_that_cannot_be_read_are_counted(tmp_path, truth):
    lines = rows(truth).splitlines()
    lines[7], lines[900], lines[1700] = "broken", "1 2", "nan 4 5 6 7 8 9"
    (tmp_path / "p.xyz").write_text("\n".join(lines))
    _, got, repairs = whole(tmp_path / "p.xyz")
    assert repairs == {"unreadable": 2, "not_finite": 1} and len(got["xyz"]) == N - 3


@pytest.mark.parametrize(
    ("values", "stored"),
    [
        ([-2048, 0, 2047], [0, 2048, 4095]),
        ([0.0, 0.25, 1.0], [0, 16384, 65535]),
        ([0, 200, 65535], [0, 200, 65535]),
        ([0, 65535, 131070], [0, 32768, 65535]),
    ],
)
def test_intensity_is_kept_or_spread(values, stored):
    how = naming.tones({"intensity": np.array(values)})
    assert (
        naming.chunk({"x": np.ones(3), "y": np.ones(3), "z": np.ones(3), "intensity": np.array(values)}, how)[
            "intensity"
        ].tolist()
        == stored
    )


def test_values_out_of_range_are_mended_and_counted():
    named = {
        "x": np.ones(4),
        "y": np.ones(4),
        "z": np.ones(4),
        "red": [0, 300, 20, 255],
        "green": [0, 0, -1, 1],
        "blue": [9, 9, 9, np.nan],
        "class": [1, 2, 300, 0],
    }
    out = naming.chunk({k: np.array(v, float) for k, v in named.items()}, naming.Tones())
    assert (
        out["repairs"] == {"colour_range": 3, "class_range": 1}
        and out["native_rgb"].tolist() == [[0, 0, 9], [255, 0, 9], [20, 0, 9], [255, 1, 0]]
        and out["class"].tolist() == [1, 2, 255, 0]
    )


@pytest.mark.parametrize(
    ("content", "words"),
    [
        ("A B C\n", "does not begin with three numbers"),
        ("\n\n", "holds no points"),
        ("1 2 3\n4 5 6\n", "2 columns|3 columns"),
    ],
)
def test_text_that_is_no_cloud(tmp_path, content, words):
    (tmp_path / "t.txt").write_text(content)
    with pytest.raises(InputError, match=words):
        text.look(str(tmp_path / "t.txt"), ("x", "y"))


def test_preview_shows_lines_as_understood(tmp_path):
    (tmp_path / "t.csv").write_text("E;N;H\n1,5;2,25;3\n4,5;5,5;6\n")
    layout = text.sniff(str(tmp_path / "t.csv"))
    assert layout.columns == ("x", "y", "z") and layout.decimal == "," and layout.headed
    assert text.preview(str(tmp_path / "t.csv"), layout) == [["1.5", "2.25", "3"], ["4.5", "5.5", "6"]]


def ptx(truth, rows_, columns, turn, shift, cells, hole):
    c, s = np.cos(turn), np.sin(turn)
    head = [
        str(columns),
        str(rows_),
        *[f"{v} {w} {u}" for v, w, u in ((*shift,), (c, s, 0), (-s, c, 0), (0, 0, 1))],
        f"{c} {s} 0 0",
        f"{-s} {c} 0 0",
        "0 0 1 0",
        f"{shift[0]} {shift[1]} {shift[2]} 1",
    ]
    lines = []
    for k in range(rows_ * columns):
        x, y, z = truth["xyz"][k]
        more = "" if cells == 4 else " {} {} {}".format(*truth["rgb"][k])
        lines.append(
            ("0 0 0 0.5" + (" 0 0 0" if cells == 7 else ""))
            if k in hole
            else f"{x:.4f} {y:.4f} {z:.4f} {truth['intensity'][k] / 4096:.6f}{more}"
        )
    return "\n".join(head + lines) + "\n"


@pytest.mark.parametrize("cells", [4, 7])
def test_ptx_with_several_scans(tmp_path, truth, cells):
    path = tmp_path / "zwei.ptx"
    path.write_text(
        ptx(truth, 40, 30, 0.5, (10, 20, 1.5), cells, {0, 77})
        + ptx(truth, 25, 60, -1.0, (-3, 4, 0.5), cells, set())
    )
    found = formats.look(str(path))
    assert (
        [s.points for s in found.scans] == [1200, 1500]
        and [s.grid for s in found.scans] == [(40, 30), (25, 60)]
        and found.format == "PTX"
    )
    c, s = np.cos(0.5), np.sin(0.5)
    assert np.allclose(found.scans[0].pose, [[c, -s, 0, 10], [s, c, 0, 20], [0, 0, 1, 1.5], [0, 0, 0, 1]])
    chunks = [list(formats.ptx.read_points(str(path), k, chunk=500)) for k in (0, 1)]
    xyz = np.concatenate([c["xyz"] for c in chunks[0]])
    there = np.setdiff1d(np.arange(1200), [0, 77])
    assert (
        np.array_equal(xyz, truth["xyz"][there])
        and sum(c["repairs"].get("no_echo", 0) for c in chunks[0]) == 2
    )
    assert (np.concatenate([c["row"] for c in chunks[0]]) == there % 40).all() and (
        np.concatenate([c["column"] for c in chunks[0]]) == there // 40
    ).all()
    assert (
        np.abs(
            np.concatenate([c["intensity"] for c in chunks[1]]) / 65535 - truth["intensity"][:1500] / 4096
        ).max()
        < 2e-5
    )
    assert ("native_rgb" in chunks[0][0]) == (cells == 7) and (
        cells == 4 or (np.concatenate([c["native_rgb"] for c in chunks[1]]) == truth["rgb"][:1500]).all()
    )


@pytest.mark.parametrize(
    ("spoil", "points", "code"),
    [
        (lambda t: t[: len(t) * 3 // 4].rsplit("\n", 1)[0] + "\n", [1200], "count"),
        (lambda t: t + "garbage\nmore\n", [1200, 1500], "scan"),
        (lambda t: t.replace("0 0 1 0", "0 0 7 0", 1), [1200, 1500], "pose"),
    ],
)
def test_damaged_ptx_gives_what_is_there(tmp_path, truth, spoil, points, code):
    path = tmp_path / "kaputt.ptx"
    path.write_text(
        spoil(ptx(truth, 40, 30, 0.5, (1, 2, 3), 4, set()) + ptx(truth, 25, 60, 0.1, (4, 5, 6), 4, set()))
    )
    found = formats.look(str(path))
    assert [s.points for s in found.scans][: len(points)] == points and code in [
        r.code for r in found.repairs
    ]
    for scan in found.scans:
        assert sum(len(c["xyz"]) for c in formats.ptx.read_points(str(path), scan.index)) == scan.points


@pytest.mark.parametrize("form", ["ascii", "<", ">"])
def test_ply_like_plyfile(tmp_path, truth, form):
    kinds = [
        ("x", "f8"),
        ("y", "f8"),
        ("z", "f8"),
        ("red", "u1"),
        ("green", "u1"),
        ("blue", "u1"),
        ("scalar_Intensity", "f4"),
        ("roughness", "f4"),
    ]
    vertices = np.zeros(N, kinds)
    vertices["x"], vertices["y"], vertices["z"] = truth["xyz"].T
    vertices["red"], vertices["green"], vertices["blue"] = truth["rgb"].T
    vertices["scalar_Intensity"], vertices["roughness"] = truth["intensity"], np.linspace(0, 1, N)
    faces = np.array([([0, 1, 2],)], [("vertex_indices", "i4", (3,))])
    path = tmp_path / "a.ply"
    PlyData(
        [PlyElement.describe(vertices, "vertex"), PlyElement.describe(faces, "face")],
        text=form == "ascii",
        byte_order=form if form != "ascii" else "=",
    ).write(str(path))
    _, got, repairs = whole(path)
    other = PlyData.read(str(path))["vertex"]
    assert (
        not repairs
        and np.array_equal(got["xyz"], np.stack([other[a] for a in "xyz"], 1))
        and (got["native_rgb"] == truth["rgb"]).all()
        and (got["intensity"] == truth["intensity"]).all()
    )
    assert np.allclose(got["extra.roughness"], other["roughness"])


def test_ply_of_other_software():
    path = REFERENCES / "cgal" / "b9_training.ply"
    found, got, _ = whole(path)
    other = PlyData.read(str(path))["vertex"]
    assert (
        found.scans[0].points == 22300
        and np.array_equal(got["xyz"], np.stack([other[a] for a in "xyz"], 1))
        and (got["extra.label"] == other["label"]).all()
    )


def test_pcd_of_other_software():
    found, got, _ = whole(REFERENCES / "pcl" / "bun0.pcd")
    assert (
        found.format == "PCD"
        and np.allclose(got["xyz"], np.loadtxt(REFERENCES / "pcl" / "bun0.xyz")[:, :3], atol=1e-7)
        and "extra.curvature" in got
    )


def pack(values: bytes) -> bytes:
    """Literal LZF, 32 bytes a go."""
    return b"".join(
        bytes([len(values[k : k + 32]) - 1]) + values[k : k + 32] for k in range(0, len(values), 32)
    )


@pytest.mark.parametrize("data", ["ascii", "binary", "binary_compressed"])
@pytest.mark.parametrize("organised", [False, True])
def test_pcd_in_all_forms(tmp_path, truth, data, organised):
    kind = np.dtype([("x", "<f4"), ("y", "<f4"), ("z", "<f4"), ("rgb", "<u4"), ("intensity", "<u2")])
    values = np.zeros(N, kind)
    values["x"], values["y"], values["z"] = truth["xyz"].T
    values["rgb"] = truth["rgb"] @ np.array([65536, 256, 1])
    values["intensity"] = truth["intensity"]
    if organised:
        values["x"][5] = np.nan
    head = (
        "# .PCD v0.7\nVERSION 0.7\nFIELDS x y z rgb intensity\nSIZE 4 4 4 4 2\nTYPE F F F U U\nCOUNT 1 1 "
        f"1 1 1\nWIDTH {100 if organised else N}\nHEIGHT {25 if organised else 1}\nVIEWPOINT 0 0 0 1 0 0 "
        f"0\nPOINTS {N}\nDATA {data}\n"
    ).encode()
    flat = b"".join(values[n].tobytes() for n in kind.names)
    body = {
        "ascii": "".join(
            f"{v['x']!s} {v['y']!s} {v['z']!s} {v['rgb']} {v['intensity']}\n" for v in values
        ).encode(),
        "binary": values.tobytes(),
        "binary_compressed": struct.pack("<II", len(pack(flat)), len(flat)) + pack(flat),
    }[data]
    (tmp_path / "p.pcd").write_bytes(head + body)
    found, got, repairs = whole(tmp_path / "p.pcd")
    keep = np.isfinite(values["x"])
    assert (
        np.array_equal(got["xyz"].astype("f4"), np.stack([values[a] for a in "xyz"], 1)[keep])
        and (got["native_rgb"] == truth["rgb"][keep]).all()
        and (got["intensity"] == truth["intensity"][keep]).all()
    )
    assert found.scans[0].grid == ((25, 100) if organised else None) and repairs == (
        {"not_finite": 1} if organised else {}
    )
    assert not organised or (got["row"].astype(int) * 100 + got["column"] == np.flatnonzero(keep)).all()


@pytest.mark.parametrize(
    ("packed", "plain"),
    [(b"\x02abc", b"abc"), (b"\x02abc\x20\x02", b"abcabc"), (b"\x00a\xe0\x09\x00", b"a" * 19)],
)
def test_lzf_by_hand(packed, plain):
    """Worked by hand from the format's description: literals, a short copy, and a long copy that overlaps
    itself.
    """
    out = np.zeros(len(plain), np.uint8)
    assert pcd.lzf(np.frombuffer(packed, np.uint8), out) == len(plain) and out.tobytes() == plain


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.ply", b"ply\nformat ascii 1.0\nelement vertex 3\n", "ends within its header"),
        ("a.ply", b"ply\nformat odd 1.0\nend_header\n", "unknown form"),
        (
            "a.ply",
            b"ply\nformat ascii 1.0\nelement face 1\nproperty list uchar int v\nelement vertex 3\nproperty "
            b"float x\nend_header\n",
            "lists before",
        ),
        (
            "a.ply",
            b"ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nend_header\n1\n",
            "no x, y and z",
        ),
        ("a.pcd", b"# .PCD v0.7\nFIELDS x y\n", "ends within|damaged"),
        (
            "a.pcd",
            b"# .PCD v0.7\nFIELDS x y z\nSIZE 4 4\nTYPE F F F\nWIDTH 1\nHEIGHT 1\nDATA ascii\n",
            "damaged header",
        ),
        ("a.xyz", b"\x00\x01\x02\x03", "is neither"),
        (
            "a.pcd",
            b"# .PCD v0.7\nFIELDS x y z\nSIZE 4 4 4\nTYPE F F F\nWIDTH 2\nHEIGHT 1\nDATA binary_compressed\n"
            b"\x08\x00\x00\x00\x18\x00\x00\x00\x01a",
            "cannot be unpacked",
        ),
    ],
)
def test_broken_files_say_what_is_wrong(tmp_path, name, content, words):
    (tmp_path / name).write_bytes(content)
    with pytest.raises(InputError, match=words):
        found = formats.look(str(tmp_path / name))
        list(formats.named(found.format).read_points(str(tmp_path / name), 0))


@pytest.mark.parametrize("name", ["p.ply", "p.pcd"])
def test_binary_files_cut_off_give_what_is_there(tmp_path, name):
    head = (
        b"ply\nformat binary_little_endian 1.0\nelement vertex 10\nproperty float x\nproperty float y\n"
        b"property float z\nend_header\n"
        if name == "p.ply"
        else b"# .PCD v0.7\nFIELDS x y z\nSIZE 4 4 4\nTYPE F F F\nWIDTH 10\nHEIGHT 1\nDATA binary\n"
    )
    (tmp_path / name).write_bytes(head + np.arange(20, dtype="<f4").tobytes())
    found, got, _ = whole(tmp_path / name)
    assert found.scans[0].points == len(got["xyz"]) == 6 and found.repairs[0].count == 4
