"""Ground models, contours and volumes against the ground put in, closed formulas and other readers."""

import ezdxf
import laspy
import numpy as np
import pytest
import shapely
import trimesh
from lxml import etree
from scipy.spatial import Delaunay

from terrazza.core.classify import meshes
from terrazza.core.geometry import rigid
from terrazza.core.surfaces import contours, ground, kept, volume
from terrazza.db import queries
from terrazza.errors import NotFound
from terrazza.operations.spine import fieldbook, health
from terrazza.web.contexts import surfaces
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
CORNER = np.array([600_000.0, 5_100_000.0])


def hill(xy):
    return 3 * np.sin(xy[:, 0] / 11) * np.cos(xy[:, 1] / 13) + 0.1 * xy[:, 0]


@pytest.fixture
def job(workspace, tmp_path):
    """A LAS of rolling ground, 40 m square, with trees that are none of it."""
    rng = np.random.default_rng(4)
    xy = rng.uniform(0, 40, (120_000, 2))
    tree = rng.random(len(xy)) < 0.1
    z = hill(xy) + rng.normal(0, 0.02, len(xy)) + tree * rng.uniform(1, 6, len(xy))
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [0.001] * 3, [*CORNER, 0]
    las = laspy.LasData(header)
    las.xyz, las.classification = np.c_[xy + CORNER, z], np.where(tree, 5, 2).astype(np.uint8)
    las.write(str(tmp_path / "hill.las"))
    row = queries.create_job(workspace, "Hill")
    must(workspace, row, "import.files", files=[str(tmp_path / "hill.las")])
    return workspace, row


def from_landxml(path):
    """Vertices (easting, northing, height) and triangles, by the standard's names and order."""
    root = etree.parse(path).getroot()
    space = {"l": "http://www.landxml.org/schema/LandXML-1.2"}
    assert root.get("version") == "1.2" and root.find("l:Units/l:Metric", space).get("linearUnit") == "meter"
    surface = root.find("l:Surfaces/l:Surface/l:Definition", space)
    assert surface.get("surfType") == "TIN"
    points = np.array([p.text.split() for p in surface.iterfind("l:Pnts/l:P", space)], float)[:, [1, 0, 2]]
    return points, np.array([f.text.split() for f in surface.iterfind("l:Faces/l:F", space)], int) - 1


def from_dxf(path):
    faces = ezdxf.readfile(path).layouts.get("Model").query("3DFACE")
    corners = np.array([[tuple(f.dxf.vtx0), tuple(f.dxf.vtx1), tuple(f.dxf.vtx2)] for f in faces])
    return corners.reshape(-1, 3), np.arange(len(corners) * 3).reshape(-1, 3)


def from_obj(path):
    made = trimesh.load(path, process=False)
    return np.asarray(made.vertices), np.asarray(made.faces)


@pytest.mark.parametrize(("ending", "read"), [(".xml", from_landxml), (".dxf", from_dxf), (".obj", from_obj)])
def test_a_ground_model_is_the_ground_within_its_noise(job, ending, read):
    figures = must(*job, "surface.ground", path=f"ground{ending}", error=0.03)
    assert 15 < figures["sigma_mm"] < 25 and 0.97 < figures["area_plan_m2"] / 1600 <= 1.001
    vertices, triangles = read(figures["path"])
    assert len(triangles) == figures["triangles"] < 8000
    xy = np.random.default_rng(1).uniform(2, 38, (20_000, 2))
    off = meshes.heights(xy, vertices - [*CORNER, 0], triangles) - hill(xy)
    assert np.isfinite(off).mean() > 0.999 and 0.001 < np.sqrt(np.nanmean(off**2)) < 0.02
    assert np.nanmax(np.abs(off)) < 0.09
    fieldbook.tidy(*job)
    assert health.check(opened(*job)) == []


def test_the_views_get_the_triangles_that_are_kept(job):
    must(*job, "surface.ground", name="Hill")
    opened_job = opened(*job)
    (listed,) = surfaces.listed(opened_job)
    packed = surfaces.pack(opened_job, listed["id"], listed["version"])
    vertices, triangles = (opened_job.array(f"surface-1-{what}") for what in ("vertices", "triangles"))
    n, m = np.frombuffer(packed, "<u4", 2)
    origin = np.frombuffer(packed, "<f8", 3, 8)
    shown = np.frombuffer(packed, "<f4", 3 * n, 32).reshape(-1, 3) + origin
    assert listed["name"] == "Hill" and (n, m) == (len(vertices), len(triangles))
    assert 0 < np.abs(shown - vertices).max() < 1e-5, "single precision, but near an origin of its own"
    assert np.array_equal(np.frombuffer(packed, "<u4", 3 * m, 32 + 12 * n).reshape(-1, 3), triangles)
    with pytest.raises(NotFound, match="another one"):
        surfaces.pack(opened_job, 1, "older")


def test_contours_lie_at_their_heights(job):
    must(*job, "surface.ground")
    figures = must(*job, "surface.contours", step=0.5, path="lines.dxf")
    lines = ezdxf.readfile(figures["path"]).layouts.get("Model").query("LWPOLYLINE")
    assert len(lines) == figures["lines"] > 10 and {e.dxf.layer for e in lines} == {
        "CONTOURS",
        "CONTOURS-MAIN",
    }
    for line in lines:
        xy = np.array([(p[0], p[1]) for p in line]) - CORNER
        assert (
            np.abs(hill(xy) - line.dxf.elevation).max() < 0.08 and round(line.dxf.elevation * 2, 6) % 1 == 0
        )
        assert (line.dxf.layer == "CONTOURS-MAIN") == (round(line.dxf.elevation / 0.5) % 5 == 0)


def cone(radius, height, corners=720):
    turn = np.linspace(0, 2 * np.pi, corners, endpoint=False)
    rim = np.c_[radius * np.cos(turn), radius * np.sin(turn), np.zeros(corners)]
    k = np.arange(corners)
    return ground.Surface(
        np.r_[rim, [[0, 0, height]]], np.c_[k, (k + 1) % corners, np.full(corners, corners)]
    )


def test_volumes_are_those_of_the_formulas():
    """A cone, π r² h / 3; a wedge, half its box; a frustum by the prismoidal formula (textbook)."""
    wide = np.array([[-3, -3], [3, -3], [3, 3], [-3, 3.0]])
    found = volume.between(wide, 0.0, cone(2.0, 1.5))
    assert found.above == pytest.approx(np.pi * 4 * 1.5 / 3, rel=1e-3) and found.below == 0
    assert found.area == pytest.approx(np.pi * 4, rel=1e-3) and found.missing == pytest.approx(
        36 - np.pi * 4, rel=2e-3
    )
    wedge = ground.Surface(
        np.array([[0, 0, 0], [4, 0, 2], [4, 3, 2], [0, 3, 0.0]]), np.array([[0, 1, 2], [0, 2, 3]])
    )
    box = np.array([[0, 0], [4, 0], [4, 3], [0, 3.0]])
    assert volume.between(box, 0.0, wedge).above == pytest.approx(4 * 3 * 2 / 2, rel=1e-4)
    both = volume.between(box, 1.0, wedge)
    assert both.above == pytest.approx(3.0, rel=1e-3) and both.below == pytest.approx(3.0, rel=1e-3)
    part = volume.between(wide, 0.0, ground.Surface(cone(2.0, 2.0).vertices, cone(2.0, 2.0).triangles))
    top = volume.between(wide, 1.0, cone(2.0, 2.0))
    ends, middle = np.pi * 2**2 + np.pi * 1**2, np.pi * 1.5**2
    assert part.above - top.above == pytest.approx((ends + 4 * middle) / 6, rel=1e-3)


def test_lines_of_a_cone_are_circles():
    for height, places, closed in contours.contours(cone(2.0, 2.0), 0.3):
        assert closed and np.abs(np.linalg.norm(places, axis=1) - (2 - height)).max() < 1e-4


def test_a_volume_has_the_noise_of_its_surface(job):
    must(*job, "surface.ground", error=0.02)
    square = (np.array([[5, 5], [35, 5], [35, 35], [5, 35.0]]) + CORNER).tolist()
    figures = must(*job, "surface.volume", outline=square, below="-4")
    even = (np.arange(1500) + 0.5) / 50 + 5
    true = (hill(np.stack(np.meshgrid(even, even), -1).reshape(-1, 2)) + 4).mean() * 900
    assert figures["volume_m3"] == pytest.approx(true, rel=0.002) and 0 < figures["sigma_m3"] < 0.005 * true
    heap = must(*job, "surface.volume", outline=square)
    assert abs(heap["above_m3"] - heap["below_m3"]) < 0.5 * true and heap["area_m2"] == pytest.approx(
        900, rel=1e-3
    )


@pytest.mark.parametrize(
    ("operation", "params", "words"),
    [
        ("surface.ground", {"classes": [9]}, "Only 0 points"),
        ("surface.contours", {}, "no surface yet"),
        ("surface.volume", {"outline": [[0, 0], [1, 0], [1, 1]], "above": "Nowhere"}, "no surface yet"),
        ("surface.volume", {"outline": [[0, 0], [1, 0], [1, 1]], "above": "1"}, "own rim"),
    ],
)
def test_what_no_surface_can_do_is_said(job, operation, params, words):
    entry = perform(*job, operation, **params)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message


def stepped(xy):
    """Ground with a step of 12 cm along a bent line, and the place of that."""
    along = 20 + 2 * np.sin(xy[:, 0] / 6)
    return 0.05 * xy[:, 0] + 0.12 * (xy[:, 1] > along), xy[:, 1] - along


@pytest.fixture
def kerbed(workspace, tmp_path):
    """A LAS of stepped ground with the step's top and foot drawn."""
    rng = np.random.default_rng(7)
    xy = rng.uniform(0, 40, (120_000, 2))
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [0.0001] * 3, [*CORNER, 0]
    las = laspy.LasData(header)
    las.xyz = np.c_[xy + CORNER, stepped(xy)[0] + rng.normal(0, 0.004, len(xy))]
    las.classification = np.full(len(xy), 2, np.uint8)
    las.write(str(tmp_path / "kerb.las"))
    row = queries.create_job(workspace, "Kerb")
    must(workspace, row, "import.files", files=[str(tmp_path / "kerb.las")])
    x = np.linspace(-1, 41, 85)
    for beside, up in ((0.004, 0.12), (-0.004, 0.0)):
        at = np.c_[x + CORNER[0], 20 + 2 * np.sin(x / 6) + beside + CORNER[1], 0.05 * x + up]
        must(workspace, row, "draw.line", at=at.tolist())
    return workspace, row


OUTLINE = np.array([[3.0, 3.0], [37.0, 4.0], [36.0, 36.0], [20.0, 26.0], [4.0, 35.0]])


@pytest.mark.parametrize("outline", [None, OUTLINE])
def test_a_ground_model_keeps_break_lines_and_outline(kerbed, outline):
    """Every vertex and middle of a break line lies on the surface at its height, both sides of the step come
    out, and the outline's area is that of shapely.
    """
    params = {"drawings": [1], "error": 0.01, "path": "kerb.xml"}
    if outline is not None:
        params["outline"] = (outline + CORNER).tolist()
    without = must(*kerbed, "surface.ground", error=0.01)
    figures = must(*kerbed, "surface.ground", **params)
    assert figures["doubt"] == []
    area = shapely.Polygon(outline) if outline is not None else shapely.box(0, 0, 40, 40)
    whole, within = (without["area_plan_m2"], 0.015) if outline is None else (area.area, 1e-4)
    assert figures["area_plan_m2"] == pytest.approx(whole, rel=within)
    at = opened(*kerbed)
    xy = np.random.default_rng(2).uniform(0, 40, (20_000, 2))
    inner = shapely.contains_xy(area.buffer(-0.5), *xy.T) & (np.abs(stepped(xy)[1]) > 0.01)
    rms = []
    for number in (1, 2):
        vertices, triangles = (at.array(f"surface-{number}-{w}") for w in ("vertices", "triangles"))
        off = meshes.heights(xy[inner], vertices - [*CORNER, 0], triangles) - stepped(xy[inner])[0]
        near = (np.abs(stepped(xy[inner])[1]) < 0.3) & np.isfinite(off)
        assert np.isfinite(off).mean() > 0.995
        rms.append(np.sqrt((off[near] ** 2).mean()))
    assert rms[1] < 0.004 < 0.02 < rms[0], (rms, without)
    edges = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), 1)
    net = shapely.union_all(shapely.linestrings(vertices[np.unique(edges, axis=0), :2]))
    for line in at.get("drawing", 1)["lines"]:
        drawn = shapely.LineString(rigid.apply(at.frame, np.array(line["vertices"]))[:, :2])
        mine = drawn.intersection(shapely.transform(area.buffer(-0.2), lambda p: p + CORNER))
        assert mine.difference(net.buffer(1e-3)).length < 1e-6 < mine.length
    root = etree.parse(figures["path"]).getroot()
    space = {"l": "http://www.landxml.org/schema/LandXML-1.2"}
    source = root.find("l:Surfaces/l:Surface/l:SourceData", space)
    assert [etree.QName(e).localname for e in source.getparent()] == ["SourceData", "Definition"]
    assert len(source.findall("l:Breaklines/l:Breakline[@brkType='standard']", space)) >= 2
    assert len(source.findall("l:Boundaries/l:Boundary", space)) == (outline is not None)
    told = must(*kerbed, "deliver.landxml")["verified"]
    assert told["surfaces"] == 2 and told["worst_mm"] < 0.06
    assert health.check(opened(*kerbed)) == []


def test_lines_that_cross_meet_in_a_vertex():
    """Crossing lines get a common vertex at the mean height, and the difference is told; scipy's triangles
    have all pieces as edges then.
    """
    cross = [np.array([[0.0, 0, 0], [10, 10, 1]]), np.array([[0.0, 10, 0.1], [10, 0, 1.1]])]
    lines = kept.noded(cross, None)
    middle = np.flatnonzero(np.linalg.norm(lines.xyz[:, :2] - 5, axis=1) < 1e-3)
    assert len(middle) == 1 and lines.xyz[middle[0], 2] == pytest.approx(0.55) and len(lines.pieces) == 4
    assert lines.apart == pytest.approx(0.1, abs=1e-6)
    many = np.c_[np.random.default_rng(0).uniform(0, 10, (3000, 2)), np.zeros(3000)]
    vertices, pieces, lost = kept.conforming(np.concatenate([lines.xyz, many]), lines.pieces)
    triangles = np.sort(Delaunay(vertices[:, :2]).simplices, 1)
    sides = {tuple(s) for t in triangles for s in (t[[0, 1]], t[[1, 2]], t[[0, 2]])}
    assert lost == 0 and all(tuple(sorted(p)) in sides for p in pieces.tolist())
    length = np.linalg.norm(vertices[pieces[:, 0], :2] - vertices[pieces[:, 1], :2], axis=1).sum()
    assert length == pytest.approx(2 * np.hypot(10, 10))
