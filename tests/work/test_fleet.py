"""Pieces over spawned processes: order, progress, errors and cancel."""

import os

import pytest

from terrazza.errors import Cancelled, InputError, TerrazzaError
from terrazza.fleet import Local


class Watch:
    def __init__(self, stop_at=None):
        self.seen, self.stop_at = [], stop_at

    def advance(self, done, total, label=""):
        self.seen.append((done, total, label))
        if self.stop_at is not None and done >= self.stop_at:
            raise Cancelled()


def square(piece, progress):
    progress.advance(piece, piece)
    return piece * piece, os.getpid()


def failing(piece, progress):
    raise InputError("The third is bad.", "Mend it.") if piece == 3 else None or InputError("x")


def endless(piece, progress):
    import time

    for k in range(2000):
        progress.advance(k, 2000)
        time.sleep(0.005)


def dying(piece, progress):
    os._exit(1)


@pytest.mark.parametrize("cores", [1, 2])
def test_results_come_in_order(cores):
    watch = Watch()
    results = Local(cores).map(square, [1, 2, 3, 4], [1.0, 2.0, 3.0, 4.0], watch, "Squaring")
    assert [r[0] for r in results] == [1, 4, 9, 16]
    assert (os.getpid() in {r[1] for r in results}) == (cores == 1)
    assert watch.seen[-1] == (10.0, 10.0, "Squaring")
    assert all(a[0] <= b[0] for a, b in zip(watch.seen, watch.seen[1:]))


def test_one_piece_stays_in_this_process():
    assert Local(2).map(square, [7], [7.0], Watch(), "One") == [(49, os.getpid())]
    assert Local(2).map(square, [], [], Watch(), "None") == []


def test_errors_keep_their_words():
    with pytest.raises(InputError):
        Local(2).map(failing, [3, 3], [1.0, 1.0], Watch(), "Failing")


def test_cancel_reaches_the_pieces():
    with pytest.raises(Cancelled):
        Local(2).map(endless, [1, 2], [2000.0, 2000.0], Watch(stop_at=10), "Endless")


def test_a_dead_helper_is_said():
    with pytest.raises(TerrazzaError, match="helper process died"):
        Local(2).map(dying, [1, 2], [1.0, 1.0], Watch(), "Dying")


def test_light_work_goes_to_processes_that_are_there_already(monkeypatch):
    monkeypatch.setattr("terrazza.fleet.local.FEW", 3)
    fleet, here = Local(2), os.getpid()
    light = lambda sizes: {pid for _, pid in fleet.map(square, [1, 2], sizes, Watch(), "Light", light=True)}
    assert light([2.0, 2.0]) == {here}
    fleet.map(square, [1, 2, 3], [1.0] * 3, Watch(), "Heavy")
    assert here not in light([2.0, 2.0]) and light([1.0, 1.0]) == {here}
    fleet.close()
