"""Shared fixtures: the simulated field work (built once for all workers) and a job that went through the
whole recipe.
"""

import contextlib
import fcntl
import io
import os
import shutil
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace

import pytest

ROOT = Path(__file__).parent.parent
REFERENCES = Path(__file__).parent / "references"
RECIPE = ROOT / "docs" / "recipes" / "whole-job.toml"
DENSITY, PHOTO = 0.6, 1024


@pytest.fixture(autouse=True, scope="session")
def watched():
    """Operations may only read the kinds of facts that they declare."""
    from terrazza.operations.spine.job import Job

    Job.watched = True


def once(folder: Path, make) -> Path:
    """Make ``folder`` once, whichever worker comes first."""
    with open(f"{folder}.lock", "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not folder.exists():
            partial = Path(f"{folder}.making")
            shutil.rmtree(partial, ignore_errors=True)
            make(partial)
            partial.rename(folder)
    return folder


@pytest.fixture(scope="session")
def shared(tmp_path_factory):
    base = tmp_path_factory.getbasetemp()
    return base.parent if os.environ.get("PYTEST_XDIST_WORKER") else base


def make_field(shared: Path) -> Path:
    from terrazza.demo import build

    return once(shared / "field", lambda p: build.build(str(p), density=DENSITY, photo_width=PHOTO, cores=1))


def make_whole(shared: Path, field: Path) -> Path:
    def make(folder):
        folder.mkdir()
        files = [field / "settegradini-house.e57", field / "settegradini-garden.e57"]
        done = terrazza(
            "run",
            RECIPE,
            "--workspace",
            folder / "ws",
            "--job",
            "Whole",
            "--figures",
            folder / "out.json",
            "--out",
            folder / "out",
            *files,
        )
        assert done.returncode == 0, done.stderr
        (folder / "stderr.txt").write_text(done.stderr)

    return once(shared / "whole", make)


def pytest_sessionstart(session):
    """A run of everything begins to make the shared job at once, beside the tests that do not need it."""
    if (
        session.config.args_source == pytest.Config.ArgsSource.TESTPATHS
        and session.config.getoption("numprocesses")
        and "PYTEST_XDIST_WORKER" not in os.environ
    ):
        base = session.config._tmp_path_factory.getbasetemp()
        making = (
            f"from pathlib import Path; from tests import conftest; base = Path({str(base)!r}); "
            "conftest.make_whole(base, conftest.make_field(base))"
        )
        session.config.add_cleanup(subprocess.Popen([sys.executable, "-c", making], cwd=ROOT).wait)


@pytest.fixture(scope="session")
def field(shared):
    """The demo's field data at 0.6 of its density, with small photos."""
    return make_field(shared)


def terrazza(*words, **more):
    """Run the command line in a process of its own; returns it, finished, with its output as text."""
    return subprocess.run(
        [sys.executable, "-m", "terrazza.cli.main", *map(str, words)], capture_output=True, text=True, **more
    )


def command(*words):
    """Run the command line in this process: returncode, stdout and stderr as the shell would see them."""
    from terrazza.cli.main import main

    out, err, code, before = io.StringIO(), io.StringIO(), 0, sys.argv
    sys.argv = ["terrazza", *map(str, words)]
    try:
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            main()
    except SystemExit as ended:
        code = ended.code or 0
    finally:
        sys.argv = before
    return SimpleNamespace(returncode=code, stdout=out.getvalue(), stderr=err.getvalue())


@pytest.fixture(scope="session")
def whole(shared, field):
    """A folder with ``ws`` (a workspace whose job “Whole” ran the whole recipe), ``out.json`` and ``out``;
    never to be written to.
    """
    return make_whole(shared, field)


@pytest.fixture
def alone(monkeypatch):
    """Operations run in this process, whose helpers others would have to wait for."""
    from terrazza.fleet import Local
    from terrazza.work import runner

    monkeypatch.setattr(runner, "fleet", lambda workspace: Local(cores=1))


@pytest.fixture
def workspace(tmp_path):
    """An empty workspace, opened."""
    from terrazza.work.open import open_workspace

    open_workspace(str(tmp_path / "ws"))
    return str(tmp_path / "ws")


def like(workspace: Path, copy: Path) -> Path:
    """A copy of a workspace: points and pictures, which are never changed in place, are linked, all else is
    copied.
    """
    shutil.copytree(
        workspace,
        copy,
        copy_function=lambda a, b: (
            os.link(a, b) if a.endswith((".npy", ".jpg", ".png")) else shutil.copy2(a, b)
        ),
    )
    return copy


@pytest.fixture
def copied(whole, tmp_path):
    """A copy of the finished workspace that a test may change."""
    from terrazza.work.open import open_workspace

    like(whole / "ws", tmp_path / "ws")
    open_workspace(str(tmp_path / "ws"))
    return str(tmp_path / "ws")


@pytest.fixture(scope="session")
def shelf(whole, tmp_path_factory):
    """This worker's own copy of the finished workspace, for reading; nobody opens the one that all copies are
    made of.
    """
    return like(whole / "ws", tmp_path_factory.mktemp("shelf") / "ws")


@pytest.fixture
def reading(shelf):
    """The finished job, open for reading."""
    from terrazza.db.queries import job_by
    from terrazza.operations.spine.job import Job
    from terrazza.work.open import open_workspace

    open_workspace(str(shelf))
    return Job(str(shelf), job_by(name="Whole"))


MEANWHILE = 20  # tests of each worker while the shared job is being made
LONG = ("by_mouse", "browser/", "demo/", "crash", "test_fleets", "core/", "")


def pytest_collection_modifyitems(items):
    """Deal the tests into the workers' shares, the longest first: each begins with some that need no shared
    job, since that is still being made; then two workers get what is driven in a browser.
    """
    items.sort(
        key=lambda item: (
            2 * ("whole" in item.fixturenames) + ("field" in item.fixturenames or "demo/" in item.nodeid),
            next(k for k, part in enumerate(LONG) if part in item.nodeid),
        )
    )
    workers = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", 1))
    if workers < 3:
        return
    driven, rest = (
        [item for item in items if ("browser" in item.keywords) == wanted] for wanted in (True, False)
    )
    shares, left = [], len(items)
    for k in range(workers):  # as many as the scheduler will hand out
        shares.append(left // (workers - k))
        left -= shares[-1]
    early, rest = rest[: MEANWHILE * workers], rest[MEANWHILE * workers :]
    lanes = [early[k::workers] for k in range(workers)]
    for k in (0, 1):
        lanes[k] = lanes[k] + driven[k::2]
    others = sum(share - len(lane) for share, lane in zip(shares[2:], lanes[2:]))
    for k in range(2, workers):
        lanes[k] = lanes[k] + rest[k - 2 : others : workers - 2]
    for k in (0, 1):
        more = shares[k] - len(lanes[k])
        lanes[k], others = lanes[k] + rest[others : others + more], others + more
    items[:] = [item for lane in lanes for item in lane]
