"""Faces of walls, openings in them and lines of plans, on shapes made up here."""

import numpy as np
import pytest
from shapely.geometry import LinearRing, Polygon

from terrazza.core.draw import faces, floor_plan, rooms, storey
from terrazza.core.draw.openings import Opening, Wall


def along(ring, spacing=0.01, noise=0.001, seed=0, closed=True):
    """Points (n, 2) along a way."""
    ring = np.asarray(ring, float)
    way = LinearRing(ring) if closed else None
    at = np.arange(0, way.length, spacing)
    xy = np.array([way.interpolate(s).coords[0] for s in at])
    return xy + np.random.default_rng(seed).normal(0, noise, xy.shape)


def border_of(ring, inside=0.07, cell=0.05):
    """The border of a room's cells, a little within its walls, counter-clockwise."""
    shape = Polygon(ring).buffer(-inside, join_style="mitre")
    low, high = np.array(shape.bounds[:2]) - cell, np.array(shape.bounds[2:]) + cell
    x, y = (np.arange(a, b, cell) + cell / 2 for a, b in zip(low, high))
    from shapely import contains_xy

    mask = contains_xy(shape, *np.meshgrid(x, y, indexing="ij"))
    return storey.loops(mask)[0] * cell + low


SHAPES = {
    "square": [[0, 0], [4, 0], [4, 3], [0, 3]],
    "askew": [[0, 0], [4.3, 0.4], [3.9, 3.2], [-0.2, 2.8]],
    "an L": [[0, 0], [5, 0], [5, 2], [2.5, 2], [2.5, 4], [0, 4]],
    "with a chimney": [[0, 0], [5, 0], [5, 4], [3.2, 4], [3.2, 3.4], [2.2, 3.4], [2.2, 4], [0, 4]],
    "five corners": [[0, 0], [4, 0], [5.5, 2], [4, 4], [0, 4]],
}


@pytest.mark.parametrize("name", SHAPES)
@pytest.mark.parametrize("turn", [0.0, 0.35])
def test_a_room_has_the_corners_that_it_has(name, turn):
    c, s = np.cos(turn), np.sin(turn)
    ring = np.array(SHAPES[name]) @ np.array([[c, s], [-s, c]])
    xy = along(ring)
    found = faces.around(border_of(ring), faces.straight(xy), xy)
    assert len(found) == len(ring) and all(f.points for f in found)
    starts = np.array([f.start for f in found])
    assert max(np.linalg.norm(starts - corner, axis=1).min() for corner in ring) < 0.002
    middle = np.array([(f.start + f.end) / 2 + 0.1 * f.inward for f in found])
    assert all(Polygon(ring).buffer(0.01).contains(p) for p in map(_point, middle)), "inward is inward"
    assert all(2e-6 < f.turn < 0.002 for f in found)


def _point(at):
    from shapely.geometry import Point

    return Point(*at)


@pytest.mark.parametrize(("radius", "half"), [(2.0, 0.9), (6.0, 0.35)])
def test_a_round_wall_is_one_arc(radius, half):
    angles = np.linspace(-half, half, 60)
    bow = np.stack([radius * np.cos(angles), radius * np.sin(angles)], 1) + [4.0 - radius * np.cos(half), 0]
    tall = radius * np.sin(half)
    ring = np.concatenate([[[0, -tall]], bow, [[0, tall]]])
    xy = along(ring, 0.008)
    found = faces.around(border_of(ring), faces.straight(xy), xy)
    arcs = [f for f in found if f.centre is not None]
    assert len(found) == 4 and len(arcs) == 1
    assert arcs[0].radius == pytest.approx(radius, rel=0.01)
    way = arcs[0].vertices()
    assert np.abs(np.linalg.norm(way - arcs[0].centre, axis=1) - arcs[0].radius)[1:-1].max() < 1e-9
    corners = np.array([f.start for f in found])
    for corner in ring[[0, 1, -2, -1]]:
        assert np.linalg.norm(corners - corner, axis=1).min() < 0.01


def face(a, b, points=100, rms=0.002):
    return faces.Face(np.array(a, float), np.array(b, float), rms, points, 1e-4)


def test_what_hangs_loose_before_a_wall_is_left_out():
    shelf = [face([2, 3.2], [2.8, 3.2])]
    walls = [face([0, 0], [4, 0]), face([4, 0], [4, 4]), face([4, 4], [3, 4]), *shelf, face([1.5, 4], [0, 4])]
    walls.append(face([0, 4], [0, 0]))
    xy = np.concatenate([np.linspace(f.start, f.end, 200) for f in walls])
    found = faces._without_spurs(walls, xy)
    assert len(found) == 4 and not any(np.allclose(f.start, [2, 3.2]) for f in found)
    niche = [face([4, 4], [3, 4]), face([3, 4], [3, 3.5]), face([3, 3.5], [2, 3.5]), face([2, 3.5], [2, 4])]
    kept = [*walls[:2], *niche, face([2, 4], [0, 4]), walls[-1]]
    assert len(faces._without_spurs(kept, xy)) == len(kept), "a chimney is joined to its wall and stays"


def scene(opening=(1.0, 1.9, 0.0, 2.0), shade=None, seed=1):
    """A wall 4 m long and 2.5 m high seen from 2 m: points on it, and what beams through its opening met."""
    rng = np.random.default_rng(seed)
    station = np.array([1.8, 2.0, 1.5])
    s, h = rng.uniform(0, 4, 60_000), rng.uniform(0, 2.5, 60_000)
    a, b, low, high = opening
    through = (s > a) & (s < b) & (h > low) & (h < high)
    on = np.c_[s, np.zeros(len(s)), h][~through]
    at = np.c_[s, np.zeros(len(s)), h][through]
    behind = station + (at - station) * rng.uniform(1.8, 2.2, (len(at), 1))
    seen = np.concatenate([on, behind])
    if shade is not None:  # a cupboard before the wall
        x0, x1, top = shade
        way = station + (on - station) * (1.5 / 2.0)
        hidden = (way[:, 0] > x0) & (way[:, 0] < x1) & (way[:, 2] < top)
        seen = np.concatenate([on[~hidden], way[hidden], behind])
    wall = face([0, 0], [4, 0])
    near = seen[np.abs(seen[:, 1]) < 0.2]
    return Wall(wall, near, [(station, seen)], 0.0, 2.5)


def test_a_door_and_a_window_are_measured():
    (door,) = scene().openings()
    assert door.door and door.sure and door.sill == 0.0
    assert (door.start, door.end, door.head) == pytest.approx((1.0, 1.9, 2.0), abs=0.02)
    (window,) = scene((2.0, 3.2, 0.9, 2.0)).openings()
    assert not window.door and window.width == pytest.approx(1.2, abs=0.03)
    assert (window.sill, window.head) == pytest.approx((0.9, 2.0), abs=0.03)


@pytest.mark.parametrize("opening", [(9.0, 9.1, 0.0, 0.1), (1.0, 1.2, 0.0, 2.0)])
def test_no_opening_and_one_too_narrow_are_none(opening):
    assert scene(opening).openings() == []


def test_what_stands_before_a_wall_is_no_opening():
    wall = scene((9.0, 9.1, 0.0, 0.1), shade=(0.8, 2.2, 1.4))
    assert wall.openings() == []
    assert wall.seen()[0][0] < 0.05 and wall.seen()[-1][1] > 3.95  # seen above it


def room_of(ring, gaps=()):
    outline = [face(a, b) for a, b in zip(ring, [*ring[1:], ring[0]])]
    walls = {k: [(0.0, f.length)] for k, f in enumerate(outline)}
    return rooms.Room(outline, [], 2.5, walls, list(gaps))


def test_a_plan_goes_around_corners_and_leaves_openings_open():
    door = Opening(1.0, 1.9, 0.0, 2.0, (0.12, 0.12), True, True)
    window = Opening(1.0, 2.0, 0.9, 2.0, (0.0, 0.0), False, False)
    left = room_of([[0, 0], [4, 0], [4, 3], [0, 3]], [(1, door), (3, window)])
    back = Opening(3 - 1.9, 3 - 1.0, 0.0, 2.0, (0.0, 0.0), True, True)
    right = room_of([[4.12, 0], [8, 0], [8, 3], [4.12, 3]], [(3, back)])
    pair = floor_plan.in_order([right, left])
    gaps = floor_plan.gaps_of(pair)
    assert len(gaps) == 2 and {g.rooms for g in gaps} >= {(0, 1)}, "a door that two rooms show is one"
    drawn = floor_plan.lines_of(pair, 1.3)
    layers = {layer: [d for d in drawn if d.layer == layer] for layer in ("ROOMS", "WALLS", "OPENINGS")}
    assert len(layers["ROOMS"]) == 2 and all(d.closed for d in layers["ROOMS"])
    jambs = [d for d in layers["WALLS"] if d.name.startswith("Jamb")]
    assert len(jambs) == 2 and all(np.ptp(d.vertices[:, 0]) == pytest.approx(0.12) for d in jambs)
    walls = [d.vertices for d in layers["WALLS"] if not d.name.startswith("Jamb")]
    length = sum(np.linalg.norm(np.diff(v, axis=0), axis=1).sum() for v in walls)
    assert length == pytest.approx(14 + 13.76 - 2 * 0.9, abs=1e-6)  # an opening that is guessed cuts nothing
    assert sum(d.guessed for d in layers["OPENINGS"]) == 1
    above = [d for d in floor_plan.lines_of(pair, 2.2) if d.layer == "WALLS"]
    assert len(above) == 2 and all(d.closed for d in above), "over the heads nothing is open"


def test_the_floor_below_and_rooms_that_hold_a_place():
    rng = np.random.default_rng(0)
    heights = np.r_[rng.normal(12.0, 0.003, 4000), rng.uniform(12, 14.4, 3000), rng.normal(14.5, 0.003, 4000)]
    points = np.c_[rng.uniform(0, 4, (len(heights), 2)), heights]
    assert rooms.floor_below(points, 13.3) == pytest.approx(12.0, abs=0.002)
    room = room_of([[0, 0], [4, 0], [4, 3], [0, 3]])
    assert rooms.holds(room, [1, 1]) and not rooms.holds(room, [5, 1])
    assert room.area == pytest.approx(12) and room.guessed == 0
