"""What stands judged: double walls, the statement, and doubts that stay after changes by hand."""

from dataclasses import replace
from types import SimpleNamespace as Made

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.register import cloud_fit, graph, linking, network
from terrazza.db import queries
from terrazza.operations.register import judging, looseness, settling, standing
from terrazza.operations.register.looked_through import due
from terrazza.operations.register.statement import statement
from terrazza.operations.spine.fieldbook import undo
from tests.run import must, opened
from tests.scenes import write_room


def test_a_scan_put_off_shows_double_walls_until_it_is_adjusted(copied):
    row = queries.job_by(name="Whole")
    job = opened(copied, row)
    said = dict(statement(job))
    assert (
        "8 of 8 scans placed" in said["Done"]
        and "No surface shows twice." in said["How good"]
        and said["Doubted"] == "Nothing."
        and said["Looked through"] == "Nobody has signed that it was."
        and "loops of ties close" in said["How sure"]
    )
    assert must(copied, row, "register.double_walls")["double_walls"] == []
    pose = job.grid_pose(job.scan(2))
    x, y, z = pose[:3, 3] + [0.006, -0.006, 0.004]
    must(
        copied,
        row,
        "register.set_pose",
        scan=2,
        x=x,
        y=y,
        z=z,
        heading_deg=float(np.degrees(rigid.heading(pose))),
    )
    figures = must(copied, row, "register.double_walls")
    assert (
        {d["off"] for d in figures["double_walls"]} == {2}
        and 3 < abs(figures["double_walls"][0]["offset_mm"]) < 12
        and "Scan 2 shows a" in figures["doubt"][0]
    )
    assert (
        f"{len(figures['double_walls'])} surfaces show twice"
        in dict(statement(opened(copied, row)))["How good"]
    )
    assert due(opened(copied, row)) == "a scan was moved"
    must(copied, row, "register.looked_through", who="A. Topografa", note="All rooms.")
    told = dict(statement(opened(copied, row)))["Looked through"]
    assert told.startswith("By A. Topografa, ") and "8 scans" in told and "All rooms." in told
    assert f"{len(figures['double_walls'])} double walls" in told and "changed" not in told
    again = must(copied, row, "register.adjust")
    assert due(opened(copied, row)) == ""
    assert "Places have changed since." in dict(statement(opened(copied, row)))["Looked through"]
    assert (
        again["doubt"] == []
        and again["double_walls"] == []
        and again["test"]["low"] > 0
        and all(
            0 <= r["redundancy"] <= 1 for r in opened(copied, row).facts("tie").values() if not r["failed"]
        )
    )


def test_what_speaks_against_control_is_said_after_changes_by_hand_too(copied):
    """A point matched to the wrong target by hand is doubted, and no longer so when it is matched rightly
    again.
    """
    row = queries.job_by(name="Whole")
    rows = [r for r in opened(copied, row).get("frame")["rows"] if r["role"] == "control" and r["matched"]]
    one, other = rows[0], rows[1]
    check = next(r["name"] for r in opened(copied, row).get("frame")["rows"] if r["role"] == "check")
    must(copied, row, "georeference.role", point=check, check=False)
    wrong = must(copied, row, "georeference.match", point=one["name"], target=other["targets"][0])
    assert wrong["doubt"]
    right = must(copied, row, "georeference.match", point=one["name"], target=one["targets"][0])
    assert (
        right["doubt"] == []
        and right["rms_mm"] < 3
        and all(r["detectable_mm"] for r in right["rows"] if r["role"] == "control" and r["matched"])
    )


def test_a_tie_switched_off_stays_off_when_registration_runs_again(tmp_path, workspace, alone):
    row = queries.create_job(workspace, "Room")
    write_room(tmp_path / "r.e57", posed=True, rows=100, columns=240)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    must(workspace, row, "register.adjust")
    must(workspace, row, "register.tie", a=3, b=1, on=False)
    for operation in ("register.adjust", "register.automatic"):
        must(workspace, row, operation)
        job = opened(workspace, row)
        assert job.get("tie", "1-3")["failed"] == "switched off by hand"
        assert len(job.scans(placed=True)) == 3
    must(workspace, row, "register.tie", a=1, b=3)
    assert opened(workspace, row).facts("tie_choice") == {}
    assert {t["failed"] for t in must(workspace, row, "register.adjust")["ties"]} == {""}


def test_control_bends_the_scans_as_far_as_its_standard_deviations_allow(copied):
    """Good ties give way by hundredths of a millimetre, by less the less the control is believed; a point
    read wrong is said, and undo brings the old poses back.
    """
    row = queries.job_by(name="Whole")
    before = {s.id: s.pose for s in opened(copied, row).scans()}
    firm = must(copied, row, "georeference.bend")
    assert (
        firm["test"]["low"] * 0.2 < firm["test"]["value"] < firm["test"]["high"]
        and 0.005 < max(firm["moved_mm"].values()) < 0.5
        and not any("contradict" in d for d in firm["doubt"])
    )
    bent = opened(copied, row)
    assert {s.pose_record["how"] for s in bent.scans()} == {"bent to control"} and any(
        not np.array_equal(s.pose, before[s.id]) for s in bent.scans()
    )
    undo(queries.done_entries(row)[-1])
    assert all(np.array_equal(s.pose, before[s.id]) for s in opened(copied, row).scans())
    loose = must(copied, row, "georeference.bend", survey_mm=20)
    assert max(loose["moved_mm"].values()) < 0.2 * max(firm["moved_mm"].values())
    with pytest.raises(AssertionError, match="already"):
        must(copied, row, "georeference.bend")
    undo(queries.done_entries(row)[-1])
    one, other = [
        r for r in opened(copied, row).get("frame")["rows"] if r["role"] == "control" and r["matched"]
    ][:2]
    must(copied, row, "georeference.match", point=one["name"], target=other["targets"][0])
    assert any("contradict" in d for d in must(copied, row, "georeference.bend")["doubt"])


def test_scans_without_a_common_surface_are_placed_by_targets(tmp_path, workspace, alone):
    """Two rooms that share no surface, with four targets picked in both: one island, nothing doubted; without
    them two islands.
    """
    from terrazza.formats import e57_writer
    from tests import places

    rng = np.random.default_rng(3)
    place = places.WORLDS["islands"](rng)
    stations = [place.places[k] for k in (0, 1, -1)]
    row_of, column_of, _ = places.rays()
    truth = []
    with e57_writer.Writer(str(tmp_path / "two.e57")) as out:
        for k, station in enumerate(stations):
            pose, hit, xyz = places.scanned(place, "islands", station, rng)
            truth.append(pose)
            out.add_scan(
                f"s{k}",
                [
                    {
                        "xyz": xyz,
                        "intensity": np.full(len(xyz), 20000, np.uint16),
                        "row": row_of[hit].astype(np.uint32),
                        "column": column_of[hit].astype(np.uint32),
                    }
                ],
                ["xyz", "intensity", "row", "column"],
                grid=(places.ROWS, places.COLUMNS),
            )
    row = queries.create_job(workspace, "Two")
    must(workspace, row, "import.files", files=[str(tmp_path / "two.e57")])
    alone = must(workspace, row, "register.automatic")
    assert alone["islands"] == [[1, 2]]
    between = np.array([[60.0, 20, 1], [64, 21, 2.5], [58, 26, 0.4], [61, 24, 3]])
    for k in (1, 2):
        for at in between:
            x, y, z = rigid.apply(rigid.inverse(truth[k]), at[None])[0] + rng.normal(0, 0.001, 3)
            must(workspace, row, "georeference.pick_target", scan=k + 1, x=x, y=y, z=z)
    joined = must(workspace, row, "register.automatic")
    job = opened(workspace, row)
    assert [len(i) for i in joined["islands"]] == [3] and len(job.scans(placed=True)) == 3
    across = rigid.inverse(job.scan(2).pose) @ job.scan(3).pose
    shift, turn = rigid.difference(across, rigid.inverse(truth[1]) @ truth[2])
    sigma = np.sqrt(np.diag(np.array(job.scan(3).pose_record["covariance"])))
    assert turn < 0.002 and 0.0005 < sigma[3:].max() < 0.3


def test_the_same_file_twice_is_told_by_its_points(tmp_path, workspace, alone):
    row = queries.create_job(workspace, "Twice")
    write_room(tmp_path / "r.e57", names=("A", "B"), rows=100, columns=240)
    for _ in range(2):
        must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    must(workspace, row, "register.automatic")
    said = opened(workspace, row).facts("standing")
    assert [said[str(k)]["doubt"] for k in (1, 2)] == [None, None]  # the first of each is not in doubt by it
    assert all("the very same points as scan" in said[str(k)]["doubt"] for k in (3, 4))


@pytest.mark.parametrize(("places", "says"), [(0, "another."), (1, "one place is"), (3, "3 places are")])
def test_a_scan_aside_has_its_guesses_to_choose_from(places, says):
    kept = {("pose", 1): {"matrix": np.eye(4).tolist()}}
    job = Made(
        get=lambda kind, key: kept.get((kind, key)),
        put=lambda kind, key, value, scan: kept.update({(kind, key): value}),
    )
    guesses = [rigid.make(np.eye(3), np.array([x, 2.0, 0.0])) for x in range(places)]
    found = Made(poses=[np.eye(4), None], island=[1, 0], doubt=["", ""], rivals=[[], guesses])
    scans = [Made(id=k, name=f"s{k}", points=9) for k in (1, 2)]
    standing.put_standing(job, scans, found, {"says": "", "unsettled": {}, "loose": {}}, {0})
    said = kept["standing", 2]
    assert said["island"] is None and says in said["doubt"] and len(said["alternatives"]) == places
    assert [m[1][3] for m in said["alternatives"]] == [2.0] * places


@pytest.mark.parametrize(
    ("ways", "doubted"),
    [
        ({(0, 1): None, (1, 2): None, (2, 3): 0.0}, {3}),  # one sliding tie alone
        ({(0, 1): None, (1, 2): None, (2, 3): 0.0, (1, 3): 80.0}, set()),  # two that hold each other's way
        ({(0, 1): None, (1, 2): None, (2, 3): 0.0, (1, 3): 10.0}, {3}),  # two that slide alike
        ({(0, 1): None, (2, 3): None, (1, 2): 30.0, (0, 3): 20.0}, {2, 3}),  # a block of two
        ({(0, 1): None, (1, 2): None, (2, 3): 0.0, (0, 3): None}, set()),  # another one is firm
        ({(0, 1): 41.0, (0, 2): 134.0, (1, 3): 15.0}, {1, 2, 3}),  # one behind the other, none as the other
    ],
)
def test_what_only_sliding_ties_join_is_doubted(workspace, ways, doubted):
    """Ties of which each slides one way (degrees in plan) or is firm, in one island of four scans."""

    def fit(way, slopes=False):
        held, sloping = np.eye(3), ()
        if way is not None:
            along = np.array([np.cos(np.radians(way)), np.sin(np.radians(way)), 0.0])
            held -= 0.9999 * np.outer(along, along)
            sloping = (along,) if slopes else (np.cross(along, [0, 0, 1.0]),)
        information = np.kron(np.diag([1.0, 0.0]), np.eye(3)) * 10 + np.kron(np.diag([0.0, 1.0]), held)
        return Made(information=information, scattered=(), sloping=sloping)

    ties = [Made(a=a, b=b, failed="", fit=fit(w)) for (a, b), w in ways.items()]
    scans = [Made(id=k + 1) for k in range(4)]
    job = opened(workspace, queries.create_job(workspace, "Ties"))
    results = [([0, 1, 2, 3], object(), set())]
    found = looseness.sliding(job, scans, results, ties, [np.eye(4)] * 4, set())
    assert {k - 1 for k in found} == doubted and all("slides towards" in v for v in found.values())
    kept = looseness.sliding(job, scans, results, ties, [np.eye(4)] * 4, {3})
    assert 4 not in kept, "what stays is what the others are judged against"
    by_slopes = [Made(a=t.a, b=t.b, failed="", fit=fit(ways[t.a, t.b], True)) for t in ties]
    assert looseness.sliding(job, scans, results, by_slopes, [np.eye(4)] * 4, set()) == {}


@pytest.mark.parametrize(
    ("gone", "fixed", "told"), [(2, set(), {2}), (0, set(), {0}), (2, {0}, {2}), (0, {0}, {1, 2, 3})]
)
def test_the_scan_that_the_adjustment_carried_away_is_told_not_the_others(gone, fixed, told):
    """Four scans, all told to the first, which may be the one that went half a metre."""
    before = [rigid.make(rigid.about_z(0.3 * k), np.array([4.0 * k, 1.0, 0.0])) for k in range(4)]
    went = rigid.make(np.eye(3), np.array([0.3, 0.4, 0.0]))
    after = [went @ p if k == gone else p for k, p in enumerate(before)]
    after = [before[0] @ rigid.inverse(after[0]) @ p for p in after]
    results = [([0, 1, 2, 3], Made(poses=after, joint=np.eye(32), variance_factor=1.0), {0})]
    wrong = settling._bounded([Made(id=k + 1) for k in range(4)], before, results, fixed)
    assert {k - 1 for k in wrong} == told and all("0.3 m or 2°" in v for v in wrong.values())


@pytest.mark.parametrize(("loose", "fixed", "told"), [(0, set(), {0}), (2, set(), {2}), (0, {0}, {1, 2, 3})])
def test_one_scan_that_hardly_anything_holds_makes_not_all_others_loose(loose, fixed, told):
    """Four scans 8 m apart held to 1 mm and 6 m°, one of them to 0.1 m and 0.6°, told from the first one."""
    poses = [rigid.make(rigid.about_z(0.3 * k), np.array([8.0 * k, 1.0, 0.0])) for k in range(4)]
    known = np.zeros((24, 24))
    for a, b in [(0, 1), (1, 2), (2, 3), (1, 3), (0, 3)]:
        design = np.hstack(graph._rows(poses[b][:3, 3], poses[a][:3, 3], poses[b][:3, 3]))
        here = np.r_[6 * a : 6 * a + 6, 6 * b : 6 * b + 6]
        sigma = np.repeat([1e-4, 1e-3], 3) * (100 if loose in (a, b) else 1)
        known[np.ix_(here, here)] += design.T @ np.diag(sigma**-2) @ design
    members = [4, 5, 6, 7]
    adjusted, stay = settling._from_a_sure_one(
        members, network.by_ties(poses, known, {0}), {4}, {members[k] for k in fixed}
    )
    held = {members[k] for k in fixed}
    scans = [Made(id=k) for k in range(8)]
    found = looseness.loosely_held(scans, [(members, adjusted, stay)], held)
    assert {k - 4 for k in found} == told
    assert all(30 < mm < 300 for mm, _ in looseness.loose_of(adjusted, sorted(fixed)).values())
    assert stay == ({4} if fixed or loose else {5})


@pytest.mark.parametrize(
    ("mm", "degrees", "told"),
    [
        (2.0, 0.02, None),
        (12.0, 0.02, "to 12 mm only"),
        (2.0, 0.1, "in its turn to 0.10° only"),
        (12.0, 0.1, "to 12 mm and in its turn to 0.10° only"),
    ],
)
def test_a_scan_whose_place_or_turn_is_held_loosely_is_doubted(mm, degrees, told):
    joint = np.zeros((18, 18))
    sigma = np.array([1e-5, 1e-5, np.radians(degrees), mm / 1000, 1e-4, 1e-4])
    joint[12:, 12:] = np.diag(sigma**2)
    found = looseness.loosely_held(
        [Made(id=k + 1) for k in range(3)], [([0, 1, 2], Made(joint=joint), {0})], {0}
    )
    assert set(found) == ({3} if told else set()) and (not told or told in found[3])


@pytest.mark.parametrize(
    ("factor", "moved", "told"),
    [(1.0, 0.03, set()), (6.0, 0.03, {2}), (6.0, 0.005, set()), (6.0, 0.5, {2})],
)
def test_what_surfaces_that_do_not_fit_have_moved_is_doubted(factor, moved, told):
    before = [rigid.make(np.eye(3), np.array([4.0 * k, 0.0, 0.0])) for k in range(4)]
    after = [
        rigid.make(np.eye(3), np.array([0, moved, 0])) @ p if k == 2 else p for k, p in enumerate(before)
    ]
    results = [([0, 1, 2, 3], Made(poses=after, joint=np.eye(32), variance_factor=factor), {0})]
    wrong = settling._bounded([Made(id=k + 1) for k in range(4)], before, results, {0})
    assert {k - 1 for k in wrong} == told
    assert all(("0.3 m" if moved > 0.3 else "2.4 times") in says for says in wrong.values())


@pytest.mark.parametrize(
    ("off", "free", "only", "doubted"),
    [
        (0.05, (), {(2, 3), (1, 3)}, {4}),  # two ties leave it behind, and the others of those have more
        (0.05, (), {(2, 3)}, {3, 4}),  # a tie is all that either has
        (0.05, (np.array([0.0, 1.0, 0.0]),), {(2, 3)}, set()),  # nothing holds it along that
        (0.001, (), {(2, 3)}, set()),
    ],
)
def test_what_an_adjustment_puts_where_ties_say_that_it_is_not_is_doubted(off, free, only, doubted):
    rest = [rigid.make(np.eye(3), np.array([4.0 * k, 0, 0])) for k in range(4)]
    pairs = {(0, 1), (0, 2), (1, 2)} | only if len(only) > 1 else only
    ties = []
    for a, b in sorted(pairs):
        pose = rigid.inverse(rest[a]) @ rest[b]
        pose[1, 3] += off if 3 in (a, b) else 0.0
        fit = cloud_fit.Fit(
            pose, 0.002, 0.001, 0.5, 900, np.diag([1e5] * 3 + [1e4] * 3), pose[:3, 3], True, free
        )
        ties.append(linking.Tie(a, b, fit, 0.5, 0.0))
    told = judging.left_behind([Made(id=k + 1) for k in range(4)], ties, rest, {0})
    assert set(told) == doubted
    assert all("50 mm" in says for says in told.values())
    assert judging.left_behind([Made(id=k + 1) for k in range(4)], ties, rest, {0, 2, 3}) == {}


@pytest.mark.parametrize("ends", ["there", "nowhere", "failed"])
def test_a_tie_that_ended_aside_is_fitted_again_where_all_others_put_its_scans(monkeypatch, ends):
    poses = [rigid.make(rigid.about_z(0.4 * k), np.array([5.0 * k, 0.5 * k, 0.0])) for k in range(4)]
    between = lambda a, b: rigid.inverse(poses[a]) @ poses[b]

    def tie(a, b, pose, weight):
        information = weight * np.diag([1e7] * 3 + [1e6] * 3)
        fit = cloud_fit.Fit(pose, 0.002, 0.001, 0.5, 900, information, np.zeros(3), True)
        return linking.Tie(a, b, fit, 0.5, 0.0)

    off = rigid.step(between(0, 3), np.array([0, 0, 0.008]), np.array([0.03, 0.02, 0]), np.zeros(3))
    ties = [tie(a, b, between(a, b), 1.0) for a, b in [(0, 1), (1, 2), (2, 3), (0, 2), (1, 3)]]
    ties.append(replace(tie(0, 3, off, 1e-3), weight=0.5))
    asked = []

    def again(_, __, a, b, start):
        asked.append((a, b, start))
        good = replace(tie(a, b, between(a, b), 1e-3), failed="overlap under 3 %" if ends == "failed" else "")
        return None if ends == "nowhere" else good

    monkeypatch.setattr(linking, "fit_near", again)
    found = settling._where_all_agree(ties, [], [], poses, {0})
    assert {(a, b) for a, b, _ in asked} == {(0, 3)}
    assert all(rigid.within(start, between(0, 3), (0.005, 0.001)) for *_, start in asked)
    assert found[:5] == ties[:5] and (found[5] is ties[5]) == (ends != "there")
    assert found[5].weight == 0.5, "what was decided by hand stays"


def test_a_tie_that_is_asked_for_is_tried_and_told_where_it_cannot_be(tmp_path, workspace, monkeypatch):
    write_room(tmp_path / "room.e57", posed=True)
    row = queries.create_job(workspace, "Asked")
    must(workspace, row, "import.files", files=[str(tmp_path / "room.e57")])
    monkeypatch.setattr("terrazza.core.register.linking.COMMON", 2.0)  # no overlap is enough by itself
    assert "asked for" in must(workspace, row, "register.tie", a=2, b=1, weight=2.0)["says"]
    figures = must(workspace, row, "register.adjust", least_overlap=0.9)
    job = opened(workspace, row)
    assert list(job.facts("tie")) == ["1-2"] and job.get("tie", "1-2")["overlap"] > 0.3
    assert not any("asked for" in d for d in figures["doubt"])
    must(workspace, row, "register.tie", a=1, b=2, on=False)
    assert must(workspace, row, "register.tie", a=1, b=2)["says"].startswith("Tie 1 – 2 switched on")
    assert opened(workspace, row).get("tie_choice", "1-2")["asked"], "it stays asked for"
    must(workspace, row, "register.set_pose", scan=3, x=300, y=0, z=0, heading_deg=0)
    must(workspace, row, "register.tie", a=1, b=3)
    figures = must(workspace, row, "register.adjust", least_overlap=0.9)
    assert any("Scans 1 and 3 share too little" in d for d in figures["doubt"]), figures["doubt"]
    assert "1-2" in opened(workspace, row).facts("tie")
