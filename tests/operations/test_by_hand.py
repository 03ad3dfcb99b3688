"""Lines by hand: their geometry against shapely, and their way through drawings, classes and files."""

import ezdxf
import numpy as np
import pytest
import shapely

from terrazza.core.draw import by_hand
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations.draw import beneath
from terrazza.operations.spine import fieldbook
from terrazza.web.contexts import sheets
from tests.operations.test_rules import flown, held  # noqa: F401
from tests.run import must, opened, perform
from tests.scenes import room_job

pytestmark = pytest.mark.usefixtures("alone")


def wander(seed, n=30, closed=False):
    """A line (n, 3) that turns by up to 100° at a corner, or a ring about the origin."""
    rng = np.random.default_rng(seed)
    if closed:
        turn = np.sort(rng.uniform(0, 2 * np.pi, n))
        return np.c_[(rng.uniform(4, 6, n) * [np.cos(turn), np.sin(turn)]).T, rng.normal(0, 0.3, n)]
    turn = np.cumsum(rng.uniform(-0.8, 0.8, n))
    return np.c_[
        np.cumsum(rng.uniform(2, 5, n) * [np.cos(turn), np.sin(turn)], axis=1).T, rng.normal(0, 1, n)
    ]


@pytest.mark.parametrize("by", [0.4, -0.3])
@pytest.mark.parametrize("seed", range(4))
def test_parallel_lines_are_those_of_a_library(seed, by):
    xyz = wander(seed, 8)
    own = by_hand.parallel(xyz, False, by)
    library = shapely.LineString(xyz[:, :2]).offset_curve(by, join_style="mitre", mitre_limit=50)
    assert shapely.LineString(own[:, :2]).hausdorff_distance(library) < 1e-6
    assert (own[:, 2] == xyz[:, 2]).all(), "heights go along"


def test_a_parallel_ring_is_a_buffer():
    ring = np.array([[0, 0, 1], [6, 0, 1], [6, 4, 1], [3, 5, 1], [0, 4, 1]], float)
    own = shapely.Polygon(by_hand.parallel(ring, True, -0.5)[:, :2])  # outwards, since it runs to the left
    library = shapely.Polygon(ring[:, :2]).buffer(0.5, join_style="mitre", mitre_limit=20)
    assert own.symmetric_difference(library).area < 1e-9


@pytest.mark.parametrize("closed", [False, True])
@pytest.mark.parametrize("most", [0.05, 0.5, 2.0])
def test_fewer_corners_stay_within_the_deviation(most, closed):
    xyz = wander(9, 60, closed) * [1, 1, 0]
    own = by_hand.fewer(xyz, closed, most)
    kind = shapely.LinearRing if closed else shapely.LineString
    far = max(kind(own[:, :2]).distance(shapely.Point(p)) for p in xyz[:, :2])
    assert far <= most + 1e-12 and {tuple(p) for p in own} <= {tuple(p) for p in xyz}
    if not closed:
        library = shapely.LineString(xyz[:, :2]).simplify(most, preserve_topology=False)
        assert len(own) == len(library.coords)


def test_square_and_straight_move_no_more_than_they_say():
    turn, rng = np.radians(31), np.random.default_rng(3)
    true = np.array([[0, 0], [8, 0], [8, 3], [5, 3], [5, 6], [0, 6]], float)
    true = np.c_[true @ [[np.cos(turn), np.sin(turn)], [-np.sin(turn), np.cos(turn)]], np.ones(6)]
    drawn = true + np.c_[rng.normal(0, 0.01, (6, 2)), np.zeros(6)]
    own, moved = by_hand.square(drawn, True)
    sides = np.diff(np.r_[own, own[:1]][:, :2], axis=0)
    angles = np.degrees(np.arctan2(sides[:, 1], sides[:, 0]) - turn) % 90
    assert np.minimum(angles, 90 - angles).max() < 0.2 and np.ptp(np.minimum(angles, 90 - angles)) < 1e-9
    assert moved == pytest.approx(np.linalg.norm(own - drawn, axis=1).max()) and 0 < moved < 0.06
    along = np.linspace(0, 9, 20)[:, None] * [0.6, 0.8, 0.1] + [4, 5, 6]
    ends, off = by_hand.straight(along + rng.normal(0, 0.002, (20, 3)))
    assert off < 0.008 and np.abs(ends - along[[0, -1]]).max() < 0.005


@pytest.mark.parametrize("seed", range(6))
def test_an_arc_goes_through_its_places(seed):
    rng = np.random.default_rng(seed)
    x, y = np.linalg.qr(rng.normal(size=(3, 2)))[0].T
    middle, radius, turn = rng.normal(0, 10, 3), rng.uniform(0.2, 30), np.sort(rng.uniform(0, 6, 3))
    at = middle + radius * (np.cos(turn)[:, None] * x + np.sin(turn)[:, None] * y)
    own = by_hand.arc(*at)
    assert np.abs(np.linalg.norm(own - middle, axis=1) - radius).max() < 1e-9 * radius + 1e-9
    assert np.allclose(own[[0, -1]], at[[0, 2]]) and np.linalg.norm(own - at[1], axis=1).min() < 1e-6
    chord = np.linalg.norm((own[:-1] + own[1:]) / 2 - middle, axis=1)
    assert 0 <= radius - chord.min() < 1.01 * by_hand.ARC_ERROR
    assert by_hand.length(own) == pytest.approx(radius * (turn[2] - turn[0]), rel=0.02)


@pytest.mark.parametrize(
    ("at", "end"), [([[0, 0, 0], [1, 0, 0.1]], [3, 0, 0.3]), ([[0, 0, 0], [5, 0, 0.1]], [3, 0, 0.06])]
)
def test_lines_are_lengthened_and_shortened_to_a_crossing(at, end):
    other = np.array([[3.0, -1, 0], [3, 1, 0]])
    own = by_hand.brought(np.array(at, float), other)
    assert np.allclose(own, [at[0], end])
    assert np.allclose(by_hand.brought(np.array(at[::-1], float), other), [end, at[0]]), "either way round"
    with pytest.raises(ValueError, match="meet"):
        by_hand.brought(np.array(at, float), other[:, [1, 0, 2]])


@pytest.fixture
def drawn(flown):  # noqa: F811
    """A job with a line, an area and an arc by hand: (workspace, row)."""
    for at, more in (
        ([[1, 1, 0], [9, 1, 0], [9, 7, 0]], {"layer": "FENCE"}),
        ([[2, 12, 1], [14, 11, 1], [16, 24, 1]], {"closed": True, "name": "Bed"}),
        ([[20, 20, 0], [21, 21, 0], [22, 20, 0]], {"arc": True}),
    ):
        must(*flown, "draw.line", at=at, **more)
    return flown


def lines(job, number=1):
    return opened(*job).get("drawing", number)["lines"]


def test_lines_are_kept_changed_written_and_taken_back(drawn, tmp_path):
    job, (line, area, arc) = drawn, lines(drawn)
    assert [one["name"] for one in (line, area, arc)] == ["Line 1", "Bed", "Arc 3"]
    assert line["length"] == pytest.approx(14) and line["layer"] == "FENCE" and area["closed"]
    assert arc["length"] == pytest.approx(np.pi, rel=1e-3) and arc["arcs"] == [[0, len(arc["vertices"]) - 1]]
    must(*job, "draw.move_corners", drawing=1, line=1, at=[[1, 1, 0], [9, 1, 0], [9, 4, 0], [12, 4, 2]])
    moved = lines(job)[0]
    assert moved["length"] == pytest.approx(11 + np.sqrt(13)) and moved["space"]
    must(*job, "deliver.dxf", path=str(tmp_path / "hand.dxf"), drawings=[1])
    sheet = ezdxf.readfile(tmp_path / "hand.dxf")
    assert not sheet.audit().errors
    assert {e.dxf.layer for e in sheet.layouts.get("Model")} >= {"FENCE", "LINES"}
    must(*job, "draw.move_corners", drawing=1, line=2, at=[])
    assert [one["name"] for one in lines(job)] == ["Line 1", "Arc 3"]
    for back in (["Line 1", "Bed", "Arc 3"], ["Line 1", "Bed", "Arc 3"]):
        last = Entry.select().where(Entry.operation == "draw.move_corners", Entry.state == "done")
        fieldbook.undo(max(last, key=lambda e: e.number))
        assert [one["name"] for one in lines(job)] == back
    assert lines(job)[0] == line


@pytest.mark.parametrize(
    ("line", "how", "count", "length"),
    [
        (1, {"how": "parallel", "by": 0.5}, 2, 13.0),
        (1, {"how": "close"}, 1, 24.0),
        (2, {"how": "open"}, 1, None),
        (1, {"how": "part", "at": 2}, 2, 6.0),
        (1, {"how": "copy", "shift": [0, 0, 3], "count": 2}, 3, 14.0),
        (1, {"how": "move", "shift": [1, 0, 0]}, 1, 14.0),
        (1, {"how": "straight"}, 1, None),
        (2, {"how": "square"}, 1, None),
        (3, {"how": "fewer", "by": 0.05}, 1, None),
    ],
    ids=lambda v: v["how"] if isinstance(v, dict) else None,
)
def test_shapes_are_changed_as_a_whole(drawn, line, how, count, length):
    before = lines(drawn)
    figures = must(*drawn, "draw.reshape", drawing=1, line=line, **how)
    after = lines(drawn)
    assert figures["lines"] == count and len(after) == len(before) + count - 1
    if length is not None:
        assert after[line - 2 + count]["length"] == pytest.approx(length)
    assert all(one.get("rms_mm") is None for one in after)


@pytest.mark.parametrize(("also", "many"), [([3], 2), ([0], 3)])
def test_many_lines_are_changed_at_once_and_come_back_at_once(drawn, also, many):
    before = lines(drawn)
    must(*drawn, "draw.reshape", drawing=1, line=1, how="copy", shift=[0, 0, 3], also=also)
    after = lines(drawn)
    assert len(after) == len(before) + many
    heights = [np.array(one["vertices"])[:, 2].mean() for one in after]
    assert sorted(np.diff(heights))[-1] == pytest.approx(3)
    must(*drawn, "draw.reshape", drawing=1, line=1, how="move", shift=[1, 0, 0], also=[0])
    moved = [np.subtract(a["vertices"], b["vertices"]) for a, b in zip(lines(drawn), after)]
    assert all(np.allclose(m, [1, 0, 0]) for m in moved)
    fieldbook.undo(queries.done_entries(drawn[1])[-1])
    assert lines(drawn) == after
    must(*drawn, "draw.reshape", drawing=1, line=1, how="gone", also=[0])
    assert not opened(*drawn).facts("drawing")


def test_two_lines_become_one(drawn):
    must(*drawn, "draw.line", at=[[9, 7, 0], [9, 9, 0]], drawing=1)
    must(*drawn, "draw.reshape", drawing=1, line=1, how="join", other=4)
    assert lines(drawn)[0]["length"] == pytest.approx(16) and len(lines(drawn)) == 3


@pytest.mark.parametrize(
    ("operation", "params", "words"),
    [
        ("draw.line", {"at": [[0, 0, 0]]}, "2 places are needed"),
        ("draw.line", {"at": [[0, 0, 0], [0, 0, 0]]}, "two places in a row"),
        ("draw.line", {"at": [[0, 0, 0], [1, 0, 0], [2, 0, 0]], "arc": True}, "lie in a line"),
        ("draw.line", {"at": [[0, 0, 0], [1, 0, 0]], "drawing": 9}, "no drawing 9"),
        ("draw.line", {"at": [[0, 0, float("nan")], [1, 0, 0]]}, "finite"),
        ("draw.move_corners", {"drawing": 1, "line": 7, "at": []}, "no line 7"),
        ("draw.move_corners", {"drawing": 1, "line": 2, "at": [[0, 0, 0], [1, 0, 0]]}, "3 places"),
        ("draw.reshape", {"drawing": 1, "line": 1, "how": "part", "at": 1}, "between its ends"),
        ("draw.reshape", {"drawing": 1, "line": 1, "how": "join", "other": 2}, "lines with ends"),
        ("draw.reshape", {"drawing": 1, "line": 2, "how": "straight"}, "no best line"),
        ("draw.reshape", {"drawing": 1, "line": 1, "how": "copy"}, "a shift"),
        ("draw.reshape", {"drawing": 1, "line": 1, "how": "part", "also": [2]}, "done to one line"),
        ("draw.reshape", {"drawing": 1, "line": 1, "how": "straight", "also": [2]}, "no best line"),
        ("classify.by_place", {"drawings": [8], "to": 6}, "no drawing 8"),
        ("classify.by_place", {"lines": [[[0, 0], [1, 1]]], "to": 6}, "a line needs a width"),
        ("classify.name_class", {"code": 64, "name": "Ground"}, "called “Ground” already"),
    ],
)
def test_what_cannot_be_drawn_is_said(drawn, operation, params, words):
    before = opened(*drawn).facts("drawing")
    try:
        entry = perform(*drawn, operation, **params)
        said = f"{entry.message} {entry.hint}"
        assert entry.state == "failed"
    except Exception as error:  # refused before it is entered
        said = str(error)
    assert words in said and opened(*drawn).facts("drawing") == before


def test_drawn_areas_and_lines_give_classes(drawn):
    xyz, *_ = held(drawn)
    must(*drawn, "classify.by_place", drawings=[1], to=6)
    inside = shapely.contains_xy(shapely.Polygon([[2, 12], [14, 11], [16, 24]]), xyz[:, 0], xyz[:, 1])
    assert (held(drawn)[1][inside] == 6).all() and (held(drawn)[1][~inside] != 6).all()
    must(*drawn, "classify.by_place", lines=[[[1, 1], [9, 1], [9, 7]]], width=0.8, to=70)
    way = shapely.LineString([[1, 1], [9, 1], [9, 7]])
    near = shapely.distance(way, shapely.points(xyz[:, :2])) <= 0.4
    assert ((held(drawn)[1] == 70) == near).all()


def test_own_classes_have_names_everywhere(drawn, tmp_path):
    must(*drawn, "classify.name_class", code=70, name="Zitrone è qui")
    figures = must(*drawn, "classify.by_place", lines=[[[1, 1], [9, 1]]], width=2, to=70)
    assert {r["to_name"] for r in figures["moved"]} == {"Zitrone è qui"}
    assert any(r["name"] == "Zitrone è qui" for r in figures["classes"])
    import laspy

    for kind in ("laz", "las", "copc"):
        path = tmp_path / f"named.{'copc.laz' if kind == 'copc' else kind}"
        must(*drawn, f"deliver.{kind}", path=str(path))
        with laspy.open(path) as file:
            names = next(v for v in file.header.vlrs if v.record_id == 0 and v.user_id == "LASF_Spec")
            assert names.lookups[70].strip("\0") == "Zitrone e qui", kind
    must(*drawn, "classify.name_class", code=70)
    assert opened(*drawn).facts("class_name") == {}


def test_an_office_has_its_own_layers(drawn, tmp_path):
    table = tmp_path / "layers of the office.csv"
    table.write_text(
        "layer;for;colour;line type;text height\nA-FENCE;FENCE;#b4512f;dash-dot;\nA-NOTE;TEXT;3;;0,5\n"
        "REST;LINES;;;\n"
    )
    must(*drawn, "draw.layers", path=str(table))
    must(*drawn, "draw.text", text="Lemon bed", at=[9, 15, 1])
    must(*drawn, "deliver.dxf", path=str(tmp_path / "office.dxf"), drawings=[1])
    sheet = ezdxf.readfile(tmp_path / "office.dxf")
    assert not sheet.audit().errors
    on = {(e.dxftype(), e.dxf.layer) for e in sheet.layouts.get("Model")}
    assert on == {("LWPOLYLINE", "A-FENCE"), ("LWPOLYLINE", "REST"), ("MTEXT", "A-NOTE")}
    fence, note = sheet.layers.get("A-FENCE"), sheet.layers.get("A-NOTE")
    assert fence.rgb == (0xB4, 0x51, 0x2F) and fence.dxf.linetype == "DASH-DOT" and note.color == 3
    (text,) = sheet.layouts.get("Model").query("MTEXT")
    assert text.dxf.char_height == 0.5 and text.text == "Lemon bed"
    must(*drawn, "draw.layers")
    must(*drawn, "deliver.dxf", path=str(tmp_path / "own.dxf"), drawings=[1])
    assert "FENCE" in ezdxf.readfile(tmp_path / "own.dxf").layers


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no layers"),
        ("colour\n3\n", "no column of layers"),
        ("layer,colour\nA,blue\n", "line 2: “blue” is no colour"),
        ("layer,colour\nA,300\n", "no colour"),
        ("layer,line type\nA,wavy\n", "no line type"),
        ("layer,text height\nA,tall\n", "no height"),
        ("layer,for\n,WALLS\n", "no name"),
    ],
)
def test_layer_tables_that_say_nothing_are_refused(workspace, tmp_path, text, words):
    row = queries.create_job(workspace, "Office")
    (tmp_path / "odd.csv").write_text(text)
    entry = perform(workspace, row, "draw.layers", path=str(tmp_path / "odd.csv"))
    assert entry.state == "failed" and words in entry.message and entry.hint


@pytest.mark.parametrize("within", ["Bed", "0.5 to 1.25"])
def test_work_keeps_to_a_drawn_area_or_to_heights(drawn, within):
    xyz, before, _ = held(drawn)
    must(*drawn, "classify.change", pairs=[[1, 71], [2, 71], [5, 71]], within=within)
    bed = shapely.contains_xy(shapely.Polygon([[2, 12], [14, 11], [16, 24]]), xyz[:, 0], xyz[:, 1])
    wanted = bed if within == "Bed" else (xyz[:, 2] >= 0.5) & (xyz[:, 2] <= 1.25)
    assert ((held(drawn)[1] == 71) == wanted).all() and 100 < wanted.sum() < len(wanted) / 2
    entry = perform(*drawn, "classify.change", pairs=[[1, 2]], within="Nowhere")
    assert entry.state == "failed" and "no box “Nowhere”" in entry.message


def test_a_drawing_tells_that_scans_beneath_it_were_moved(workspace, tmp_path):
    """By how much at its vertices, in the sheet and with the file; not where nothing moved, nor once the move
    is undone.
    """
    job = room_job(workspace, tmp_path, rows=120, columns=360)
    assert len(opened(*job).scans()) == 3 and must(*job, "draw.plan_slab", height=1.2)["lines"]
    assert not must(*job, "deliver.dxf")["doubt"]
    x, y, z = opened(*job).scan(2).pose[:3, 3]
    turn = np.degrees(np.arctan2(*opened(*job).scan(2).pose[[1, 0], 0]))
    must(*job, "register.set_pose", scan=2, x=x + 0.03, y=y, z=z, heading_deg=turn)
    (doubt,) = must(*job, "deliver.dxf")["doubt"]
    told = beneath.moved(opened(*job))["1"]
    assert 0.028 < told < 0.034 and f"{told * 1000:.1f}" in doubt
    assert sheets.build(opened(*job), "draw")["moved_beneath"] == [doubt]
    must(*job, "draw.plan_slab", height=1.5)
    assert list(beneath.moved(opened(*job))) == ["1"], "one drawn since is as it is now"
    fieldbook.undo(Entry.get(job=job[1], operation="draw.plan_slab", number=6))
    fieldbook.undo(Entry.get(job=job[1], operation="register.set_pose"))
    assert not beneath.moved(opened(*job))


@pytest.mark.parametrize(
    ("params", "lengths"),
    [
        ({}, [5.0]),
        ({"way": "east"}, [3.0]),
        ({"way": "north", "beside": -1.0}, [4.0]),
        ({"at": [[0, 0, 1], [3, 0, 1], [10, 0, 1]]}, [3.0, 7.0]),
    ],
)
def test_dimensions_say_what_lies_between(workspace, tmp_path, params, lengths):
    """Lengths of a right triangle; the measure's line runs beside the places, its ends across from them; the
    text is in the file.
    """
    row = queries.create_job(workspace, "Dimensions")
    figures = must(workspace, row, "draw.dimension", **({"at": [[1, 2, 1], [4, 6, 1]]} | params))
    assert figures["lengths_m"] == pytest.approx(lengths, abs=1e-9)
    drawing = opened(workspace, row).get("drawing", 1)
    assert len(drawing["lines"]) == 5 * len(lengths)
    assert [t["text"] for t in drawing["texts"]] == [f"{v:.3f} m" for v in lengths]
    at = np.array(params.get("at", [[1, 2, 1], [4, 6, 1]]), float)
    for k, (length, a, b) in enumerate(zip(lengths, at, at[1:])):
        measure, *others = (np.array(v["vertices"]) for v in drawing["lines"][5 * k : 5 * k + 5])
        assert np.linalg.norm(measure[1] - measure[0]) == pytest.approx(length)
        way = shapely.LineString(measure)
        beside = max(way.distance(shapely.Point(p)) for p in (a, b))
        assert abs(params.get("beside", 0.5)) - 1e-9 <= beside
        for p, end, foot in zip((a, b), measure, others):
            assert min(np.abs(foot[0] - q).max() for q in (a, b)) < 1e-9
            assert abs((foot[1] - foot[0])[:2] @ (measure[1] - measure[0])[:2]) < 1e-9
            assert way.distance(shapely.Point(end)) < 1e-9 and len(p) == 3
    path = must(workspace, row, "deliver.dxf", path=str(tmp_path / "d.dxf"))["path"]
    texts = {d.dxf.text for d in ezdxf.readfile(path).layouts.get("Model").query("DIMENSION")}
    assert {f"{v:.3f} m" for v in lengths} == texts


def test_a_dimension_of_nothing_is_refused(workspace):
    row = queries.create_job(workspace, "Dimensions")
    entry = perform(workspace, row, "draw.dimension", at=[[0, 0, 0], [0, 2, 0]], way="east")
    assert entry.state == "failed" and "nothing lies between" in entry.message


def test_dimensions_are_dimensions_in_dxf(workspace):
    """Other programs measure between the same places; one whose line was moved goes out as it is drawn."""
    row = queries.create_job(workspace, "Dimensions")
    figures = must(workspace, row, "draw.dimension", at=[[1, 2, 1], [4, 6, 1], [8, 6, 1]])
    path = must(workspace, row, "deliver.dxf")["path"]
    document = ezdxf.readfile(path)
    found = document.layouts.get("Model").query("DIMENSION")
    assert [d.get_measurement() for d in found] == pytest.approx(figures["lengths_m"])
    assert {tuple(np.round(d.dxf.defpoint2, 6)[:2]) for d in found} == {(1, 2), (4, 6)}
    assert not document.layouts.get("Model").query("LWPOLYLINE") and not document.audit().errors
    must(workspace, row, "draw.move_corners", drawing=1, line=1, at=[[1, 9, 1], [7, 9, 1]])
    space = ezdxf.readfile(must(workspace, row, "deliver.dxf")["path"]).layouts.get("Model")
    assert len(space.query("DIMENSION")) == 1 and len(space.query("LWPOLYLINE")) == 5
    assert len(space.query("MTEXT")) == 1
