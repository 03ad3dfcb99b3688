"""Handover folders that are put in place whole, certificates, and notes that come back as pins."""

import csv
import json
import os
import re
import subprocess
import zipfile
from pathlib import Path

import numpy as np
import pypdf
import pytest
from PIL import Image
from plyfile import PlyData
from scipy.spatial.transform import Rotation

from terrazza.core.color import flat
from terrazza.core.color.cameras import Camera
from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.formats import notes
from terrazza.operations.pieces import stations
from terrazza.operations.spine import recipe
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import covariance_of
from tests.conftest import ROOT
from tests.operations.test_walks import brought, walk  # noqa: F401
from tests.run import must, opened, perform
from tests.scenes import room_job

pytestmark = pytest.mark.usefixtures("alone")


@pytest.fixture
def room(workspace, tmp_path):
    job = room_job(workspace, tmp_path)
    must(*job, "draw.plan_slab")
    must(*job, "pins.put", points=[{"scan": 1, "at": [1, 2, 0]}], name="Crack <b>", text="wide & long")
    return job


def test_another_folder_is_not_overwritten_and_ours_is(room, tmp_path):
    mine = tmp_path / "mine"
    mine.mkdir()
    (mine / "precious.txt").write_text("keep")
    entry = perform(*room, "deliver.handover", path=str(mine))
    assert entry.state == "failed" and os.listdir(mine) == ["precious.txt"]
    for most in (3000, 2000):
        figures = must(*room, "deliver.handover", path=str(tmp_path / "ours"), most=most, views=False)
        assert figures["points"] == most
    size = sum(f.stat().st_size for f in (tmp_path / "ours").rglob("*") if f.is_file())
    assert abs(figures["bytes"] - size) < 2000 and not (tmp_path / "ours.before").exists()


def test_notes_come_back_as_pins(room, tmp_path):
    point = {"type": "Point", "coordinates": [1, 2, 0.5]}
    told = {"text": "damp", "author": "Ada", "time": "2026-11-27"}
    feature = {"type": "Feature", "properties": told, "geometry": point}
    saved = {"type": "FeatureCollection", "features": [feature]}
    (tmp_path / "notes.geojson").write_text(json.dumps(saved))
    (tmp_path / "crew.csv").write_text("Easting;Northing;Height;Note\n2,5;3;1;socket\n900;900;0;far\n")
    assert must(*room, "pins.bring", path=str(tmp_path / "notes.geojson"))["pins"] == 1
    figures = must(*room, "pins.bring", path=str(tmp_path / "crew.csv"))
    assert figures["pins"] == 2 and "far from all scans" in figures["doubt"][0]
    job = opened(*room)
    pins = list(job.facts("pin").values())[1:]
    assert pins[0]["text"] == "damp\nAda · 2026-11-27" and pins[1]["text"] == "socket"
    for pin, at in zip(pins, ([1, 2, 0.5], [2.5, 3, 1], [900, 900, 0])):
        scan = job.scan(pin["point"]["scan"])
        assert np.allclose(rigid.apply(job.grid_pose(scan), np.array([pin["point"]["at"]]))[0], at)


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("a.csv", "x,y,text\n1,2,3\n", "no column z"),
        ("a.csv", "x,y,z,text\n1,two,3,t\n", "line 2"),
        ("a.csv", "x,y,z,text\n", "no note"),
        ("a.geojson", '{"features": [{"geometry": {"type": "Point", "coordinates": [1]}}]}', "no GeoJSON"),
        ("a.geojson", '{"features": 7', "no GeoJSON"),
        ("a.csv", "", "no note"),
    ],
)
def test_notes_that_are_none_are_said(tmp_path, name, content, says):
    (tmp_path / name).write_text(content)
    with pytest.raises(Exception, match=says):
        notes.read(str(tmp_path / name))


def test_the_certificate_is_one_page_with_the_same_figures(room, tmp_path):
    must(*room, "deliver.laz", path=str(tmp_path / "cloud.laz"), most=2000)
    figures = must(
        *room, "deliver.certificate", path=str(tmp_path / "c"), surveyor="A. Surveyor", client="Them"
    )
    pages = pypdf.PdfReader(figures["paths"][1]).pages
    assert len(pages) == 1
    text, html = pages[0].extract_text(), open(figures["paths"][0], encoding="utf-8").read()
    for told in ("A. Surveyor", "Them", "cloud.laz", "3 of 3 placed", figures["job_sha256"][:16]):
        assert told in html and told in text.replace("\n", ""), told
    again = must(*room, "deliver.certificate", path=str(tmp_path / "c"))
    assert again["job_sha256"] == figures["job_sha256"]
    must(*room, "register.set_pose", scan=1, x=1, y=0, z=0, heading_deg=0)
    assert must(*room, "deliver.certificate", path=str(tmp_path / "c"))["job_sha256"] != figures["job_sha256"]


def test_the_folder_keeps_its_promise_and_comes_as_a_zip(room, tmp_path):
    mark = tmp_path / "mark é.png"
    Image.new("RGB", (900, 300), (180, 83, 47)).save(mark)
    for most, views in ((3000, True), (50_000, False)):
        about = {"most": most, "views": views, "client": "Ada", "firm": "Lemon & Daughters"}
        operation = find("deliver.handover")
        said = operation.promise(opened(*room), operation.check(about), QUIET)
        figures = must(*room, "deliver.handover", zip=True, mark=str(mark), **about)
        assert 0.35 * said["bytes"] < figures["bytes"] <= said["bytes"] == figures["promised"]
        assert figures["points"] == said["points"] == most and figures["doubt"] == []
    with zipfile.ZipFile(figures["zip"]) as packed:
        assert packed.testzip() is None
        inside = {n.partition("/")[2] for n in packed.namelist()}
    there = {str(p.relative_to(figures["path"])) for p in Path(figures["path"]).rglob("*") if p.is_file()}
    assert inside == there and {"mark.png", "floor-1.png", "plan.png", "index.html"} <= there
    checked = ["sha256sum", "--check", "--quiet", "sha256sums.txt"]
    assert subprocess.run(checked, cwd=figures["path"], capture_output=True).returncode == 0
    assert len((Path(figures["path"]) / "sha256sums.txt").read_text().splitlines()) == len(there) - 1
    told = (Path(figures["path"]) / "job.js").read_text()
    assert "Lemon & Daughters" in told and "Checksum of the job" in told
    (tmp_path / "no.png").write_text("no picture")
    entry = perform(*room, "deliver.handover", mark=str(tmp_path / "no.png"), path="other")
    assert entry.state == "failed" and "no picture" in entry.message


def test_what_is_seen_goes_out_as_pictures(room):
    figures = must(*room, "deliver.views", scans=[2, 3])
    rows = list(csv.DictReader(open(os.path.join(figures["path"], "views.csv"), encoding="utf-8-sig")))
    assert [r["file"] for r in rows] == ["2.jpg", "3.jpg"] and figures["pictures"] == 2
    job = opened(*room)
    for row in rows:
        with Image.open(os.path.join(figures["path"], row["file"])) as seen:
            assert seen.size == (int(row["columns"]), int(row["rows"]))
        pose = job.grid_pose(job.scan(int(row["scan"])))
        assert np.allclose([float(row[c]) for c in "XYZ"], pose[:3, 3], atol=1e-4)
        around = abs(float(row["left_deg"]) - float(row["right_deg"]))
        assert 355 < around < 361 and float(row["top_deg"]) > 60 > float(row["bottom_deg"])


def test_a_walk_is_looked_around_on_and_its_path_goes_out(brought):  # noqa: F811
    job = brought
    must(*job, "import.walk", scan=1, trajectory="walk.txt")
    must(*job, "register.set_pose", scan=1, x=3, y=4, z=1.5, heading_deg=20)
    scan = opened(*job).scan(1)
    stops = opened(*job).get("walk", scan.id)["stops"]
    seen = must(*job, "deliver.views", path="views", scans=[scan.id])
    assert seen["pictures"] == len(stops)
    none = perform(*job, "deliver.views", path="none", scans=[scan.id], stops=False)
    assert none.state == "failed" and "no stations" in none.message
    figures = must(*job, "deliver.paths")
    rows = list(csv.DictReader(open(figures["paths"][0], encoding="utf-8-sig")))
    path, pose = opened(*job).array(f"path-{scan.id}"), opened(*job).grid_pose(scan)
    places = np.array([[float(r[c]) for c in "XYZ"] for r in rows])
    assert np.abs(places - rigid.apply(pose, path[:, 1:4])).max() < 6e-5
    assert sorted(int(r["stop"]) for r in rows if r["stop"]) == list(range(1, len(stops) + 1))
    ahead = np.degrees(path[:, 4] + rigid.heading(pose)) - [float(r["heading_deg"]) for r in rows]
    assert np.abs((ahead + 180) % 360 - 180).max() < 1e-3
    vertex = PlyData.read(figures["paths"][1])["vertex"]
    assert np.abs(np.stack([vertex[c] for c in "xyz"], 1) - places).max() < 1.1e-4
    handover = must(*job, "deliver.handover", most=2000)
    assert handover["views"] == len(stops) + sum(map(stations.has_station, opened(*job).scans()))


def test_photos_go_out_with_their_cameras(copied):
    """The camera of a flat view shows a point of its scan in the colour that the photo gave it."""
    row = queries.job_by(name="Whole")
    taken = must(copied, row, "deliver.photos", scans=[1])
    rows = list(csv.DictReader(open(os.path.join(taken["path"], "photos.csv"), encoding="utf-8-sig")))
    job = opened(copied, row)
    photo = next(p for p in job.facts("photo").values() if p["scan"] == 1)
    own = job.own_file("photos", photo["file"])
    assert Path(taken["path"], rows[0]["file"]).read_bytes() == Path(own).read_bytes()
    assert np.abs(pose_of(rows[0]) - job.grid_pose(job.scan(1)) @ np.array(photo["pose"])).max() < 1e-4
    cut = must(copied, row, "deliver.photos", scans=[1], form="flat", path="flat", angle_deg=80.0, pixels=300)
    rows = list(csv.DictReader(open(os.path.join(cut["path"], "photos.csv"), encoding="utf-8-sig")))
    assert len(rows) >= 5 and {r["kind"] for r in rows} == {"pinhole"}
    whole = Camera.of(photo)
    picture = np.asarray(Image.open(own).convert("RGB")).astype(float)
    back = rigid.inverse(job.grid_pose(job.scan(1)) @ np.array(photo["pose"]))
    for one in rows[:5]:
        edge = float(one["pixel_width"])
        mine = Camera("pinhole", 300, 300, (edge, edge), (150.0, 150.0), float(one["focal"]))
        ahead = flat.directions(mine)[20:280:20, 20:280:20].reshape(-1, 3) * 4.0
        column, line, inside = whole.pixels(rigid.apply(back @ pose_of(one), ahead))
        seen = np.asarray(Image.open(os.path.join(cut["path"], one["file"]))).astype(float)
        wanted = picture[np.rint(line).astype(int).clip(0), np.rint(column).astype(int) % whole.width]
        there = seen[20:280:20, 20:280:20].reshape(-1, 3)
        assert inside.all() and np.median(np.abs(there - wanted)) < 8


def pose_of(row) -> np.ndarray:
    w, x, y, z = (float(row[k]) for k in ("qw", "qx", "qy", "qz"))
    turn = Rotation.from_quat([x, y, z, w]).as_matrix()
    return rigid.make(turn, np.array([float(row[c]) for c in "XYZ"]))


def test_the_report_judges_and_says_what_is_missing(copied):
    """Tolerances against the figures of the job's own facts, in both forms; what was decided by hand."""
    row = queries.job_by(name="Whole")
    facts = opened(copied, row)
    rms, frame = facts.get("network")["rms_mm"], facts.get("frame")
    must(copied, row, "register.tie", a=1, b=4, on=False)
    must(copied, row, "register.looked_through", who="Ada Fontana")
    limits = {"rms": rms + 0.01, "control": frame["rms_mm"] - 0.01, "place": 0.001}
    figures = must(copied, row, "deliver.report", firm="Fontana", surveyor="Ada", client="Łukasz", **limits)
    assert figures["verdicts"] == ["within", "beyond", "beyond"] and len(figures["doubt"]) == 2
    page = Path(figures["paths"][0]).read_text()
    text = "".join(p.extract_text() for p in pypdf.PdfReader(figures["paths"][1]).pages)
    text = " ".join(text.split())
    for told in ("Ada Fontana", "Łukasz", "Decided by hand", "FGDC-STD-007.3", "Loops", "SHA-256"):
        assert told in text and told in page, told
    assert f"{rms:.2f}" in text and "The coordinate system is not said" in text and "1 of" in text
    assert "no control was used" not in text.lower()
    checksum = re.search(r"[0-9a-f]{64}", page).group()
    assert checksum in text and text.count("checkerboard") == page.count("<td>checkerboard")
    sigma = max(float(np.sqrt(np.linalg.eigvalsh(c[3:, 3:])[-1])) for c in covariances(opened(copied, row)))
    assert f"{sigma * 1000:.2f} mm" in text


def test_the_recipe_hands_over_what_the_guide_says(copied):
    row = queries.job_by(name="Whole")
    made = recipe.filled(recipe.parsed((ROOT / "docs/recipes/hand-over.toml").read_text()), {})
    for step in made.steps:
        must(copied, row, step.operation, **step.params | ({"most": 3000} if "most" in step.params else {}))
    names = {
        os.path.relpath(p, opened(copied, row).subfolder("deliverables"))
        for p in opened(copied, row).facts("deliverable")
    }
    assert {"report.html", "report.pdf", "certificate.pdf", "handover/index.html"} <= names


def covariances(job):
    found = (covariance_of(s.pose_record) for s in job.scans(placed=True))
    return [c for c in found if c is not None]
