"""Painted marks on simulated ground: outlines against the truth they were drawn from, through the
operation.
"""

import ezdxf
import numpy as np
import pytest
import shapely

from terrazza.core.draw import paint
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.formats import e57_writer, las_writer
from terrazza.work.open import open_workspace
from tests.conftest import like, once
from tests.run import must, opened, perform

PLACE, TURN = np.array([700.0, 300.0]), np.radians(33)


EYES = np.array([[*(PLACE - [6, 8]), 51.7], [*(PLACE + [9, 6]), 51.7]])


def laid(ring) -> shapely.Polygon:
    c, s = np.cos(TURN), np.sin(TURN)
    return shapely.Polygon(np.asarray(ring, float) @ np.array([[c, s], [-s, c]]) + PLACE)


def box(x, y, wide, high):
    return laid([[x, y], [x + wide, y], [x + wide, y + high], [x, y + high]])


STRIPES = [box(1.0 * k, 0.0, 0.5, 3.0) for k in range(7)]
BAYS = [box(-9.0, 2.5 * k, 4.5, 0.12) for k in range(5)]
ARROW = laid([[-2, -3], [0, -3], [0, -3.3], [0.8, -2.85], [0, -2.4], [0, -2.7], [-2, -2.7]])
CURVE = shapely.LineString(
    PLACE + np.c_[9 * np.cos(np.linspace(0, 1.2, 40)) + 3, 9 * np.sin(np.linspace(0, 1.2, 40)) - 2]
).buffer(0.075, cap_style="flat")
ALL = [*STRIPES, *BAYS, ARROW, CURVE]


def height(xy):
    return 50.0 + 0.03 * (xy[:, 0] - 700) - 0.02 * (xy[:, 1] - 300) + 0.05 * np.sin((xy[:, 0] - 700) / 5)


def ground(rng, density=2500.0, noise=0.003, contrast=2.0, grain=0.12):
    """Points (n, 3) and intensities of two stations: falling with range and incidence, grainy, with a kerbed
    pavement, a car on a stripe, and worn paint.
    """
    half = 14.0
    xy = PLACE + rng.uniform(-half, half, (int(density * 4 * half * half), 2))
    point = shapely.points(xy)
    on = np.zeros(len(xy), bool)
    for shape in ALL:
        on |= shapely.contains(shape, point)
    up = height(xy) + np.where(xy[:, 0] > PLACE[0] + 13, 0.12, 0)
    car = shapely.contains(box(5.9, 1.2, 1.8, 4.0), point)
    up = np.where(car, up + 1.2, up)
    station = np.where(rng.random(len(xy)) < 0.5, 0, 1)
    r = np.sqrt(((xy - EYES[station, :2]) ** 2).sum(1) + 1.7**2)
    tone = 9000 * (5 / r) ** 1.4 * np.where(on & ~car, contrast, 1.0) * np.exp(rng.normal(0, grain, len(xy)))
    xyz = np.c_[xy, up] + rng.normal(0, noise, (len(xy), 3))
    return xyz, np.clip(tone, 1, 65535).astype(np.uint16), station


def job_of(folder, workspace, made, name):
    """A job of two stations of an E57, or, without stations, of a LAS file."""
    xyz, tone, station = made
    if name == "Lane":
        path = str(folder / f"{name}.e57")
        with e57_writer.Writer(path) as out:
            for k, eye in enumerate(EYES):
                mine, pose = station == k, rigid.make(rigid.about_z(0.3 + k), eye)
                data = {"xyz": rigid.apply(rigid.inverse(pose), xyz[mine]), "intensity": tone[mine]}
                out.add_scan(f"S{k}", [data], ["xyz", "intensity"], pose=pose)
    else:
        path = str(folder / f"{name}.las")
        with las_writer.Writer(path, 1e-4, np.floor(xyz.min(0))) as out:
            out.write({"xyz": xyz, "intensity": tone})
    row = queries.create_job(workspace, name)
    must(workspace, row, "import.files", files=[path])
    return row


@pytest.fixture(scope="module")
def lane(shared, tmp_path_factory):
    """(workspace, row) of the lane, for this worker alone."""

    def make(folder):
        open_workspace(str(folder / "w"))
        job_of(folder, str(folder / "w"), ground(np.random.default_rng(1)), "Lane")

    workspace = str(like(once(shared / "paint", make) / "w", tmp_path_factory.mktemp("paint") / "w"))
    open_workspace(workspace)
    return workspace, queries.job_by(name="Lane")


def outlines(workspace, row, number):
    job = opened(workspace, row)
    lines = job.get("drawing", number)["lines"]
    return [(line, np.array(line["vertices"])) for line in lines]


def matched(drawn, truth):
    """(drawn polygon, true polygon) pairs by overlap."""
    for line, ring in drawn:
        one = shapely.Polygon(ring[:, :2])
        best = max(truth, key=lambda t: t.intersection(one).area)
        yield line, ring, one, best


def at_of(shape):
    xy = np.asarray(shape.representative_point().coords[0])
    return [*xy, float(height(xy[None])[0])]


def test_a_touched_stripe_brings_its_crossing(lane):
    workspace, row = lane
    figures = must(workspace, row, "draw.paint", at=at_of(STRIPES[1]))
    assert (
        figures["marks"] in {6, 7}
        and figures["crossing"]
        and figures["spacing_m"] == pytest.approx(1.0, abs=0.02)
    )
    assert figures["width_m"] == pytest.approx(0.5, abs=0.01) and figures["length_m"] == pytest.approx(
        3.0, abs=0.015
    )
    marks = [v for v in outlines(workspace, row, figures["drawing"]) if v[0]["name"].startswith("Mark")]
    whole = 0
    for line, ring, _, true in matched(marks, STRIPES):
        assert line["closed"] and np.abs(ring[:, 2] - height(ring[:, :2])).max() < 0.01
        if true is STRIPES[6] or true is STRIPES[5]:
            continue  # under the car
        whole += 1
        corners = np.asarray(true.exterior.coords)[:4]
        away = np.linalg.norm(ring[:, None, :2] - corners[None], axis=2).min(1)
        assert len(ring) == 4 and away.max() < 0.015, away
    assert whole == 5
    area = next(r for line, r in outlines(workspace, row, figures["drawing"]) if line["name"] == "Crossing")
    assert shapely.Polygon(area[:, :2]).contains(shapely.union_all(STRIPES[:5]).buffer(-0.03))


@pytest.mark.parametrize(
    ("shape", "count"), [(BAYS[2], 5), (ARROW, 1), (CURVE, 1)], ids=["bays", "arrow", "curve"]
)
def test_other_marks_keep_their_shape(lane, tmp_path, shape, count):
    workspace, row = lane
    figures = must(workspace, row, "draw.paint", at=at_of(shape), path=str(tmp_path / "p.dxf"))
    marks = [v for v in outlines(workspace, row, figures["drawing"]) if v[0]["name"].startswith("Mark")]
    assert len(marks) == count
    for line, _, one, true in matched(marks, ALL):
        wide = min(np.linalg.norm(np.diff(np.asarray(one.exterior.coords)[:3], axis=0), axis=1))
        assert count == 1 or wide == pytest.approx(0.12, abs=0.006), line["name"]
        assert one.intersection(true).area / one.union(true).area > 0.85
        assert one.area == pytest.approx(true.area, rel=0.08)
        assert (
            np.quantile(
                [shapely.Point(p).distance(true.exterior) for p in one.segmentize(0.05).exterior.coords], 0.9
            )
            < 0.015
        )
    written = ezdxf.readfile(tmp_path / "p.dxf")
    assert not written.audit().errors and len(written.query("POLYLINE")) >= count


def test_all_that_is_as_bright_and_repeats(lane):
    workspace, row = lane
    figures = must(workspace, row, "draw.paint", at=at_of(ARROW), which="all as bright", reach=20)
    assert 13 <= figures["marks"] <= 16
    again = must(workspace, row, "draw.paint", at=at_of(BAYS[0]), which="it alone", repeat=3, spacing=2.5)
    lines = outlines(workspace, row, again["drawing"])
    assert [line["guessed"] for line, _ in lines] == [False, True, True, True]
    for (_, ring), true in zip(
        lines, (BAYS if shapely.Polygon(lines[1][1][:, :2]).intersects(BAYS[1]) else [BAYS[0]])
    ):
        assert shapely.Polygon(ring[:, :2]).intersection(true).area > 0.8 * true.area


@pytest.mark.parametrize("where", [[-4.0, 6.0], [3.75, 1.0], [6.8, 3.2]], ids=["bare", "between", "on a car"])
def test_where_nothing_is_painted_nothing_is_drawn(lane, where):
    workspace, row = lane
    c, s = np.cos(TURN), np.sin(TURN)
    xy = np.array([where]) @ np.array([[c, s], [-s, c]]) + PLACE
    up = 1.2 if where[0] == 6.8 else 0.0
    entry = perform(workspace, row, "draw.paint", at=[*xy[0], float(height(xy)[0]) + up])
    if where[0] == 3.75:  # 25 cm from both stripes beside it
        assert entry.state in {"failed", "done"}
    else:
        assert entry.state == "failed" and ("painted" in entry.message or "ground" in entry.message)


def test_brightness_is_compared_with_the_ground_about_it():
    rng = np.random.default_rng(2)
    xy = rng.uniform(0, 20, (200_000, 2))
    on = (xy[:, 0] % 1.0) < 0.5
    tone = 5000 * (1 + xy[:, 1]) ** -1.5 * np.where(on, 1.8, 1.0) * np.exp(rng.normal(0, 0.05, len(xy)))
    got = paint.contrasts(xy, tone)
    inner = (np.abs(xy - 10) < 8).all(1)
    assert np.median(got[on & inner]) == pytest.approx(np.log(1.8), abs=0.12)
    assert abs(np.median(got[~on & inner])) < 0.12
    dark = paint.contrasts(xy, tone, dark=True)
    assert np.median(dark[~on & inner]) > 0.3
