"""Control that is wrong is found, named and not fitted through; what is good raises no doubt."""

import re

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.georef import review
from terrazza.errors import ParamsError, StateError

POSE = rigid.make(rigid.about_z(0.7), np.array([4200.0, 8800.0, 310.0]))
SITE = np.array(
    [
        [0, 0, 0.2],
        [21, 1, 0.4],
        [18, 14, 2.5],
        [-3, 12, 1.2],
        [9, 6, -0.5],
        [4, 17, 1.9],
        [14, -4, 0.8],
        [25, 8, 3.1],
    ]
)
HEIGHTS = np.array([0, 1.45, 0, 1.52, 0, 0, 1.6, 0])


def decided(change=None, seed=0, order=(0, 1, 2), site=SITE, heights=HEIGHTS, **more):
    """What is said of a control file after ``change`` (columns, target heights) spoiled it in place."""
    rng = np.random.default_rng(seed)
    columns, heights = rigid.apply(POSE, site) - np.c_[np.zeros((len(site), 2)), heights], heights.copy()
    targets = np.concatenate([site + rng.normal(0, 0.001, site.shape), rng.uniform(-10, 25, (3, 3))])
    if change:
        change(columns, heights)
    check = np.zeros(len(site), bool) if "check" not in more else more.pop("check")
    return review.decide(
        [f"C{k + 1}" for k in range(len(site))],
        columns,
        heights,
        check,
        order,
        targets,
        np.full(len(targets), 0.001),
        **more,
    )


def put(index, value):
    """A change that sets columns[index] to what ``value`` makes of them."""

    def change(columns, heights):
        columns[index] = value(columns[index])

    return change


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize(
    ("change", "words"),
    [
        (put((3, 2), lambda v: v + 0.025), r"C4: its height is 2\d mm too high"),
        (
            put((2, 2), lambda v: v - 0.1),
            r"C3: its height is (99|10\d|9\d) "
            r"mm too low",
        ),
        (put((5, 0), lambda v: v + 0.02), r"C6: it is (1|2)\d mm too large in E"),
        (put((5, 1), lambda v: v - 1.3), r"C6: it is 1(29|30)\d mm too small in N"),
        (
            put(6, lambda p: p[[1, 0, 2]]),
            "C7: it fits a target only as if its easting and northing are exchanged",
        ),
        (put((2, 2), lambda v: v / 0.3048), "C3: .*height is in feet"),
        (put(0, lambda p: p * [-1, 1, 1]), "C1: .*easting has the wrong sign"),
        (put(7, lambda p: p * 1000), "C8: .*in millimetres"),
        (put((4, 2), lambda v: v - 1.5), "C5: .*target height of the others: its own seems"),
        (
            put((1, 2), lambda v: v + 1.45),
            r"C2: .*its target height of 1\.450 m: it seems to be in the "
            r"height already",
        ),
        (put([0, 7], lambda p: np.c_[p[:, :2], p[::-1, 2]]), "C1 and C8: their heights are exchanged"),
    ],
)
def test_a_blunder_in_control_is_named(change, words, seed):
    found, _, says = decided(change, seed)
    assert len(says.doubt) == 1, says.doubt
    assert re.search(words, says.doubt[0]), says.doubt
    away = rigid.apply(found.pose, SITE) - rigid.apply(POSE, SITE)
    assert np.linalg.norm(away, axis=1).max() < 0.02  # and it does not carry the fit away


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (put(slice(None), lambda p: p * [-1, 1, 1]), "mirrored"),
        (put(slice(None), lambda p: p[:, [1, 0, 2]]), "exchanged"),
        (put(slice(None), lambda p: p[:, [0, 2, 1]]), "columns read as easting, height, northing"),
        (put(slice(None), lambda p: p + np.c_[np.zeros((8, 2)), HEIGHTS]), "target heights left away"),
        (put(slice(None), lambda p: p + 2 * np.c_[np.zeros((8, 2)), HEIGHTS]), "taken off instead of added"),
    ],
)
def test_a_file_that_reads_better_otherwise_is_refused(change, words):
    with pytest.raises(StateError, match=words):
        decided(change)


def test_good_control_raises_no_doubt_and_tells_what_it_would_find():
    for seed in range(40):
        found, _, says = decided(seed=seed)
        assert len(found.pairs) == 8 and says.doubt == [], (seed, says.doubt)
    assert (0.004 < says.detectable).all() and (says.detectable < 0.02).all()


def test_near_symmetrical_control_is_asked_and_the_next_solution_can_be_had():
    half = SITE[:4]
    site = np.concatenate([half, half * [-1, -1, 1]])
    found, _, says = decided(site=site, heights=np.zeros(8))
    assert "nearly symmetrical" in says.doubt[0] and "180°" in says.doubt[0]
    other = decided(site=site, heights=np.zeros(8), solution=2)[0]
    assert np.degrees(rigid.difference(found.pose, other.pose)[1]) == pytest.approx(180, abs=0.1)
    with pytest.raises(ParamsError, match="2 placements"):
        decided(site=site, heights=np.zeros(8), solution=3)
    turned = [""] * 8  # names on targets settle it, either way
    for i, k in other.pairs[:2]:
        turned[k] = f"C{i + 1}"
    told, _, says = decided(site=site, heights=np.zeros(8), called=turned)
    assert dict(told.pairs) == dict(other.pairs) and not says.doubt
    turned[dict(other.pairs)[0]], turned[dict(other.pairs)[1]] = "C2", "C1"
    says = decided(site=site, heights=np.zeros(8), called=turned)[2]
    assert sum("exchanged" in d for d in says.doubt) == 2


def test_tilt_from_a_wrong_height_of_few_points_is_doubted():
    four = SITE[[0, 1, 2, 3]]
    found, _, says = decided(put((2, 2), lambda v: v + 0.029), site=four, heights=np.zeros(4), tolerance=0.05)
    assert says.doubt
    _, _, says = decided(put((2, 2), lambda v: v + 0.029), site=four[:3], heights=np.zeros(3), tolerance=0.05)
    assert "leans the job by" in says.doubt[0]
    assert decided(site=four[:3], heights=np.zeros(3))[2].doubt == []


def test_a_tilted_job_is_matched_in_all_directions():
    lean = rigid.make(rigid.rotation_from(np.array([0.06, -0.04, 0])), np.zeros(3))
    columns = rigid.apply(POSE, SITE)
    targets = rigid.apply(lean, SITE)
    args = (
        [f"C{k}" for k in range(8)],
        columns,
        np.zeros(8),
        np.zeros(8, bool),
        (0, 1, 2),
        targets,
        np.full(8, 0.001),
    )
    found, _, says = review.decide(*args, level=False)
    assert len(found.pairs) == 8 and found.rms < 1e-6 and says.doubt == []
    with pytest.raises(StateError):
        review.decide(*args)


def test_check_points_are_judged_and_stated():
    """FGDC-STD-007.3-1998, appendix 3-A: 1.7308 RMSEr = 2.4477 RMSEx where both axes are as sure, 1.9600
    RMSEz.
    """
    check = np.arange(8) == 6
    assert "Check point C7: it is" in decided(put((6, 0), lambda v: v + 0.025), check=check)[2].doubt[0]
    away = np.tile([[0.003, 0.004, 0.01], [-0.003, -0.004, -0.01]], (10, 1))
    text = review.statement(away)
    assert (
        f"{2.4477 * 3.5:.1f} mm horizontal" in text
        and "19.6 mm vertical" in text
        and "20 check points." in text
    )
    assert "4 check points; the standard wants twenty" in review.statement(away[:4])
