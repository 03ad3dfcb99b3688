"""Kinds of facts: the undeclared is refused, the malformed is said, what is of a scan goes with it."""

import pytest

from terrazza.db import queries
from terrazza.errors import TerrazzaError
from terrazza.operations.spine.base import all_operations
from terrazza.operations.spine.facts import KINDS, OF_A_SCAN, files_of, kind_of
from tests.run import must, opened


def test_every_operation_writes_and_reads_known_kinds_alone():
    for operation in all_operations():
        assert operation.reads | operation.writes <= set(KINDS), operation.name
    assert set().union(*(o.writes for o in all_operations())) == set(KINDS)


@pytest.mark.parametrize(
    "kind, key, value, says",
    [
        ("pose", "1", {"matrix": "none"}, "A pose “1” is malformed: matrix"),
        ("left_out", "1", "yes", "A left_out “1” is malformed"),
        ("target", "3", {"scan": 1, "centre": [0.0, 1.0], "dropped": False}, "sigma Field required"),
        ("column", "1/cut", ["a", 3], "malformed: 1"),
        ("frame", "", {"matrix": [[float("nan")]], "how": "level"}, "malformed: matrix.0.0"),
    ],
)
def test_a_malformed_value_is_said(kind, key, value, says):
    with pytest.raises(TerrazzaError, match=says):
        kind_of(kind).check(key, value)


def test_undeclared_kinds_are_refused(copied):
    row = queries.job_by(name="Whole")
    with pytest.raises(TerrazzaError, match="No kind of fact is named whim"):
        opened(copied, row).put("whim", "", True)
    job = opened(copied, row)
    job.entry = queries.add_entry(row, "register.leave_out", 1, {}, "test", "running")
    with pytest.raises(TerrazzaError, match="register.leave_out puts a pose, which it does not declare"):
        job.put("pose", 1, None)


def test_all_that_belongs_to_a_scan_goes_with_it(copied):
    row = queries.job_by(name="Whole")
    must(copied, row, "register.leave_out", scan=3)
    must(copied, row, "register.tie", a=3, b=1, on=False)
    job = opened(copied, row)
    before = {kind: job.facts(kind) for kind in OF_A_SCAN}
    must(copied, row, "import.remove_scan", scan=3)
    after, went = opened(copied, row), 0
    for kind, values in before.items():
        there = {k for k, v in values.items() if 3 not in KINDS[kind].scans(k, v)}
        assert set(after.facts(kind)) == there, kind
        went += len(there) < len(values)
    assert went >= 7


def test_files_of_facts_are_named_by_their_kinds():
    assert files_of("column", 4, ["a.npy", "b.npy"]) == [("scans/4", "a.npy"), ("scans/4", "b.npy")]
    assert files_of("photo", 1, {"file": "p.jpg"}) == [("photos", "p.jpg")]
    assert files_of("pin", None, {"name": "P", "picture": ""}) == []
    assert files_of("array", None, "joint.e1.0.npy") == [("arrays", "joint.e1.0.npy")]
    assert files_of("array", None, None) == files_of("gone", None, {"file": "x"}) == []
