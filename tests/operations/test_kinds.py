"""Classes by kind and by example on whole jobs whose truth is known, by file and by field book."""

import json

import laspy
import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.formats import e57_writer
from tests import landscapes, places
from tests.core.test_classify import roofed
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")


def f1(truth, got):
    return 2 * (truth & got).sum() / max(truth.sum() + got.sum(), 1)


def held(job):
    """(points in the grid, codes) of all scans."""
    at = opened(*job)
    clouds = [(s, at.cloud(s.id)) for s in at.scans()]
    xyz = np.concatenate([rigid.apply(at.grid_pose(s), c.xyz()) for s, c in clouds])
    return xyz, np.concatenate([np.array(c.values("class", 0), np.uint8) for _, c in clouds])


def rooms_job(workspace, tmp_path, seed):
    rng = np.random.default_rng(seed)
    place = places.building(rng, False)
    with e57_writer.Writer(str(tmp_path / "rooms.e57")) as out:
        for k, station in enumerate(place.places[1::3]):
            pose, _, xyz = places.scanned(place, "rooms", station, rng)
            out.add_scan(f"s{k}", [{"xyz": xyz}], ["xyz"], pose=pose)
    row = queries.create_job(workspace, "Rooms")
    must(workspace, row, "import.files", files=[str(tmp_path / "rooms.e57")])
    return place, (workspace, row)


def test_rooms_are_floor_ceiling_walls_and_furniture(workspace, tmp_path):
    place, job = rooms_job(workspace, tmp_path, 2)
    figures = must(*job, "classify.rooms")
    xyz, codes = held(job)
    truth = landscapes.kind_of_room(place, xyz)
    known = truth > 0
    for code, least in ((64, 0.98), (65, 0.98), (66, 0.97), (67, 0.85)):
        assert least < f1(truth[known] == code, codes[known] == code) < 1, code
    assert figures["doubt"] == [] and {r["name"] for r in figures["classes"]} >= {"Floor", "Ceiling", "Wall"}
    assert sum(r["count"] for r in figures["moved"]) == figures["points"] == len(codes)


@pytest.fixture(scope="module")
def land():
    """Points of houses, trees, cars, poles and wires on a slope, with classes and which were of several
    returns.
    """
    return landscapes.street(np.random.default_rng(3), 90.0)


def flown(workspace, tmp_path, land, name="land.las", classified=False):
    xyz, codes, many = land
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [0.001] * 3, [600000, 5100000, 0]
    las = laspy.LasData(header)
    las.xyz = xyz + [600000, 5100000, 0]
    las.return_number, las.number_of_returns = (
        np.ones(len(xyz), np.uint8),
        np.where(many, 3, 1).astype(np.uint8),
    )
    las.classification = codes if classified else np.ones(len(xyz), np.uint8)
    las.write(str(tmp_path / name))
    row = queries.create_job(workspace, name)
    must(workspace, row, "import.files", files=[str(tmp_path / name)])
    return workspace, row


def truth_of(job, land):
    """The classes of a job's points, by place."""
    from scipy.spatial import cKDTree

    xyz, _ = held(job)
    apart, near = cKDTree(land[0]).query(xyz - [600000, 5100000, 0])
    assert apart.max() < 0.01
    return land[1][near]


def test_open_air_is_ground_buildings_plants_poles_and_wires(workspace, tmp_path, land):
    job = flown(workspace, tmp_path, land)
    figures = must(*job, "classify.open_air")
    _, codes = held(job)
    truth = truth_of(job, land)
    plant = np.isin(codes, (3, 4, 5))
    assert 0.95 < f1(truth == 6, codes == 6) < 1 and 0.95 < f1(truth == 5, plant) < 1
    assert f1(truth == 2, codes == 2) > 0.97 and f1(truth == 69, codes == 69) > 0.6
    assert figures["doubt"] == [] and sum(r["after"] for r in figures["classes"]) == len(codes)
    sure = np.asarray(opened(*job).cloud(1).read("extra.confidence"))
    judged = ~np.isnan(sure)
    assert (judged == (codes != 2)).mean() > 0.98 and sure[judged].min() >= 0 and sure[judged].max() <= 1
    right = (codes == truth) | (plant & (truth == 5))
    assert sure[judged & right].mean() > sure[judged & ~right].mean() + 0.1


def test_a_cloth_that_climbs_onto_houses_is_told(workspace, tmp_path, land):
    job = flown(workspace, tmp_path, land)
    fine, coarse = (must(*job, "classify.ground", resolution=cell) for cell in (0.15, 0.5))
    assert any("without ground under" in d for d in fine["doubt"]) and coarse["doubt"] == []
    codes, truth = held(job)[1], truth_of(job, land)
    assert (codes[truth == 6] == 2).mean() < 0.04 and f1(truth == 2, codes == 2) > 0.9


def test_large_buildings_are_kept_out_where_asked(workspace, tmp_path):
    xyz, roof = roofed(5, 0.25)
    land = xyz, np.where(roof, 6, 2), np.zeros(len(xyz), bool)
    job = flown(workspace, tmp_path, land)
    plain, asked = (must(*job, "classify.ground", resolution=0.2, buildings=on) for on in (False, True))
    codes, truth = held(job)[1], truth_of(job, land)
    assert (codes[truth == 6] == 2).mean() < 0.05 and (codes[truth == 2] == 2).mean() > 0.95
    assert plain["ground"] > asked["ground"] + 0.4 * roof.sum() and asked["buildings_m2"] > 400


def areas_file(path, land, codes, rng):
    """Outlines of some places a class, as GeoJSON in the grid."""
    xyz, kinds, _ = land
    features = []
    for code in codes:
        for at in xyz[rng.choice(np.flatnonzero(kinds == code), 40)]:
            near = kinds[np.linalg.norm(xyz[:, :2] - at[:2], axis=1) < 0.6]
            if (near == code).all():
                turn = np.linspace(0, 2 * np.pi, 9)
                ring = np.c_[at[0] + 600000 + 0.6 * np.cos(turn), at[1] + 5100000 + 0.6 * np.sin(turn)]
                shape = {"type": "Polygon", "coordinates": [ring.tolist()]}
                features.append({"type": "Feature", "properties": {"class": str(code)}, "geometry": shape})
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))


def test_classes_are_taught_by_a_file_and_kept_for_the_next_job(workspace, tmp_path, land):
    """A quarter of the land, classified, teaches the rest; areas teach two classes."""
    quarter = (land[0][:, :2] < 22).all(1)
    flown(workspace, tmp_path, tuple(v[quarter] for v in land), "some.las", True)
    job = flown(workspace, tmp_path, land)
    figures = must(*job, "classify.by_example", examples=str(tmp_path / "some.las"), save="set.csv")
    _, codes = held(job)
    truth = truth_of(job, land)
    for code in (2, 5, 6):
        assert f1(truth == code, codes == code) > 0.9, code
    assert {r["code"] for r in figures["hits"]} >= {2, 5, 6} and all(r["found"] <= 1 for r in figures["hits"])
    assert 0 <= figures["unsure"] < 0.5 and len(figures["ask_at"]) <= 5
    saved = opened(*job).subfolder("deliverables") + "/set.csv"
    must(*job, "classify.change", pairs=[[2, 1], [5, 1], [6, 1]])
    must(*job, "classify.by_example", examples=saved)
    assert (held(job)[1] == codes).mean() > 0.999, "the same examples teach the same"
    areas_file(tmp_path / "some.geojson", land, (2, 6), np.random.default_rng(0))
    figures = must(*job, "classify.by_example", examples=str(tmp_path / "some.geojson"))
    assert [r["code"] for r in figures["hits"]] == [2, 6] and set(np.unique(held(job)[1])) == {2, 6}


def test_outlines_are_examples_and_go_again(workspace, tmp_path, land):
    """Two outlines from above: a house, a tree; no point changes by them."""
    job = flown(workspace, tmp_path, land)
    before = held(job)[1]
    xyz, codes, _ = land
    low, high = xyz[:, :2].min(0), xyz[:, :2].max(0)
    at = opened(*job)
    own = rigid.inverse(at.frame)
    middle = rigid.apply(own, np.append((low + high) / 2 + [600000, 5100000], 0)[None])[0]
    half = float((high - low).max()) / 2
    view = [
        [1 / half, 0, 0, -middle[0] / half],
        [0, 1 / half, 0, -middle[1] / half],
        [0, 0, 0, 0],
        [0, 0, 0, 1],
    ]
    for code in (6, 5):
        place = (xyz[codes == code][:: max((codes == code).sum() // 3, 1), :2] - (low + high) / 2) / half
        for c in place:
            circle = [c.tolist(), (c + [0.04, 0]).tolist()]
            must(*job, "classify.example", view=view, polygon=circle, shape="circle", to=str(code))
    assert np.array_equal(before, held(job)[1]) and len(opened(*job).facts("example")) >= 6
    figures = must(*job, "classify.by_example", from_classes=[1])
    assert {r["code"] for r in figures["hits"]} == {5, 6} and set(np.unique(held(job)[1])) <= {5, 6}
    must(*job, "classify.drop_example", example=1)
    assert "1" not in opened(*job).facts("example")


@pytest.mark.parametrize(
    ("operation", "params", "words"),
    [
        ("classify.by_example", {}, "no examples yet"),
        ("classify.by_example", {"examples": "nowhere.geojson"}, "nowhere.geojson"),
        ("classify.example", {"polygon": [[5, 5], [6, 5], [6, 6]], "to": "6"}, "No point lies inside"),
        ("classify.drop_example", {"example": 9}, "no example 9"),
    ],
)
def test_what_cannot_be_taught_is_said(workspace, tmp_path, land, operation, params, words):
    job = flown(workspace, tmp_path, tuple(v[::40] for v in land))
    if "polygon" in params:
        params = params | {"view": [[0, 0, 0, 0], [0, 0, 0, 0], [0, 0, 0, 0], [0, 0, 0, 1]]}
    entry = perform(*job, operation, **params)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message
