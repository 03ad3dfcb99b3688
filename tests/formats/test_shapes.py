"""Lines, areas and surfaces out of drawings and models, against files that other libraries wrote."""

import json

import ezdxf
import numpy as np
import pytest
import trimesh

from terrazza import formats
from terrazza.errors import InputError
from terrazza.formats import landxml_writer
from terrazza.formats.protocol import Line
from terrazza.operations.pieces import reading

SQUARE = np.array([[0.0, 0, 1], [4, 0, 1], [4, 3, 2], [0, 3, 2]])


def dxf(path):
    document = ezdxf.new("R2010")
    document.units = ezdxf.units.M
    space = document.layouts.get("Model")
    space.add_line((0, 0, 1), (4, 3, 2), dxfattribs={"layer": "KERB"})
    space.add_lwpolyline(SQUARE[:, :2], close=True, dxfattribs={"layer": "ROOM", "elevation": 7.5})
    space.add_circle((10, 0, 5), 2.0)
    space.add_lwpolyline([(0, 0, 0), (100, 0, 1), (100, 50, 0)], format="xyb", dxfattribs={"layer": "BEND"})
    space.add_arc((0, 0), 1.0, 0, 90)
    block = document.blocks.new("DOOR")
    block.add_lwpolyline([(0, 0), (1, 0), (1, 0.2)])
    space.add_blockref("DOOR", (20, 30), dxfattribs={"rotation": 90})
    space.add_3dface([tuple(p) for p in SQUARE], dxfattribs={"layer": "SLOPE"})
    space.add_text("not a line")
    document.saveas(path)


def geojson(path):
    feature = lambda kind, at, **p: {
        "type": "Feature",
        "properties": p,
        "geometry": {"type": kind, "coordinates": at},
    }
    ring = [*SQUARE.tolist(), SQUARE[0].tolist()]
    features = [
        feature("LineString", [[500, 600], [510, 620]], name="Kerb", layer="K"),
        feature("MultiPolygon", [[ring], [ring]], name="Room"),
        feature("Point", [1, 2]),
        {"type": "Feature", "geometry": None, "properties": {}},
    ]
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}), encoding="utf-8")


def landxml(path):
    """Element names and order from memory of the published schema, version 1.2."""
    points = "".join(f'<P id="{k + 5}">{y} {x} {z}</P>' for k, (x, y, z) in enumerate(SQUARE))
    path.write_text(
        '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2">'
        '<Units><Imperial linearUnit="USSurveyFoot"/></Units><Surfaces><Surface name="G"><SourceData>'
        '<Breaklines><Breakline name="b1"><PntList3D>0 0 1 3 4 2</PntList3D></Breakline></Breaklines>'
        f'</SourceData><Definition surfType="TIN"><Pnts>{points}</Pnts><Faces><F>5 6 7</F>'
        '<F i="1">5 6 8</F><F>5 7 8</F></Faces></Definition></Surface></Surfaces><PlanFeatures><PlanFeature '
        'name="p"><CoordGeom><Line><Start>1 2</Start><End>1 9</End></Line><Line><Start>1 9</Start><End>5 9'
        "</End></Line></CoordGeom></PlanFeature></PlanFeatures></LandXML>",
        encoding="utf-8",
    )


def model(kind):
    return lambda path: trimesh.creation.box((2, 3, 4)).export(path)


WRITERS = {
    "a.dxf": (dxf, {"lines": 4, "areas": 2, "surfaces": 1}),
    "b.geojson": (geojson, {"lines": 1, "areas": 2}),
    "c.xml": (landxml, {"surfaces": 1, "lines": 2, "areas": 0}),
    "d.obj": (model("obj"), {"surfaces": 1, "triangles": 12}),
    "e.stl": (model("stl"), {"surfaces": 1, "triangles": 12}),
    "f.ply": (model("ply"), {"surfaces": 1, "triangles": 12}),
}


@pytest.fixture(params=WRITERS)
def written(tmp_path, request):
    WRITERS[request.param][0](tmp_path / request.param)
    return tmp_path / request.param


def test_what_is_inside_is_told_and_read(written):
    found, shapes = formats.look(str(written)), reading.shapes(str(written))
    told = WRITERS[written.name][1]
    assert found.shapes == told
    if "lines" in told:
        assert (len(shapes.lines) - len(shapes.areas), len(shapes.areas)) == (told["lines"], told["areas"])
    for mesh in shapes.meshes:
        assert mesh.triangles.max() < len(mesh.vertices) and len(mesh.triangles) >= 2
    if "triangles" in told:
        low, high = shapes.meshes[0].vertices.min(0), shapes.meshes[0].vertices.max(0)
        assert np.allclose(high - low, [2, 3, 4])


def test_drawn_things_keep_place_name_and_layer(tmp_path):
    dxf(tmp_path / "a.dxf")
    lines = {(line.layer, len(line.xyz)): line for line in reading.shapes(str(tmp_path / "a.dxf")).lines}
    assert np.allclose(lines["KERB", 2].xyz, [[0, 0, 1], [4, 3, 2]])
    room = lines["ROOM", 4]
    assert room.closed and np.allclose(room.xyz[:, :2], SQUARE[:, :2]) and np.allclose(room.xyz[:, 2], 7.5)
    circle = next(v for v in lines.values() if v.closed and v.layer == "0")
    assert np.allclose(np.linalg.norm(circle.xyz[:, :2] - [10, 0], axis=1), 2.0, atol=1e-9)
    bend = next(v for v in lines.values() if v.layer == "BEND").xyz
    assert np.allclose(bend[[0, 1, -1], :2], [[0, 0], [100, 0], [100, 50]], atol=1e-9) and len(bend) > 50
    away = np.linalg.norm(bend[1:, :2] - [100, 25], axis=1)
    assert np.allclose(away, 25.0, atol=1e-9) and bend[:, 0].max() > 124, "an arc, not a curve like one"
    middle = (circle.xyz + np.roll(circle.xyz, 1, 0)) / 2
    assert np.linalg.norm(middle[:, :2] - [10, 0], axis=1).min() > 2.0 - 0.001
    door = next(v for v in lines.values() if len(v.xyz) == 3)
    assert np.allclose(door.xyz[:, :2], [[20, 30], [20, 31], [19.8, 31]], atol=1e-12)
    geojson(tmp_path / "b.geojson")
    kerb = reading.shapes(str(tmp_path / "b.geojson")).lines[0]
    assert (kerb.name, kerb.layer) == ("Kerb", "K") and np.isnan(kerb.xyz[:, 2]).all()
    landxml(tmp_path / "c.xml")
    shapes = reading.shapes(str(tmp_path / "c.xml"))
    assert np.allclose(shapes.meshes[0].vertices, SQUARE), "northing comes first in the file"
    assert shapes.meshes[0].triangles.tolist() == [[0, 1, 2], [0, 2, 3]]
    assert np.allclose(shapes.lines[1].xyz[:, :2], [[2, 1], [9, 1], [9, 5]])
    assert formats.look(str(tmp_path / "c.xml")).unit == "US survey foot"


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.geojson", '{"type": "FeatureCollection"'),
        ("b.geojson", '{"type": "FeatureCollection", "features": [{"type": "Feature", "geometry": 7}]}'),
        ("c.geojson", '{"type": "Polygon", "coordinates": [[[0, 0], [1, null], [1, 1]]]}'),
        ("d.xml", "<LandXML><Surfaces>"),
        ("e.xml", "<LandXML><Surface><P id='1'>1 2</P><F>1 2 3</F></Surface></LandXML>"),
        ("f.dxf", "0\nSECTION\n2\nENTITIES\n0\nLINE\n10\nx\n"),
        ("g.obj", "v 0 0 0\nv 1 0 0\n"),
        ("h.stl", "solid x\nfacet normal 0 0 1\nendsolid\n"),
        ("i.obj", "v 0 0 0\nv nan 0 0\nv 1 1 0\nf 1 2 3\n"),
    ],
)
def test_damaged_drawings_say_so(tmp_path, name, text):
    (tmp_path / name).write_text(text)
    try:
        found = reading.shapes(str(tmp_path / name))
    except InputError as error:
        assert name in str(error) and len(str(error)) < 400
    else:
        assert name == "f.dxf" and not found.lines, "a library may mend what it can"


def test_a_cloud_is_no_drawing(tmp_path):
    (tmp_path / "a.xyz").write_text("1 2 3\n" * 50)
    with pytest.raises(InputError, match="no lines, areas or surfaces"):
        reading.shapes(str(tmp_path / "a.xyz"))
    with pytest.raises(InputError, match="no format “XYZ”"):
        formats.named("XYZ")


@pytest.mark.parametrize("ending", ["dxf", "xml"])
def test_lines_in_the_grid_keep_their_vertices_and_stay_open(tmp_path, ending):
    """Far from the origin a share of the coordinates is metres: an open line whose ends lie a few metres
    apart, and one with vertices a metre apart.
    """
    at = np.array([600_000.0, 5_100_000.0, 0.0])
    near = np.array([[0.0, 0, 1], [30, 0, 1], [30, 2, 1], [0, 2, 1]]) + at
    many = np.c_[np.arange(20.0), np.zeros(20), np.ones(20)] + at
    path = str(tmp_path / f"grid.{ending}")
    if ending == "dxf":
        document = ezdxf.new("R2010")
        for line in (near, many):
            document.layouts.get("Model").add_polyline3d(line)
        document.layouts.get("Model").add_lwpolyline([(*at[:2], 1), (at[0] + 5, at[1], 0)], format="xyb")
        document.saveas(path)
    else:
        landxml_writer.write(path, [], [Line(near), Line(many)])
    lines = reading.shapes(path).lines
    for line, wanted in zip(lines, (near, many)):
        assert not line.closed and np.allclose(line.xyz, wanted, rtol=0, atol=1e-3)
    if ending == "dxf":
        assert np.linalg.norm(np.diff(lines[2].xyz, axis=0), axis=1).max() < 0.5, "an arc goes one way"
