"""Evidence of unit and up-axis on rooms whose truth is known, and axis orders.  Tripod and room heights are
common practice, no source.
"""

import itertools

import numpy as np
import pytest

from terrazza.core.geometry import evidence
from terrazza.core.geometry.axes import UPRIGHT, Axes
from terrazza.errors import ParamsError
from terrazza.units import metres_per
from tests.scenes import room_poses, scan_room

UNITS = {
    "metre": 1.0,
    "foot": metres_per("international foot"),
    "inch": metres_per("inch"),
    "millimetre": metres_per("millimetre"),
}


@pytest.fixture(scope="module")
def scan():
    return scan_room(room_poses()[0])


def laid(xyz, up):
    """The scan as a file would hold it whose ``up`` axis points up."""
    return xyz @ Axes.named(UPRIGHT[up]).matrix


@pytest.mark.parametrize(("up", "unit"), list(itertools.product(UPRIGHT, UNITS)))
@pytest.mark.parametrize("stationed", [True, False])
def test_unit_and_up_are_told_with_reasons(scan, up, unit, stationed):
    xyz = laid(scan["xyz"], up) / UNITS[unit]
    told = evidence.read(
        xyz if stationed else xyz - xyz.mean(0), stationed, scan["column"] if stationed else None
    )
    assert told.up[1:] == up[1:] and told.unit == unit
    assert not stationed or told.up == up
    assert ("under the instrument" if stationed else "room heights") in told.unit_reason and (
        "columns of its grid" if stationed else "flat things"
    ) in told.up_reason


@pytest.mark.parametrize("points", [np.zeros((10, 3)), np.random.default_rng(0).normal(size=(5000, 3))])
def test_nothing_is_claimed_where_nothing_can_be_told(points):
    assert evidence.read(points, False).unit == ""


def test_axes_make_files_upright(scan):
    for up, words in UPRIGHT.items():
        axes = Axes.named(words)
        assert not axes.mirrored and np.allclose(axes.turned(laid(scan["xyz"], up)), scan["xyz"])
        assert np.allclose(
            axes.turned(np.eye(3)["xyz".index(up[1])] * (1 if up[0] == "+" else -1)), [0, 0, 1]
        )


@pytest.mark.parametrize(
    "words",
    [
        " ".join(s + a for s, a in zip(signs, order))
        for order in itertools.permutations("xyz")
        for signs in itertools.product("+-", repeat=3)
    ],
)
def test_axes_turn_points_and_poses_alike(words):
    axes, rng = Axes.named(words), np.random.default_rng(1)
    pose, p = room_poses()[1], rng.normal(size=(20, 3))
    both = axes.turned(p @ pose[:3, :3].T + pose[:3, 3])
    new = axes.pose(pose)
    assert np.allclose(axes.turned(p) @ new[:3, :3].T + new[:3, 3], both) and np.isclose(
        np.linalg.det(new[:3, :3]), 1
    )
    assert (
        axes.mirrored == (np.linalg.det(axes.matrix) < 0)
        and (axes.reordered([1, 2, 3]) == np.abs(axes.turned(np.array([1, 2, 3])))).all()
    )


@pytest.mark.parametrize("words", ["", "x y", "x y y", "+x +y +w", "xx y z"])
def test_axes_named_wrongly(words):
    with pytest.raises(ParamsError, match="no order of axes"):
        Axes.named(words)
