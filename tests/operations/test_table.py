"""Measures, pins, boxes, views and notation: what is set down follows its scans, hides what it should, and is
written as asked.
"""

import csv

import numpy as np
import pytest
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.core.geometry.box import turned
from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Selection
from terrazza.operations.spine import fieldbook, files_named, health
from terrazza.operations.spine.notation import Notation
from terrazza.web.contexts import picking, scene, table
from terrazza.work.open import open_workspace
from tests.conftest import like
from tests.run import must, opened, perform
from tests.scenes import ROOM, room_poses, write_room

POSES = room_poses()


@pytest.fixture(scope="module")
def imported(tmp_path_factory):
    """The posed room in a workspace that only copies are made of."""
    folder = tmp_path_factory.mktemp("room")
    write_room(folder / "r.e57", posed=True)
    open_workspace(str(folder / "ws"))
    must(
        str(folder / "ws"),
        queries.create_job(str(folder / "ws"), "Room"),
        "import.files",
        files=[str(folder / "r.e57")],
    )
    return folder / "ws"


@pytest.fixture
def room(imported, tmp_path):
    """The posed room in a job of its own; returns (workspace, row)."""
    workspace = str(like(imported, tmp_path / "ws"))
    open_workspace(workspace)
    return workspace, queries.job_by(id=1)


def touch(at, scan=1):
    """A touched point at a place in the room, in the scan's own frame."""
    return {
        "scan": scan,
        "at": rigid.apply(rigid.inverse(POSES[scan - 1]), np.array([at], float))[0].tolist(),
    }


@pytest.mark.parametrize(
    ("kind", "places", "wanted", "tolerance"),
    [
        ("distance", [(0, 3, 1), (8, 3, 1)], {"distance": 8, "level": 8, "height": 0, "slope_deg": 0}, 1e-9),
        ("length", [(0, 0, 0), (8, 0, 0), (8, 6, 0)], {"length": 14, "level": 14, "height": 0}, 1e-9),
        (
            "area",
            [(0, 0, 0), (8, 0, 0), (8, 6, 0), (0, 6, 0)],
            {"area": 48, "level_area": 48, "perimeter": 28},
            1e-9,
        ),
        ("angle", [(8, 0, 0), (0, 0, 0), (0, 6, 0)], {"angle_deg": 90, "level_angle_deg": 90}, 1e-6),
        ("point", [(1, 2, 3)], {"x": 1, "y": 2, "z": 3}, 1e-9),
        ("plane", [(0, 2, 1.5)], {"rms": 0.002, "from_vertical_deg": 90}, 0.6),
        ("wall to wall", [(0, 3, 2.5)], {"distance": 8, "not_parallel_deg": 0}, 0.3),
        ("wall to wall", [(2.5, 0, 1.2)], {"distance": 6}, 0.01),
    ],
)
def test_measures_of_a_known_room(room, kind, places, wanted, tolerance):
    workspace, row = room
    figures = must(
        workspace,
        row,
        "measure.take",
        kind=kind,
        points=[touch(p, 1 + k % 3) for k, p in enumerate(places)],
        reach=0.2,
    )
    assert all(abs(figures[k] - v) <= tolerance for k, v in wanted.items()), figures
    if kind == "wall to wall":
        assert abs(figures["distance"] - wanted["distance"]) < 0.003
    if kind == "plane":
        assert 0.0015 < figures["rms"] < 0.0026 and figures["points"] > 20
    assert table.rows(opened(workspace, row))[0]["says"]


def test_measures_move_with_their_scans(room):
    workspace, row = room
    must(workspace, row, "measure.take", points=[touch((0, 3, 1), 1), touch((8, 3, 1), 2)], name="across")
    before = table.rows(opened(workspace, row))[0]["figures"]["distance"]
    moved = POSES[1].copy()
    moved[:3, 3] += [0.5, 0, 0]
    must(
        workspace,
        row,
        "register.set_pose",
        scan=2,
        x=moved[0, 3],
        y=moved[1, 3],
        z=moved[2, 3],
        heading_deg=float(np.degrees(rigid.heading(moved))),
    )
    after = table.rows(opened(workspace, row))[0]["figures"]["distance"]
    assert abs(before - 8) < 1e-9 and abs(after - 8.5) < 2e-3


def test_height_above_ground_needs_ground(room):
    workspace, row = room
    entry = perform(workspace, row, "measure.take", kind="above ground", points=[touch((6.9, 4.2, 2.0))])
    assert entry.state == "failed" and "Classify the ground first" in entry.hint
    must(workspace, row, "classify.ground", threshold=0.05)
    figures = must(
        workspace, row, "measure.take", kind="above ground", points=[touch((3, 3, 2.0))], reach=0.3
    )
    assert abs(figures["height_above_ground"] - 2) < 0.004


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"kind": "angle", "points": 2}, "takes 3 points"),
        ({"kind": "distance", "points": 3}, "takes 2 points"),
        ({"kind": "sphere", "points": 1, "reach": 0.005}, "needs 4 points|too flat|flat"),
        ({"kind": "wall to wall", "points": 1, "place": (4, 3, 1.5)}, "needs 3 points"),
    ],
)
def test_measures_that_cannot_be(room, params, words):
    workspace, row = room
    entry = perform(
        workspace,
        row,
        "measure.take",
        kind=params["kind"],
        points=[touch(params.get("place", (0, 3, 1)))] * params["points"],
        reach=params.get("reach", 0.05),
    )
    assert entry.state == "failed" and any(w in entry.message for w in words.split("|"))


def test_pins_views_and_names(room, tmp_path):
    workspace, row = room
    job = opened(workspace, row)
    Image.new("RGB", (20, 10), "red").save(f"{job.subfolder('inbox')}/damp.png")
    must(workspace, row, "measure.take", points=[touch((0, 3, 1)), touch((8, 3, 1))])
    must(
        workspace,
        row,
        "pins.put",
        points=[touch((0, 3, 1))],
        text="damp; “look”, again",
        link="https://example.org/a",
        picture="damp.png",
        measure=1,
    )
    must(workspace, row, "table.keep_view", name="north wall", address="space=1,2,3")
    must(workspace, row, "table.rename", kind="pin", number=1, name="Damp wall")
    assert (
        perform(workspace, row, "table.rename", kind="pin", number=7, name="x").state
        == perform(workspace, row, "pins.put", points=[touch((0, 3, 1))], link="javascript:x").state
        == "failed"
    )
    job = opened(workspace, row)
    assert (
        job.get("pin", 1)["name"] == "Damp wall"
        and table.pins(job)[0]["picture"].endswith(".png")
        and health.check(job) == []
    )
    assert fieldbook.strays(workspace, row, files_named.all_named(row)) == []
    must(workspace, row, "deliver.pins", path="pins.csv")
    found = list(csv.reader(open(job.output("pins.csv", ".csv"), encoding="utf-8-sig")))
    assert (
        found[1][0] == "Damp wall"
        and np.allclose([float(v) for v in found[1][1:4]], [0, 3, 1], atol=1e-3)
        and found[1][4:] == ["damp; “look”, again", "https://example.org/a", "distance 1"]
    )
    must(workspace, row, "table.take_away", kind="pin", number=1)
    assert not opened(workspace, row).facts("pin")
    fieldbook.undo(queries.done_entries(row)[-1])
    assert opened(workspace, row).get("pin", 1)["name"] == "Damp wall"


@pytest.mark.parametrize("heading", [0.0, 30.0])
@pytest.mark.parametrize("grid", [False, True])
def test_a_box_is_put_around_what_an_outline_selects(room, heading, grid):
    """Seen from above, a rectangle over half of the room: the box holds every point in it, and no more than 5
    cm of room; in a grid as in the job's own frame.
    """
    workspace, row = room
    if grid:
        must(workspace, row, "georeference.level", origin=[0.5, 0.2, 0.0])
    job = opened(workspace, row)
    view = [[0.1, 0, 0, 0], [0, 0.1, 0, 0], [0, 0, 0, 0], [0, 0, 0, 1]]
    figures = must(
        workspace,
        row,
        "boxes.around",
        view=view,
        polygon=[[0.1, 0.1], [0.45, 0.1], [0.45, 0.5], [0.1, 0.5]],
        slab=[0.5, 2.0],
        heading_deg=heading,
    )
    xyz = np.concatenate([rigid.apply(s.pose, job.cloud(s.id).xyz()) for s in job.scans()])
    high = rigid.apply(job.frame, xyz)[:, 2]
    inside = xyz[((xyz[:, :2] > 1) & (xyz[:, :2] < [4.5, 5])).all(1) & (high > 0.5) & (high < 2)]
    record = opened(workspace, row).get("box", figures["box"])
    q = (inside - record["centre"]) @ rigid.about_z(np.radians(record["heading_deg"]))
    over = np.array(record["size"]) / 2 - np.abs(q).max(0)
    assert (
        len(inside) > 300
        and (over > -1e-9).all()
        and (over < 0.11).all()
        and record["name"] == f"box {figures['box']}"
    )
    assert (
        "No point lies"
        in perform(workspace, row, "boxes.around", view=view, polygon=[[5, 5], [6, 5], [6, 6]]).message
    )


@pytest.mark.parametrize(
    ("notation", "length", "point"),
    [
        ({}, "8.000 m", "1234.500  2.000  3.000"),
        ({"unit": "international foot", "decimals": 2}, "26.25 ft", "4050.20  6.56  9.84"),
        (
            {"unit": "millimetre", "decimals": 0, "thousands": "apostrophe"},
            "8’000 mm",
            "1’234’500  2’000  3’000",
        ),
        (
            {"decimal_mark": "comma", "thousands": "point", "order": "N E H"},
            "8,000 m",
            "2,000  1.234,500  3,000",
        ),
        ({"unit": "US survey foot", "decimals": 4}, "26.2467 ftUS", "4050.1888  6.5617  9.8425"),
    ],
)
def test_notation_holds_in_lists_and_files(room, notation, length, point):
    workspace, row = room
    must(workspace, row, "table.notation", **notation)
    must(workspace, row, "measure.take", points=[touch((0, 3, 1)), touch((8, 3, 1))])
    job = opened(workspace, row)
    n = Notation.of(job)
    assert (
        n.length(8.0) == length
        and n.coordinate([1234.5, 2, 3]) == point
        and table.rows(job)[0]["says"].startswith(length)
    )
    must(workspace, row, "deliver.measures")
    found = list(
        csv.reader(
            open(job.output("measures.csv", ".csv"), encoding="utf-8-sig"),
            delimiter=";" if n.decimal_mark == "comma" else ",",
        )
    )
    assert (
        f"distance {length}; level {length}; height " in found[1][6]
        and found[0][3:6] == [f"{c} ({n.short})" for c in n.order.split()]
        and found[2][3:6] == [n.number(v) for v in n.ordered([8, 3, 1])]
    )


@pytest.mark.parametrize(
    ("unit", "written"),
    [
        ("metre", "3.0 mm"),
        ("millimetre", "3.0 mm"),
        ("international foot", "0.010 ft"),
        ("US survey foot", "0.010 ftUS"),
        ("inch", "0.12 in"),
    ],
)
def test_residuals_are_small_lengths_of_the_jobs_unit(unit, written):
    n = Notation(unit)
    assert f"{n.small(3.048)} {n.small_short}" == written and not n.small(-1e-6).startswith("-")


def test_marks_that_would_be_mistaken(room):
    assert perform(*room, "table.notation", decimal_mark="comma", thousands="comma").state == "failed"


@pytest.mark.parametrize("outside", [False, True])
@pytest.mark.parametrize("heading", [0.0, 33.0])
def test_boxes_hide_from_deliveries_cuts_and_picks(room, outside, heading):
    workspace, row = room
    centre, size = [3.0, 2.5, 1.2], [2.5, 4.0, 2.0]
    must(
        workspace,
        row,
        "boxes.put",
        name="corner",
        centre=centre,
        size=size,
        heading_deg=heading,
        outside=outside,
    )
    job = opened(workspace, row)
    every = {s.id: rigid.apply(s.pose, job.cloud(s.id).xyz(0, s.points)) for s in job.scans()}
    box = turned(centre, size, np.radians(heading), outside)
    turn = rigid.about_z(-np.radians(heading))
    held = {
        k: (np.abs((p - centre) @ turn.T) <= np.array(size) / 2).all(1) != outside for k, p in every.items()
    }
    assert all((box.holds(p) == held[k]).all() for k, p in every.items())
    chosen = Selection(job, PointParams(within="corner"))
    assert chosen.points == sum(m.sum() for m in held.values())
    eye = np.eye(4).tolist()
    cut = must(
        workspace,
        row,
        "clean.outline",
        view=eye,
        polygon=[[-99, -99], [99, -99], [99, 99], [-99, 99]],
        within="corner",
    )
    job = opened(workspace, row)
    assert cut["points"] == chosen.points and all(
        ((job.cloud(k).values("cut", 0) != 0) == m).all() for k, m in held.items()
    )
    assert (
        perform(
            workspace, row, "clean.outline", view=eye, polygon=[[-9, -9], [9, -9], [9, 9]], within="nowhere"
        ).state
        == "failed"
    )


@pytest.mark.parametrize("name", ["", "corner"])
def test_what_a_box_hides_is_not_picked(room, name):
    workspace, row = room
    must(workspace, row, "boxes.put", name="corner", centre=[4, 3, 1.5], size=[20, 4, 10])
    job = opened(workspace, row)
    origin = scene.origin_of(job)
    ray = picking.Ray(
        origin=tuple(np.array([3.0, 30.0, 2.6]) - origin),
        direction=(0, -1, 0),
        slope=0.001,
        width=0.01,
        scans=[1, 2, 3],
        box=name,
    )
    found = picking.pick(job, ray)
    assert (found is None) if name else abs(found["at"][1] - ROOM[1][1]) < 0.02


@pytest.mark.parametrize(
    ("params", "size"),
    [({}, 1000), ({"classes": [0]}, 700), ({"box": [0, 0, 0, 4, 3, 2]}, 5000), ({"most": 3000}, 999)],
)
def test_portions_hold_every_chosen_point_once(room, params, size):
    """In pieces of the size asked for, in the order of the scans, whatever is asked for."""
    workspace, row = room
    job = opened(workspace, row)
    chosen = Selection(job, PointParams(**params))
    with job.scratch() as folder:
        chosen.thin(folder, QUIET)
        portions = chosen.portions(size)
        assert (
            all(p.points == size for p in portions[:-1]) and sum(p.points for p in portions) == chosen.points
        )
        chunks = [chunk for portion in portions for chunk in portion.chunks(QUIET)]
        got, source = (
            np.concatenate([c[name] for c in chunks]) if chunks else np.zeros((0, 3))
            for name in ("xyz", "source")
        )
        wanted = [
            rigid.apply(job.grid_pose(s), job.cloud(s.id).xyz(a, b)[m])
            for s in chosen.scans
            for a, b, m in chosen._masks(s)
        ]
    assert np.array_equal(got, np.concatenate(wanted)) and (np.diff(source) >= 0).all()
