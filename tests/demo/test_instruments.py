"""The simulated instruments against what was asked of them, and the estate's field work as a surveyor would
check it.
"""

import json
from pathlib import Path

import numpy as np
import pytest
from scipy import stats

from terrazza.cli.serve import make_demo
from terrazza.core.geometry import rigid
from terrazza.core.register import surface
from terrazza.core.register.plan_match import PlanShape, judge
from terrazza.db import queries
from terrazza.demo import build, flight, outdoors, settegradini, survey
from terrazza.formats import control, e57
from terrazza.instruments import camera, scene
from terrazza.instruments.scanner import MIRRORED, MIXED, REAL, Setup, sweep
from terrazza.instruments.walker import walk
from terrazza.work.demos import DEMOS, field_folder
from tests.run import must, opened

EYE = np.eye(4)


def world_of(fill):
    s = scene.Scene()
    fill(s)
    return s.finish()


def box_room(s, material=scene.PLASTER):
    s.box((-6, -5, -1.6), (6, 5, 2.4), material, 6)


def measured(world, seed=1, pose=EYE, epoch=0, **setup):
    data = sweep(
        world,
        pose,
        Setup(columns=setup.pop("columns", 360), rows=setup.pop("rows", 150), **setup),
        epoch,
        seed,
    )
    data["xyz"] = np.stack([data["x"], data["y"], data["z"]], 1)
    data["r"] = np.linalg.norm(data["xyz"], axis=1)
    return data


def room_range(data):
    d = data["xyz"] / np.maximum(data["r"], 1e-9)[:, None]
    with np.errstate(divide="ignore"):
        return np.minimum.reduce(
            [
                np.select([d[:, k] > 0, d[:, k] < 0], [hi / d[:, k], lo / d[:, k]], np.inf)
                for k, (lo, hi) in enumerate(((-6, 6), (-5, 5), (-1.6, 2.4)))
            ]
        )


@pytest.mark.parametrize(("noise", "bias"), [(0.002, 0.0), (0.004, 0.0003), (0.001, -0.0007)])
def test_range_noise_and_bias_are_as_set(noise, bias):
    data = measured(world_of(box_room), noise=noise, bias=bias)
    use = data["valid"] & (data["kind"] == REAL)
    off = data["r"][use] - room_range(data)[use]
    n = len(off)
    low, high = stats.chi2.ppf([1e-4, 1 - 1e-4], n - 1)
    assert low < ((off - off.mean()) ** 2).sum() / noise**2 < high
    assert abs(off.mean() - bias) < 4 * noise / np.sqrt(n)


def test_angles_follow_the_grid():
    data = measured(world_of(box_room))
    use = data["valid"]
    az = np.arctan2(data["y"], data["x"])[use] % (2 * np.pi)
    assert np.allclose(np.cos(az - 2 * np.pi * data["column"][use] / 360), 1, atol=1e-12)
    el = np.arcsin(data["z"][use] / data["r"][use])
    slope, start = np.polyfit(data["row"][use], el, 1)
    assert np.abs(el - slope * data["row"][use] - start).max() < 1e-9 and slope > 0


def test_the_same_seed_gives_the_same_scan():
    world = world_of(box_room)
    a, b, c = measured(world, 3), measured(world, 3), measured(world, 4)
    assert (a["xyz"] == b["xyz"]).all() and not (a["xyz"] == c["xyz"]).all()


def test_grazing_rays_drop_out():
    data = measured(
        world_of(lambda s: s.quad((-60, -60, -1.6), (120, 0, 0), (0, 120, 0), scene.EARTH, 2)), reach=60.0
    )
    steep = np.radians(2.0)
    el = Setup().lowest + (Setup().highest - Setup().lowest) * (data["row"] + 0.5) / 150
    assert data["valid"][(el < -np.radians(12))].mean() > 0.97
    near_level = (el < -steep) & (el > -np.radians(3.2))
    assert 0.1 < data["valid"][near_level].mean() < 0.8


def test_mixed_pixels_lie_between_the_surfaces():
    def edge(s):
        s.quad((5, -8, -4), (0, 16, 0), (0, 0, 8), scene.PLASTER, 6)
        s.box((2.5, -0.5, -3), (2.6, 0.5, 3), scene.PLASTER, 1)

    data = measured(world_of(edge), columns=1200, rows=300, noise=0.0005, spread=0.002)
    mixed = data["kind"] == MIXED
    assert 20 < mixed.sum() < 0.02 * data["valid"].sum()
    x = data["x"][mixed]
    assert (x > 2.4).all() and (x < 5.05).all() and ((x > 2.7) & (x < 4.8)).mean() > 0.3
    assert (data["clear"][mixed] >= 0).all() and data["clear"][~mixed].max() == 0


def test_water_mirrors_what_stands_over_it():
    def basin(s):
        s.quad((-20, -20, -1.6), (40, 0, 0), (0, 40, 0), scene.WATER, 9)
        s.quad((6, -20, -1.6), (0, 40, 0), (0, 0, 10), scene.STONE, 6)

    data = measured(world_of(basin))
    mirrored = data["valid"] & (data["kind"] == MIRRORED)
    assert mirrored.sum() > 200
    assert (data["z"][mirrored] < -1.55).mean() > 0.98, "mirror images lie under the water"
    assert np.abs(data["x"][mirrored] - 6).max() < 0.1, "and where the wall is, upside down"


def test_glass_answers_in_three_ways():
    def pane(s):
        s.quad((3, -8, -8), (0, 16, 0), (0, 0, 16), scene.GLASS, 1)
        s.quad((6, -20, -20), (0, 40, 0), (0, 0, 40), scene.STONE, 6)

    data = measured(world_of(pane))
    front = (
        data["valid"]
        & (np.abs(data["y"]) < 2)
        & (data["x"] > 0)
        & (np.abs(data["z"]) < 2)
        & (data["kind"] == REAL)
    )
    through, from_glass = (np.abs(data["x"][front] - x) < 0.02 for x in (6, 3))
    assert 0.05 < through.mean() < 0.95 and 0.05 < from_glass.mean() < 0.95 and (through | from_glass).all()


def test_things_are_only_where_they_were_at_the_time():
    world = world_of(
        lambda s: (
            box_room(s),
            s.box((2, -0.4, -1.6), (2.4, 0.4, 1), scene.CLOTH, 1, epochs=outdoors.only(1), moved=True),
        )
    )
    for epoch, there in ((0, False), (1, True), (2, False)):
        assert measured(world, epoch=epoch)["moved"].any() == there


def test_leaves_are_met_after_their_free_path():
    world = world_of(lambda s: s.foliage((6, 0, 0), (3, 3, 3), 0.5, 4))
    data = measured(world, columns=2000, rows=600, noise=0.0001)
    centre = data["valid"] & (np.abs(data["y"]) < 0.15) & (np.abs(data["z"]) < 0.15)
    depth = data["x"][centre] - 3
    assert centre.sum() > 50 and 0.35 < depth.mean() < 0.65, "exponential with the free path asked for"


def test_the_camera_sees_left_and_right_as_the_standard_says():
    """ASTM E2807: the middle looks along +x, azimuth grows to the left, the top looks up."""

    def coloured(s):
        s.quad((-4, 5, -4), (8, 0, 0), (0, 0, 8), scene.LEAF, 1)  # green, at +y: left of the middle
        s.quad((-4, -5, -4), (8, 0, 0), (0, 0, 8), scene.TILE, 6)  # red-brown, at -y

    image = camera.photograph(world_of(coloured), EYE, 0, 1.0, 512, 256).astype(int)
    left, right = image[128, 128], image[128, 384]
    assert left[1] > left[0] and right[0] > right[1]
    assert image[5].mean() > image[128].mean(), "sky above"


@pytest.mark.parametrize("exposure", [0.8, 1.2])
def test_exposure_brightens(exposure):
    world = world_of(box_room)
    plain, other = (
        camera.photograph(world, EYE, 0, e, 256, 128).astype(float).mean() for e in (1.0, exposure)
    )
    assert (other > plain) == (exposure > 1)


def test_field_work_has_the_errors_that_make_it_real():
    tilts, biases = [], []
    for seed in range(40):
        work = build.field_work(seed)
        for pose, setup in zip(work.poses, work.setups):
            tilts.append(np.degrees(np.arccos(np.clip(pose[2, 2], -1, 1))))
            biases.append(setup.bias)
    assert 0.002 < np.mean(tilts) < 0.006 and 0.0002 < np.std(biases) < 0.0004
    headings = [rigid.heading(p) for p in build.field_work(7).poses]
    assert np.std(headings) > 0.8, "headings are unknown"


def test_a_walk_sees_the_house_from_where_its_path_says():
    start = np.array([-6.0, 10.7, 3.6])
    made = walk(settegradini.build(), np.array([start, start + [0.6, 0, 0]]), rate=5.0, seed=3)
    assert (
        np.allclose(
            rigid.apply(made["pose"], made["path_xyz"])[:, :2],
            start[:2] + np.outer(made["path_time"] * 0.9, [1, 0]),
            atol=1e-6,
        )
        and np.abs(made["path_xyz"][:, 2]).max() < 0.05
    )
    away = np.linalg.norm(
        made["xyz"]
        - np.stack([np.interp(made["time"], made["path_time"], made["path_xyz"][:, k]) for k in range(3)], 1),
        axis=1,
    )
    assert (
        len(away) > 5000 and away.min() > 0.3 and away.max() < 30.5 and (np.diff(made["path_time"]) > 0).all()
    )
    floor = rigid.apply(made["pose"], made["xyz"])
    near = floor[(np.abs(floor[:, 2] - 2.0) < 0.1) & (np.linalg.norm(floor[:, :2] - start[:2], axis=1) < 3)]
    assert len(near) > 50 and abs(np.median(near[:, 2]) - 2.0) < 0.02 and 0.003 < np.std(near[:, 2]) < 0.03, (
        "a centimetre of noise on the floor"
    )


def test_every_set_up_overlaps_another_by_a_quarter(field):
    truth = json.loads((field / "truth" / "truth.json").read_text())
    shapes = []
    for name, members in build.FILES:
        for k in range(len(members)):
            shapes.append(
                PlanShape(
                    surface.prepare(np.concatenate([c["xyz"] for c in e57.read_points(str(field / name), k)]))
                )
            )
    poses = [np.array(p) for p in truth["poses"]]
    for a in range(8):
        nearest = sorted(set(range(8)) - {a}, key=lambda b: np.linalg.norm(poses[a][:3, 3] - poses[b][:3, 3]))
        assert any(
            judge(shapes[a], shapes[b], rigid.inverse(poses[a]) @ poses[b], 0.12).agree > 0.25
            for b in nearest
        ), truth["names"][a]


def test_field_files_are_ordinary(field):
    house, garden = (e57.look(str(field / n)) for n, _ in build.FILES)
    assert [len(c.scans) for c in (house, garden)] == [4, 4] and [len(c.images) for c in (house, garden)] == [
        4,
        4,
    ]
    assert all(s.grid for c in (house, garden) for s in c.scans)
    assert {i.representation for i in house.images} == {"spherical"} and house.images[0].width == 1024
    read = control.read(str(field / build.CONTROL_FILE))
    assert len(read.names) == 6 and read.check.sum() == 1 and (read.target_heights > 0).sum() == 1
    grid, boards = (
        np.array(json.loads((field / "truth" / "truth.json").read_text())["scene_to_grid"]),
        settegradini.board_centres(),
    )
    for k, (board, _, above) in enumerate(survey.CONTROL):
        true = rigid.apply(grid, boards[board][None])[0] - [0, 0, above]
        assert np.abs(read.columns[k] - true).max() < 0.003


def test_the_application_never_reads_the_truth():
    source = Path(build.__file__).parent.parent
    for path in source.rglob("*.py"):
        if "demo" not in path.parts and "instruments" not in path.parts:
            assert "truth.json" not in path.read_text() and '"truth"' not in path.read_text(), path


@pytest.mark.usefixtures("alone")
def test_the_flight_of_the_demo_hides_a_turn_that_comes_out(workspace):
    """The turn to four σ, the height of the path to three, against the truth that nobody told."""
    make_demo(workspace, "flight")
    make_demo(workspace, "flight")  # made once
    row, folder = queries.job_by(name=DEMOS["flight"].name), Path(field_folder(workspace))
    truth = json.loads((folder / "truth" / "flight.json").read_text())
    solved = must(workspace, row, "register.strips", trajectory=str(folder / flight.PATH))
    off = np.array(solved["angles_mdeg"]) - truth["angles_mdeg"]
    assert (np.abs(off) < 4 * np.array(solved["sigma_mdeg"]) + 0.1).all() and solved["doubt"] == []
    assert min(solved["before_mm"].values()) > 10 * max(solved["after_mm"].values())
    under = must(workspace, row, "register.strip_control", control=str(folder / flight.CONTROL))
    assert abs(under["by"] - truth["low_m"]) < 3 * under["sigma_mm"] / 1000 and under["doubt"] == []


def test_the_walk_of_the_demo_is_imported_registers_and_lies_where_it_was_walked(field, workspace):
    """The walked scan beside a tripod scan of the lemon house: placed from nothing, to millimetres, with its
    stops on the way.
    """
    row = queries.create_job(workspace, "Walk")
    must(
        workspace,
        row,
        "import.files",
        files=[str(field / build.FILES[0][0]), str(field / build.WALK_FILE)],
        take=["1:1", "2:1"],
    )
    must(workspace, row, "import.walk", scan=2, trajectory=build.WALK_PATH)
    must(workspace, row, "register.automatic")
    job, truth = opened(workspace, row), json.loads((field / "truth" / "truth.json").read_text())
    to_scene = np.array(truth["poses"][0]) @ rigid.inverse(job.scan(1).pose)
    away, turned = rigid.difference(to_scene @ job.scan(2).pose, np.array(truth["walk"]))
    assert away < 0.005 and np.degrees(turned) < 0.05, (away, turned)
    way = outdoors.walk_way()
    stops = rigid.apply(to_scene @ job.scan(2).pose, np.array([s["at"] for s in job.get("walk", 2)["stops"]]))
    assert (
        len(stops) == 12
        and max(
            min(
                np.linalg.norm(np.cross(b - a, (s - a) * [1, 1, 0])) / np.linalg.norm(b - a)
                for a, b in zip(way[:-1], way[1:])
            )
            for s in stops
        )
        < 0.05
    )
