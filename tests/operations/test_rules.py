"""Rules of classification against their plain definitions, point by point."""

import json

import ezdxf
import numpy as np
import pytest
import shapely
import trimesh

from terrazza.core.classify import cloth, lows, meshes
from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.operations.classify.choosing import Rule
from terrazza.operations.clean.trying import Piece
from terrazza.operations.spine import health
from terrazza.operations.spine.base import all_operations, find
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
LINE = np.array([[5.0, 5.0], [25.0, 9.0], [28.0, 27.0]])
AREA = np.array([[3.0, 12.0], [14.0, 11.0], [16.0, 24.0], [9.0, 16.0]])


@pytest.fixture
def flown(workspace, tmp_path):
    """A LAS of 20,000 points with returns, colours and classes, over sloping ground."""
    rng, n = np.random.default_rng(1), 20_000
    xy = rng.uniform(0, 30, (n, 2))
    z = 0.1 * xy[:, 0] + np.where(rng.random(n) < 0.3, rng.uniform(0, 8, n), 0)
    of = rng.integers(1, 4, n)
    mine = np.minimum(rng.integers(1, 4, n), of)
    columns = {
        "xyz": np.c_[xy, z],
        "intensity": rng.integers(0, 60000, n).astype(np.uint16),
        "classification": rng.choice([1, 2, 5], n).astype(np.uint8),
        "returns": (mine | of << 4).astype(np.uint8),
        "rgb": rng.integers(0, 255, (n, 3)).astype(np.uint8),
    }
    import laspy

    header = laspy.LasHeader(point_format=7, version="1.4")
    header.scales = [0.001] * 3
    las = laspy.LasData(header)
    las.xyz, las.intensity = columns["xyz"], columns["intensity"]
    las.classification, las.return_number, las.number_of_returns = columns["classification"], mine, of
    las.red, las.green, las.blue = (columns["rgb"][:, k].astype(np.uint16) * 257 for k in range(3))
    las.add_extra_dim(laspy.ExtraBytesParams(name="Amplitude", type=np.float32))
    las.Amplitude = rng.uniform(0, 40, n).astype(np.float32)
    las.write(str(tmp_path / "strip.las"))
    row = queries.create_job(workspace, "Flown")
    must(workspace, row, "import.files", files=[str(tmp_path / "strip.las")])
    return workspace, row


def held(job):
    """(points in the grid, codes, cloud) as they are now."""
    at = opened(*job)
    cloud = at.cloud(1)
    return rigid.apply(at.grid_pose(at.scan(1)), cloud.xyz()), np.array(cloud.values("class", 0)), cloud


def checked(job, operation, wanted, to, **params):
    """Run a rule; exactly the points of ``wanted(xyz, codes, cloud)`` have changed, to the class."""
    xyz, before, cloud = held(job)
    mask = wanted(xyz, before, cloud)
    figures = must(*job, operation, to=to, **params)
    _, after, _ = held(job)
    assert np.array_equal(after, np.where(mask, to, before)), (operation, params)
    moved = mask & (before != to)
    assert figures["points"] == moved.sum() > 50
    for row in figures["moved"]:
        assert row["count"] == (moved & (before == row["from"])).sum() and row["to"] == to
    return figures


RETURN = lambda c: (np.asarray(c.read("returns")) & 15, np.asarray(c.read("returns")) >> 4)


@pytest.mark.parametrize(
    ("what", "low", "high", "wanted"),
    [
        ("intensity", 30000, None, lambda p, c: np.asarray(c.read("intensity")) >= 30000),
        ("return", 2, 2, lambda p, c: RETURN(c)[0] == 2),
        ("which return", 1, 1, lambda p, c: RETURN(c)[1] == 1),
        ("which return", 2, 2, lambda p, c: (RETURN(c)[0] == 1) & (RETURN(c)[1] > 1)),
        ("which return", 4, 4, lambda p, c: (RETURN(c)[0] == RETURN(c)[1]) & (RETURN(c)[1] > 1)),
        ("green", None, 90, lambda p, c: np.asarray(c.read("native_rgb"))[:, 1] <= 90),
        ("height", 1.0, 2.0, lambda p, c: (p[:, 2] >= 1.0) & (p[:, 2] <= 2.0)),
        (
            "Amplitude",
            10,
            20,
            lambda p, c: (
                (np.asarray(c.read("extra.Amplitude")) >= 10) & (np.asarray(c.read("extra.Amplitude")) <= 20)
            ),
        ),
    ],
)
def test_by_itself(flown, what, low, high, wanted):
    params = {"what": what, "low": low, "high": high}
    checked(flown, "classify.by_itself", lambda p, k, c: wanted(p, c), 64, **params)
    checked(
        flown, "classify.by_itself", lambda p, k, c: wanted(p, c) & (k == 64), 65, from_classes=[64], **params
    )


def test_by_place_along_lines_and_in_areas(flown, tmp_path):
    drawing = ezdxf.new()
    drawing.layouts.get("Model").add_lwpolyline(LINE)
    drawing.saveas(tmp_path / "line.dxf")
    near = shapely.LineString(LINE)
    wanted = lambda p, k, c: shapely.distance(near, shapely.points(p[:, :2])) <= 1.5
    checked(flown, "classify.by_place", wanted, 70, path=str(tmp_path / "line.dxf"), width=3.0)
    inside = shapely.Polygon(AREA)
    shapely.prepare(inside)
    wanted = lambda p, k, c: shapely.contains_xy(inside, p[:, 0], p[:, 1])
    checked(flown, "classify.by_place", wanted, 71, areas=[AREA.tolist()])
    feature = {"type": "Polygon", "coordinates": [[*AREA.tolist(), AREA[0].tolist()]]}
    (tmp_path / "area.geojson").write_text(json.dumps(feature))
    wanted = lambda p, k, c: shapely.contains_xy(inside, p[:, 0], p[:, 1]) & (k == 71)
    checked(flown, "classify.by_place", wanted, 72, path=str(tmp_path / "area.geojson"), from_classes=[71])


def test_by_place_above_and_below_a_surface(flown, tmp_path):
    corners = [[0, 0, 0.5], [20, 0, 2.5], [20, 30, 2.5], [0, 30, 0.5]]
    trimesh.Trimesh(corners, [[0, 1, 2], [0, 2, 3]]).export(tmp_path / "s.ply")
    over = lambda p: p[:, 2] - (0.5 + 0.1 * p[:, 0])
    path = str(tmp_path / "s.ply")
    checked(
        flown,
        "classify.by_place",
        lambda p, k, c: (over(p) > 0) & (p[:, 0] <= 20),
        73,
        path=path,
        side="above",
    )
    checked(
        flown,
        "classify.by_place",
        lambda p, k, c: (over(p) < 0) & (p[:, 0] <= 20),
        74,
        path=path,
        side="below",
    )


def test_class_to_class_at_once(flown):
    _, before, _ = held(flown)
    figures = must(*flown, "classify.change", pairs=[[1, 2], [2, 1], [5, 255]])
    _, after, _ = held(flown)
    wanted = np.select([before == 1, before == 2, before == 5], [2, 1, 255], before.astype(int))
    assert np.array_equal(after, wanted)
    assert {(r["from"], r["to"]) for r in figures["moved"]} == {(1, 2), (2, 1), (5, 255)}
    assert health.check(opened(*flown)) == []


def test_by_size(workspace, tmp_path):
    """Posts, cubes and a long bar on nothing: the posts alone are 3 m high and under 1 m across."""
    rng, parts, kinds = np.random.default_rng(2), [], []
    for k in range(6):
        at = np.array([10.0 * k, 0, 0])
        parts += [
            at + rng.uniform(0, 1, (400, 3)) * [0.3, 0.3, 3.0],
            at + [0, 10, 0] + rng.uniform(0, 1, (400, 3)),
        ]
        kinds += [np.full(400, 1), np.full(400, 2)]
    turn = rigid.about_z(0.7)
    parts.append((rng.uniform(0, 1, (4000, 3)) * [12, 0.4, 2.9]) @ turn.T + [20, 30, 0])
    kinds.append(np.full(4000, 3))
    np.savetxt(tmp_path / "things.xyz", np.c_[np.concatenate(parts)], fmt="%.4f")
    row = queries.create_job(workspace, "Things")
    must(workspace, row, "import.files", files=[str(tmp_path / "things.xyz")])
    job = workspace, row
    params = {"least": [0, 0, 2.5], "most": [1, 1, 3.5], "gap": 1.0}
    figures = must(*job, "classify.by_size", to=69, **params)
    xyz, codes, _ = held(job)
    assert figures["points"] == 2400 and ((codes == 69) == (xyz[:, 1] < 5)).all()
    must(*job, "classify.by_size", to=68, least=[11, 0, 0], most=[13, 1, 0], gap=1.0)
    assert (held(job)[1] == 68).sum() == 4000, "length and width lie along the thing, not along the axes"


@pytest.mark.parametrize(
    ("operation", "params", "words"),
    [
        ("classify.by_itself", {"what": "weight", "low": 1, "to": 2}, "No scan has “weight”"),
        ("classify.by_itself", {"to": 2}, "neither a lowest"),
        ("classify.by_itself", {"what": "height", "low": 3, "high": 2, "to": 2}, "no range"),
        ("classify.by_place", {"to": 2}, "no area"),
        ("classify.by_place", {"to": 2, "areas": [[[0, 0], [1, 1]]]}, "three corners"),
        ("classify.change", {"pairs": [[1, 2], [1, 3]]}, "twice"),
        ("classify.change", {"pairs": [[1, 300]]}, "between 0 and 255"),
        ("classify.by_size", {"to": 2, "least": [3, 0, 0], "most": [2, 0, 0]}, "above the most"),
    ],
)
def test_rules_that_cannot_be_say_so(flown, operation, params, words):
    entry = perform(*flown, operation, **params)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}"


def test_heights_of_a_surface_are_those_of_a_library():
    """Against scipy's linear interpolation over the same triangles."""
    from scipy.interpolate import LinearNDInterpolator
    from scipy.spatial import Delaunay

    rng = np.random.default_rng(4)
    vertices = np.c_[rng.uniform(0, 50, (500, 2)), rng.normal(0, 3, 500)]
    mesh, places = Delaunay(vertices[:, :2]), rng.uniform(-5, 55, (4000, 2))
    told = meshes.heights(places, vertices, mesh.simplices)
    wanted = LinearNDInterpolator(mesh, vertices[:, 2])(places)
    assert np.array_equal(np.isnan(told), np.isnan(wanted)) and np.nanmax(np.abs(told - wanted)) < 1e-9


@pytest.mark.parametrize(("count", "side"), [(60_000, 200.0), (60_000, 60.0)])
def test_late_echoes_below_cost_the_ground_nothing(count, side):
    """One point in 2,000 to 20 m below: recall falls by half a percent at most, nothing of the ground is
    taken for a late echo.
    """
    rng = np.random.default_rng(3)
    xy = rng.uniform(0, side, (count, 2))
    ground = 3 * np.sin(xy[:, 0] / 30) + 2 * np.cos(xy[:, 1] / 17)
    high = rng.random(count) < 0.35
    z = ground + np.where(high, rng.uniform(0.5, 12, count), rng.normal(0, 0.03, count))
    late = np.zeros(count, bool)
    late[rng.choice(count, count // 2000, replace=False)] = True
    z[late] = ground[late] - rng.uniform(1.0, 20, late.sum())
    xyz, truth = np.c_[xy, z], ~high & ~late

    def recall(points):
        size = cloth.likely_resolution(points)
        return cloth.ground(xyz, cloth.Cloth(points, size, 1, 0.65, 500, True), 0.4 * size)[truth].mean()

    found = lows.isolated_below(xyz)
    assert not found[~late].any() and found[late].mean() > 0.85
    assert recall(xyz[~found]) > recall(xyz[~late]) - 0.005


@pytest.mark.parametrize(
    ("operation", "params"),
    [
        ("classify.by_itself", {"what": "height", "low": 1.0, "to": 64}),
        ("classify.by_size", {"to": 66, "least": [0, 0, 2.0], "gap": 0.6}),
        ("classify.open_air", {}),
    ],
)
def test_a_try_out_of_a_rule_is_what_the_run_changes(flown, operation, params):
    at = opened(*flown)
    index = at.cloud(1).sample(4000)
    rule = find(operation)
    tried = rule().preview(at, rule.check(params), Piece({1: index}), QUIET)
    before = held(flown)[1]
    assert np.array_equal(before, held(flown)[1]) and tried.figures["of"] == len(index)
    must(*flown, operation, **params)
    changed = before != held(flown)[1]
    assert np.array_equal(tried.gone[1], index[changed[index]]) and 0 < len(tried.gone[1]) < len(index)


@pytest.mark.parametrize("operation", [o for o in all_operations() if issubclass(o, Rule)])
def test_every_rule_keeps_to_a_part_can_be_tried_and_tells_what_moved(flown, operation):
    needed = {
        "classify.by_itself": {"what": "intensity", "low": 1, "to": 3},
        "classify.change": {"pairs": [[1, 3]]},
    }
    assert {"scans", "within"} <= set(operation.Params.model_fields) and operation.tries
    if operation.name in needed | {"classify.ground": {}}:
        before = held(flown)[1]
        figures = must(*flown, operation.name, within="0.5 to 2", **needed.get(operation.name, {}))
        assert {"classes", "moved", "doubt"} <= set(figures)
        xyz, codes, _ = held(flown)
        beyond = (xyz[:, 2] < 0.5) | (xyz[:, 2] > 2)
        assert (codes[beyond] == before[beyond]).all(), "nothing changes beyond it"
        assert sum(r["count"] for r in figures["moved"]) == (codes != before).sum() > 0


@pytest.mark.parametrize("places", [120_000, 70_000])
def test_a_cloth_in_tiles_is_the_cloth_in_one_piece(workspace, tmp_path, monkeypatch, places):
    """Rolling land, a flat roof and a late echo, tiles of 200 particles, halved where memory asks for it."""
    rng = np.random.default_rng(8)
    xy = rng.uniform(0, 80, (120_000, 2))
    z = 4 * np.sin(xy[:, 0] / 25) + 3 * np.cos(xy[:, 1] / 19) + rng.normal(0, 0.02, len(xy))
    roof = ((xy > [27, 23]) & (xy < [55, 47])).all(1)
    z[roof] = 16.0 + rng.normal(0, 0.02, roof.sum())
    late = np.r_[xy[:1], xy[~roof][:1]], np.array([-22.0, -25.0])
    points = np.c_[np.r_[xy, late[0]], np.r_[z, late[1]]]
    np.savetxt(tmp_path / "land.xyz", points, "%.4f")
    row = queries.create_job(workspace, "Land")
    must(workspace, row, "import.files", files=[str(tmp_path / "land.xyz")])
    params = {"buildings": True, "resolution": 0.25}
    whole = must(workspace, row, "classify.ground", **params)
    before = held((workspace, row))[1]
    for name, value in {"WHOLE": 1000, "SIDE": 200, "MARGIN": 100, "LEAST_SIDE": 100}.items():
        monkeypatch.setattr(f"terrazza.operations.classify.cloths.{name}", value)
    monkeypatch.setattr("terrazza.fleet.local.Local.points_at_once", places)
    tiled = must(workspace, row, "classify.ground", **params)
    at, now = held((workspace, row))[:2]
    assert ((now != 2) == (np.abs(at[:, 2]) > 12)).mean() > 0.995 and (now != before).mean() < 2e-3
    assert tiled["late"] == whole["late"] == 2
    assert (
        tiled["buildings_m2"] == pytest.approx(whole["buildings_m2"], abs=1) and whole["buildings_m2"] > 500
    )
    left = must(workspace, row, "classify.ground")
    assert left["resolution_m"] == pytest.approx(cloth.likely_resolution(points), rel=0.15)
