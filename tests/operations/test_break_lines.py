"""Break lines along simulated kerbs that bend, rise, drop and hide behind cars, and through the operation
to DXF.
"""

import ezdxf
import numpy as np
import pytest

from terrazza.core.draw import tracing
from terrazza.db import queries
from terrazza.formats import las_writer
from tests import kerbs
from tests.run import must, opened, perform


def errors(kerb, place):
    """How far (m) a place's corners lie from the true ones, across and up, the larger a corner."""
    k = kerb.nearest(place.at)
    true, mine = kerb.corners(k), place.placed()
    left = np.array([-np.sin(kerb.heading[k]), np.cos(kerb.heading[k])])
    return np.abs(np.c_[(mine[:, :2] - true[:, :2]) @ left, mine[:, 2] - true[:, 2]]).max(1)


@pytest.mark.parametrize("seed", [21, 22])
def test_a_kerb_is_followed_from_one_place(seed):
    rng = np.random.default_rng(seed)
    kerb = kerbs.kerb(rng)
    section, k = kerbs.sections(kerb.points), 150
    start = tracing.begin(section, kerb.way[k] + rng.normal(0, 0.02, 3), kerb.heading[k] + 0.03, kerbs.SHAPE)
    places = tracing.bridged(tracing.both_ways(section, start, 300.0))
    length = 0.01 * len(kerb.way)
    assert 0.95 * length < len(places) * tracing.ADVANCE < 1.03 * length
    found = np.array([errors(kerb, p) for p in places if not p.guessed]).max(1)
    assert (found < 0.008).mean() >= 0.95 and found.max() < 0.020 and np.median(found) > 2e-4
    guessed = [errors(kerb, p).max() for p in places if p.guessed]
    assert 4 <= len(guessed) < 0.15 * len(places) and max(guessed) < 0.05
    usual = np.median([p.rms for p in places if not p.guessed])
    assert 0.002 < usual < 0.005  # the noise put in is 3 mm


def test_nothing_is_begun_where_nothing_of_the_shape_is():
    kerb = kerbs.kerb(np.random.default_rng(3))
    section = kerbs.sections(kerb.points)
    beside = kerb.way[300] + [0, 0, 0.5]
    assert tracing.begin(section, beside, kerb.heading[300], kerbs.SHAPE) is None


@pytest.fixture(scope="module")
def street(tmp_path_factory):
    """A job of one kerb as LAS: (workspace, row, kerb)."""
    from terrazza.work.open import open_workspace

    folder = tmp_path_factory.mktemp("kerb")
    kerb = kerbs.kerb(np.random.default_rng(5), density=1200.0)
    with las_writer.Writer(str(folder / "kerb.las"), 1e-4, np.floor(kerb.points.min(0))) as out:
        out.write({"xyz": kerb.points})
    open_workspace(str(folder / "ws"))
    row = queries.create_job(str(folder / "ws"), "Kerb")
    must(str(folder / "ws"), row, "import.files", files=[str(folder / "kerb.las")])
    return str(folder / "ws"), row, kerb


def test_lines_go_to_the_drawing_and_to_dxf_in_space(street, tmp_path):
    workspace, row, kerb = street
    k, names = 120, ["back", "top", "flow line", "pan edge"]
    asked = {
        "at": [kerb.way[k].tolist(), kerb.way[k + 40].tolist()],
        "heading_deg": float(np.degrees(kerb.heading[k])) % 360,
        "corners": kerbs.SHAPE.tolist(),
        "names": names,
        "step": 1.0,
        "path": str(tmp_path / "kerb.dxf"),
    }
    figures = must(workspace, row, "draw.break_lines", **asked)
    assert figures["length_m"] > 0.9 * 0.01 * len(kerb.way) and figures["bridged_m"] > 0 and figures["doubt"]
    lines = opened(workspace, row).get("drawing", figures["drawing"])["lines"]
    assert {line["name"] for line in lines} == set(names)
    assert any(line["guessed"] for line in lines) and not all(line["guessed"] for line in lines)
    flow = [
        v for line in lines if line["name"] == "flow line" and not line["guessed"] for v in line["vertices"]
    ]
    off = np.array([np.linalg.norm(kerb.way - v, axis=1).min() for v in flow])
    assert (off < 0.012).mean() > 0.9  # within the spacing of the way itself
    model = ezdxf.readfile(asked["path"]).layouts.get("Model")
    drawn = model.query("POLYLINE")
    assert len(drawn) == len(lines) and {e.dxf.layer for e in drawn} == {n.upper() for n in names}
    assert all(e.is_3d_polyline for e in drawn)


def test_a_shape_drawn_once_is_taken_over_in_whatever_direction_it_lies(street):
    workspace, row, kerb = street
    k, turned = 300, np.degrees(kerb.heading[300])
    once = {"at": [kerb.way[k].tolist()], "heading_deg": turned % 360, "corners": kerbs.SHAPE.tolist()}
    first = must(workspace, row, "draw.break_lines", **once, names=["a", "b", "c", "d"])
    again = must(workspace, row, "draw.break_lines", at=[kerb.way[2200].tolist()], like=str(first["drawing"]))
    job = opened(workspace, row)
    drawn = [job.get("drawing", f["drawing"]) for f in (first, again)]
    assert drawn[1]["shape"]["names"] == ["a", "b", "c", "d"]
    assert np.abs(np.subtract(*(d["shape"]["corners"] for d in drawn))).max() < 0.03
    assert again["length_m"] == pytest.approx(first["length_m"], abs=1.5)
    flow = [
        v
        for line in drawn[1]["lines"]
        if line["name"] == "c" and not line["guessed"]
        for v in line["vertices"]
    ]
    off = np.array([np.linalg.norm(kerb.way - v, axis=1).min() for v in flow])
    assert (off < 0.012).mean() > 0.9


@pytest.mark.parametrize(
    ("change", "says"),
    [
        ({"names": ["one"]}, "1 names for 2 corners"),
        ({"at": [[0.0, 0.0, 0.0]]}, "Nothing of this shape"),
        ({"corners": []}, "two corners"),
        ({"corners": [], "like": "Kerb"}, "no drawing “Kerb”"),
    ],
)
def test_what_cannot_be_followed_is_said(street, change, says):
    asked = {"at": [[600.0, 200.0, 50.0]], "heading_deg": 0, "corners": [[0.3, 0.3], [-0.3, 0.9]]} | change
    entry = perform(street[0], street[1], "draw.break_lines", **asked)
    assert entry.state == "failed" and says in entry.message
