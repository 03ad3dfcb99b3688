"""Placing by hand: like points, islands joined, fits that are refused, scans of another job."""

from types import SimpleNamespace

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import like_points
from terrazza.db import queries
from terrazza.operations.georeference.sightings import places
from terrazza.operations.register import given
from terrazza.operations.spine import fieldbook
from tests.run import must, opened, perform
from tests.scenes import room_job, room_poses, write_room

TOUCHED = np.array([[0.05, 0.05, 0.0], [7.9, 5.9, 0.0], [7.9, 0.1, 2.9]])  # near corners of the room


def pairs_of(poses, scan, neighbour, n, rng):
    """The same places in two scans' frames, each touched up to 10 cm off."""
    off = lambda: (lambda v: v / np.linalg.norm(v, axis=1)[:, None] * rng.uniform(0, 0.1, (n, 1)))(
        rng.normal(size=(n, 3))
    )
    own = lambda k: rigid.apply(rigid.inverse(poses[k]), TOUCHED[:n]) + off()
    return np.stack([own(scan), own(neighbour)], 1).tolist()


@pytest.fixture
def loose(workspace, tmp_path):
    """The room's three scans, none of them placed: (workspace, row, true poses)."""
    poses = write_room(tmp_path / "room.e57")
    row = queries.create_job(workspace, "Loose")
    must(workspace, row, "import.files", files=[str(tmp_path / "room.e57")])
    return workspace, row, poses


def off(job, poses, a, b):
    """How far (m, degrees) scan b stands from the truth against scan a."""
    stands = rigid.inverse(job.scan(a).pose) @ job.scan(b).pose
    moved, turned = rigid.difference(stands, rigid.inverse(poses[a - 1]) @ poses[b - 1])
    return moved, np.degrees(turned)


def test_scans_are_placed_by_like_points_and_taken_back(loose):
    workspace, row, poses = loose
    rng = np.random.default_rng(4)
    for scan, n in ((2, 2), (3, 3)):
        pairs = pairs_of(poses, scan - 1, 0, n, rng)
        figures = must(workspace, row, "register.like_points", scan=scan, neighbour=1, pairs=pairs)
        assert max(figures["residuals_mm"]) < 200 and not figures["doubt"], figures
        job = opened(workspace, row)
        moved, turned = off(job, poses, 1, scan)
        assert moved < 0.01 and turned < 0.1 and job.get("tie", f"1-{scan}")["overlap"] > 0.3
    fieldbook.undo(queries.entry_of(row, 3))
    assert opened(workspace, row).scan(3).pose is None


@pytest.mark.parametrize("way_deg", [20, 110, 200, 290])
@pytest.mark.parametrize("turned_deg", [-10, 10])
def test_a_scan_let_go_half_a_metre_and_ten_degrees_off_comes_back(loose, way_deg, turned_deg):
    workspace, row, poses = loose
    a, b = (rigid.inverse(poses[0]) @ poses[k] for k in (0, 1))
    way = np.radians(way_deg)
    for scan, pose, off_m, turn in ((1, a, 0.0, 0.0), (2, b, 0.5, turned_deg)):
        x, y, z = pose[:3, 3] + off_m * np.array([np.cos(way), np.sin(way), 0.1])
        heading = np.degrees(rigid.heading(pose)) + turn
        must(workspace, row, "register.set_pose", scan=scan, x=x, y=y, z=z, heading_deg=heading)
    figures = must(workspace, row, "register.cloud_fit", scan=2, neighbour=1)
    job = opened(workspace, row)
    moved, turned = off(job, poses, 1, 2)
    assert moved < 0.01 and turned < 0.1 and not figures["doubt"], figures
    assert figures["moved_mm"] == pytest.approx(502, abs=15) and abs(figures["turned_deg"] - 10) < 0.2
    assert job.get("standing", 2)["alternatives"] == [] and job.get("tie", "1-2")["overlap"] > 0.3


def test_one_pair_suffices_where_the_heading_is_known(loose):
    workspace, row, poses = loose
    pairs = pairs_of(poses, 1, 0, 1, np.random.default_rng(1))
    refused = perform(workspace, row, "register.like_points", scan=2, neighbour=1, pairs=pairs)
    assert refused.state == "failed" and "second pair" in refused.hint
    assert opened(workspace, row).scan(1).pose is None  # nothing is half done
    must(workspace, row, "register.set_pose", scan=1, x=0, y=0, z=0, heading_deg=0)
    heading = np.degrees(rigid.heading(rigid.inverse(poses[0]) @ poses[1])) + 5
    must(workspace, row, "register.set_pose", scan=2, x=40, y=0, z=0, heading_deg=heading)
    must(workspace, row, "register.like_points", scan=2, neighbour=1, pairs=pairs)
    moved, turned = off(opened(workspace, row), poses, 1, 2)
    assert moved < 0.01 and turned < 0.1


def test_pairs_that_are_not_alike_are_told(loose):
    workspace, row, poses = loose
    pairs = pairs_of(poses, 1, 0, 3, np.random.default_rng(2))
    pairs[2][1][2] += 1.5
    figures = must(workspace, row, "register.like_points", scan=2, neighbour=1, pairs=pairs)
    assert figures["doubt"]
    standing = opened(workspace, row).get("standing", 2)
    assert standing["doubt"] and standing["alternatives"]


def test_a_fit_that_its_own_verdict_refuses_moves_nothing(loose):
    workspace, row, poses = loose
    must(workspace, row, "register.set_pose", scan=1, x=0, y=0, z=0, heading_deg=0)
    must(workspace, row, "register.set_pose", scan=2, x=1.0, y=0.5, z=0.6, heading_deg=40)
    before = opened(workspace, row).scan(2).pose
    figures = must(workspace, row, "register.cloud_fit", scan=2, neighbour=1, width=0.06)
    assert figures["failed"] and figures["doubt"] and figures["moved_mm"] == 0
    assert np.array_equal(opened(workspace, row).scan(2).pose, before)


@pytest.fixture
def parted(workspace, tmp_path):
    """The room's scans, the second and third in an island of their own: (workspace, row, true poses)."""
    workspace, row = room_job(workspace, tmp_path)
    poses = room_poses()
    apart = rigid.make(rigid.about_z(1.0), np.array([30.0, -5.0, 2.0]))
    with parting(workspace, row) as job:
        for k, pose in enumerate(poses):
            island = 1 if k == 0 else 2
            matrix = (pose if island == 1 else apart @ pose).tolist()
            standing = {"island": island, "matrix": matrix, "doubt": None, "alternatives": []}
            job.put("standing", k + 1, standing, scan=k + 1)
            if island == 2:
                job.put("pose", k + 1, None, scan=k + 1)
    return workspace, row, poses, apart


class parting:
    """A run that parts a job's scans: what is put within is committed."""

    def __init__(self, workspace, row):
        from terrazza.operations.spine.job import Job

        entry = queries.add_entry(row, "register.choose", 1, {}, "test")
        self.job = Job(workspace, row, entry)

    def __enter__(self):
        self.job.settle()
        return self.job

    def __exit__(self, *error):
        self.job.commit({"says": "parted"}, 0.0)


@pytest.mark.parametrize("way", ["pairs", "pose", "the job's own", "like points"])
def test_islands_are_joined_as_one_body(parted, way):
    workspace, row, poses, apart = parted
    room = TOUCHED[:2]
    if way == "like points":
        pairs = pairs_of(poses, 2, 0, 2, np.random.default_rng(3))
        figures = must(workspace, row, "register.like_points", scan=3, neighbour=1, pairs=pairs)
    else:
        rough = rigid.make(np.eye(3), np.array([0.08, -0.05, 0.04])) @ rigid.inverse(apart)
        pairs = np.stack([rigid.apply(apart, room) + 0.06, room - 0.04], 1)
        given = {
            "pairs": {"island": 2, "pairs": pairs.tolist()},
            "pose": {"island": 2, "pose": rough.ravel().tolist()},
            "the job's own": {"island": 1, "to": 2, "pairs": pairs[:, ::-1].tolist()},
        }
        figures = must(workspace, row, "register.join", **given[way])
    assert sorted(figures["moved"]) == [2, 3] and not figures["doubt"], figures
    job = opened(workspace, row)
    for scan in (2, 3):
        assert job.get("standing", scan)["island"] == 1
        moved, turned = off(job, poses, 1, scan)
        assert moved < 0.01 and turned < 0.1


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({"island": 2, "to": 2, "pose": [1.0] * 16}, "itself"),
        ({"island": 3, "pose": [1.0] * 16}, "no island 3"),
        ({"island": 2}, "either a pose or like points"),
        ({"island": 2, "pose": [1.0] * 15}, "16 numbers"),
        ({"island": 2, "pose": [2.0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1]}, "no rotation"),
    ],
)
def test_joining_says_what_is_wrong(parted, asked, says):
    entry = perform(*parted[:2], "register.join", **asked)
    assert entry.state == "failed" and says in entry.message


def test_three_points_give_a_tilt_two_take_both_as_level():
    true = rigid.make(rigid.rotation_from(np.array([0.3, 0.1, 1.0])), np.array([1.0, 2.0, 3.0]))
    mine = np.array([[4.0, 0, 0], [0, 4.0, 0], [0, 0, 3.0]])
    starts = like_points.rough(mine, rigid.apply(true, mine), None)
    assert rigid.difference(starts[0], true)[0] < 1e-9  # it was not set up level at all
    level = rigid.make(rigid.about_z(0.7), np.array([5.0, 0, 1.0]))
    assert np.allclose(like_points.rough(mine[:2], rigid.apply(level, mine[:2]), None)[0], level)


def test_scans_of_another_job_come_as_a_block_in_the_shared_frame(workspace, tmp_path):
    workspace, first = room_job(workspace, tmp_path)
    second = queries.create_job(workspace, "Second day")
    must(workspace, second, "import.files", files=[str(tmp_path / "room.e57")], take=["1:1"])
    must(workspace, first, "clean.outliers", scans=[2])
    must(workspace, first, "georeference.pick_target", scan=2, x=1.0, y=1.0, z=0.2)
    figures = must(workspace, second, "import.job", job="Room", scans=[2, 3], block="day one")
    assert figures["scans"] == [2, 3] and figures["targets"] == 1 and figures["doubt"]
    here, there = opened(workspace, second), opened(workspace, first)
    for mine, other in ((2, 2), (3, 3)):
        a, b = here.cloud(mine), there.cloud(other)
        assert np.array_equal(a.read("position"), b.read("position")) and a.count == b.count
        assert np.array_equal(a.kept(), b.kept())
        assert np.allclose(here.scan(mine).pose, there.scan(other).pose)
        assert here.scan(mine).record["block"] == "day one"
    assert 0 < here.get("cut", figures["cut"])["points"] == int((~here.cloud(2).kept()).sum())
    must(workspace, second, "clean.put_back", cut=figures["cut"])
    assert opened(workspace, second).cloud(2).kept().all()
    again = must(workspace, second, "import.job", job="Room", scans=[2])
    assert again["residuals_mm"] and max(again["residuals_mm"].values()) < 1e-6
    assert len(again["doubt"]) == 1  # neither job is in a grid


@pytest.mark.parametrize(
    ("named", "says"), [("Nobody's", "no other job"), ("Room", "no other job"), ("99", "no other job")]
)
def test_another_job_has_to_be_there(workspace, tmp_path, named, says):
    workspace, row = room_job(workspace, tmp_path)
    entry = perform(workspace, row, "import.job", job=named)
    assert entry.state == "failed" and says in entry.message


def test_what_is_touched_is_sharpened_and_named(workspace, tmp_path):
    (workspace, row), poses = room_job(workspace, tmp_path), room_poses()
    corner = np.array([0.0, 6.0, 1.5])
    found = []
    for scan in (1, 2):
        own = rigid.apply(rigid.inverse(poses[scan - 1]), corner[None])[0]
        cloud = opened(workspace, row).cloud(scan)
        near = cloud.at(cloud.in_ball(own, 0.3))
        x, y, z = near[np.argmin(np.linalg.norm(near - own, axis=1))]
        figures = must(
            workspace, row, "georeference.pick_target", scan=scan, x=x, y=y, z=z, name=" Angolo  alto "
        )
        assert figures["kind"] == "edge" and 0.3 < figures["sigma_mm"] < 5, figures
        assert "Only an edge" in figures["doubt"][0] and figures["moved_mm"] > 1
        off = np.linalg.norm((poses[scan - 1][:3, :3] @ (np.array(figures["centre"]) - own))[:2])
        assert off < max(0.002, 4 * figures["sigma_mm"] / 1000), off
        found.append(figures["target"])
    refused = perform(workspace, row, "georeference.name_target", target=found[0], name="")
    assert refused.state == "done"
    must(workspace, row, "georeference.pick_target", scan=1, x=1.0, y=1.0, z=0.5, name="b", refine=False)
    refused = perform(workspace, row, "georeference.name_target", target=found[0], name="b")
    assert refused.state == "failed" and "already" in refused.message
    job = opened(workspace, row)
    assert (
        job.get("target", str(found[0]))["name"] == ""
        and job.get("target", str(found[1]))["name"] == "Angolo alto"
    )
    assert next(p for p in places(job) if found[0] in p["targets"])["targets"] == found


def test_blocks_move_as_one_and_what_is_held_does_not_move(workspace, tmp_path):
    workspace, row = room_job(workspace, tmp_path)
    for scan, block in ((1, "Day 1"), (2, "Day 1/House"), (3, "Day 1/House")):
        must(workspace, row, "import.edit_scan", scan=scan, block=block)
    before = {s.id: s.pose for s in opened(workspace, row).scans()}
    x, y, z = before[2][:3, 3] + [1.0, 2.0, 0.1]
    heading = np.degrees(rigid.heading(before[2])) + 30
    figures = must(
        workspace, row, "register.set_pose", scan=2, x=x, y=y, z=z, heading_deg=heading, block="Day 1/House"
    )
    assert figures["moved"] == [2, 3]
    job = opened(workspace, row)
    moved = job.scan(2).pose @ rigid.inverse(before[2])
    assert np.allclose(job.scan(3).pose, moved @ before[3], atol=1e-9)
    assert np.allclose(job.scan(1).pose, before[1]) and np.degrees(rigid.heading(moved)) == pytest.approx(30)
    held = must(workspace, row, "register.hold", block="Day 1")
    assert held["scans"] == [1, 2, 3]
    place = {"x": 0.0, "y": 0.0, "z": 0.0, "heading_deg": 0.0}
    for operation, values in (
        ("register.set_pose", {"scan": 3, **place}),
        ("register.cloud_fit", {"scan": 3, "neighbour": 1}),
        ("register.like_points", {"scan": 3, "neighbour": 1, "pairs": [[[0, 0, 0], [1, 1, 1]]]}),
    ):
        refused = perform(workspace, row, operation, **values)
        assert refused.state == "failed" and "held" in refused.message and "Day 1" in refused.hint, operation
    must(workspace, row, "register.adjust")
    after = opened(workspace, row)
    assert all(np.array_equal(after.scan(k).pose, job.scan(k).pose) for k in (1, 2, 3)), "held through it"
    must(workspace, row, "register.hold", scan=3)
    freed = must(workspace, row, "register.hold", block="Day 1", held=False)
    assert "scan 3" in freed["doubt"][0]
    must(workspace, row, "register.set_pose", scan=2, **place)
    wrong = perform(workspace, row, "register.set_pose", scan=2, **place, block="Day 1")
    assert wrong.state == "failed" and "Scan 3" in wrong.message
    for values in ({}, {"scan": 1, "block": "Day 1"}, {"block": "Day 2"}):
        assert perform(workspace, row, "register.hold", **values).state == "failed"


@pytest.mark.parametrize(
    ("slips", "named"),
    [
        ({}, []),
        ({3: (0.4, 0.0)}, [3]),
        ({2: (0.0, 2.0), 5: (1.5, 0.0)}, [2, 5]),
        ({1: (0.3, 0.0)}, [1]),  # the first is asked no more than the others
        ({4: (0.05, 0.5)}, []),  # as good as given poses are
        ({1: (0.3, 0), 2: (0.9, 0), 4: (2.0, 0), 5: (0.6, 0)}, []),  # most are off: they were rough
    ],
)
def test_wrong_given_poses_are_named_where_most_are_right(slips, named):
    rng = np.random.default_rng(8)
    turned = lambda: rigid.make(rigid.about_z(rng.uniform(-3, 3)), rng.uniform(-20, 20, 3))
    stand, files = {k: turned() for k in range(1, 7)}, turned()
    poses = {k: files @ pose for k, pose in stand.items()}
    for k, (off, turn) in slips.items():
        slip = rigid.make(rigid.about_z(np.radians(turn)), poses[k][:3, 3] + [off, 0, 0])
        poses[k] = rigid.make(slip[:3, :3] @ poses[k][:3, :3], slip[:3, 3])
    scans = [SimpleNamespace(id=k, name=f"S{k}", pose=pose) for k, pose in stand.items()]
    job = SimpleNamespace(scans=lambda placed: scans)
    rows = given.wrong(job, poses)
    assert [r["scan"] for r in rows] == named
    for row in rows:
        off, turn = slips[row["scan"]]
        assert row["off_mm"] == pytest.approx(1000 * off, abs=1) and row["turned_deg"] == pytest.approx(turn)
    assert given.wrong(SimpleNamespace(scans=lambda placed: scans[:2]), poses) == []
