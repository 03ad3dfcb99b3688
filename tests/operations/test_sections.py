"""Sections against the room put in, and as another reader of DXF sees them."""

import ezdxf
import numpy as np
import pytest

from terrazza.core.draw import lines, sections
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.operations.spine import fieldbook, health
from terrazza.web.contexts import scene
from tests import scenes
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
BENT = np.array([[1.0, 2.0], [5.0, 2.0], [5.0, 6.0], [2.0, 6.0]])


@pytest.fixture
def room(workspace, tmp_path):
    return scenes.room_job(workspace, tmp_path)


def longest(lines, axis, value):
    """Length (m) of the drawn pieces that lie at a value of one coordinate, and how far off they are."""
    length, off = 0.0, []
    for line in lines:
        xyz = np.array(line)
        for a, b in zip(xyz, xyz[1:]):
            if abs(a[axis] - value) < 0.02 and abs(b[axis] - value) < 0.02:
                length += np.linalg.norm(b - a)
                off += [abs(a[axis] - value), abs(b[axis] - value)]
    return length, max(off, default=np.inf)


def polylines(path):
    space, out = ezdxf.readfile(path).layouts.get("Model"), []
    for p in space.query("LWPOLYLINE POLYLINE"):
        flat = p.dxftype() == "LWPOLYLINE"
        xyz = np.array([v[:2] for v in p.get_points()] if flat else [v.dxf.location for v in p.vertices])
        out.append(np.r_[xyz, xyz[:1]] if (p.closed if flat else p.is_closed) else xyz)
    return out


def test_a_section_is_the_room_along_its_line(room):
    figures = must(*room, "draw.section", line=[[-1, 2.7], [9, 2.7]], thickness=0.1, path="cut.dxf")
    assert 1 <= figures["lines"] <= 12 and 0.5 < figures["rms_mm"] < 4 and figures["course_m"] == 10
    flat = polylines(figures["path"])
    # floor, ceiling and both walls of the room (8 m by 3 m), each drawn for the most part and to 2 mm
    for axis, value, length in ((1, 0.0, 8), (1, 3.0, 8), (0, 1.0, 3), (0, 9.0, 3)):
        drawn, off = longest(flat, axis, value)
        assert 0.85 * length < drawn < 1.01 * length and off < 0.002, (axis, value, drawn, off)
    row = opened(*room).facts("drawing")["1"]
    assert np.abs(np.array([v for line in row["lines"] for v in line["vertices"]])[:, 1] - 2.7).max() < 1e-9
    space = polylines(must(*room, "deliver.dxf", path="space.dxf")["path"])
    assert longest(space, 0, 8.0)[0] == pytest.approx(longest(flat, 0, 9.0)[0], abs=1e-6)
    assert health.check(opened(*room)) == []
    fieldbook.undo(queries.done_entries(room[1])[-2])
    assert not opened(*room).facts("drawing")


def test_sections_stay_with_a_job_whose_frame_moves(room):
    must(*room, "draw.section", line=[[4, -1], [4, 7]])
    must(*room, "georeference.level")
    before = polylines(must(*room, "deliver.dxf", path="a.dxf", flat=True)["path"])
    must(*room, "georeference.heights", by=100.0)
    after = polylines(must(*room, "deliver.dxf", path="b.dxf", flat=True)["path"])
    assert all(np.allclose(a + [0, 100], b, atol=1e-9) for a, b in zip(before, after))


def test_a_bent_line_is_laid_flat_piece_by_piece():
    pieces = sections.pieces(BENT)
    assert [p.at for p in pieces] == [0, 4, 8] and [p.length for p in pieces] == [4, 4, 3]
    rng = np.random.default_rng(0)
    for piece in pieces:
        flat = np.c_[rng.uniform(piece.at + 0.3, piece.at + piece.length - 0.3, 50), rng.uniform(-9, 9, 50)]
        places = piece.placed(flat)
        assert np.allclose(sections.laid_flat(BENT, places), flat, atol=1e-12)
        beside = places + 0.2 * np.r_[-piece.direction[1], piece.direction[0], 0]
        assert np.allclose(sections.laid_flat(BENT, beside), flat, atol=1e-12)
    with pytest.raises(ValueError, match="two places"):
        sections.pieces(BENT[:1])


@pytest.mark.parametrize(
    "line, words",
    [
        ([[1, 2]], "no length"),
        ([[1, 2], [1, 2]], "no length"),
        ([[1, 2, 3], [4, 5]], "an X and a Y"),
        ([[0, 0], [20_000, 0]], "longer than 10 km"),
        ([[100, 100], [101, 100]], "Only 0 points"),
    ],
)
def test_what_is_no_section_is_said(room, line, words):
    entry = perform(*room, "draw.section", line=line)
    assert entry.state == "failed" and words in entry.message


def test_sections_stand_across_a_line_at_every_chainage(room):
    asked = {"line": [[1.6, 2.5], [6.4, 2.5]], "every": 1.6, "reach": 6, "thickness": 0.1}
    figures = must(*room, "draw.sections", path="all.dxf", **asked)
    assert [r["chainage_m"] for r in figures["sections"]] == pytest.approx([0, 1.6, 3.2, 4.8])
    job = opened(*room)
    for row in figures["sections"]:
        lines = job.get("drawing", row["drawing"])["lines"]
        x = 1.6 + row["chainage_m"]
        xyz = np.concatenate([line["vertices"] for line in lines])
        assert np.abs(xyz[:, 0] - x).max() < 1e-9, "it stands across the line"
        whole = [v["vertices"] + (v["vertices"][:1] if v["closed"] else []) for v in lines]
        ceiling, off = longest(whole, 2, 3.0)
        assert 4.5 < ceiling < 6.1 and off < 0.003
    assert len(polylines(figures["path"])) == sum(r["lines"] for r in figures["sections"])


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({"line": [[0, 0], [0, 0]]}, "no length"),
        ({"line": [[0, 0], [9000, 0]], "every": 1}, "9001 sections"),
        ({"line": [[90, 90], [95, 90]]}, "Nothing straight"),
    ],
)
def test_sections_that_cannot_be_are_said(room, asked, says):
    entry = perform(*room, "draw.sections", **asked)
    assert entry.state == "failed" and says in entry.message


def test_slabs_at_steps_are_drawings_of_their_own_at_their_heights(room):
    figures = must(*room, "draw.plan_slabs", every=0.5, low=0.5, high=2.6, path="slabs.dxf")
    job = opened(*room)
    assert [r["height_m"] for r in figures["slabs"]] == pytest.approx([0.5, 1.0, 1.5, 2.0, 2.5])
    drawn = {
        k: {v[2] for line in d["lines"] for v in line["vertices"]} for k, d in job.facts("drawing").items()
    }
    for r in figures["slabs"]:
        assert list(drawn[str(r["drawing"])]) == pytest.approx([r["height_m"]]) and r["lines"]
        for axis, value in ((0, 8.0), (1, 0.0)):
            pieces = [line["vertices"] for line in job.get("drawing", r["drawing"])["lines"]]
            length, off = longest(pieces, axis, value)
            assert length > 3 and off < 0.004
    written = ezdxf.readfile(figures["path"]).layouts.get("Model").query("LWPOLYLINE")
    assert sorted({round(e.dxf.elevation, 6) for e in written}) == [0.5, 1.0, 1.5, 2.0, 2.5]
    (shown,) = {d["height"] + scene.origin_of(job)[2] for d in scene.build(job)["drawings"] if d["id"] == 2}
    assert shown == pytest.approx(1.0, abs=1e-4)


def test_a_slab_a_floor_is_cut_where_it_is_clean(room):
    figures = must(*room, "draw.plan_slabs")
    (only,) = figures["slabs"]
    assert 0.95 < only["height_m"] < 2.25  # over the low box
    entry = perform(*room, "draw.plan_slabs", every=0.001)
    assert entry.state == "failed" and "slabs" in entry.message


@pytest.mark.parametrize("top", [1.1, 1.6])
def test_the_clean_height_lies_over_what_stands_about(top):
    rng = np.random.default_rng(3)
    wall = np.c_[rng.uniform(0, 8, 40_000), rng.normal(0, 0.003, 40_000), rng.uniform(0, 3, 40_000)]
    shelf = np.c_[rng.uniform(0, 8, 9000), rng.uniform(0.5, 0.53, 9000), rng.uniform(0, top, 9000)]
    lamp = np.c_[rng.uniform(3, 4, (9000, 2)), rng.uniform(1.9, 2.1, 9000)]
    found = lines.clean_height(np.concatenate([wall, shelf, lamp]) + [600_000, 5e6, 250], 250.8, 252.2, 0.05)
    assert top < found - 250 < 1.9


@pytest.mark.parametrize(
    ("asked", "size"),
    [
        ({"line": [[0.0, 2.7], [8.0, 2.7]]}, (8, 3)),
        ({"patches": [[0, 1, 0.0], [8, 1, 0.0], [4, 5, 3.0]]}, (8, 5)),
    ],
    ids=["front", "free"],
)
def test_a_plane_through_the_room_is_its_floor_walls_and_ceiling(room, asked, size):
    """… upright, or leaning: floor at y = 1, ceiling at y = 5, 5 m apart in the plane."""
    asked |= {"thickness": 0.03, "width": 0.04, "gap": 0.8}
    figures = must(*room, "draw.plane_slab", **asked, path="plane.dxf")
    flat = polylines(figures["path"])
    low = np.concatenate(flat).min(0)
    for axis, value in ((1, 0.0), (1, size[1]), (0, 0.0), (0, size[0])):
        drawn, off = longest([v - low for v in flat], axis, value)
        assert drawn > 0.65 * size[1 - axis] and off < 0.02, (axis, value, drawn)
    at = opened(*room)
    drawing = at.get("drawing", figures["drawing"])
    xyz = np.array([v for line in drawing["lines"] for v in line["vertices"]])
    assert np.abs(rigid.apply(np.array(drawing["plane"]), xyz)[:, 2]).max() < 1e-6
    assert health.check(at) == []


def test_what_is_no_plane_is_said(room):
    for asked, says in (
        ({}, "a line of two places"),
        ({"line": [[1, 1], [1, 1]]}, "a line of two places"),
        ({"patches": [[0, 0, 0], [1, 1, 1], [2, 2, 2]]}, "in no line"),
        ({"line": [[50, 50], [60, 50]]}, "points lie in the plane"),
    ):
        entry = perform(*room, "draw.plane_slab", **asked)
        assert entry.state == "failed" and says in f"{entry.message} {entry.hint}"
