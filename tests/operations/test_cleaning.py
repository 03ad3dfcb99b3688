"""Cleaning as operations: what filters take of whole scans, try-outs, outlines of every kind, shelves."""

import numpy as np
import pytest
import trimesh

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.errors import TerrazzaError
from terrazza.operations.clean.trying import Piece
from terrazza.operations.spine import fieldbook, health
from terrazza.operations.spine.base import all_operations, find
from terrazza.work.open import open_workspace
from tests import beams, places
from tests.conftest import like
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
STATIONS = [(2.5, 2.5, 1.6), (9.5, 6.0, 1.6), (6.0, 4.4, 1.6)]
SCANNER = beams.Scanner(260, 640)
MIRROR = (1, 0.16, 3.5, 5.5, 0.5, 2.0, 0.97, 0.0)


def room(extra=()):
    boxes = []
    places.shell(boxes, 12, 8, 3)
    for axis, at, length in ((0, 0.0, 12), (0, 8.0, 12), (1, 0.0, 8), (1, 12.0, 8)):
        places.wall(boxes, axis, at, 0, length, [], 3, 0.3)
    boxes += [([7, 0.2, 0], [8.5, 0.9, 0.75]), ([0.2, 5, 0], [0.8, 6.5, 2.0]), ([10, 7, 0], [11.5, 7.8, 1.1])]
    return places.Place([*boxes, *extra], posts=[(4.0, 6.0, 0.12, 0, 3)])


@pytest.fixture(scope="module")
def seen():
    """Three scans of a room with a mirror; somebody walks about, and dust is in the air."""
    rng, out, moved, dust = np.random.default_rng(2), [], [], []
    for k, (station, where) in enumerate(zip(STATIONS, [(5, 3), (3, 5), (5, 3)])):
        one = beams.look(room(beams.person(*where)), station, SCANNER, k, [MIRROR])
        bare = beams.look(room(), station, SCANNER, k, [MIRROR], first=True)
        moved.append((one.r > 0) & (one.r < bare.r - 0.03) & ~one.image)
        speck = np.zeros(one.r.shape, bool)
        speck.ravel()[rng.choice(one.r.size, 60, replace=False)] = True
        speck &= (one.r > 2) & ~moved[-1]
        one.r[speck] *= rng.uniform(0.3, 0.7, speck.sum())
        dust.append(speck)
        out.append(one)
    return out, moved, dust


@pytest.fixture(scope="module")
def imported(seen, tmp_path_factory):
    """A workspace with the job “Room”, to be copied."""
    folder = tmp_path_factory.mktemp("room")
    beams.write(folder / "room.e57", seen[0], STATIONS)
    open_workspace(str(folder / "ws"))
    row = queries.create_job(str(folder / "ws"), "Room")
    must(str(folder / "ws"), row, "import.files", files=[str(folder / "room.e57")])
    return folder / "ws"


@pytest.fixture
def job(imported, tmp_path):
    like(imported, tmp_path / "ws")
    open_workspace(str(tmp_path / "ws"))
    return str(tmp_path / "ws"), queries.job_by(name="Room")


def shares(job, figures, masks):
    """Share of some pixels of all scans that a cut took."""
    at = opened(*job)
    hit = [beams.gone(at.cloud(k), m.shape, figures["cut"])[m] for k, m in enumerate(masks, 1)]
    return float(np.concatenate(hit).mean())


def test_each_filter_takes_its_own(job, seen):
    scans, moved, dust = seen
    plain = [s.good & ~m & ~d & ~s.image for s, m, d in zip(scans, moved, dust)]
    wanted = {
        "clean.mixed_pixels": ([s.mixed & ~d for s, d in zip(scans, dust)], 0.9, 0.003),
        "clean.specks": (dust, 0.97, 0.0005),
        "clean.moved_things": ([m & s.good for s, m in zip(scans, moved)], 0.95, 0.001),
        "clean.mirrors": ([s.image & ~d for s, d in zip(scans, dust)], 0.9, 0.001),
    }
    for name, (mine, least, most) in wanted.items():
        figures = must(*job, name)
        assert shares(job, figures, mine) >= least, name
        assert shares(job, figures, plain) <= most, name
        assert figures["taken"] == figures["points"] == sum(r["points"] for r in figures["rows"])
        for by in ("by_range", "by_class"):
            assert sum(r["taken"] for r in figures[by]) == figures["taken"]
            assert sum(r["points"] for r in figures[by]) == figures["of"]
        must(*job, "clean.put_back", cut=figures["cut"])
    fieldbook.tidy(*job)
    assert health.check(opened(*job)) == []


@pytest.mark.parametrize(
    "name", ["clean.mixed_pixels", "clean.specks", "clean.moved_things", "clean.mirrors"]
)
def test_a_try_out_on_a_piece_is_what_the_run_does_there(job, name):
    at = opened(*job)
    cloud = at.cloud(1)
    index = cloud.inside([-3, -3, -3], [3, 3, 3])
    operation = find(name)
    tried = operation().preview(at, operation.check({}), Piece({1: index}), QUIET)
    assert not opened(*job).facts("cut") and tried.figures["of"] == len(index)
    figures = must(*job, name)
    cut = np.asarray(opened(*job).cloud(1).values("cut", 0)) == figures["cut"]
    assert np.array_equal(tried.gone[1], index[cut[index]])


def test_all_filters_have_try_outs():
    names = {o.name for o in all_operations() if o.step == "Clean" and "cut" in o.writes} - {"clean.put_back"}
    assert {o.name for o in all_operations() if o.tries} >= names


WALL, GLASS = [6.0, 7.85, 1.5], [7.5, 0.15, 1.5]


@pytest.mark.parametrize(
    ("params", "where"),
    [
        ({"patches": [WALL], "take": "within", "tolerance": 0.02}, lambda p: np.abs(p[:, 1] - 7.85) <= 0.02),
        ({"patches": [GLASS], "take": "behind", "tolerance": 0.03}, lambda p: p[:, 1] < 0.12),
        ({"patches": [WALL], "take": "before", "tolerance": 0.5}, lambda p: p[:, 1] < 7.35),
        (
            {"kind": "file", "path": "floor.stl", "reach": 0.3, "take": "before", "tolerance": 0.1},
            lambda p: (p[:, 2] > 0.1) & (p[:, 2] <= 0.3),
        ),
    ],
)
def test_the_surface_filter_by_the_definition(job, tmp_path, params, where):
    if "path" in params:
        floor = trimesh.Trimesh([[-5, -5, 0], [20, -5, 0], [20, 20, 0], [-5, 20, 0]], [[0, 1, 2], [0, 2, 3]])
        floor.export(tmp_path / "floor.stl")
        params = params | {"path": str(tmp_path / "floor.stl")}
    figures = must(*job, "clean.surface", **params)
    at, hits, misses = opened(*job), 0, 0
    for scan in at.scans():
        cloud = at.cloud(scan.id)
        xyz = rigid.apply(scan.pose, cloud.xyz())
        cut, wanted = np.asarray(cloud.values("cut", 0)) == figures["cut"], where(xyz)
        hits, misses = hits + int((cut & wanted).sum()), misses + int((cut != wanted).sum())
    assert hits > 500 and misses < 0.02 * hits, "but for noise at the edge of the tolerance"


def from_above(job):
    """A view straight down on all of the room."""
    return [[1 / 7, 0, 0, -6 / 7], [0, 1 / 7, 0, -4 / 7], [0, 0, -0.1, 0], [0, 0, 0, 1]]


SQUARE = [[-0.2, -0.2], [0.2, 0.3]]


@pytest.mark.parametrize(
    ("shape", "polygon", "inside"),
    [
        ("rectangle", SQUARE, lambda q: (q >= -0.2).all(1) & (q[:, 0] <= 0.2) & (q[:, 1] <= 0.3)),
        ("circle", [[0.1, 0.1], [0.4, 0.1]], lambda q: np.linalg.norm(q - 0.1, axis=1) <= 0.3),
        (
            "corners",
            [[-0.5, -0.5], [0.5, -0.5], [0, 0.5]],
            lambda q: (q[:, 1] >= -0.5) & (q[:, 1] <= 0.5 - 2 * np.abs(q[:, 0])),
        ),
    ],
)
def test_shapes_of_outlines(job, shape, polygon, inside):
    view = from_above(job)
    figures = must(*job, "clean.outline", view=view, polygon=polygon, shape=shape)
    at, wrong = opened(*job), 0
    for scan in at.scans():
        cloud = at.cloud(scan.id)
        q = rigid.apply(scan.pose, cloud.xyz())[:, :2] / 7 - [6 / 7, 4 / 7]
        wrong += int(((np.asarray(cloud.values("cut", 0)) == figures["cut"]) != inside(q)).sum())
    assert figures["points"] > 2000 and wrong <= 0.002 * figures["points"], "a circle has corners"


@pytest.mark.parametrize("outside", [False, True])
def test_outlines_add_to_a_selection_and_take_from_it(job, outside):
    """A square, a circle beside it, and a bite out of both: the points are those that the sets say."""
    view, square = from_above(job), {"polygon": SQUARE, "shape": "rectangle"}
    ring = {"view": view, "polygon": [[-0.1, -0.1], [0.25, -0.1]], "shape": "circle"}
    bite = {"view": view, "polygon": [[-0.1, -0.1], [0.1, 0.1]], "shape": "rectangle", "away": True}
    figures = must(*job, "clean.outline", view=view, **square, further=[ring, bite], outside=outside)
    at, wrong = opened(*job), 0
    for scan in at.scans():
        cloud = at.cloud(scan.id)
        q = rigid.apply(scan.pose, cloud.xyz())[:, :2] / 7 - [6 / 7, 4 / 7]
        mine = (q >= -0.2).all(1) & (q[:, 0] <= 0.2) & (q[:, 1] <= 0.3)
        mine = (mine | (np.linalg.norm(q + 0.1, axis=1) <= 0.35)) & ~(np.abs(q) <= 0.1).all(1)
        wrong += int(((np.asarray(cloud.values("cut", 0)) == figures["cut"]) != (mine ^ outside)).sum())
    assert figures["points"] > 2000 and wrong <= 0.002 * figures["points"]


def test_only_what_is_seen_from_here(job):
    """From above the ceiling hides all else."""
    whole = must(*job, "clean.outline", view=from_above(job), polygon=SQUARE, shape="rectangle")
    must(*job, "clean.put_back", cut=whole["cut"])
    seen = must(*job, "clean.outline", view=from_above(job), polygon=SQUARE, shape="rectangle", through=False)
    assert 0 < seen["points"] < 0.7 * whole["points"]
    at = opened(*job)
    for scan in at.scans():
        cloud = at.cloud(scan.id)
        z = rigid.apply(scan.pose, cloud.xyz())[:, 2]
        mine = np.asarray(cloud.values("cut", 0)) == seen["cut"]
        assert np.mean(z[mine] > 2.5) > 0.9, "but where no scan saw the ceiling"


def test_outlines_give_classes_and_fill_shelves(job, tmp_path):
    view, common = from_above(job), {"polygon": SQUARE, "shape": "rectangle"}
    given = must(*job, "clean.outline", view=view, to="12", **common)
    assert given["points"] > 2000 and any(
        r["code"] == 12 and r["after"] == given["points"] for r in given["classes"]
    )
    aside = must(*job, "clean.outline", view=view, to="Table things", **common)
    assert aside["points"] == given["points"] and aside["shelf"] == "Table things"
    kept = lambda: sum(int(opened(*job).cloud(s.id).kept().sum()) for s in opened(*job).scans())
    total = sum(s.points for s in opened(*job).scans())
    assert kept() == total - aside["points"]
    again = must(*job, "clean.outline", view=view, **common)
    assert again["points"] == 0, "what is apart is not there to be cut"
    sent = lambda: must(*job, "deliver.xyz", path="all.xyz", scans=[])["points"]
    assert sent() == total - aside["points"]
    must(*job, "clean.shelf", shelf="Table things", apart=False, delivered=True, name="Tables")
    assert kept() == total and sent() == total
    must(*job, "clean.shelf", shelf="Tables", apart=True, delivered=False)
    assert must(*job, "clean.off_shelf", shelf="Tables")["points"] == aside["points"]
    assert kept() == total and not opened(*job).facts("shelf") and health.check(opened(*job)) == []
    fieldbook.undo(Entry.get(job=job[1], operation="clean.off_shelf"))
    fieldbook.tidy(*job)
    assert kept() == total - aside["points"] and health.check(opened(*job)) == []


PLAIN = [[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]]


@pytest.mark.parametrize(
    ("operation", "params", "words"),
    [
        ("clean.outline", {"view": PLAIN, "polygon": SQUARE}, "needs 3 points"),
        ("clean.outline", {"view": PLAIN, "polygon": SQUARE, "shape": "circle", "to": "256"}, "between 0"),
        ("clean.shelf", {"shelf": "None"}, "no shelf “None”"),
        ("clean.surface", {}, "needs 1 touched point"),
        ("clean.surface", {"patches": [[0, 0, 50.0]]}, "nothing within"),
        ("clean.surface", {"kind": "file"}, "needs a path"),
        ("clean.surface", {"kind": "cylinder", "patches": [[1, 1, 1], [1, 1, 1.1]]}, "within 20 cm"),
        ("clean.mixed_pixels", {"strength": 3}, "less than or equal"),
    ],
)
def test_what_cannot_be_done_is_said(job, operation, params, words):
    try:
        entry = perform(*job, operation, **params)
        assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message
    except TerrazzaError as error:
        assert words in str(error)


def test_a_scan_without_a_station_is_not_judged(workspace, tmp_path):
    np.savetxt(tmp_path / "flat.xyz", np.random.default_rng(0).uniform(0, 9, (3000, 3)), fmt="%.3f")
    row = queries.create_job(workspace, "Flat")
    must(workspace, row, "import.files", files=[str(tmp_path / "flat.xyz")])
    figures = must(workspace, row, "clean.mixed_pixels")
    assert figures["points"] == 0 and "not taken from one place" in figures["doubt"][0]
