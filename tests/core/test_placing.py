"""Placing scans in places unlike the demo, whose truth is known: what is placed without doubt is right, and
what cannot be decided is doubted.
"""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import (
    cloud_fit,
    contradiction,
    in_picture,
    network,
    offers,
    open_match,
    patches,
    plan_match,
    search,
    surface,
)
from terrazza.core.register.assembly import Assembly
from terrazza.core.register.picture import Picture
from terrazza.errors import InputError
from tests import places


def scanned(family, seed, choose):
    """Truth, surfaces, shapes and pictures of chosen stations of a place."""
    rng = np.random.default_rng([seed, sum(map(ord, family))])
    place = places.WORLDS[family](rng)
    sweeps = [places.scanned(place, family, s, rng) for s in [place.places[k] for k in choose]]
    faces = [surface.prepare(xyz) for *_, xyz in sweeps]
    return (
        [p for p, *_ in sweeps],
        faces,
        [plan_match.PlanShape(f) for f in faces],
        [Picture.of(xyz) for *_, xyz in sweeps],
    )


def errors(found, truth):
    """By scan of each island of two and more: distance (m) and turn (rad) from the truth, in the frame that
    suits most of the island.
    """
    out = {}
    for island in set(found.island) - {0}:
        members = [k for k, i in enumerate(found.island) if i == island]
        turns = [truth[k] @ rigid.inverse(found.poses[k]) for k in members]
        best = max(
            turns, key=lambda t: sum(rigid.difference(t @ found.poses[k], truth[k])[0] < 0.1 for k in members)
        )
        out |= {k: rigid.difference(best @ found.poses[k], truth[k]) for k in members}
    return out


@pytest.mark.parametrize(
    ("family", "seed", "choose", "placed"),
    [
        ("rooms", 0, (1, 4, 5), 2),
        ("corridor", 0, (0, 1, 2), 3),
        ("rooms", 2203, (1, 2, 3, 4, 5), 5),  # two of them share what is seen through a door
        ("islands", 2202, (1, 2, 3, 4, 6, 7), 6),  # which must not be joined by what floors have in common
    ],
)
def test_what_is_placed_without_doubt_is_right(family, seed, choose, placed):
    truth, faces, shapes, seen = scanned(family, seed, choose)
    found = search.place(faces, shapes, seen)
    off = errors(found, truth)
    sure = [k for k in off if not found.doubt[k]]
    assert all(off[k][0] < 0.12 and off[k][1] < np.radians(0.7) for k in sure), (off, found.doubt)
    assert len(off) >= placed and all(found.doubt[k] == "" for k in range(len(truth)) if found.island[k] == 0)


def test_like_rooms_are_doubted():
    """Four like rooms behind four like doors: none of them is sure, and stations of the corridor are."""
    truth, faces, shapes, seen = scanned("hotel", 1, (0, 1, 4, 5))
    found = search.place(faces, shapes, seen)
    off = errors(found, truth)
    wrong = [k for k in off if off[k][0] > 0.3]
    assert all(found.doubt[k] for k in wrong) and all(not found.doubt[k] and off[k][0] < 0.1 for k in (2, 3))


def test_candidates_are_slid_to_the_cell_and_stood_upright():
    """Two scans that lean by degrees: the best candidate is within a cell or two, where the correlation alone
    has four times as wide cells.
    """
    truth, _, shapes, _ = scanned("tilted", 0, (4, 5))
    assert max(np.degrees(np.arccos(p[2, 2])) for p in truth) > 1
    off = [
        rigid.difference(c.pose, rigid.inverse(truth[0]) @ truth[1])
        for c in plan_match.candidates(*shapes, 6)
    ]
    shift, turn = min(off)
    assert shift < 0.12 and np.degrees(turn) < 0.6


@pytest.mark.parametrize("lean", [0.0, 0.3, 2.0, 5.0])
def test_a_scan_is_stood_upright_by_its_floors(lean):
    _, faces, _, _ = scanned("rooms", 0, (4,))
    turn = rigid.rotation_from(np.radians(lean) * np.array([0.6, -0.8, 0.0]))
    leaning = surface.Surface(faces[0].xyz @ turn.T, faces[0].normals @ turn.T, faces[0].flat, faces[0].view)
    up = plan_match.PlanShape(leaning).upright[:3, :3] @ turn
    assert np.degrees(np.arccos(up[2, 2])) < 0.07


def test_a_fit_does_not_follow_a_shift_that_nothing_holds():
    """Along a bare corridor a fit stays where it began to the millimetre, and says which way it would slide;
    across it finds the truth.
    """
    rng = np.random.default_rng(0)

    def bare():
        x, side = rng.uniform(-8, 8, 60000), rng.integers(0, 4, 60000)
        across, up = rng.uniform(-1, 1, 60000), rng.uniform(-1.4, 1.2, 60000)
        y, z = (
            np.select([side == 0, side == 1], [-1.0, 1.0], across),
            np.select([side == 2, side == 3], [-1.4, 1.2], up),
        )
        return surface.prepare(np.c_[x, y, z] + rng.normal(0, 0.002, (60000, 3)))

    fit = cloud_fit.fit(bare(), bare(), rigid.make(np.eye(3), np.array([0.07, 0.05, -0.04])))
    assert len(fit.free) == 1 and abs(fit.free[0][0]) > 0.99
    assert abs(fit.pose[0, 3] - 0.07) < 0.003 and np.abs(fit.pose[1:3, 3]).max() < 0.001


@pytest.mark.parametrize(
    ("given", "better", "along"), [(None, 0.5, 0.12), (0.03, 0.5, 0.0), (0.03, 1.5, 0.12), (0.2, 0.5, 0.12)]
)
def test_what_nothing_holds_stays_as_given_unless_much_more_speaks_for_another_place(
    monkeypatch, given, better, along
):
    """Pictures that say by ``better`` more for a place 12 cm along than for where a fit begins."""
    said = lambda a, b, pose: contradiction.Verdict(
        (0.5, 0.5), 0.5, 0.5, 0.0, better * abs(1 - pose[0, 3] / 0.12), []
    )
    monkeypatch.setattr(offers, "judge", said)
    fit = cloud_fit.Fit(
        np.eye(4), 0.002, 0.001, 0.5, 500, np.eye(6), np.zeros(3), True, (np.array([1.0, 0, 0]),)
    )
    told = None if given is None else rigid.make(np.eye(3), np.array([given, 0, 0]))
    slid, _ = offers._slid_on(fit, said(0, 0, np.eye(4)), None, None, told)
    assert slid.pose[0, 3] == pytest.approx(along, abs=0.005)


@pytest.mark.parametrize("thick", [0.08, 0.15])
def test_both_sides_of_a_wall_are_two_surfaces(thick):
    """A wall seen from either side is no common patch, however near its sides are; seen from one side by both
    it is.
    """
    rng = np.random.default_rng(1)
    side = np.c_[np.zeros(20000), rng.uniform(-2, 2, 20000), rng.uniform(-1, 1, 20000)] + rng.normal(
        0, 0.001, (20000, 3)
    )
    poses = [rigid.make(np.eye(3), np.array([x, 0, 0.0])) for x in (-3.0, 3.0)]
    sides = [side + [-thick / 2, 0, 0], side + [thick / 2, 0, 0]]
    slid = [
        rigid.make(np.eye(3), p[:3, 3] + [s * thick / 2, 0, 0]) for s, p in zip((1, -1), poses)
    ]  # as where a fit has laid the sides upon each other
    clouds = [s - p[:3, 3] for s, p in zip(sides, poses)]
    assert patches.collect(clouds, slid).count == 0
    same = [clouds[0], rigid.apply(rigid.inverse(slid[0]), rigid.apply(slid[0], clouds[0]))]
    assert patches.collect(same, [slid[0], slid[0]]).count > 10


def test_what_nothing_holds_keeps_its_place_with_an_honest_sigma():
    """Two bare corridors: the σ along is that of where the adjustment began, across it is tenths of
    millimetres.
    """
    rng = np.random.default_rng(3)

    def bare():
        x, side = rng.uniform(-6, 6, 40000), rng.integers(0, 4, 40000)
        across, up = rng.uniform(-1, 1, 40000), rng.uniform(-1.4, 1.2, 40000)
        return np.c_[
            x,
            np.select([side == 0, side == 1], [-1.0, 1.0], across),
            np.select([side == 2, side == 3], [-1.4, 1.2], up),
        ] + rng.normal(0, 0.002, (40000, 3))

    adjusted = network.solve(
        [bare(), bare()], [np.eye(4), rigid.make(np.eye(3), np.array([0.04, 0.002, 0.0]))], {0}
    )
    sigma = np.sqrt(np.diag(adjusted.covariance[1]))[3:]
    assert 0.03 < sigma[0] <= network.HELD[1] * 1.01 and sigma[1:].max() < 0.001
    assert abs(adjusted.poses[1][0, 3] - 0.04) < 3 * sigma[0] and abs(adjusted.poses[1][1, 3]) < 0.001


def test_offers_of_scans_that_share_nothing_are_none_and_pairs_of_many_are_few():
    truth, faces, shapes, seen = scanned("islands", 0, (2, 6))
    assert all(o.weight < 3 for o in offers.offers_of(faces, shapes, seen, 0, 1))
    assert len(search._pairs(shapes * 10, {})) == 20 * 19 // 2
    many = search._pairs(shapes * 25, {0: np.eye(4), 30: np.eye(4)})
    assert (0, 30) in many and (4, 5) in many and len(many) < 50 * (search.LIKELY + search.NEXT) + 2


@pytest.mark.parametrize(
    ("family", "seed", "choose"),
    [("rooms", 2201, (1, 2, 4, 5, 6)), ("rooms", 2203, (2, 3, 4, 5))],
)
def test_what_is_open_and_occupied_finds_a_scan_through_a_door_where_walls_do_not(family, seed, choose):
    truth, faces, shapes, seen = scanned(family, seed, choose)
    opened = [open_match.OpenShape.of(*one) for one in zip(faces, shapes, seen)]
    centre = np.median([p[:3, 3] for p in truth[1:]], axis=0)
    about = [rigid.make(np.eye(3), -centre) @ p for p in truth]
    plan, _ = plan_match.PlanShape.of_map(faces[1:], truth[1:], centre)
    near = lambda poses: any(
        rigid.difference(p, about[0])[0] < 0.4 and rigid.difference(p, about[0])[1] < 0.05 for p in poses
    )
    (found,) = open_match.candidates(opened[1:], about[1:], plan, opened[0], shapes[0], 16)
    assert near(found)
    assert not near(c.pose for c in plan_match.candidates(plan, shapes[0], 16))


def test_storeys_are_told_by_their_floors():
    assert open_match.storeys(np.array([0.0, 3.1, 0.1, -0.2, 3.0])) == [[3, 0, 2], [4, 1]]


def test_a_glance_sees_what_a_verdict_sees():
    truth, _, _, (a, b) = scanned("rooms", 0, (4, 5))
    pose = rigid.inverse(truth[0]) @ truth[1]
    agree, against = contradiction.glance(a, b, pose)
    assert agree > 20 and against < 1.0 > contradiction.judge(a, b, pose).area
    assert (
        contradiction.glance(a, b, rigid.make(np.eye(3), np.array([0, 0, 0.8])) @ pose)[1]
        > contradiction.GROSS
    )


def test_points_fall_into_the_pixels_that_their_directions_say():
    rng = np.random.default_rng(1)
    some = rng.normal(size=(500, 2)).astype(np.float32)
    assert all(abs(in_picture._angle(y, x) - np.arctan2(y, x)) < 1.2e-5 for x, y in some)
    xyz = np.concatenate([rng.normal(0, 8, (5000, 3)), [[0, 0, 5], [0, 0, -5], [-3, 0, 0], [-3, -1e-7, 0]]])
    way = rigid.make(rigid.rotation_from(rng.normal(0, 1, 3)), rng.normal(0, 2, 3))
    for pose in (np.eye(4), way):
        pixel, r = in_picture.Points.of(xyz)._pixels(pose)
        there = rigid.apply(pose, xyz)
        exact = np.linalg.norm(there, axis=1)
        up = np.degrees(np.arcsin(there[:, 2] / exact)) + 90
        around = np.degrees(np.arctan2(there[:, 1], there[:, 0])) + 180
        assert r == pytest.approx(exact, rel=1e-6)
        clear = (np.abs(up - up.round()) > 1e-3) & (np.abs(around - around.round()) > 1e-3)
        expected = np.minimum(up.astype(int), 179) * 360 + around.astype(int) % 360
        assert clear.mean() > 0.99 and (pixel[clear] == expected[clear]).all()
        assert (pixel >= 0).all() and (pixel < 180 * 360).all()


@pytest.mark.parametrize("held", [True, False])
def test_one_wall_does_not_hold_a_placement_and_a_corner_does(held):
    u, v = (g.ravel() for g in np.meshgrid(np.arange(-3, 3, 0.05), np.arange(-1.5, 1.5, 0.05)))
    walls = [
        np.c_[np.full(len(u), 3.0), u, v],
        np.c_[u, np.full(len(u), 3.0), v],
        np.c_[u, 2 * v, 0 * u - 1.5],
    ]
    face = surface.prepare(np.concatenate(walls if held else [walls[0], walls[2]]))
    seen = Picture.of(face.xyz)
    assert Assembly([seen, seen], set(), surfaces=[face, face]).held({1: np.eye(4)}, [0]) == held


def test_a_fit_that_its_last_step_carries_away_says_so(monkeypatch):
    truth, faces, *_ = scanned("rooms", 0, (4, 5))
    solve, calls = cloud_fit._system, []
    monkeypatch.setattr(cloud_fit, "_system", lambda *a: None if calls else calls.append(1) or solve(*a))
    with pytest.raises(InputError, match="too little in common"):
        cloud_fit.fit(*faces, rigid.inverse(truth[0]) @ truth[1], (0.1,), rounds=1)


def _in_a_hall(boxes=(), gaps=()):
    """What is seen from the middle of a room 8 by 6 m beside another, through ``gaps`` of the wall between,
    with things (``boxes``) in it.
    """
    room = []
    places.shell(room, 14.0, 6.0, 2.7)
    for axis, at, stop in ((0, 0.0, 14.0), (0, 6.0, 14.0), (1, 0.0, 6.0), (1, 14.0, 6.0)):
        places.wall(room, axis, at, 0.0, stop, [], 2.7)
    places.wall(room, 1, 8.0, 0.0, 6.0, list(gaps), 2.7)
    place = places.Place([*room, *boxes], moving=False)
    pose, _, xyz = places.scanned(place, "rooms", (4.0, 3.0, 0.0), np.random.default_rng(3))
    return pose, Picture.of(xyz)


@pytest.mark.parametrize(
    ("box", "moved", "weight"),
    [
        (([5.8, 2.5, 0.0], [6.0, 3.4, 1.8]), True, 0.2),  # somebody
        (([6.5, 3.4, 0.0], [6.9, 4.9, 2.1]), True, 0.3),  # a cupboard
        (None, True, 1.0),  # a piece of the wall, as high, where the other saw through a door
        (([6.5, 0.5, 0.0], [6.9, 5.0, 2.1]), False, 1.0),  # a partition
        (([5.6, 0.8, 0.0], [7.0, 5.2, 1.45]), True, 0.3),  # a car
    ],
)
def test_a_thing_by_itself_is_told_from_a_piece_of_a_wall(box, moved, weight):
    at, one = _in_a_hall([box] if box else [])
    other_at, other = _in_a_hall(gaps=[] if box else [(2.5, 3.4, 0.0, 1.8)])
    pose = rigid.inverse(at) @ other_at
    verdict = contradiction.judge(one, other, pose)
    (seen,) = verdict.patches
    assert (verdict.moved_area > 0) == moved
    state = one.points.states(other, rigid.inverse(pose), contradiction.CLOSELY)
    (patch,) = contradiction._patches(one, state, one.floor)
    assert patch[2] == pytest.approx(weight, abs=0.12) and patch[3] == moved
    assert patch[0] * patch[2] == pytest.approx(seen[0])


def _wall(x, eye, rough):
    """What a scanner at ``eye`` sees of a wall at ``x``, smooth or ``rough``."""
    y, z = (g.ravel() for g in np.meshgrid(np.arange(-2, 2, 0.01), np.arange(-1.2, 1.2, 0.01)))
    bumps = np.random.default_rng(2).normal(0, 0.02 if rough else 0.002, len(y))
    return Picture.of(np.stack([x + bumps, y, z], 1) - eye)


@pytest.mark.parametrize(
    ("side", "before", "eye", "rough", "agrees", "both"),
    [
        (-0.12, 3.0, (-0.9, -6.0, 0), False, True, True),
        (0.0, 3.0, (0.8, -6.0, 0), True, True, False),  # a pixel along the wall spans both sides
        (0.0, 3.0, (0.8, -6.0, 0), False, False, False),  # and they face away from each other
        (0.0, 1.3, (1.2, -3.3, 0), False, False, False),
    ],
)
def test_both_sides_of_a_thin_wall_are_not_the_same(side, before, eye, rough, agrees, both):
    """One scan stands before a wall, another looks along it, from the same side or from the other."""
    eyes = np.array([-before, 0, 0]), np.array(eye)
    one, other = _wall(-0.12, eyes[0], rough), _wall(side, eyes[1], rough)
    verdict = contradiction.judge(one, other, rigid.make(np.eye(3), eyes[1] - eyes[0]))
    assert verdict.common > 0.5 if agrees else verdict.common < 0.07
    assert verdict.area < 0.1
    assert verdict.mutual == 1.0 if both else verdict.mutual < 0.1


@pytest.mark.parametrize(("rough", "least", "most"), [(False, 0.85, 1.0), (True, 0.1, 0.5)])
def test_what_is_flat_faces_the_scanner(rough, least, most):
    seen = _wall(2.0, np.zeros(3), rough)
    flat = seen.facing.any(1)
    assert least <= flat.mean() <= most
    assert np.abs(seen.facing[flat, 0].mean() + 1.0) < 0.1


def test_a_floor_is_found_under_the_furniture_that_hides_most_of_it():
    desks = [
        ([x, y, 0.0], [x + 1.4, y + 0.8, 0.75]) for x in (1.0, 2.5, 4.6, 6.2) for y in (0.5, 1.5, 4.0, 5.0)
    ]
    pose, seen = _in_a_hall(desks)
    assert pose[2, 3] + seen.floor == pytest.approx(0.0, abs=0.03)
