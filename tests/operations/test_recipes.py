"""Recipes: what they ask, what is set, what stops them, and where they go on."""

import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.errors import TerrazzaError
from terrazza.operations.spine import course, recipe
from terrazza.work import runner
from tests import scenes

TEXT = """title = "Asked"
[[question]]
name = "width"
title = "Filter width"
kind = "number"
default = 2.5
fills = ["clean.outliers.deviations", "4.deviations"]
[[question]]
name = "rule"
title = "Unit"
kind = "choice"
choices = ["metre", "inch"]
fills = ["table.notation.unit"]
[[step]]
operation = "import.files"
[[step]]
operation = "clean.outliers"
stop = [{ figure = "share", over = 0.0, says = "anything was cut" }, { figure = "share", under = -1 }]
[[step]]
operation = "table.notation"
[[step]]
operation = "clean.outliers"
neighbours = 9
"""
ONE = TEXT.replace('"clean.outliers.deviations", ', '"2.deviations", ')


@pytest.mark.parametrize(
    ("text", "answers", "words"),
    [
        (ONE, {}, "asks for “Unit”"),
        (ONE, {"rule": "mile"}, "one of metre, inch"),
        (ONE, {"rule": "inch", "width": "wide"}, "needs a number"),
        (ONE, {"rule": "inch", "other": 1}, "asks nothing named “other”"),
        (ONE, {"rule": "inch", "9.neighbours": 3}, "no such step"),
        (ONE, {"rule": "inch", "table.notation.colour": 3}, "no parameter “colour”"),
        (ONE, {"rule": "inch", "4.neighbours": 0}, "Step 4 of the recipe"),
        (TEXT, {"rule": "inch"}, "2 such steps"),
        (ONE.replace("over = 0.0", "above = 0.0"), {}, "cannot be understood"),
        (ONE.replace('kind = "choice"', 'kind = "list"'), {}, "cannot be understood"),
    ],
)
def test_what_is_wrong_is_said_before_anything_runs(text, answers, words):
    with pytest.raises(TerrazzaError, match=words):
        recipe.filled(recipe.parsed(text), answers)


def test_answers_and_settings_reach_their_steps():
    made = recipe.filled(recipe.parsed(ONE), {"rule": "inch", "width": "3,5", "4.neighbours": 12})
    assert [s.params.get("deviations") for s in made.steps] == [None, 3.5, None, 3.5]
    assert made.steps[2].params == {"unit": "inch"} and made.steps[3].params["neighbours"] == 12
    assert recipe.parsed(ONE).steps[3].params["neighbours"] == 9, "the recipe itself stays as it was"


@pytest.mark.parametrize(
    ("stop", "figures", "says"),
    [
        ({"over": 6}, {"rms_mm": 6.1}, "rms_mm over 6 (6.1)"),
        ({"over": 6}, {"rms_mm": 6.0}, ""),
        ({"under": 1, "says": "too few"}, {"rms_mm": [1]}, ""),
        ({"under": 1, "says": "too few"}, {"rms_mm": []}, "too few (0)"),
        ({"over": 6}, {"other": 1}, "rms_mm: there is no such figure"),
        ({"figure": "a.b", "over": 0}, {"a": {"b": 2}}, "a.b over 0 (2)"),
    ],
)
def test_verdicts(stop, figures, says):
    assert recipe.Stop(**{"figure": "rms_mm"} | stop).tripped(figures) == says


def test_a_run_stops_goes_on_and_does_no_step_twice(workspace, tmp_path, monkeypatch):
    scenes.write_room(tmp_path / "r.e57", rows=60, columns=90)
    made = recipe.filled(recipe.parsed(ONE), {"rule": "inch"})
    row = queries.create_job(workspace, "Course")
    course.begin(row, made, "test", inputs=[str(tmp_path / "r.e57")], out="", search=[])
    runner.run_entry(workspace, course.advance(row))
    begun = course.advance(row)
    assert course.advance(row) is None, "one step at a time"
    with pytest.raises(TerrazzaError, match="running"):
        course.begin(row, made, "test")
    Entry.update(state="interrupted").where(Entry.id == begun.id).execute()
    assert course.advance(row) is None and course.told(row)["state"] == "interrupted"
    with pytest.raises(TerrazzaError, match="another recipe"):
        course.resume(row, recipe.filled(recipe.parsed(ONE), {"rule": "metre"}))
    course.resume(row, made)
    again = runner.run_entry(workspace, course.advance(row))
    assert (again.number, again.operation, again.state) == (3, "clean.outliers", "done")
    assert course.advance(row) is None and "anything was cut" in course.told(row)["says"]
    course.resume(row, made)
    while (entry := course.advance(row)) is not None:
        runner.run_entry(workspace, entry)
    told = course.told(row)
    assert (told["state"], told["step"], told["of"]) == ("done", 4, 4)
    done = [(e.number, e.operation) for e in recipe.entries_of(row) if e.state == "done"]
    names = ("import.files", "clean.outliers", "table.notation", "clean.outliers")
    assert done == list(zip((1, 3, 4, 5), names))
    with pytest.raises(TerrazzaError, match="done"):
        course.resume(row, made)


@pytest.mark.parametrize(
    ("inputs", "steps", "words"),
    [
        (["none.e57"], "import.files", "“none.e57” is not there"),
        ([], 'georeference.control"\ncontrol = "c.csv', "Step 1 of the recipe reads “c.csv”"),
    ],
)
def test_files_are_looked_for_before_the_start(tmp_path, inputs, steps, words):
    made = recipe.filled(recipe.parsed(f'[[step]]\noperation = "{steps}"\n'), {})
    with pytest.raises(TerrazzaError, match=words):
        course.check(made, inputs, [str(tmp_path)], str(tmp_path / "not" / "yet"))


def test_room_on_the_disk_is_looked_for(tmp_path, monkeypatch):
    (tmp_path / "big.e57").write_bytes(b"0" * 1000)
    made = recipe.filled(recipe.parsed('[[step]]\noperation = "import.files"\n'), {})
    for free, wrong in ((10_000, False), (2_000, True)):
        monkeypatch.setattr(course.shutil, "disk_usage", lambda _, free=free: type("D", (), {"free": free}))
        try:
            course.check(made, [str(tmp_path / "big.e57")], [], str(tmp_path))
            assert not wrong
        except TerrazzaError as error:
            assert wrong and "GB" in str(error)
