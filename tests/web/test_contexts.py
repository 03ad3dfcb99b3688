"""What templates are given: figures for people, terraces, progress, and the pages' helpers."""

import time
from types import SimpleNamespace

import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations import spine
from terrazza.operations.register.judging import verdict
from terrazza.operations.register.recording import hold_words
from terrazza.operations.spine.base import find
from terrazza.web import pages
from terrazza.web.contexts import fieldbook, forms, terraces
from terrazza.web.contexts import page as page_context
from tests.run import must, opened


@pytest.mark.parametrize(
    ("value", "text"), [(None, "–"), (0, "0"), (4312, "4\u202f312"), (51234, "51 k"), (3_923_149, "3.9 M")]
)
def test_counts_for_people(value, text):
    assert pages.count(value) == text


@pytest.mark.parametrize(
    ("value", "text"), [(12, "12 bytes"), (4200, "4.2 kB"), (84_500_000, "84.5 MB"), (2.5e9, "2.5 GB")]
)
def test_sizes_for_people(value, text):
    assert pages.size(value) == text


@pytest.mark.parametrize(
    ("value", "text"),
    [(None, ""), (0.54, "0.5 s"), (59.9, "59.9 s"), (61, "1 min 1 s"), (3725, "62 min 5 s")],
)
def test_durations_for_people(value, text):
    assert pages.duration(value) == text


def test_numbers_have_thin_thousands():
    assert pages.figure(1234567.891, 2) == "1\u202f234\u202f567.89" and pages.figure(None) == "–"


@pytest.mark.parametrize(
    ("rms", "words"),
    [
        (None, "no ties"),
        (3.1, "good for indoor work"),
        (7.0, "good for indoor work"),
        (12, "rough stage"),
        (40, "too rough"),
    ],
)
def test_verdicts_follow_common_practice(rms, words):
    """Indoor cloud RMS of 5 to 7 mm is good, 9 to 20 mm a rough stage: common practice, no source."""
    assert words in verdict(rms)


@pytest.mark.parametrize(
    ("direction", "share", "words"),
    [
        ((1, 0, 0), 0.2, "firm"),
        ((0, 0, 1), 0.02, "weak in height"),
        ((0, 0, 1), 0.001, "slides in height"),
        ((1, 0, 0), 0.001, "slides towards 90°"),
        ((0, 1, 0), 0.01, "weak towards 0°"),
        ((0, -1, 0), 0.01, "weak towards 0°"),
    ],
)
def test_hold_in_words(direction, share, words):
    import numpy as np

    assert hold_words(np.array(direction, float), share, share < 0.006) == words


def test_terraces_carry_the_jobs_figures(reading):
    steps = {s["slug"]: s for s in terraces.build(reading, "register")["steps"]}
    assert (
        steps["import"]["figure"] == "8 scans"
        and steps["register"]["figure"].endswith(" mm")
        and steps["georeference"]["figure"] == "5 of 5 control"
    )
    assert (
        steps["clean"]["figure"].endswith("% cut")
        and steps["colorize"]["figure"] == "8 of 8 scans"
        and steps["classify"]["figure"].startswith("ground ")
    )
    assert (
        steps["draw"]["figure"].endswith("lines")
        and steps["register"]["current"]
        and not steps["draw"]["current"]
    )
    assert page_context.first_step(reading) == "deliver"


def test_terraces_say_what_is_stale_and_what_is_missing(copied, workspace):
    empty = queries.create_job(workspace, "Empty")
    steps = {s["slug"]: s for s in terraces.build(opened(workspace, empty), "import")["steps"]}
    assert (
        {s["state"] for s in steps.values()} == {"todo"}
        and steps["import"]["needs"] == "bring scans"
        and steps["register"]["needs"] == "needs scans"
    )
    assert page_context.first_step(opened(workspace, empty)) == "import"
    from terrazza.work.open import open_workspace

    open_workspace(copied)
    row = queries.job_by(name="Whole")
    must(copied, row, "register.set_pose", scan=3, x=4200, y=8830, z=315, heading_deg=5)
    steps = {s["slug"]: s for s in terraces.build(opened(copied, row), "draw")["steps"]}
    assert (
        steps["georeference"]["state"] == "stale" and "poses changed since" in steps["georeference"]["needs"]
    )


def test_progress_says_rate_and_time_left(workspace):
    row = queries.create_job(workspace, "Running")
    entry = queries.add_entry(row, "clean.outliers", 1, {}, state="running")
    Entry.update(
        started=time.time() - 10, done=2_000_000, total=8_000_000, label="Measuring neighbours"
    ).where(Entry.id == entry.id).execute()
    strip = fieldbook.strip(opened(workspace, row))
    busy = strip["busy"][0]
    assert (
        busy["share"] == 0.25
        and busy["rate"] == "0.2 M points/s"
        and busy["left"] == pytest.approx(30, rel=0.05)
        and strip["last"] is None
    )
    Entry.update(state="failed", message="No.", hint="Do.").where(Entry.id == entry.id).execute()
    strip = fieldbook.strip(opened(workspace, row))
    assert strip["busy"] == [] and strip["last"]["says"] == "No." and strip["last"]["hint"] == "Do."


@pytest.mark.parametrize(
    ("data", "expected"),
    [
        ({"neighbours": "8", "deviations": "2,5"}, {"neighbours": 8, "deviations": 2.5}),
        ({"by_range.there": "1", "by_range": "on"}, {"by_range": True}),
        ({"by_range.there": "1"}, {"by_range": False}),
        ({"scans": "[1, 2]"}, {"scans": [1, 2]}),
        ({"scans": " 3;4 "}, {"scans": [3, 4]}),
        ({"scans": ""}, {"scans": []}),
        ({"neighbours": ""}, {}),
        ({}, {}),
    ],
)
def test_forms_are_read_as_meant(data, expected):
    from starlette.datastructures import FormData

    assert forms.values(find("clean.outliers"), FormData(data)) == expected


def test_bands_come_as_rows():
    from starlette.datastructures import FormData

    form = FormData(
        [
            ("bands.low", "0.1"),
            ("bands.high", "2"),
            ("bands.code", "3"),
            ("bands.low", ""),
            ("bands.high", "9"),
            ("bands.code", "4"),
        ]
    )
    assert forms.values(find("classify.height_bands"), form) == {
        "bands": [{"low": 0.1, "high": 2, "code": 3}]
    }


def test_hidden_tabs_do_not_matter_to_state_numbers(workspace):
    row = queries.create_job(workspace, "State")
    first = queries.revision(row.id)
    queries.add_entry(row, "clean.outliers", 1, {})
    assert queries.revision(row.id) == first, "a queued entry changes nothing yet"
    must(workspace, row, "table.keep_view", name="Here", address="plan=1,2,3")
    second = queries.revision(row.id)
    spine.fieldbook.undo(Entry.get(job=row, operation="table.keep_view"))
    assert len({first, second, queries.revision(row.id)}) == 3


def test_a_job_opens_where_work_is_left(copied):
    """With scans that are not placed that is Register, though some are."""
    from terrazza.db import queries
    from terrazza.web.contexts import page
    from tests.run import must, opened
    from tests.scenes import write_room

    row = queries.job_by(name="Whole")
    done = page.first_step(opened(copied, row))
    path = f"{copied}/loose.e57"
    write_room(path, rows=30, columns=60)
    must(copied, row, "import.files", files=[path], take=["1:1"])
    assert done != "register" and page.first_step(opened(copied, row)) == "register"


@pytest.mark.parametrize(
    ("settled", "says"),
    [
        ((), "3 doubts: Scan 1, a: x."),
        ((1,), "2 doubts: Scan 11, b: y."),  # not the eleventh with it
        ((1, 11), "1 doubt: Two ties are weak."),
    ],
)
def test_doubts_of_placements_that_were_settled_are_not_told_in_the_list_of_steps(settled, says):
    said = {"doubt": ["Scan 1, a: x.", "Scan 11, b: y.", "Two ties are weak."]}
    job = SimpleNamespace(
        facts=lambda kind: {str(k): {"doubt": None if k in settled else "x"} for k in (1, 11)},
        last_entries=lambda: {1: SimpleNamespace(operation="register.automatic", figures=said)},
    )
    assert terraces._doubts(job) == {"Register": says}
