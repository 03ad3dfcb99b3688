"""Pictures that know where they lie, read by another reader: tags, world file, places, heights."""

import ezdxf
import numpy as np
import pypdf
import pytest
from PIL import Image

from tests import scenes
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
Image.MAX_IMAGE_PIXELS = None


@pytest.fixture
def room(workspace, tmp_path):
    return scenes.room_job(workspace, tmp_path)


@pytest.mark.parametrize("ending", [".tif", ".png"])
def test_walls_lie_where_they_are(room, tmp_path, ending):
    must(*room, "georeference.crs", code="EPSG:25832")
    path = str(tmp_path / f"plan{ending}")
    figures = must(*room, "surface.picture", path=path, pixel=0.05)
    with Image.open(path) as image:
        made, tags = np.array(image), dict(getattr(image, "tag_v2", {}))
    if ending == ".tif":
        pixel, corner = tags[33550][0], np.array(tags[33922][3:5])
        keys = np.array(tags[34735]).reshape(-1, 4)
        assert keys[0].tolist() == [1, 1, 1, len(keys) - 1]
        assert {(1024, 1), (1025, 1), (3072, 25832)} <= {(int(k[0]), int(k[3])) for k in keys[1:]}
    else:
        a, d, b, e, x, y = map(float, open(figures["paths"][1]).read().split())
        assert (d, b, e) == (0, 0, -a)
        pixel, corner = a, np.array([x - a / 2, y + a / 2])
    assert pixel == pytest.approx(0.05) and made.shape == (figures["height"], figures["width"], 4)
    dark = made[..., 3] > 120  # what stands upright: most of it on the walls of the room, 8 by 6 m
    row, column = np.nonzero(dark)
    x, y = corner[0] + pixel * (column + 0.5), corner[1] - pixel * (row + 0.5)
    on = np.minimum.reduce([np.abs(x), np.abs(x - 8), np.abs(y), np.abs(y - 6)]) < 0.06
    assert on.mean() > 0.5 and (np.abs(y[np.abs(x - 8) < 0.06] - 3).max()) > 2.5


def test_heights_of_the_ground_are_those_of_its_triangles(room, tmp_path):
    must(*room, "surface.ground", classes=[0], cell=0.5, scans=[1])
    path = str(tmp_path / "heights.tif")
    must(*room, "surface.picture", what="ground", path=path, pixel=0.25)
    job = opened(*room)
    vertices, triangles = job.array("surface-1-vertices"), job.array("surface-1-triangles")
    with Image.open(path) as image:
        made, corner = np.array(image), image.tag_v2[33922][3:5]
    assert made.dtype == np.float32
    inside = 0
    for a, b, c in vertices[triangles][::7]:
        x, y, z = (a + b + c) / 3
        column, row = int((x - corner[0]) // 0.25), int((corner[1] - y) // 0.25)
        middle = np.array([corner[0] + 0.25 * (column + 0.5), corner[1] - 0.25 * (row + 0.5)])
        share = np.linalg.solve(np.c_[a - c, b - c][:2], middle - c[:2])
        if share.min() > 0.01 and share.sum() < 0.99:
            wanted = c[2] + share @ [a[2] - c[2], b[2] - c[2]]
            assert made[row, column] == pytest.approx(wanted, abs=1e-4)
            inside += 1
    assert inside > 3


def test_a_front_is_a_picture_of_what_stands_along_its_line(room):
    """A box's face at y = 4.2, from x = 1 to 2.2 and 0.9 m high: checks of half a metre about the station
    where they are.
    """
    asked = {
        "scans": [1],
        "what": "intensity",
        "line": [[1.0, 4.2], [2.2, 4.2]],
        "depth": 0.05,
        "pixel": 0.05,
    }
    figures = must(*room, "surface.picture", **asked, path="f.png", low=0.05, high=0.9)
    assert (figures["width"], figures["height"]) == (24, 17) and figures["seen"] > 0.5
    with Image.open(figures["path"]) as opened_:
        made = np.array(opened_.convert("RGBA")).astype(int)
    with open(next(p for p in figures["paths"] if not p.endswith(".png"))) as file:
        world = [float(v) for v in file.read().split()]
    assert world[:1] + world[4:] == pytest.approx([0.05, 0.025, 0.875])
    row, column = np.nonzero(made[..., 3] > 0)
    x0, y0, z0 = scenes.PLACES[0]
    x, z = 1.0 + world[4] + 0.05 * column - x0, world[5] - 0.05 * row - z0
    sure = (np.abs(x * 2 % 1 - 0.5) < 0.4) & (np.abs(z * 2 % 1 - 0.5) < 0.4)
    light = made[row, column, :3].mean(1) > 150
    odd = (np.floor(x * 2) + np.floor(z * 2) + np.floor((4.2 - y0) * 2)) % 2 == 1
    assert sure.sum() > 80 and (light == odd)[sure].mean() > 0.9


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({"line": [[1, 1], [1, 1]]}, "two places"),
        ({"pixel": 0.001, "box": [0, 0, 90, 90]}, "pixels"),
        ({"box": [1, 1, 0, 0]}, "area"),
        ({"what": "ground"}, "no surface"),
    ],
)
def test_pictures_that_cannot_be_are_said(room, asked, says):
    entry = perform(*room, "surface.picture", **asked)
    assert entry.state == "failed" and says in entry.message


def drawn_paths(path):
    """Paths of a PDF's page in points: lists of (x, y), as a reader of its content stream sees them."""
    page = pypdf.PdfReader(path).pages[0]
    paths, at = [], []
    for operands, operator in pypdf.generic.ContentStream(page.get_contents(), page.pdf).operations:
        if operator == b"m":
            at = [tuple(map(float, operands))]
        elif operator == b"l":
            at.append(tuple(map(float, operands)))
        elif operator in {b"S", b"s", b"h"} and len(at) > 1:
            paths.append(np.array(at))
            at = []
    return page, paths


@pytest.mark.parametrize("flat", [False, True])
def test_a_sheet_is_true_to_scale(room, tmp_path, flat):
    if flat:
        must(*room, "draw.section", line=[[-1, 2.7], [9, 2.7]], thickness=0.1, name="Cut")
    else:
        must(*room, "draw.plan_slab", name="Cut")
    figures = must(*room, "deliver.sheet", path=str(tmp_path / "s.pdf"), paper="A3", author="A. Person")
    page, paths = drawn_paths(figures["path"])
    assert [round(float(v)) for v in page.mediabox[2:]] == [1191, 842]  # ISO 216 A3 in points, landscape
    text = page.extract_text()
    assert "Cut" in text and "A. Person" in text and f"1 : {figures['scale']}" in text
    lines = opened(*room).get("drawing", 1)["lines"]
    true = np.sort([v["length"] for v in lines])[::-1][:3]
    lengths = []
    for p in paths:
        for way in (p, np.r_[p, p[:1]]):
            lengths.append(np.linalg.norm(np.diff(way, axis=0), axis=1).sum())
    metres = np.array(lengths) / 72 * 0.0254 * figures["scale"]
    for length in true:
        assert np.abs(metres - length).min() < 0.002, (length, np.sort(metres)[-8:])
    assert figures["scale"] in {20, 25, 50}  # 8 by 6 m, or 8 by 3 m, on 42 by 30 cm


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({"drawing": 9}, "no drawing 9"),
        ({"scale": 5}, "does not fit on A3; 1"),
        ({"paper": "A4", "scale": 10}, "A4"),
    ],
)
def test_sheets_that_cannot_be_are_said(room, asked, says):
    must(*room, "draw.plan_slab")
    entry = perform(*room, "deliver.sheet", **asked)
    assert entry.state == "failed" and says in entry.message.replace(" at 1 : 5", "")


@pytest.mark.parametrize("flat", [False, True])
def test_a_sheet_as_dxf_has_its_drawing_in_a_viewport(room, tmp_path, flat):
    """The drawing stands in its place in metres; a viewport of the layout shows it at the scale, whole, and
    frame, title, scale and grid stand around it on the paper.
    """
    if flat:
        must(*room, "draw.section", line=[[-1, 2.7], [9, 2.7]], thickness=0.1, name="Cut")
    else:
        must(*room, "draw.plan_slab", name="Cut")
    figures = must(*room, "deliver.sheet", path="s.dxf", paper="A3", author="A. Person")
    document = ezdxf.readfile(figures["path"])
    assert not document.audit().errors and document.units == ezdxf.units.M
    model = document.layouts.get("Model")
    drawn = np.array([(v.x, v.y) for e in model.query("LWPOLYLINE") for v in e.vertices_in_wcs()])
    lengths = sorted(v["length"] for v in opened(*room).get("drawing", 1)["lines"])
    assert len(drawn) and np.ptp(drawn, axis=0).max() == pytest.approx(8, abs=2.2) and lengths[-1] > 2
    layout = document.layouts.get(f"A3 1-{figures['scale']}")
    assert (layout.dxf.paper_width, layout.dxf.paper_height) == pytest.approx((420, 297), abs=0.5)  # ISO 216
    (view,) = [v for v in layout.query("VIEWPORT") if v.dxf.id != 1]
    assert view.dxf.view_height * 1000 / view.dxf.height == pytest.approx(figures["scale"])
    half = np.array([view.dxf.width, view.dxf.height]) / 2 * figures["scale"] / 1000
    assert (np.abs(drawn - np.array(view.dxf.view_center_point)[:2]) <= half).all()
    texts = {t.dxf.text for t in layout.query("TEXT")}
    assert "Cut" in texts and f"1 : {figures['scale']}" in texts and any("A. Person" in t for t in texts)
    for entity in layout.query("LINE LWPOLYLINE"):
        places = (
            [entity.dxf.start, entity.dxf.end] if entity.dxftype() == "LINE" else entity.vertices_in_wcs()
        )
        assert all(0 <= p[0] <= 420.1 and 0 <= p[1] <= 297.1 for p in places)
