"""Local processes and a Dask cluster: the same results in the same order, errors in words, cancel at once,
lost pieces done again.
"""

import os
import signal
import subprocess
import sys
import threading
import time

import laspy
import numpy as np
import pytest

from terrazza.db import queries
from terrazza.errors import Cancelled, InputError, TerrazzaError
from terrazza.fleet import Local
from terrazza.formats import e57
from terrazza.operations.spine.job import Job
from terrazza.work import runner
from terrazza.work.open import open_workspace
from tests import scenes
from tests.run import must
from tests.work import pieces


@pytest.fixture(scope="module")
def scheduler():
    from distributed import LocalCluster

    with LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50
    ) as cluster:
        yield cluster.scheduler_address


@pytest.fixture(params=["local", "cluster"])
def fleet(request, tmp_path):
    if request.param == "local":
        found = Local(cores=2)
    else:
        from terrazza.fleet.cluster import Cluster

        found = Cluster(request.getfixturevalue("scheduler"), str(tmp_path))
    yield found
    found.close()


class Watch:
    """Remembers what was reported, and cancels as soon as so many pieces have left their file in a folder."""

    def __init__(self, folder=None, begun=0):
        self.reports, self.folder, self.begun = [], folder, begun

    def advance(self, done, total, label=""):
        self.reports.append(done / total)
        if self.folder and len(os.listdir(self.folder)) >= self.begun:
            raise Cancelled()


def _begun(folder, number):
    """Wait until so many pieces have left their file: other processes take their time to start."""
    deadline = time.monotonic() + 60
    while len(os.listdir(folder)) < number:
        assert time.monotonic() < deadline, f"fewer than {number} pieces were begun"
        time.sleep(0.05)


def test_results_come_in_order(fleet):
    watch = Watch()
    assert fleet.map(pieces.double, list(range(40)), [1.0] * 40, watch, "x") == [2 * n for n in range(40)]
    assert fleet.map(pieces.shifted, [1, 2, 3], [1.0] * 3, watch, "x", common=100) == [101, 102, 103]
    assert (
        fleet.map(pieces.double, [5], [1.0], watch, "x") == [10]
        and max(watch.reports) <= 1.0 == watch.reports[-1]
    )


def test_what_is_gathered_piece_by_piece_is_mapped_not_held(fleet):
    results = fleet.each(pieces.ramp, [3, 0, 5], [1.0] * 3, Watch(), "x")
    with fleet.gather(results) as shared:
        numbers, ramps = shared.value
        assert numbers == [3, 0, 5] and [r.tolist() for r in ramps] == [[0, 1, 2], [], [0, 1, 2, 3, 4]]
        assert not ramps[2].flags.owndata and os.path.isdir(shared.path)
        assert fleet.map(pieces.summed, [1, 2], [1.0] * 2, Watch(), "x", common=shared) == [22, 23]
    assert not os.path.exists(shared.path)


def test_pieces_wait_until_results_are_taken(fleet, tmp_path):
    flow = fleet.each(pieces.slow, [(str(tmp_path), n) for n in range(6)], [1.0] * 6, Watch(), "x", ahead=2)
    assert next(flow) == 0
    _begun(tmp_path, 2)
    time.sleep(1.2)
    assert {int(n.split("-")[0]) for n in os.listdir(tmp_path)} == {0, 1}
    flow.close()
    assert fleet.map(pieces.double, [1, 2], [1.0] * 2, Watch(), "x") == [2, 4], "the next map works"


def test_errors_of_pieces_are_said(fleet):
    with pytest.raises(InputError, match="Piece . is wrong"):
        fleet.map(pieces.wrong, [1, 2, 3], [1.0] * 3, Watch(), "x")
    assert fleet.map(pieces.double, [1, 2], [1.0] * 2, Watch(), "x") == [2, 4], "the next map works"


def test_no_piece_is_begun_after_a_cancel(fleet, tmp_path):
    with pytest.raises(Cancelled):
        fleet.map(
            pieces.slow, [(str(tmp_path), n) for n in range(60)], [1.0] * 60, Watch(tmp_path, begun=3), "x"
        )
    ended = time.time()
    time.sleep(1.5)
    late = [n for n in os.listdir(tmp_path) if os.stat(tmp_path / n).st_mtime > ended + 0.5]
    assert 3 <= len(os.listdir(tmp_path)) < 60 and not late


def test_a_piece_whose_worker_dies_is_done_again(scheduler, tmp_path):
    from terrazza.fleet.cluster import Cluster

    def kill():
        _begun(tmp_path, 1)
        victim = sorted(os.listdir(tmp_path))[0]
        os.kill(int(victim.split("-")[1]), signal.SIGKILL)

    threading.Thread(target=kill, daemon=True).start()
    fleet = Cluster(scheduler, str(tmp_path.parent))
    assert fleet.map(pieces.slow, [(str(tmp_path), n) for n in range(6)], [1.0] * 6, Watch(), "x") == list(
        range(6)
    )
    assert len(os.listdir(tmp_path)) > 6, "one was begun twice"
    fleet.close()


def test_a_cluster_that_is_not_there_is_said(tmp_path, monkeypatch):
    from terrazza.fleet import cluster
    from terrazza.fleet.cluster import Cluster

    monkeypatch.setattr(cluster, "PATIENCE", 1.0)
    with pytest.raises(TerrazzaError, match="does not answer"):
        Cluster("tcp://127.0.0.1:9", str(tmp_path)).map(pieces.double, [1, 2], [1.0, 1.0], Watch(), "x")


def test_operations_give_the_same_bytes_on_a_cluster(scheduler, tmp_path, monkeypatch):
    """Column files carry checksums in their names, so equal names are equal bytes."""
    from terrazza.fleet.cluster import Cluster

    scenes.write_room(tmp_path / "r.e57", posed=True, rows=80, columns=230)
    monkeypatch.setattr("terrazza.fleet.local.FEW", 0)
    monkeypatch.setattr("terrazza.fleet.local.LITTLE", 0)
    names, files = [], []
    for fleet in (Local(cores=1, memory=100_000_000), Cluster(scheduler, str(tmp_path), memory=100_000_000)):
        workspace = str(tmp_path / type(fleet).__name__)
        open_workspace(workspace)
        monkeypatch.setattr(runner, "fleet", lambda _, fleet=fleet: fleet)
        row = queries.create_job(workspace, "A")
        for operation, params in (
            ("import.files", {"files": [str(tmp_path / "r.e57")]}),
            ("clean.outliers", {}),
            ("classify.ground", {}),
            ("deliver.laz", {}),
            ("deliver.xyz", {}),
            ("deliver.e57", {"merged": True}),
        ):
            must(workspace, row, operation, **params)
        out = Job(workspace, row).subfolder("deliverables")
        files.append(
            [
                open(f"{out}/cloud.laz", "rb").read(),
                open(f"{out}/cloud.xyz").read(),
                np.concatenate([c["xyz"] for c in e57.read_points(f"{out}/scans.e57", 0)]).tobytes(),
            ]
        )
        names.append(
            sorted(
                n
                for _, _, found in os.walk(os.path.join(workspace, "jobs", row.folder, "scans"))
                for n in found
            )
        )
        fleet.close()
    assert names[0] == names[1] and len(names[0]) > 15
    assert files[0] == files[1] and len(laspy.read(f"{out}/cloud.laz").x) > 50_000


def test_nothing_of_a_cluster_is_imported_without_one():
    code = (
        "import terrazza.work.runner as r, sys; r.fleet('.'); assert not {'distributed', 'dask'} & "
        "set(sys.modules)"
    )
    assert (
        subprocess.run([sys.executable, "-c", code], env=os.environ | {"TERRAZZA_CLUSTER": ""}).returncode
        == 0
    )
