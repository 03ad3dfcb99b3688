"""What is found does not depend on where the frame's origin lies: a job in a national grid, some thousand
kilometres from it, gives the same as one beside it.
"""

import numpy as np
import pytest

from terrazza.core.geometry import rigid, voxels
from terrazza.db import queries
from terrazza.work.open import open_workspace
from tests import scenes
from tests.conftest import like
from tests.run import must

pytestmark = pytest.mark.usefixtures("alone")
FAR = np.array([600_000.0, 5_100_000.0, 300.0])
CASES = [
    ("register.automatic", {}),
    ("register.double_walls", {}),
    ("clean.outliers", {}),
    ("clean.moved_things", {}),
    ("clean.mirrors", {}),
    ("classify.rooms", {}),
    ("classify.ground", {}),
    ("classify.open_air", {}),
    ("classify.by_size", {"to": 66, "least": [0, 0, 1.0], "gap": 0.3}),
    ("draw.plan_slab", {}),
    ("draw.rooms", {}),
    ("surface.ground", {"classes": [0], "cell": 0.3, "error": 0.05}),
    ("deliver.laz", {"spacing": 0.1}),
]
TOLD = {
    "points": 0.004,
    "taken": 0.02,
    "ties": 0.02,
    "rms_mm": 0.02,
    "area_m2": 0.004,
    "length": 0.004,
    "triangles": 0.03,
}


@pytest.fixture(scope="module")
def both(tmp_path_factory):
    """Workspaces of one room, beside the origin and far from it."""
    out = []
    for origin in (0 * FAR, FAR):
        folder = tmp_path_factory.mktemp("far")
        open_workspace(str(folder / "ws"))
        scenes.write_room(folder / "room.e57", posed=True, origin=origin, rows=100, columns=240)
        row = queries.create_job(str(folder / "ws"), "Room")
        must(str(folder / "ws"), row, "import.files", files=[str(folder / "room.e57")])
        out.append(folder / "ws")
    return out


def numbers(figures) -> dict[str, float]:
    """Figures that have to be alike, and points by class."""
    out = {k: len(v) if isinstance(v, list) else v for k, v in figures.items() if k in TOLD}
    return out | {
        f"class {row['code']}": row["after"] for row in figures.get("classes", []) if "after" in row
    }


@pytest.mark.parametrize(("operation", "params"), CASES)
def test_a_job_in_a_grid_gives_the_same(both, tmp_path, operation, params):
    told = []
    for k, workspace in enumerate(both):
        copy = like(workspace, tmp_path / f"ws{k}")
        open_workspace(str(copy))
        figures = must(str(copy), queries.job_by(id=1), operation, **params)
        told.append((numbers(figures), figures.get("doubt")))
    (near, doubts), (far, others) = told
    assert near.keys() == far.keys() and len(doubts or []) == len(others or [])
    for name, value in near.items():
        assert far[name] == pytest.approx(value, rel=TOLD.get(name, 0.01), abs=3), name


@pytest.mark.parametrize("size", [0.02, 0.05, 1.0])
def test_cells_far_away_are_told_apart(size):
    """One point a cell, however far the cloud lies from zero: as many as cells counted in plain integers."""
    rng = np.random.default_rng(2)
    xyz = rng.uniform(0, 8, (5000, 3)) + FAR
    plain = len(np.unique(np.floor(xyz / size).astype(np.int64), axis=0))
    assert len(voxels.one_per_cell(xyz, size)) == plain > 300
    assert voxels.plan_filled(xyz, size) == len(np.unique(np.floor(xyz[:, :2] / size), axis=0))
    moved = rigid.make(np.eye(3), FAR)
    whole = np.rint((xyz - FAR) / 1e-4).astype(np.int32)
    names = voxels.keys_of(whole, np.full(3, 1e-4), np.zeros(3), moved, np.zeros(3), size)
    assert len(np.unique(names)) == pytest.approx(plain, abs=5)
