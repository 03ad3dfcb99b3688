"""How points leave: in another system, with deeper colours, stretched intensities, from shelves; and that
every value is compared when asked for.
"""

import laspy
import numpy as np
import pytest
from plyfile import PlyData
from pyproj import CRS, Transformer

from terrazza import formats
from terrazza.core.geometry import rigid
from terrazza.core.georef import systems
from terrazza.db import queries
from terrazza.errors import InputError, StateError
from terrazza.operations.deliver import comparing
from tests.operations.test_cleaning import SQUARE, from_above
from tests.run import must, opened, perform
from tests.scenes import room_job

pytestmark = pytest.mark.usefixtures("alone")
FORMS = ("laz", "las", "copc", "ply", "pts", "xyz", "e57", "ptx")
PLACE = np.array([433_000.0, 5_060_000.0, 210.0])


@pytest.fixture
def room(workspace, tmp_path):
    return room_job(workspace, tmp_path, rows=40, columns=90)


@pytest.fixture
def gridded(workspace, tmp_path):
    """The room in UTM zone 32."""
    job = room_job(workspace, tmp_path, rows=40, columns=90, origin=PLACE)
    must(*job, "georeference.crs", code="EPSG:25832")
    return job


def of(figures) -> laspy.LasData:
    return laspy.read(figures["path"])


def test_another_system_is_that_of_the_projection(gridded):
    """EPSG 25832 to 25833 by PROJ's own transformer, point by point; heights stay."""
    here = of(must(*gridded, "deliver.laz", path="here.laz"))
    figures = must(*gridded, "deliver.laz", path="there.laz", system="EPSG:25833", verify_all=True)
    there, change = of(figures), Transformer.from_crs("EPSG:25832", "EPSG:25833", always_xy=True)
    expected = np.stack(change.transform(*here.xyz.T), 1)
    assert np.abs(there.xyz - expected).max() < 1.6e-4 and np.abs(expected - here.xyz).max() > 1e5
    assert there.header.parse_crs().to_epsg() == 25833
    assert figures["system"].endswith("zone 33N") and figures["doubt"] == []
    assert figures["compared"] == figures["points"] == len(here)
    for form in ("xyz", "copc", "e57"):
        more = {"merged": True} if form == "e57" else {}
        must(*gridded, f"deliver.{form}", system="ETRS89 / UTM zone 33N", verify_all=True, **more)
    feet = must(*gridded, "deliver.laz", path="feet.laz", system="EPSG:25832+5783", each="tile", tile=4)
    assert sum(len(laspy.read(p)) for p in feet["paths"]) == len(here)


@pytest.mark.parametrize(("form", "more"), [("laz", {}), ("xyz", {}), ("e57", {}), ("ptx", {})])
def test_the_jobs_own_frame(copied, form, more):
    row = queries.job_by(name="Whole")
    figures = must(copied, row, f"deliver.{form}", system="job", scans=[2], spacing=0.2, **more)
    found, job = formats.look(figures["path"]), opened(copied, row)
    pose, cloud = job.scan(2).pose, job.cloud(2)
    low, high = cloud.bounds()
    if form in ("laz", "xyz"):
        xyz = of(figures).xyz if form == "laz" else np.loadtxt(figures["path"])[:, :3]
        inside = rigid.apply(rigid.inverse(pose), xyz)
        assert (inside > low - 1e-3).all() and (inside < high + 1e-3).all() and len(inside) > 1000
    else:
        assert np.abs(found.scans[0].pose - pose).max() < 1e-6
    assert figures["system"] == "job" and not found.crs_wkt


@pytest.mark.parametrize(
    ("system", "form", "words"),
    [
        ("EPSG:27700", "laz", "leads"),
        ("EPSG:4326", "laz", "projected"),
        ("EPSG:25833", "e57", "frames of their own"),
        ("EPSG:25833", "ptx", "frames of their own"),
        ("nowhere", "laz", "nowhere"),
    ],
)
def test_what_leads_nowhere_is_refused(gridded, system, form, words):
    entry = perform(*gridded, f"deliver.{form}", system=system)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message
    must(*gridded, "georeference.crs", code="EPSG:3003")
    entry = perform(*gridded, "deliver.laz", system="EPSG:25833")
    assert entry.state == "failed" and "does not lie" in entry.message, "these are no coordinates of Italy"


def test_the_grid_that_a_change_needs_is_named():
    """In Hesse EPSG's best way from ETRS89 to DHDN is the grid HeTA2010."""
    wkt, other = CRS.from_epsg(25832).to_wkt(), CRS.from_epsg(31467)
    with pytest.raises(InputError, match="HeTA2010"):
        systems.way(wkt, other, np.array([433_000.0, 5_700_000.0, 0.0]))


def test_nothing_is_changed_that_is_not_said(room):
    entry = perform(*room, "deliver.laz", system="EPSG:25833")
    assert entry.state == "failed" and "not said" in entry.message


def test_what_is_not_accurate_is_told(gridded):
    """EPSG 25832 to 3003: Monte Mario by seven parameters, 4 m (accuracies of the EPSG data set)."""
    figures = must(*gridded, "deliver.laz", system="EPSG:3003")
    assert len(figures["doubt"]) == 1 and "4 m" in figures["doubt"][0]


@pytest.mark.parametrize("form", FORMS)
@pytest.mark.parametrize("more", [{}, {"depth": "16 bit", "tone": "stretched"}, {"depth": "8 bit"}])
def test_every_value_is_compared(room, form, more):
    figures = must(*room, f"deliver.{form}", verify_all=True, verify=False, **more)
    assert figures["compared"] == figures["points"] and "every value" in figures["says"]


@pytest.mark.parametrize("form", ["laz", "ply", "xyz", "pts", "ptx", "copc"])
@pytest.mark.parametrize("where", ["place", "intensity", "lost"])
def test_one_wrong_value_is_found(room, form, where, monkeypatch):
    """One value of one point, changed between writing and reading."""
    aligned, digest, calls = comparing._aligned, comparing.digest, []

    def spoilt(wanted, there):
        for mine, theirs in aligned(wanted, there):
            n, first = len(theirs["xyz"]), not calls
            calls.append(1)
            if first and where == "place":
                theirs["xyz"] = theirs["xyz"] + np.eye(n, 3) * 2e-4
            if first and where == "intensity":
                theirs["intensity"] = theirs["intensity"] + np.eye(n, 1, dtype=int)[:, 0] * 3
            yield (mine, None) if first and where == "lost" else (mine, theirs)

    def other(position, intensity, *more):
        first = not calls
        calls.append(1)
        n = len(position)
        if first and where == "lost":
            return digest(position[1:], intensity[1:], *(m[1:] for m in more))
        moved = position + np.eye(n, 3, dtype=int) * (first and where == "place")
        return digest(
            moved, intensity + np.eye(n, 1, dtype=int)[:, 0] * (first and where == "intensity"), *more
        )

    monkeypatch.setattr(comparing, "_aligned", spoilt)
    monkeypatch.setattr("terrazza.operations.deliver.copc.digest", other)
    entry = perform(*room, f"deliver.{form}", verify_all=True, verify=False)
    assert entry.state == "failed" and ("written" in entry.message or "another number" in entry.message)
    assert opened(*room).facts("deliverable") == {} and calls


def test_sums_know_points_but_no_order():
    rng = np.random.default_rng(1)
    position, tone = rng.integers(-9, 9, (500, 3)), rng.integers(0, 9, 500)
    order = rng.permutation(500)
    said = comparing.digest(position, tone)
    assert said == comparing.digest(position[order], tone[order])
    exchanged = position.copy()
    exchanged[[3, 7]] = exchanged[[7, 3]]
    tone[[3, 7]] = 1, 2
    assert comparing.digest(position, tone) != comparing.digest(exchanged, tone)
    assert comparing.digest(position, tone) != comparing.digest(position[:, [1, 0, 2]], tone)


def test_a_file_that_is_not_the_same_goes(tmp_path):
    path = tmp_path / "x.laz"
    path.write_bytes(b"x")
    comparing.need_same(str(path), 4, 4)
    with pytest.raises(StateError, match="does not hold"):
        comparing.need_same(str(path), 4, 5)
    assert not path.exists()


def test_stretched_intensities_use_the_whole_scale(room):
    raw = of(must(*room, "deliver.laz", path="raw.laz"))
    wide = of(must(*room, "deliver.laz", path="wide.laz", tone="stretched"))
    for scan in np.unique(raw.point_source_id):
        dark, light = opened(*room).scan(int(scan)).record["intensity_range"]
        mine = np.asarray(raw.intensity)[raw.point_source_id == scan].astype(float)
        expected = np.rint(np.clip((mine - dark) / (light - dark), 0, 1) * 65535)
        assert np.array_equal(np.asarray(wide.intensity)[wide.point_source_id == scan], expected)


def test_sixteen_bits_are_those_of_the_file(workspace, tmp_path):
    """Colours finer than eight bits come out as they came in; with eight, as old programs want them."""
    rng = np.random.default_rng(5)
    las = laspy.create(point_format=7, file_version="1.4")
    las.xyz, colours = rng.uniform(0, 9, (900, 3)), rng.integers(0, 65536, (900, 3)).astype(np.uint16)
    las.red, las.green, las.blue = colours.T
    las.write(tmp_path / "deep.las")
    row = queries.create_job(workspace, "Deep")
    must(workspace, row, "import.files", files=[str(tmp_path / "deep.las")])
    out = lambda form, **more: must(workspace, row, f"deliver.{form}", path=f"x-{len(more)}", **more)["path"]
    key = lambda rgb: np.sort(np.asarray(rgb).astype(np.int64) @ [1, 70_000, 70_000**2])
    three = lambda p: np.stack([p.red, p.green, p.blue], 1)
    assert np.array_equal(key(three(laspy.read(out("laz", depth="16 bit")))), key(colours))
    eight = laspy.read(out("laz", depth="8 bit", tone="stretched"))
    assert np.array_equal(key(three(eight)), key(colours >> 8))
    vertex = PlyData.read(out("ply", depth="16 bit"))["vertex"]
    assert np.array_equal(key(np.stack([vertex[c] for c in ("red", "green", "blue")], 1)), key(colours))


def test_shelves_are_delivered_by_name(room):
    view = from_above(room)
    low = must(*room, "clean.outline", view=view, polygon=SQUARE, shape="rectangle", to="Middle")["points"]
    every = sum(s.points for s in opened(*room).scans())
    sent = lambda **more: must(*room, "deliver.laz", path=f"{len(more)}.laz", **more)
    assert sent()["points"] == every - low > 0, "what is on a shelf stays behind"
    assert sent(shelves=["Middle"])["points"] == low > 100, "unless it is asked for"
    parts = sent(each="shelf", names="{part}")
    assert parts["points"] == low and parts["paths"][0].endswith("Middle.laz")
    thinned = sent(shelves=["Middle"], spacing=0.3, verify_all=True)
    assert 0 < thinned["points"] < low
    entry = perform(*room, "deliver.laz", shelves=["Other"])
    assert entry.state == "failed" and "Middle" in entry.hint
