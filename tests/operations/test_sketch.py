"""Sketches and maps: laid under the plan, and scans placed about where they are marked."""

import numpy as np
import pytest
from PIL import Image
from scipy.linalg import lstsq

from terrazza.core.geometry import rigid
from terrazza.core.register import sketch
from terrazza.db import queries
from terrazza.errors import InputError
from terrazza.operations.spine import fieldbook
from terrazza.web.contexts import sheets
from tests.operations.test_placing_by_hand import parting
from tests.run import must, opened, perform
from tests.scenes import write_room

SIZE, SCALE = (400, 300), 0.05  # pixels; m a pixel
TURN, ORIGIN = np.radians(20.0), np.array([100.0, 50.0])  # of the drawn sketch in the job


def drawn(places):
    """Pixels (n, 2) of places (n, 2) m of the room."""
    return np.asarray(places)[:, :2] / SCALE * [1, -1] + [60, 240]


def on_plan(places):
    """The same places (n, 2) where the sketch is laid."""
    c, s = np.cos(TURN), np.sin(TURN)
    return np.asarray(places)[:, :2] @ np.array([[c, s], [-s, c]]) + ORIGIN


@pytest.fixture
def room(workspace, tmp_path):
    """The room's three scans, none placed, and an empty sketch: (workspace, row, true poses, picture)."""
    poses = write_room(tmp_path / "room.e57")
    Image.new("RGB", SIZE, "white").save(tmp_path / "Skizze Süd.png")
    row = queries.create_job(workspace, "Sketch")
    must(workspace, row, "import.files", files=[str(tmp_path / "room.e57")])
    return workspace, row, poses, str(tmp_path / "Skizze Süd.png")


def marks(poses, scans, rng, off=0.3):
    at = drawn(np.array([p[:2, 3] for p in poses]) + rng.uniform(-off, off, (len(poses), 2)))
    return [[k, *at[k - 1].tolist()] for k in scans]


def corners():
    places = np.array([[0.0, 0.0], [8.0, 6.0], [8.0, 0.0]])
    return np.c_[drawn(places), on_plan(places)].tolist()


def stand_as(job, poses, scans=(1, 2, 3)):
    """Whether scans stand to each other as they did, to 10 mm and 0.1°."""
    for k in scans[1:]:
        between = rigid.inverse(job.scan(scans[0]).pose) @ job.scan(k).pose
        moved, turned = rigid.difference(between, rigid.inverse(poses[scans[0] - 1]) @ poses[k - 1])
        assert moved < 0.01 and np.degrees(turned) < 0.1, k


def test_scans_come_from_a_sketch_alone(room):
    workspace, row, poses, picture = room
    rng = np.random.default_rng(1)
    figures = must(
        workspace,
        row,
        "register.sketch",
        picture=picture,
        known=corners(),
        stations=marks(poses, (1, 2, 3), rng),
    )
    job = opened(workspace, row)
    assert not figures["doubt"] and figures["scale_m"] == pytest.approx(SCALE)
    stand_as(job, poses)
    for pose, true in zip((s.pose for s in job.scans()), poses):  # in the frame of the known places
        assert np.hypot(*(pose[:2, 3] - on_plan([true[:2, 3]])[0])) < 0.8
    record = job.get("sketch", 1)
    assert record["name"] == "Skizze Süd" and (record["width"], record["height"]) == SIZE
    must(workspace, row, "register.automatic")
    stand_as(opened(workspace, row), poses)
    fieldbook.undo(queries.entry_of(row, 3))
    fieldbook.undo(queries.entry_of(row, 2))
    assert not opened(workspace, row).facts("sketch") and not opened(workspace, row).scans(placed=True)


def test_placed_scans_lay_the_sketch_and_the_others_follow(room):
    workspace, row, poses, picture = room
    for k in (1, 2):
        x, y, z = poses[k - 1][:3, 3]
        heading = np.degrees(rigid.heading(poses[k - 1]))
        must(workspace, row, "register.set_pose", scan=k, x=x, y=y, z=z, heading_deg=heading)
    first = must(workspace, row, "register.sketch", picture=picture)
    assert "not to scale" in first["doubt"][0]
    figures = must(
        workspace,
        row,
        "register.sketch",
        sketch=1,
        stations=marks(poses, (1, 2, 3), np.random.default_rng(2), 0.1),
        known=[[*k[:2], *np.add(p, 0.0)] for k, p in zip(corners(), [[0, 0], [8, 6]])],
    )
    stand_as(opened(workspace, row), poses)
    assert [r["placed"] for r in figures["stations"]] == [True] * 3 and not figures["doubt"]
    assert all(r["off_m"] < 0.3 for r in figures["stations"])
    must(workspace, row, "register.set_pose", scan=2, x=30, y=0, z=0, heading_deg=0)
    again = must(workspace, row, "register.sketch", sketch=1)
    assert any("Scan 2" in d and "from where the sketch has it" in d for d in again["doubt"])
    must(workspace, row, "table.take_away", kind="sketch", number=1)
    assert not opened(workspace, row).facts("sketch")


def test_what_fits_nowhere_near_stays_aside_and_is_told(room):
    workspace, row, poses, picture = room
    must(workspace, row, "register.set_pose", scan=1, x=4, y=3, z=1.6, heading_deg=0)
    wrong = [[1, 100.0, 100.0], [2, 390.0, 100.0]]  # fourteen metres off in a room of eight
    known = [[0, 300, 0, 0], [400, 0, 20, 15]]
    figures = must(workspace, row, "register.sketch", picture=picture, known=known, stations=wrong, off=0.5)
    job = opened(workspace, row)
    assert job.scan(2).pose is None and any("Scan 2" in d for d in figures["doubt"])
    standing = job.get("standing", 2)
    assert standing["island"] is None and "heading" in standing["doubt"]
    assert np.allclose(np.array(standing["alternatives"][0])[:2, 3], [19.5, 10.0])
    assert [(d["stands"], len(d["places"])) for d in sheets._doubted(job) if d["id"] == 2] == [(False, 1)]
    chosen = must(workspace, row, "register.choose", scan=2, alternative=1)
    assert "after it stood aside" in chosen["says"] and chosen["moved_m"] == 0
    assert np.allclose(opened(workspace, row).scan(2).pose[:2, 3], [19.5, 10.0])


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({}, "either a picture or the number"),
        ({"sketch": 4}, "no sketch 4"),
        ({"picture": True, "known": [[1, 1, 0, 0]]}, "One known place"),
        ({"picture": True, "known": [[1, 1, 0, 0], [1, 1, 9, 9]]}, "in one place"),
        ({"picture": True, "known": [[1, 1, 0, 0], [401, 1, 9, 9]]}, "outside the picture"),
        ({"picture": True, "length": [1, 1, 2, 2]}, "five numbers"),
        ({"picture": True, "length": [1, 1, 1, 1, 5]}, "in one place"),
        ({"picture": True, "stations": [[9, 1, 1]]}, "no scan 9"),
        ({"picture": "nothing.png"}, "nothing.png"),
    ],
)
def test_what_cannot_be_laid_is_said(room, params, words):
    workspace, row, _, picture = room
    values = params | ({"picture": picture} if params.get("picture") is True else {})
    entry = perform(workspace, row, "register.sketch", **values)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message
    assert not opened(workspace, row).facts("sketch")


def test_a_length_gives_the_scale(room):
    workspace, row, poses, picture = room
    stations = marks(poses, (1, 2, 3), np.random.default_rng(3))
    wall = drawn([[0, 0], [8, 0]]).ravel().tolist()
    figures = must(workspace, row, "register.sketch", picture=picture, length=[*wall, 8.0], stations=stations)
    assert figures["scale_m"] == pytest.approx(SCALE) and not figures["doubt"]
    stand_as(opened(workspace, row), poses)
    more = perform(workspace, row, "register.sketch", picture=picture, length=[*wall, 8.0], stations=stations)
    assert more.state == "failed" and "how the picture is turned" in more.message


@pytest.mark.parametrize("seed", range(4))
def test_the_similarity_is_least_squares(seed):
    """Against scipy's linear least squares in (a, b, x, y); exact pairs and noisy ones."""
    rng = np.random.default_rng(seed)
    pixels = rng.uniform(0, 1000, (6, 2))
    turn, scale = rng.uniform(-3, 3), rng.uniform(0.01, 0.1)
    c, s = scale * np.cos(turn), scale * np.sin(turn)
    places = (pixels * [1, -1]) @ np.array([[c, s], [-s, c]]) + rng.normal(0, 50, 2)
    exact = sketch.lay(pixels, places)
    assert exact.scale == pytest.approx(scale) and np.allclose(exact.at(pixels), places)
    off = places + rng.normal(0, 0.2, (6, 2))
    (x, y), one, none = pixels.T, np.ones(6), np.zeros(6)
    rows = np.r_[np.c_[x, y, one, none], np.c_[-y, x, none, one]]
    (a, b, east, north), *_ = lstsq(rows, off.T.ravel())
    noisy = sketch.lay(pixels, off)
    assert np.allclose(noisy.matrix, [[a, b, east], [b, -a, north]], atol=1e-9)
    assert 0.05 < np.sqrt(np.mean(noisy.residuals**2)) < 0.5 and not noisy.mirrored
    assert sketch.lay(pixels * [-1, 1] + [1000, 0], off).mirrored
    for few in (pixels[:1], np.repeat(pixels[:1], 3, 0)):
        with pytest.raises(InputError):
            sketch.lay(few, places[: len(few)])


def test_an_island_comes_along_with_the_scan_that_is_marked(room):
    """Scans 2 and 3 hang together in an island of their own; only one of them is on the sketch."""
    workspace, row, poses, picture = room
    must(workspace, row, "register.set_pose", scan=1, x=0, y=0, z=0, heading_deg=0)

    apart = rigid.make(rigid.about_z(0.7), np.array([40.0, 9.0, 1.0]))
    with parting(workspace, row) as job:
        for k in (2, 3):
            standing = {"island": 2, "matrix": (apart @ poses[k - 1]).tolist(), "doubt": None}
            job.put("standing", k, standing | {"alternatives": []}, scan=k)
    home = rigid.inverse(poses[0])
    places = np.array([rigid.apply(home, p[None, :3, 3])[0][:2] for p in poses])
    known = [[100, 100, *places[0]], [300, 100, *(places[0] + [10.0, 0.0])]]
    at = np.array([100, 100]) + (places[1] - places[0]) / SCALE * [1, -1]
    figures = must(
        workspace, row, "register.sketch", picture=picture, known=known, stations=[[2, *at.tolist()]]
    )
    assert figures["stations"][0]["placed"] and not figures["doubt"]
    job = opened(workspace, row)
    stand_as(job, poses)
    assert {job.get("standing", k)["island"] for k in (2, 3)} == {1}
