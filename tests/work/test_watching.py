"""A watched folder: what is taken, where it ends, never twice, whenever the process is killed."""

import io
import json
import os
import random
import signal
import subprocess
import sys
import time
import zipfile

import pytest

from terrazza.db.models import Job as Row
from terrazza.operations.spine import recipe
from terrazza.work import launchers, watching
from terrazza.work.open import open_workspace

RECIPE = """
title = "Watched"
[[step]]
operation = "import.files"
[[step]]
operation = "georeference.control"
control = "*control*.csv"
[[step]]
operation = "deliver.xyz"
path = "cloud.xyz"
"""
PLAIN = '[[step]]\noperation = "import.files"\n[[step]]\noperation = "deliver.xyz"\npath = "cloud.xyz"\n'


def points(path, count=200):
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text("\n".join(f"{k % 13}.5 {k % 7} {k % 5}.25" for k in range(count)))
    return path


def watch(folder, tmp_path, text=PLAIN, rest=0.0):
    """The lines that one look says; the recipe lies outside."""
    open_workspace(str(tmp_path / "w"))
    lines = []
    made = watching.Watch(str(folder), recipe.parsed(text), str(tmp_path), str(tmp_path / "w"), lines.append)
    with made.held():
        made.go_on()
        made.wait(rest, True)
    return made, lines


def test_sets_are_subfolders_and_loose_files(tmp_path):
    taken = "north/a.xyz north/deep/b.xyz south.xyz south-control.csv south2.xyz"
    for name in f"{taken} notes.csv done/old/a.xyz failed/x.xyz .hidden/c.xyz east/c.xyz.part".split():
        points(tmp_path / name)
    (tmp_path / "empty").mkdir()
    found = {s.name: s for s in watching.sets(str(tmp_path), {str(tmp_path / "south2.xyz")})}
    assert {k: len(s.files) for k, s in found.items()} == {"north": 2, "south": 2, "east": 1, "empty": 0}
    assert [found[k].whole for k in ("north", "south", "east", "empty")] == [True, True, False, False]


def test_sets_end_in_done_with_results_and_never_run_twice(tmp_path):
    folder = tmp_path / "in"
    points(folder / "Cortile è" / "a.xyz")
    points(folder / "b.xyz")
    points(folder / "odd" / "notes.csv")
    (folder / "bad").mkdir()
    (folder / "bad" / "cut.e57").write_bytes(b"ASTM-E57" + bytes(200))
    made, _ = watch(folder, tmp_path)
    assert made.failed == 2 and {p.name for p in folder.iterdir()} == {"done", "failed", ".terrazza"}
    for name, file in (("Cortile è", "Cortile è/a.xyz"), ("b", "b.xyz")):
        end = folder / "done" / name
        assert {p.name for p in end.iterdir()} == {"given", "cloud.xyz", "figures.json", "result.txt"}
        assert (end / "given" / file).read_text().count("\n") == 199
        assert json.loads((end / "figures.json").read_text())["scans"][0]["points"] == 200
        assert "1 scans, 200 points" in (end / "result.txt").read_text()
        assert len((end / "cloud.xyz").read_text().splitlines()) >= 200
    odd, bad = ((folder / "failed" / n / "result.txt").read_text() for n in ("odd", "bad"))
    assert "no file of points" in odd and "What to do" in bad and "cut.e57" in bad
    assert sorted(r.name for r in Row.select()) == ["Cortile è", "b", "bad"]
    watch(folder, tmp_path)
    assert Row.select().count() == 3, "nothing is left to take"
    points(folder / "b.xyz", 90)
    watch(folder, tmp_path)
    assert json.loads((folder / "done" / "b 2" / "figures.json").read_text())["scans"][0]["points"] == 90


def test_files_are_found_by_pattern_and_a_verdict_ends_in_failed(tmp_path):
    folder = tmp_path / "in"
    points(folder / "room 2" / "a.xyz")
    watch(folder, tmp_path, RECIPE)
    text = (folder / "failed" / "room 2" / "result.txt").read_text()
    assert "wants one file like “*control*.csv”; there are 0" in text
    wanted, inputs = watching.fitted(recipe.parsed(RECIPE), ["/a/b.e57", "/a/my-control 3.csv", "/a/c.pdf"])
    assert wanted.steps[1].params["control"] == "/a/my-control 3.csv" and inputs == ["/a/b.e57"]
    points(folder / "short.xyz")
    watch(
        folder, tmp_path, PLAIN.replace('files"\n', 'files"\nstop = [{ figure = "points", under = 500 }]\n')
    )
    text = (folder / "failed" / "short" / "result.txt").read_text()
    assert "Stopped after Import files: points under 500 (200)" in text and "What to do" in text


def test_what_cannot_be_moved_is_not_taken_again(tmp_path, monkeypatch):
    folder = tmp_path / "in"
    points(folder / "fast" / "a.xyz")
    move = os.rename
    refuse = lambda a, b: (
        (_ for _ in ()).throw(OSError(18, "another disk")) if "given" in str(b) else move(a, b)
    )
    monkeypatch.setattr(os, "rename", refuse)
    watch(folder, tmp_path)
    watch(folder, tmp_path)
    assert (folder / "fast" / "a.xyz").exists() and Row.select().count() == 1
    points(folder / "fast" / "a.xyz", 77)
    watch(folder, tmp_path)
    assert {p.name for p in (folder / "done").iterdir()} == {"fast", "fast 2"}


def test_a_launcher_runs_the_recipe_on_its_folder(tmp_path):
    points(tmp_path / "here" / "a.xyz")
    launchers.lay(PLAIN, "Somewhere", str(tmp_path / "here"))
    for _ in range(2):
        ran = subprocess.run(
            [tmp_path / "here" / "run-recipe.sh"],
            env={"PATH": "/usr/bin:/bin", "HOME": str(tmp_path)},
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
            timeout=120,
        )
        assert ran.returncode == 0, ran.stderr
    results = tmp_path / "here" / "results"
    assert {p.name for p in results.iterdir()} >= {"cloud.xyz", "figures.json"}
    assert [s["points"] for s in json.loads((results / "figures.json").read_text())["scans"]] == [200], (
        "results are no inputs of the second run"
    )
    open_workspace(str(tmp_path / "here" / "workspace"))
    assert sorted(r.name for r in Row.select()) == ["here", "here 2"]
    archive = zipfile.ZipFile(io.BytesIO(launchers.zipped(PLAIN, "Somewhere")))
    runs = {i.filename: bool(i.external_attr >> 16 & 0o111) for i in archive.infolist()}
    assert runs == {"recipe.toml": False, "read-me.md": False, "run-recipe.sh": True,
                    "run-recipe.command": True, "run-recipe.cmd": True}  # fmt: skip
    batch = archive.read("run-recipe.cmd").decode()
    assert batch.count("\r\n") == batch.count("\n") and '"%here%\\recipe.toml" %what%' in batch


def test_a_set_is_left_until_it_is_at_rest(tmp_path):
    folder = tmp_path / "in"
    path = points(folder / "grows.xyz")
    made = watching.Watch(str(folder), recipe.parsed(PLAIN), str(tmp_path), str(tmp_path / "w"), print)
    assert made._look(0.2) == ([], 1)
    time.sleep(0.25)
    path.write_text(path.read_text() + "\n1 2 3")
    assert made._look(0.2) == ([], 1), "it has grown"
    time.sleep(0.25)
    assert [s.name for s in made._look(0.2)[0]] == ["grows"]
    with made.held(), pytest.raises(Exception, match="watched already"), made.held():
        pass


STOPPED = PLAIN.replace('files"\n', 'files"\nstop = [{ figure = "points", under = 500 }]\n')


@pytest.mark.parametrize(
    ("place", "text", "end"),
    [
        ("terrazza.work.watching.run_entry", PLAIN, "done"),
        ("terrazza.work.watching.Watch._lay", PLAIN, "done"),
        ("terrazza.work.watching.Watch._lay", STOPPED, "failed"),
    ],
    ids=["before a queued step", "before its end", "after a verdict"],
)
def test_it_goes_on_where_it_was(tmp_path, monkeypatch, place, text, end):
    """Ended between two commits: a queued step runs once, a verdict that stopped the run stays one."""
    folder = tmp_path / "in"
    points(folder / "a" / "a.xyz")
    with monkeypatch.context() as cut, pytest.raises(KeyboardInterrupt):
        cut.setattr(place, lambda *_: (_ for _ in ()).throw(KeyboardInterrupt))
        watch(folder, tmp_path, text)
    watch(folder, tmp_path, text)
    assert {p.name for p in folder.iterdir()} == {end, ".terrazza"}
    ran = [e.operation for e in Row.get(name="a").entries if e.state == "done"]
    assert ran == ["import.files", "deliver.xyz"][: 2 if end == "done" else 1]


@pytest.mark.parametrize("seed", [1, 2])
def test_kills_at_any_moment_lose_and_repeat_nothing(tmp_path, seed):
    """kill -9 of the whole command, again and again, then a run to the end."""
    folder, rng = tmp_path / "in", random.Random(seed)
    for name in ("one", "two"):
        points(folder / name / "a.xyz", 4000)
    (tmp_path / "r.toml").write_text(PLAIN)
    words = [sys.executable, "-m", "terrazza.cli.main", "watch", str(folder), str(tmp_path / "r.toml"),
             "--workspace", str(tmp_path / "w"), "--once", "--rest", "0.1"]  # fmt: skip
    kills = 0
    for _ in range(40):
        child = subprocess.Popen(words, start_new_session=True, stderr=subprocess.PIPE)
        try:
            child.wait(rng.uniform(1.0, 3.5) if kills < 5 else 90)
            break
        except subprocess.TimeoutExpired:
            os.killpg(child.pid, signal.SIGKILL)
            child.wait()
            kills += 1
    assert child.returncode == 0, child.stderr.read().decode()
    assert {p.name for p in folder.iterdir()} == {"done", ".terrazza"}
    assert {p.name for p in (folder / "done").iterdir()} == {"one", "two"}
    for name in ("one", "two"):
        assert (folder / "done" / name / "given" / name / "a.xyz").exists()
        assert len((folder / "done" / name / "cloud.xyz").read_text().splitlines()) >= 4000
    open_workspace(str(tmp_path / "w"))
    assert sorted(r.name for r in Row.select()) == ["one", "two"]
    for row in Row.select():
        done = [e.operation for e in row.entries if e.state == "done"]
        assert sorted(done) == ["deliver.xyz", "import.files"] and row.settings["watched"]["state"] == "done"
