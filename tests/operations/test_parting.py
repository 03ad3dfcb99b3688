"""Deliverables in several files: together they hold every point once, each only its own, under its name."""

import os

import laspy
import numpy as np
import pytest

from terrazza.core.progress import QUIET
from terrazza.operations.pieces.promises import statement
from terrazza.operations.spine import fieldbook, health
from terrazza.operations.spine.base import find
from tests.run import must, opened, perform
from tests.scenes import room_job

pytestmark = pytest.mark.usefixtures("alone")


@pytest.fixture
def room(workspace, tmp_path):
    """Three scans of a room, in two blocks, with classes."""
    job = room_job(workspace, tmp_path, rows=60, columns=140)
    for scan, block in ((1, "East / upper"), (2, "West"), (3, "West")):
        must(*job, "import.edit_scan", scan=scan, block=block)
    must(*job, "classify.by_itself", what="height", low=-9, high=0.5, to=2)
    must(*job, "classify.by_itself", what="height", low=0.5, high=9, to=66)
    return job


def whole(job):
    path = must(*job, "deliver.laz", path="whole.laz")["path"]
    return laspy.read(path)


@pytest.mark.parametrize(
    ("each", "more", "names"),
    [
        ("scan", {}, ["cloud-Küche", "cloud-Saal, hinten", "cloud-Flur"]),
        ("block", {"names": "{number} {part}"}, ["1 East-upper", "2 West"]),
        ("class", {}, ["cloud-2 Ground", "cloud-66 Wall"]),
        ("tile", {"tile": 5.0}, ["cloud-0_0", "cloud-5_0", "cloud-0_5", "cloud-5_5"]),
        ("floor", {}, ["cloud-floor 1"]),
    ],
)
def test_each_file_holds_its_own_and_all_hold_everything(room, each, more, names):
    every = whole(room)
    figures = must(*room, "deliver.laz", path="parts/cloud.laz", each=each, **more)
    parts = {os.path.basename(p).removesuffix(".laz"): laspy.read(p) for p in figures["paths"]}
    assert set(names) <= set(parts)
    assert sum(len(p) for p in parts.values()) == figures["points"] == len(every)
    rows = np.concatenate([np.round(p.xyz, 4) for p in parts.values()])
    assert np.array_equal(np.sort(rows, axis=0), np.sort(np.round(every.xyz, 4), axis=0))
    for name, part in parts.items():
        if each == "scan":
            assert len(set(part.point_source_id)) == 1
        if each == "class":
            assert set(np.asarray(part.classification)) == {int(name.split("-")[1].split()[0])}
        if each == "tile":
            low = np.array(name.removeprefix("cloud-").split("_"), float)
            assert (part.xyz[:, :2] >= low - 1e-4).all() and (part.xyz[:, :2] < low + 5.0 + 1e-4).all()
    assert len(opened(*room).facts("deliverable")) == len(parts) + 1
    laz = find("deliver.laz").check({"path": "parts/cloud.laz", "each": each} | more)
    said = statement(opened(*room), "laz", laz, QUIET)
    assert said["files"] == [os.path.basename(p) for p in figures["paths"]], "what the page says before"
    fieldbook.tidy(*room)
    assert health.check(opened(*room)) == []


@pytest.mark.parametrize("form", ["las", "copc", "ply", "pts", "xyz", "e57", "ptx"])
def test_every_form_can_be_parted(room, form):
    figures = must(*room, f"deliver.{form}", each="scan", scans=[1, 2])
    assert len(figures["paths"]) == 2 and all(os.path.getsize(p) for p in figures["paths"])
    one = must(*room, f"deliver.{form}", scans=[1, 2], path=f"one.{form}")
    assert figures["points"] == one["points"] and "each" in find(f"deliver.{form}").Params.model_fields


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"each": "tile"}, "edge"),
        ({"each": "tile", "tile": 1e-4}, "larger tiles"),
        ({"each": "scan", "names": "{nobody}"}, "{file}, {part}"),
        ({"each": "class", "classes": [40]}, "No file would hold"),
    ],
)
def test_what_cannot_be_parted_is_said(room, params, words):
    entry = perform(*room, "deliver.laz", **params)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", (entry.message, entry.hint)


def test_names_that_are_one_are_told_apart(room):
    figures = must(*room, "deliver.laz", each="scan", names="same")
    assert [os.path.basename(p) for p in figures["paths"]] == ["same.laz", "same-2.laz", "same-3.laz"]
