"""The developers' guide keeps its promise: its operation runs as printed, in under 40 lines, everywhere at
once.
"""

import re
import subprocess
import sys

import numpy as np
import pytest

from terrazza.db import queries
from terrazza.errors import ParamsError
from terrazza.operations.spine import base, fieldbook, recipe
from tests.conftest import ROOT
from tests.run import must, opened, perform

GUIDE = (ROOT / "docs" / "developers.md").read_text()
CODE = re.search(r"```python\n(.*?)```", GUIDE, re.S).group(1)


@pytest.fixture
def shift():
    exec(compile(CODE, "guide", "exec"), {"__name__": "guide"})
    yield base.find("georeference.shift_heights")
    del base._table["georeference.shift_heights"]


def test_the_guides_operation_runs_as_printed(copied, shift):
    assert len(CODE.splitlines()) < 40
    row = queries.job_by(name="Whole")
    before = opened(copied, row).frame
    figures = must(copied, row, "georeference.shift_heights", by=46.5)
    assert figures["says"] == "Heights shifted by 46.500 m"
    assert np.allclose(
        opened(copied, row).frame - before, [[0, 0, 0, 0], [0, 0, 0, 0], [0, 0, 0, 46.5], [0, 0, 0, 0]]
    )
    assert "shift_heights" in recipe.write(recipe.entries_of(row), "t")
    assert base.describe(shift)["params"][0]["unit"] == "m"
    assert "less than or equal" in str(pytest.raises(ParamsError, shift.check, {"by": 1e9}).value)
    fieldbook.undo(queries.done_entries(row)[-1])
    assert np.allclose(opened(copied, row).frame, before)


def test_it_refuses_in_words(workspace, shift):
    entry = perform(workspace, queries.create_job(workspace, "Empty"), "georeference.shift_heights", by=1)
    assert entry.state == "failed" and "no frame" in entry.message


@pytest.mark.parametrize(
    "name",
    [
        "docs/surveyors.md",
        "docs/performance.md",
        "docs/registration.md",
        "CHANGELOG.md",
        "LICENSE",
        "docs/recipes/whole-job.toml",
        "docs/recipes/hand-over.toml",
        "scripts/setup",
        ".ci/run",
    ],
)
def test_what_the_readme_names_is_there(name):
    assert (ROOT / name).stat().st_size > 50


def test_the_list_of_declarations_is_as_the_code_declares():
    script = [sys.executable, str(ROOT / "scripts" / "write-declarations"), "--check"]
    assert subprocess.run(script).returncode == 0, "run scripts/write-declarations"


def test_pictures_are_there_and_few():
    named = set(re.findall(r"docs/screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))
    there = {p.name for p in (ROOT / "docs" / "screenshots").glob("*.png")}
    assert named <= there and len(there) < 20


def test_the_package_ships_its_pages_and_licences():
    vendor = ROOT / "src" / "terrazza" / "web" / "static" / "vendor"
    for name in ("three", "htmx", "bootstrap", "atkinson-next", "atkinson-mono"):
        assert (vendor / f"{name}.LICENSE").stat().st_size > 100
    pages = "".join(
        p.read_text()
        for p in (ROOT / "src" / "terrazza" / "web").rglob("*")
        if p.suffix in {".html", ".js", ".css"} and "vendor" not in p.parts
    )
    assert not re.findall(r"(?:src|href|url)[=(]['\"]?https?://", pages), "nothing is loaded from elsewhere"
    assert (
        subprocess.run([sys.executable, "-c", "import terrazza.web.app"], capture_output=True).returncode == 0
    )
