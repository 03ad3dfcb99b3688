"""Colours from photos of simulated places: whose colour points take, turns, passers-by, flat pictures."""

import pickle

import numpy as np
import pytest
from PIL import Image

from terrazza.core.color.cameras import Camera
from terrazza.core.color.evening import stored
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.work.open import open_workspace
from tests import beams
from tests.conftest import like, once
from tests.photographed import field_work, paint, photograph, seen, things
from tests.places import building, corridor
from tests.run import must, opened, perform


@pytest.fixture(scope="module")
def lit(shared, tmp_path_factory):
    """(workspace, row, place, poses, eyes, figures of colorizing) of three stations in a corridor, for this
    worker alone.
    """
    place = corridor(np.random.default_rng([11, 0]))

    def make(folder):
        folder.mkdir()
        scanner = beams.Scanner(rows=260, columns=660)
        poses, eyes = field_work(str(folder / "c.e57"), place, 0, scanner, 1000, 0.05, 0.4)
        workspace = str(folder / "w")
        open_workspace(workspace)
        row = queries.create_job(workspace, "Colours")
        must(workspace, row, "import.files", files=[str(folder / "c.e57")])
        must(workspace, row, "register.automatic")
        figures = must(workspace, row, "colorize.photos")
        (folder / "made.pkl").write_bytes(pickle.dumps((poses, eyes, figures)))

    folder = once(shared / "lit", make)
    workspace = str(like(folder / "w", tmp_path_factory.mktemp("colours") / "w"))
    open_workspace(workspace)
    poses, eyes, figures = pickle.loads((folder / "made.pkl").read_bytes())
    return workspace, queries.job_by(name="Colours"), place, poses, eyes, figures


def coloured(workspace, row, place, poses):
    """Per scan: points in the place, their colours, those they truly have under one common gain."""
    for pose, scan in zip(poses, opened(workspace, row).scans()):
        cloud = opened(workspace, row).cloud(scan.id)
        at, rgb = rigid.apply(pose, cloud.xyz()), np.asarray(cloud.read("photo_rgb")).astype(float)
        true = stored(paint(place, at))
        yield at, rgb, true * np.median(rgb[rgb.any(1)] / np.maximum(true[rgb.any(1)], 1), axis=0)


def test_points_take_colour_from_cameras_that_saw_them(lit):
    workspace, row, place, poses, eyes, figures = lit
    for at, rgb, true in coloured(workspace, row, place, poses):
        visible = np.any([seen(place, eye, at) for eye in eyes], axis=0)
        got = rgb.any(1)
        assert got[visible].mean() > 0.99 and visible[got].mean() > 0.995
        assert (np.abs(rgb - true).max(1) < 25)[got].mean() > 0.97
        assert (np.abs(rgb[got] - [200, 40, 40]).max(1) < 50).mean() < 0.002, "who walked by is on nothing"
    assert figures["seams"]["before"] > 5 and figures["seams"]["after"] < 1.5
    assert figures["photos_with_passers"] >= 1
    assert [t["used"] for t in figures["turns"]] == [True] * 3 and "point aside" in figures["doubt"][0]


def test_photos_are_turned_for_good_and_back(lit):
    workspace, row, place, poses, *_ = lit
    before = opened(workspace, row).facts("photo")
    figures = must(workspace, row, "colorize.turn_photos")
    assert figures["says"].startswith("3 of 3 photos turned") and not figures["doubt"]
    again = must(workspace, row, "colorize.turn_photos")
    assert again["says"].startswith("0 of 3"), again
    after = opened(workspace, row).facts("photo")
    for key in before:
        one, two = (np.array(v[key]["pose"]).reshape(4, 4) for v in (before, after))
        angle = np.degrees(np.arccos((np.trace(one[:3, :3].T @ two[:3, :3]) - 1) / 2))
        assert 0.1 < angle < 2.5 and np.allclose(one[:3, 3], two[:3, 3])
    assert not must(workspace, row, "colorize.photos", scans=[1])["doubt"]


def test_flat_pictures_with_a_lens(tmp_path, workspace):
    """Two flat pictures of one station, bent by their lens, lie where the camera saw."""
    rng = np.random.default_rng(8)
    place = building(rng, False)
    pose = rigid.make(rigid.about_z(0.4), np.r_[place.places[0][:2], place.places[0][2] + 1.6])
    look = beams.look(place, pose[:3, 3], beams.Scanner(rows=300, columns=760), 1, first=True)
    beams.write(tmp_path / "s.e57", [look], [pose[:3, 3]])
    row = queries.create_job(workspace, "Flat")
    must(workspace, row, "import.files", files=[str(tmp_path / "s.e57")])
    job = opened(workspace, row)
    station = job.scan(1).pose if job.scan(1).pose is not None else pose
    bends, aside = (-0.18, 0.05, 0.001, -0.0005, -0.01), np.array([0.05, -0.02, 0.11])
    camera = Camera("pinhole", 900, 640, (1.0, 1.0), (455.0, 317.0), 520.0, bends=bends)
    ahead = np.array([[0, 0, -1], [-1, 0, 0], [0, 1, 0]])
    for number, (turn, tilt) in enumerate(((0.0, 0.0), (100.0, -20.0))):
        up = np.radians(tilt)
        lean = np.array([[np.cos(up), 0, -np.sin(up)], [0, 1, 0], [np.sin(up), 0, np.cos(up)]])
        told = rigid.make(rigid.about_z(np.radians(turn)) @ lean @ ahead, aside)
        Image.fromarray(photograph(place, station @ told, camera)).save(tmp_path / f"{number}.png")
        must(
            workspace,
            row,
            "import.add_photo",
            scan=1,
            picture=str(tmp_path / f"{number}.png"),
            turn_deg=turn,
            tilt_deg=tilt,
            along_x=aside[0],
            along_y=aside[1],
            up=aside[2],
            focal_px=520,
            principal="455 317",
            lens=" ".join(map(str, bends)),
        )
    figures = must(workspace, row, "colorize.photos", even=False)
    cloud = opened(workspace, row).cloud(1)
    at, rgb = rigid.apply(station, cloud.xyz()), np.asarray(cloud.read("photo_rgb")).astype(float)
    lit = rgb.any(1)
    assert 0.15 < lit.mean() < 0.6 and figures["photos"] == 2
    assert (np.abs(rgb - stored(paint(place, at))).max(1) < 25)[lit].mean() > 0.98
    assert seen(place, (station @ np.r_[aside, 1])[:3], at[lit]).mean() > 0.995
    assert len(np.unique(things(place, at[lit]))) > 3


@pytest.mark.parametrize(
    ("given", "says"),
    [
        ({"focal_px": 500, "lens": "0.1 nan"}, "lens"),
        ({"focal_px": 500, "lens": "0.1 0 0"}, "lens"),
        ({"focal_px": 500, "principal": "middle"}, "principal"),
        ({"focal_px": 0}, "twice as wide"),
    ],
)
def test_lenses_that_say_nothing_are_refused(tmp_path, workspace, given, says):
    Image.fromarray(np.zeros((100, 150, 3), np.uint8)).save(tmp_path / "p.png")
    row = queries.create_job(workspace, "Lens")
    (tmp_path / "a.xyz").write_text("\n".join(f"{k} {k % 7} {k % 3}" for k in range(60)))
    must(workspace, row, "import.files", files=[str(tmp_path / "a.xyz")])
    entry = perform(workspace, row, "import.add_photo", scan=1, picture=str(tmp_path / "p.png"), **given)
    assert entry.state == "failed" and says in entry.message
