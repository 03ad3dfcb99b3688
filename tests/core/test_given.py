"""What poses in files say: whom they speak for and against, and when a scan is put back."""

from dataclasses import replace

import numpy as np
import pytest

from terrazza.core.register import cloud_fit
from terrazza.core.register.doubts import Files, doubts_of, put_back
from terrazza.core.register.offers import Offer
from tests.told import Told, at, verdict


@pytest.mark.parametrize(
    ("told", "refuted", "files", "doubted"),
    [
        (0.2, True, (12.0, 20.0), False),  # a rough pose, and the pictures say clearly that it is one
        (0.2, False, (12.0, 20.0), True),
        (0.1, True, (12.0, 20.0), True),
        (1.2, False, (12.0, 20.0), False),
        (0.2, True, (30.0, 20.0), True),  # not even a rough one
        (0.2, True, (20.0, 10.0), False),  # that of the fourth scan
        (0.2, True, (20.0, 14.0), True),
    ],
)
def test_a_pose_in_a_file_that_the_scans_refute_leaves_no_doubt(told, refuted, files, doubted):
    """Four scans in a line, at 0, 4, 10 and 20 m; the files say so of the first two, and of the third
    something else.
    """

    class Line(Told):
        def verdict(self, a, b, pose):
            x = round(float(pose[0, 3] if a < b else -pose[0, 3]), 1)
            if 2 not in (a, b):
                return verdict(0.4, 0.0)
            third = 20 - x if 3 in (a, b) else x + 4 * (1 in (a, b))
            return verdict(told / 3, 0.0) if third == 10 else verdict(0.0, 30.0 if refuted else 0.0)

    assembly = Line(4, None)
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 10.0, 20.0)], [0] * 4
    given = {k: at(x) for k, x in enumerate((0.0, 4.0, *files))}
    said = doubts_of(assembly, [[] for _ in range(4)], given, [])
    assert bool(said[2]) == doubted and not any(said[:2])


@pytest.mark.parametrize(("rival", "left"), [(13.0, 0), (10.6, 1)])
def test_files_that_agree_with_a_placement_speak_against_rivals_elsewhere(rival, left):
    assembly = Told(3, lambda x: verdict(0.4, 0.0))
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 10.0)], [0] * 3
    rivals = [[], [], [at(rival)]]
    said = doubts_of(assembly, rivals, {k: at(x) for k, x in enumerate((0.1, 4.0, 10.2))}, [])
    assert len(rivals[2]) == left and bool(said[2]) == bool(left) and not any(said[:2])


@pytest.mark.parametrize(
    ("here", "there", "back"),
    [
        (verdict(0.0, 4.0), verdict(0.0, 0.0), True),
        (verdict(0.0, 4.0), verdict(0.0, 30.0), False),  # contradicted there, too
        (verdict(0.02, 0.0), verdict(0.01, 0.0), False),  # less speaks for it there
        (verdict(0.6, 0.0), verdict(0.9, 0.0), True),
        (verdict(0.9, 0.0), verdict(0.6, 0.0), False),
    ],
)
def test_where_as_much_speaks_for_what_a_file_says_it_is_believed(here, there, back):
    """Scans at 0, 4 and 14 m in a line; the file says 10.5 m of the third."""
    known = {4: verdict(0.9, 0.0), 14: here, 10.5: there}
    assembly = Told(3, lambda x: known.get(x, verdict(0.0, 0.0)))
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 14.0)], [0] * 3
    given = {k: at(x) for k, x in enumerate((0.0, 4.0, 10.5))}
    fit = cloud_fit.Fit(at(10.6), 0.002, 0.001, 0.9, 500, np.eye(6), np.zeros(3), True)
    near = Offer(0, 2, fit, there, backed=True)  # what fits close by is better than the file
    known[10.6] = replace(there, told=there.told + 0.005)
    assert put_back(assembly, given, [near]) == back
    assert assembly.pose[2][0, 3] == (10.6 if back else 14.0)


@pytest.mark.parametrize(("rest", "agrees"), [("rough", None), ("right", True), ("none", True)])
def test_one_file_that_agrees_where_hardly_any_else_do_says_nothing(rest, agrees):
    """Two scans that stand 4 m apart as their files say, and an island of three of which files say what they
    stand like, or all else, or nothing.
    """
    assembly = Told(5, lambda x: verdict(0.5, 0.0))
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 0.0, 5.0, 10.0)], [0, 0, 1, 1, 1]
    given = {0: at(0.0), 1: at(4.3)}
    if rest != "none":
        given |= {k: at((20.0, 25.0, 30.0)[k - 2] + 3 * k * (rest == "rough")) for k in (2, 3, 4)}
    assert Files(assembly, given).agree(1) is agrees


@pytest.mark.parametrize("together", [0.0, 30.0])
def test_scans_that_stand_in_each_others_way_are_put_back_together(together):
    """Scans at 0 and 4 m, and two that files have at 10 and 17 and that stand at 17 and 26."""
    known = {
        4: verdict(0.9, 0.0),
        0: verdict(0.0, 30.0),
        16: verdict(0.0, 30.0),
        6: verdict(0.0, together),
    }
    assembly = Told(4, lambda x: known.get(abs(x), verdict(0.0, 0.0)))
    assembly.pose, assembly.island = [at(x) for x in (0.0, 4.0, 17.0, 26.0)], [0] * 4
    given = {k: at(x) for k, x in enumerate((0.0, 4.0, 10.0, 17.0))}
    assert put_back(assembly, given, []) == (together == 0)
    assert [p[0, 3] for p in assembly.pose[2:]] == ([10, 17] if together == 0 else [17, 26])


@pytest.mark.parametrize(
    ("told", "poses", "doubted"),
    [
        (0.06, (10.0, 0.0, 5.0, 17.0), False),  # each stands where the other's file says
        (0.06, (10.0, 30.0, 5.0, 17.0), True),
        (0.02, (10.0, 0.0, 5.0, 17.0), True),
    ],
)
def test_two_files_that_were_exchanged_explain_each_other(told, poses, doubted):
    """Scans at 0, 10, 5 and 17 m; what a file says of the first two is contradicted."""
    known = {x: verdict(told, 0.0) for x in (5.0, 7.0, 10.0, 12.0, 17.0)}
    assembly = Told(4, lambda x: known.get(abs(x), verdict(0.0, 30.0)))
    assembly.pose, assembly.island = [at(x) for x in (0.0, 10.0, 5.0, 17.0)], [0] * 4
    given = {k: at(x) for k, x in enumerate(poses)}
    known[5.0] = verdict(0.0, 0.0)
    assert bool(doubts_of(assembly, [[], [], [], []], given, [])[0]) == doubted
