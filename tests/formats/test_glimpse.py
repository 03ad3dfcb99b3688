"""A glimpse of a scan against the whole file: bounds, an even sample, what is damaged, what it tells; and the
helpers that take glimpses.
"""

import os
import signal
import time

import numpy as np
import pytest

from terrazza import formats
from terrazza.formats import glimpse, las_writer
from terrazza.work.looking import Looker
from tests.conftest import REFERENCES
from tests.scenes import write_room


def ask_for(path, folder, index=0, columns=()):
    return glimpse.Ask(str(path), index, columns, str(folder))


def every_point(path, index=0):
    reader = formats.named(formats.look(str(path)).format)
    scale = reader.coordinates(str(path), index)
    chunks = list(reader.read_points(str(path), index))
    return np.concatenate(
        [
            c["xyz"] if "xyz" in c else c["position"] * np.asarray(scale[0]) + np.asarray(scale[1])
            for c in chunks
        ]
    )


@pytest.mark.parametrize(
    "name",
    [
        "laspy/simple.las",
        "laspy/simple.copc.laz",
        "pcl/bun0.xyz",
        "pcl/bun0.pcd",
        "cgal/b9_training.ply",
        "e57/pipeSpherical.e57",
    ],
)
def test_bounds_and_sample_are_those_of_the_file(tmp_path, name):
    ask, points = ask_for(REFERENCES / name, tmp_path), every_point(REFERENCES / name)
    assert glimpse.kept(ask) is None
    found = glimpse.take(ask)
    assert (
        np.allclose(found["low"], points.min(0))
        and np.allclose(found["high"], points.max(0))
        and found["points"] == len(points)
    )
    sample = glimpse.sample(ask)["xyz"]
    assert (
        len(sample) <= glimpse.KEPT
        and np.isin(sample[:, 0], points[:, 0]).all()
        and glimpse.kept(ask) == found
    )
    assert not [n for n in os.listdir(tmp_path) if n.endswith(".part")]


def test_large_files_are_read_in_parts_all_over(tmp_path):
    n = 2 * glimpse.PARTS * glimpse.PART + 1000
    with las_writer.Writer(str(tmp_path / "big.las"), 0.001, np.zeros(3)) as out:
        out.write({"xyz": np.stack([np.linspace(0, 1000, n), np.zeros(n), np.zeros(n)], 1)})
    ask = ask_for(tmp_path / "big.las", tmp_path)
    found, sample = glimpse.take(ask), glimpse.sample(ask)["xyz"]
    assert (
        found["points"] < n
        and found["low"][0] == 0
        and found["high"][0] == 1000
        and glimpse.KEPT / 2 < len(sample) <= glimpse.KEPT * 1.05
    )
    assert (np.histogram(sample[:, 0], glimpse.PARTS, (0, 1000))[0] > 0).all()


def test_each_scan_and_each_reading_has_its_own(tmp_path):
    write_room(tmp_path / "r.e57")
    keys = {ask_for(tmp_path / "r.e57", tmp_path, k).key for k in range(3)} | {
        ask_for(tmp_path / "r.e57", tmp_path, 0, ("x", "y", "z")).key
    }
    os.utime(tmp_path / "r.e57", ns=(1, 1))
    assert len(keys | {ask_for(tmp_path / "r.e57", tmp_path).key}) == 5


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.e57", b"ASTM-E57" + b"\0" * 100, "cannot be read as E57"),
        ("a.xyz", b"nan nan nan\n" * 9, "no valid point"),
        ("a.las", b"LASF", "cannot be read"),
    ],
)
def test_what_is_damaged_is_said_and_kept(tmp_path, name, content, words):
    (tmp_path / name).write_bytes(content)
    ask = ask_for(tmp_path / name, tmp_path)
    assert words in glimpse.take(ask)["error"] and words in glimpse.kept(ask)["error"]


def test_columns_said_by_the_surveyor_are_used(tmp_path):
    (tmp_path / "p.txt").write_text("".join(f"{k} {k % 7} {k // 7}\n" for k in range(700)))
    plain, turned = (glimpse.take(ask_for(tmp_path / "p.txt", tmp_path, 0, c)) for c in ((), ("z", "y", "x")))
    assert plain["high"] == [699, 6, 99] and turned["high"] == [99, 6, 699]


def waited(looker, asks, seconds=60):
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = [looker.ask(a) for a in asks]
        if all(f is not None for f in found):
            return found
        time.sleep(0.05)
    raise AssertionError("nobody looked")


def test_helpers_look_at_everything_asked_for_and_come_back_when_killed(tmp_path):
    write_room(tmp_path / "r.e57")
    looker = Looker(cores=2)
    asks = [ask_for(tmp_path / "r.e57", tmp_path, k) for k in range(3)]
    assert looker.ask(asks[0]) is None, "the answer does not wait"
    found = waited(looker, asks)
    assert [f["points"] for f in found] == [54000] * 3 and {f["evidence"]["unit"] for f in found} == {"metre"}
    for pid in children():
        os.kill(pid, signal.SIGKILL)
    time.sleep(0.3)
    os.utime(tmp_path / "r.e57", ns=(5, 5))
    assert waited(looker, [ask_for(tmp_path / "r.e57", tmp_path, 1)])[0]["points"] == 54000
    looker.close()


def children() -> list[int]:
    """Processes that this one has started to look."""
    out = []
    for pid in filter(str.isdigit, os.listdir("/proc")):
        try:
            with open(f"/proc/{pid}/stat") as f:
                stat = f.read()
            with open(f"/proc/{pid}/cmdline") as f:
                command = f.read()
        except OSError:
            continue
        if int(stat.rpartition(")")[2].split()[1]) == os.getpid() and "spawn_main" in command:
            out.append(int(pid))
    return out
