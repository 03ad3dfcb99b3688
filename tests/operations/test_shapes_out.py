"""Drawings and surfaces as LandXML and GeoJSON, read by other readers (lxml, shapely, json), and read back
in.
"""

import csv
import json

import numpy as np
import pytest
from lxml import etree
from plyfile import PlyData
from shapely.geometry import shape

from terrazza.core.geometry import rigid
from terrazza.formats import landxml_writer
from tests import scenes
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
NS = {"l": landxml_writer.SPACE}


@pytest.fixture
def drawn(workspace, tmp_path):
    """The room with a plan, a section and a ground model."""
    workspace, row = scenes.room_job(workspace, tmp_path)
    must(workspace, row, "draw.plan_slab")
    must(workspace, row, "draw.section", line=[[-1, 2.7], [9, 2.7]], thickness=0.1)
    must(workspace, row, "surface.ground", classes=[0], cell=0.4, scans=[1])
    return workspace, row


def drawn_lines(job):
    """Vertices (n, 3, grid) of all drawn lines, and whether they are closed."""
    drawings = [job.facts("drawing")[k] for k in sorted(job.facts("drawing"), key=int)]
    lines = [line for d in drawings for line in d["lines"]]
    return [(rigid.apply(job.frame, np.array(v["vertices"])), v["closed"]) for v in lines]


def test_landxml_holds_what_is_drawn(drawn, tmp_path):
    path = str(tmp_path / "job.xml")
    figures = must(*drawn, "deliver.landxml", path=path)
    job, root = opened(*drawn), etree.parse(path).getroot()
    assert root.get("version") == "1.2" and root.find("l:Units/l:Metric", NS).get("linearUnit") == "meter"
    features = root.findall("l:PlanFeatures/l:PlanFeature", NS)
    wanted = drawn_lines(job)
    assert len(features) == len(wanted) > 4 and figures["verified"]["lines"] == len(wanted)
    for feature, (xyz, closed) in zip(features, wanted):
        starts = [e.text.split() for e in feature.iter(f"{{{landxml_writer.SPACE}}}Start")]
        assert len(starts) == len(xyz) - (not closed)
        northing, easting, height = map(float, starts[0])
        assert np.allclose([easting, northing, height], xyz[0], atol=6e-5)
    triangles = job.array("surface-1-triangles")
    assert len(root.findall(".//l:Faces/l:F", NS)) == len(triangles)
    place = root.find(".//l:Pnts/l:P", NS).text.split()
    assert np.allclose([float(place[k]) for k in (1, 0, 2)], job.array("surface-1-vertices")[0], atol=6e-5)
    again = must(*drawn, "surface.deviation", against=path, reach=0.02, scans=[1])
    assert again["within"] > 0.7


def test_geojson_holds_what_is_drawn(drawn, tmp_path):
    path = str(tmp_path / "job.geojson")
    must(*drawn, "deliver.geojson", path=path)
    features = json.loads(open(path).read())["features"]
    for feature, (xyz, closed) in zip(features, drawn_lines(opened(*drawn)), strict=True):
        geometry = shape(feature["geometry"])
        area = closed and np.ptp(xyz[:, 2]) < 0.1  # what stands upright is none
        assert geometry.geom_type == ("Polygon" if area else "LineString")
        ring = geometry.exterior if area else geometry
        assert feature["properties"]["layer"] and (not area or ring.is_ccw)
        around = np.concatenate([xyz, xyz[:1]]) if closed else xyz
        length = np.linalg.norm(np.diff(around[:, :2], axis=0), axis=1).sum()
        assert ring.length == pytest.approx(length, abs=1e-3)
    assert perform(*drawn, "deliver.geojson", degrees=True).state == "failed"  # of no known system
    must(*drawn, "georeference.crs", code="EPSG:25832")
    only = must(*drawn, "deliver.geojson", path=path, drawings=[1])
    one = len(opened(*drawn).get("drawing", 1)["lines"])
    assert only["verified"]["lines"] == one < len(features)


def test_degrees_are_those_of_a_library(drawn, tmp_path):
    """EPSG:25832 to WGS 84 by pyproj's own transformation, at a place moved into the zone."""
    from pyproj import Transformer

    path = str(tmp_path / "d.geojson")
    must(*drawn, "georeference.crs", code="EPSG:25832")
    must(*drawn, "deliver.geojson", path=path, degrees=True, drawings=[1])
    xyz, _ = drawn_lines(opened(*drawn))[0]
    first = json.loads(open(path).read())["features"][0]["geometry"]["coordinates"]
    ring = np.array(first[0] if isinstance(first[0][0], list) else first)
    wanted = np.stack(Transformer.from_crs(25832, 4326, always_xy=True).transform(xyz[:, 0], xyz[:, 1]), 1)
    assert min(np.abs(ring[:, :2] - w).max(1).min() for w in wanted) < 1e-8


@pytest.mark.parametrize("form", ["landxml", "geojson"])
def test_nothing_drawn_is_said(workspace, tmp_path, form):
    job = scenes.room_job(workspace, tmp_path)
    entry = perform(*job, f"deliver.{form}")
    assert entry.state == "failed" and "nothing drawn" in entry.message
    entry = perform(*job, f"deliver.{form}", drawings=[7])
    assert entry.state == "failed" and "no drawing 7" in entry.message


@pytest.mark.parametrize("ending", ["dxf", "xml", "geojson"])
def test_what_was_written_is_brought_in_as_a_drawing(drawn, tmp_path, ending):
    operation = {"dxf": "dxf", "xml": "landxml", "geojson": "geojson"}[ending]
    path = str(tmp_path / f"job.{ending}")
    must(*drawn, f"deliver.{operation}", path=path)
    before = drawn_lines(opened(*drawn))
    figures = must(*drawn, "draw.bring", path=path, name="Again")
    job = opened(*drawn)
    mine = job.get("drawing", figures["drawing"])
    assert mine["name"] == "Again" and figures["lines"] == len(mine["lines"]) == len(before)
    lengths = lambda lines: sorted(
        np.linalg.norm(np.diff(np.r_[v, v[:1]] if c else v, axis=0), axis=1).sum() for v, c in lines
    )
    again = [(rigid.apply(job.frame, np.array(v["vertices"])), v["closed"]) for v in mine["lines"]]
    assert lengths(again) == pytest.approx(lengths(before), abs=0.002)
    assert figures["surfaces"] == (ending == "xml") and not figures["doubt"]
    if ending == "xml":
        for what in ("vertices", "triangles"):
            made, kept = (job.array(f"surface-{k}-{what}") for k in (figures["surface"], 1))
            assert np.allclose(made, kept, atol=1e-4)
    must(*drawn, "draw.line", at=[[0, 0, 0], [1, 0, 0]], drawing=figures["drawing"])


def test_a_surface_as_ply_is_read_by_others_and_brought_in(drawn, tmp_path):
    path = str(tmp_path / "ground.ply")
    figures = must(*drawn, "surface.ground", classes=[0], cell=0.4, scans=[1], path=path)
    job, other = opened(*drawn), PlyData.read(path)
    vertices = job.array(f"surface-{figures['surface']}-vertices")
    assert np.allclose(np.stack([other["vertex"][a] for a in "xyz"], 1), vertices, atol=6e-5)
    corners = np.stack(list(other["face"]["vertex_indices"]))
    assert np.array_equal(corners, job.array(f"surface-{figures['surface']}-triangles"))
    brought = must(*drawn, "draw.bring", path=path)
    assert brought["surfaces"] == 1 and brought["lines"] == 0
    assert must(*drawn, "surface.deviation", against=str(brought["surface"]), reach=0.02)["within"] > 0.7


def test_vertices_in_a_table_and_what_cannot_be_brought_in(drawn, tmp_path):
    figures = must(*drawn, "deliver.csv", path=str(tmp_path / "lines.csv"))
    rows = list(csv.reader((tmp_path / "lines.csv").read_text("utf-8-sig").splitlines()))
    wanted = np.concatenate([v for v, _ in drawn_lines(opened(*drawn))])
    assert np.allclose([[float(c) for c in r[4:]] for r in rows[1:]], wanted, atol=6e-5)
    assert figures["rows"] == len(wanted) and {r[1] for r in rows[1:]} == {"WALLS", "SECTION"}
    far = {"type": "LineString", "coordinates": [[9e5, 9e5, 1], [9e5, 9e5 + 1, 1]]}
    path = tmp_path / "far.geojson"
    path.write_text(
        json.dumps(
            {
                "type": "FeatureCollection",
                "features": [{"type": "Feature", "properties": {}, "geometry": far}],
            }
        )
    )
    assert "another frame" in must(*drawn, "draw.bring", path=str(path))["doubt"][0]
    path.write_text(json.dumps({"type": "FeatureCollection", "features": []}))
    entry = perform(*drawn, "draw.bring", path=str(path))
    assert entry.state == "failed" and "no lines" in entry.message
