"""What comes new is added in few places: a format, a column, a kind of fact, an operation and a tool are put
into a copy of the package, and work from the file to the gesture.
"""

import shutil
import struct

import numpy as np
import pytest

from terrazza.db import queries
from terrazza.db.schema import open_database
from tests.browser.conftest import Desk, serve
from tests.browser.test_table import begin, ended, idle, middle
from tests.conftest import ROOT
from tests.run import opened

pytestmark = pytest.mark.browser

FORMAT = '''"""Soft grids: a name, a count, and as many points (m)."""

import numpy as np

from terrazza.formats.contents import Contents, ScanInside
from terrazza.formats.protocol import Format


def look(path):
    count = int(np.fromfile(path, "<u4", 1, offset=8)[0])
    return Contents(path, "Soft", [ScanInside(0, "soft", count, stationed=True, columns=["intensity"])])


def read_points(path, index, raw=False):
    xyz = np.fromfile(path, "<f4", offset=12).reshape(-1, 3).astype(float)
    yield {"xyz": xyz, "intensity": np.arange(len(xyz), dtype=np.uint16) * 100, "repairs": {}}


FORMAT = Format(names=("Soft",), look=look, signatures=(b"SOFTGRID",), read_points=read_points)
'''
CORE = '''"""How soft points are."""

import numpy as np


def softness(intensity: np.ndarray) -> np.ndarray:
    """(n,) u1: soft where little light comes back, from (n,) u2."""
    return (255 - (intensity >> 8)).astype(np.uint8)
'''
OPERATION = '''"""Soften what was touched."""

from terrazza.core.softness import softness
from terrazza.operations.pieces.portions import rewrite
from terrazza.operations.spine.base import Operation, Params, field, operation


class SoftenParams(Params):
    at: list[float] = field("At", help="Where it was touched (m).")


def _soft(cloud, start, stop, args, common):
    values = softness(cloud.values("intensity", 0, start, stop))
    return values, len(values)


@operation
class Soften(Operation):
    """Says how soft all points are, and remembers where it was touched."""

    name, title, step = "clean.soften", "Soften", "Clean"
    writes = frozenset({"soft", "column"})
    Params = SoftenParams

    def run(self, job, params, progress):
        told = rewrite(job, job.scans(), "softness", _soft, {}, progress, "softening")
        job.put("soft", "1", {"at": params.at})
        return {"says": f"{sum(map(sum, told.values()))} points softened"}
'''
TOOL = """// Touch a point: what lies there is soft.
import { send, show, take } from "../gestures.js";

export default {
  name: "soften", key: "j", order: 45, title: "soften", help: "Soften a place", steps: ["clean"],
  cursor: "cell", sends: ["clean.soften"],
  enter: () => show("Touch what is soft."),
  async click(app, view, px, py) {
    app.picked = await take(app, view, px, py);
    if (app.picked) send(app, "clean.soften", { at: app.picked.at.join(", ") });
  },
  marks(app, view) {
    const p = app.picked && view.toPixel(app.picked.local);
    return p ? `<circle cx="${p[0]}" cy="${p[1]}" r="15" class="soft"/>` : "";
  },
  leave: () => show(""),
};
"""
COLUMN = 'PointColumn("softness", "u1", plane="fourth", slot=0, made="softness", ramp="softness"),\n        '
KIND = 'Kind("soft", Value, "softness changed"),\n        '

# What each addition touches, and how many files that may be: files that are new, and lines put before a word.
ADDED = {
    "format": (1, {"formats/soft.py": FORMAT}, {}),
    "column": (1, {}, {"store/schema.py": ('PointColumn("returns"', COLUMN)}),
    "kind of fact": (1, {}, {"operations/spine/facts.py": ('Kind("measure"', KIND)}),
    "operation": (3, {"core/softness.py": CORE, "operations/clean/soften.py": OPERATION}, {}),
    "tool": (1, {"web/static/js/tools/soften.js": TOOL}, {}),
}


@pytest.fixture
def grown(tmp_path, monkeypatch):
    """A server of a package that has all of it."""
    package = tmp_path / "src" / "terrazza"
    shutil.copytree(ROOT / "src" / "terrazza", package)
    for what, (most, new, changed) in ADDED.items():
        assert len(new) + len(changed) <= most, what
        for name, text in new.items():
            (package / name).write_text(text)
        for name, (before, line) in changed.items():
            text = (package / name).read_text()
            assert text.count(before) == 1
            (package / name).write_text(text.replace(before, line + before))
    monkeypatch.setenv("PYTHONPATH", str(tmp_path / "src"))
    process, address = serve(tmp_path / "ws")
    yield Desk(address, str(tmp_path / "ws"), 0)
    process.terminate()
    process.wait(10)


def test_what_is_added_works_from_the_file_to_the_gesture(grown, page, tmp_path):
    side = np.linspace(-4, 4, 80)
    xyz = np.stack([*np.meshgrid(side, side), np.full((80, 80), -1.5)], 2).reshape(-1, 3).astype("<f4")
    (tmp_path / "a.soft").write_bytes(b"SOFTGRID" + struct.pack("<I", len(xyz)) + xyz.tobytes())
    desk = begin(page, grown, "Grown")
    page.set_input_files("#picker", str(tmp_path / "a.soft"))
    page.click("#import-button:has-text('Import 1 scan')")
    ended(page, 1)
    page.keyboard.press("j")  # not here
    page.wait_for_selector(".notice:has-text('Soften a place belongs to Clean')")
    page.keyboard.press("4")
    page.wait_for_selector("[data-tool=soften]:has-text('soften')")
    assert "soften a place" in page.text_content("#key-list")
    page.keyboard.press("j")
    page.wait_for_selector("#action:has-text('Touch what is soft')")
    assert page.evaluate("getComputedStyle(document.getElementById('plan')).cursor") == "cell"
    idle(page)
    page.mouse.click(*middle(page, "plan"))
    ended(page, 2)
    page.wait_for_selector("#plan-marks .soft", state="attached")
    open_database(desk.workspace)
    (fact,) = queries.fact_values(desk.job, "soft").values()
    assert np.abs(fact["at"][:2]).max() < 2
    cloud = opened(desk.workspace, queries.job_by(id=desk.job)).cloud(1)
    assert np.array_equal(cloud.read("softness"), 255 - (cloud.read("intensity") >> 8))
    page.click("[data-group=colour] [data-value=softness]")
    assert page.evaluate("terrazza.mode") == "softness"
    page.wait_for_selector("details[data-name='clean.soften']", state="attached")  # its sheet part
    idle(page)
    page.click("#strip >> text=undo")
    page.wait_for_selector("#strip .last.undone")
    assert not queries.fact_values(desk.job, "soft")
