"""Rooms of simulated floors that are not square: outlines, faces, openings, names, in drawing and DXF."""

import csv

import ezdxf
import numpy as np
import pytest
from shapely import union_all
from shapely.geometry import LineString, Polygon

from terrazza.core.draw import floor_plan, rooms, storey, walls
from terrazza.core.surfaces import room as solid
from terrazza.db import queries
from terrazza.formats import dxf, e57_writer
from tests import plans
from tests.run import must, opened, perform


def scanned(floor, rng, **how):
    """Points of all stations of a floor, and which station saw each."""
    parts = [plans.scanned(floor, s, rng, **how) for s in floor.stations]
    return np.concatenate(parts), np.repeat(np.arange(len(parts)), [len(p) for p in parts])


def corners_of(outline):
    """The vertices of a true outline where it turns by more than 8°."""
    ahead, back = np.roll(outline, -1, 0) - outline, outline - np.roll(outline, 1, 0)
    turn = np.arctan2(back[:, 0] * ahead[:, 1] - back[:, 1] * ahead[:, 0], (back * ahead).sum(1))
    return outline[np.abs(np.degrees(turn)) > 8]


@pytest.fixture(scope="module", params=[(11, {}), (12, {"rows": 200, "columns": 620, "noise": 0.003})])
def found(request):
    """A floor, finely or coarsely scanned, with what was found in it: (truth, rooms, whether coarse)."""
    seed, how = request.param
    rng = np.random.default_rng(seed)
    floor = plans.floor_of(rng, 2, 2)
    points, who = scanned(floor, rng, **how)
    far = np.array([650_000.0, 5_100_000.0, 310.0])  # as in a grid
    got = rooms.find(points + far, who, np.array(floor.stations) + far, far[2])
    for room in got:
        rooms._moved(room, -far[:2])
    return floor, floor_plan.in_order(got), bool(how)


def test_rooms_have_their_corners_and_round_walls(found):
    floor, got, coarse = found
    assert len(got) == len(floor.rooms)
    errors, areas = [], []
    for room in got:
        shape = Polygon(room.corners)
        true = next(r for r in floor.rooms if Polygon(r).contains(shape.representative_point()))
        starts = np.array([f.start for f in room.outline])
        errors += [np.linalg.norm(starts - c, axis=1).min() for c in corners_of(true)]
        areas.append(shape.area / Polygon(true).area - 1)
        assert len(room.outline) <= len(corners_of(true)) + 1
    errors = np.array(errors)
    assert (errors < 0.008).mean() >= 0.9 and 1e-5 < np.median(errors) < (0.002 if coarse else 0.001)
    assert np.abs(areas).max() < 0.02 and np.median(np.abs(areas)) < 0.001
    radii = [f.radius for room in got for f in room.outline if f.centre is not None]
    assert radii == pytest.approx([r for *_, r in floor.rounds], rel=0.01)


def test_openings_have_their_widths_sills_and_heads(found):
    floor, got, coarse = found
    gaps = floor_plan.gaps_of(got)
    middles, off = np.array([g.ends.mean(0) for g in gaps]), []
    for ends, sill, head, joins in floor.openings:
        away = np.linalg.norm(middles - ends.mean(0), axis=1)
        k = int(away.argmin())
        if away[k] > 0.3:
            continue
        off.append(gaps[k].width - np.linalg.norm(ends[1] - ends[0]))
        height = 310.0
        assert gaps[k].opening.door == (sill == 0)
        assert gaps[k].opening.head - height == pytest.approx(head, abs=0.05)
        assert gaps[k].opening.sill - height == pytest.approx(sill, abs=0.05)
        assert (gaps[k].rooms[1] is None) == (joins[1] < 0)
    assert len(off) >= 0.9 * len(floor.openings) and len(gaps) <= len(floor.openings) + 1
    wide = 0.03 if coarse else 0.015
    assert (np.abs(off) < wide).mean() >= 0.85 and abs(np.median(off)) < 0.005


def test_seen_walls_are_drawn_where_they_are(found):
    """Nothing is drawn off a wall, and little of what is there is missing."""
    floor, got, _ = found
    drawn = [d for d in floor_plan.lines_of(got, 310.0 + 1.3) if d.layer == "WALLS"]
    true = [LineString([w[:2], w[2:4]]) for w in floor.walls]
    here = [t for t, w in zip(true, floor.walls) if w[4] < 1.3 < w[5] and w[5] == floor.height]
    lines = [LineString(np.r_[d.vertices, d.vertices[:1]] if d.closed else d.vertices) for d in drawn]
    off = [p for line in lines for p in map(line.interpolate, np.arange(0.02, line.length, 0.05))]
    away = np.array([min(t.distance(p) for t in true) for p in off])
    assert (away < 0.005).mean() > 0.97
    seen = [p for t in here for p in map(t.interpolate, np.arange(0.05, t.length, 0.1))]
    missed = np.array([min(line.distance(p) for line in lines) for p in seen])
    assert (missed < 0.005).mean() > 0.97


def test_partitions_have_their_thickness_within_their_sigma(found):
    _, got, _ = found
    made = walls.partitions(got)
    off = np.array([(w.thickness - plans.THICK) / w.sigma for w in made])
    assert len(made) >= 4 and np.abs([w.thickness - plans.THICK for w in made]).max() < 0.002
    assert np.median(np.abs(off)) < 2 and np.abs(off).max() > 0.2
    assert all(1e-5 < w.sigma < 0.002 and w.rooms[1] is not None for w in made)


def test_outer_faces_are_where_scans_from_outside_show_them(found):
    floor, got, _ = found
    rng = np.random.default_rng(6)
    whole = union_all([Polygon(r).buffer(0.4) for r in floor.rooms]).buffer(-0.4)
    ring = whole.buffer(plans.OUTER, join_style="mitre").exterior
    at = rng.uniform(0, ring.length, int(400 * ring.length))
    outside = np.array([ring.interpolate(s).coords[0] for s in at]) + rng.normal(0, 0.003, (len(at), 2))
    bush = rng.normal(0, 0.15, (4000, 2)) + np.array(ring.interpolate(1.0).coords[0])
    within = np.concatenate([r.corners for r in got])
    made = walls.outer(np.concatenate([outside, bush, within]), got)
    lines = [LineString([face.start, face.end]) for face, _ in made]
    places = [p for line in lines for p in map(line.interpolate, np.arange(0.1, line.length, 0.1))]
    off = np.array([ring.distance(p) for p in places])
    assert len(made) >= 4 and (off < 0.005).mean() > 0.93 and off.max() < 0.015
    straight = sum(line.length for line in lines)
    assert straight > 0.6 * ring.length  # what lies before a round wall has no face to go with
    assert np.median([wall.thickness for _, wall in made]) == pytest.approx(plans.OUTER, abs=0.003)
    assert not walls.outer(within, got)


def test_the_plan_goes_to_dxf_on_its_layers_with_arcs(workspace, tmp_path):
    rng = np.random.default_rng(11)
    floor = plans.floor_of(rng, 2, 1)
    row = queries.create_job(workspace, "Plan")
    with e57_writer.Writer(str(tmp_path / "floor.e57")) as out:
        for k, station in enumerate(floor.stations):
            xyz = plans.scanned(floor, station, rng, rows=200, columns=620) - station
            pose = np.eye(4)
            pose[:3, 3] = station
            out.add_scan(f"Room {k}", [{"xyz": xyz}], ["xyz"], pose=pose)
    must(workspace, row, "import.files", files=[str(tmp_path / "floor.e57")])
    path = str(tmp_path / "rooms.dxf")
    figures = must(workspace, row, "draw.rooms", path=path)
    document = ezdxf.readfile(path)
    assert not document.audit().errors
    model = document.layouts.get("Model")
    outlines = [e for e in model.query("LWPOLYLINE") if e.dxf.layer == "ROOMS"]
    assert len(outlines) == 2 and all(e.closed for e in outlines)
    assert any(e.has_arc for e in outlines)
    for entity, room in zip(outlines, figures["rooms"]):
        flat = [v for part in entity.virtual_entities() for v in _flat(part)]
        assert Polygon(flat).area == pytest.approx(room["area_m2"], rel=1e-3)
    assert {e.dxf.layer for e in model} == {"ROOMS", "WALLS", "OPENINGS", "TEXT"}
    openings = [e for e in model.query("LWPOLYLINE") if e.dxf.layer == "OPENINGS"]
    assert len(openings) == len(figures["openings"]) == len(floor.openings)
    assert sum("m²" in t.text for t in model.query("MTEXT")) == 2
    assert "Room 1" in opened(workspace, row).get("drawing", 1)["texts"][0]["text"]
    assert [w["thickness_m"] for w in figures["walls"]] == pytest.approx([plans.THICK], abs=0.003)
    volumes = must(workspace, row, "surface.rooms", path=str(tmp_path / "volumes.csv"))
    assert len(volumes["rooms"]) == 2 and volumes["doubt"] == []
    for room in volumes["rooms"]:
        mine = min(floor.rooms, key=lambda c: abs(Polygon(c).area - room["area_m2"]))
        assert room["volume_m3"] == pytest.approx(Polygon(mine).area * floor.height, rel=0.005)
        assert 0 < room["sigma_m3"] < 0.002 * room["volume_m3"] and room["floor_seen"] > 0.5
    told = list(csv.reader((tmp_path / "volumes.csv").read_text("utf-8-sig").splitlines()))
    assert [float(r[5]) for r in told[1:]] == pytest.approx(
        [r["volume_m3"] for r in volumes["rooms"]], abs=0.01
    )
    given = must(workspace, row, "surface.rooms", outline=np.asarray(floor.rooms[0]).tolist())
    assert given["volume_m3"] == pytest.approx(Polygon(floor.rooms[0]).area * floor.height, rel=0.005)
    beside = perform(workspace, row, "surface.rooms", outline=[[90, 90], [91, 90], [91, 91]])
    assert beside.state == "failed" and "floor and ceiling" in beside.message
    one = must(workspace, row, "draw.rooms", at=floor.rooms[0].mean(0).tolist())
    assert len(one["rooms"]) == 1
    nowhere = perform(workspace, row, "draw.rooms", at=[99.0, 99.0])
    assert nowhere.state == "failed" and "No room" in nowhere.message


def _flat(part):
    way = part.flattening(1e-4) if part.dxftype() == "ARC" else [part.dxf.start]
    return [(p.x, p.y) for p in way]


@pytest.mark.parametrize("turn", [1.2, -0.4])
@pytest.mark.parametrize("n", [5, 6])
def test_bulges_are_of_the_arc(turn, n):
    angles = np.linspace(0.3, 0.3 + turn, n)
    way = np.stack([np.cos(angles), np.sin(angles)], 1)
    (x, y, bulge), *_ = dxf.bulged(np.r_[way, [[3, 3]]], [(0, n - 1)], False)
    assert (x, y) == pytest.approx(way[0]) and bulge == pytest.approx(np.tan(turn / 4), rel=1e-9)


def test_borders_go_around_counter_clockwise_and_holes_the_other_way():
    mask = np.zeros((8, 9), bool)
    mask[1:7, 1:8] = True
    mask[3:5, 3:5] = False
    mask[6, 1] = False
    outer, hole = storey.loops(mask)
    signed = lambda p: 0.5 * np.sum(p[:, 0] * np.roll(p[:, 1], -1) - p[:, 1] * np.roll(p[:, 0], -1))
    assert (signed(outer), signed(hole)) == (41, -4)


@pytest.mark.parametrize("upstairs", [False, True])
def test_a_room_under_a_roof_with_a_step_has_the_volume_of_its_solids(upstairs):
    """8 × 6 m under a gable of 26.6°, a podium of 0.4 m, a table, a lamp; where asked with a storey below."""
    rng = np.random.default_rng(1)
    xy = rng.uniform(0, 1, (150_000, 2)) * [8, 6]
    roof = 4 - np.abs(xy[:, 1] - 3) * 0.5
    low = np.where((xy[:, 0] < 3) & (xy[:, 1] < 2.5), 0.4, 0.0)
    low[(np.abs(xy - [5, 4]) < [0.8, 0.4]).all(1)] = 0.75
    roof[((xy - [4, 3]) ** 2).sum(1) < 0.25**2] = 2.2
    parts = [low, roof] + [np.full(len(xy), v) for v in (-0.3, -2.2)] * upstairs
    xyz = np.concatenate([np.c_[xy, z + rng.normal(0, 0.002, len(xy))] for z in parts])
    found = solid.find(xyz, np.array([[0, 0], [8, 0], [8, 6], [0, 6.0]]), 1.3)
    assert found.volume == pytest.approx(48 * (4 - 0.75) - 3 * 2.5 * 0.4, rel=0.002)
    assert abs(found.volume - 153) < 4 * found.sigma
    assert found.ceiling.area == pytest.approx(48 * np.sqrt(1.25), rel=0.005)
    assert found.floor.stepped == pytest.approx(7.5, rel=0.05) and found.ceiling.stepped == 0
