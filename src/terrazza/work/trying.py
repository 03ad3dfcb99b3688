"""The lane of try-outs: a process of its own that asks a rule about a piece of the points and writes nothing.

A try-out is cancelled by its successor; one that does not hear of it is ended with its process.
"""

import contextlib
import multiprocessing
import os
import signal
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from terrazza.errors import StateError, TerrazzaError

PATIENCE = 3.0
LOOK = 0.02
MOST = 5_000_000  # points of a piece that are asked about
SHOWN = 300_000  # points that are shown of what would go


class Lane:
    """Asks in one warm child, one try-out at a time."""

    def __init__(self, workspace: str):
        self.workspace, self.context = workspace, multiprocessing.get_context("spawn")
        self.turn, self.lock = threading.Lock(), threading.Lock()
        self.latest, self.child = 0, None
        # a child dies with the *thread* that started it, and those of requests come and go
        self.starter = ThreadPoolExecutor(1, "try-outs")

    def ask(self, job: int, operation: str, params: dict, region: dict) -> dict[str, Any] | None:
        """What would happen (see ``tried``); None where a later try-out has taken its place.

        TerrazzaError where it cannot be tried, in the operation's own words.
        """
        with self.lock:
            self.latest += 1
            mine = self.latest
            if self.child is not None:
                self.child[2].set()  # what runs is overtaken
        with self.turn:
            if mine != self.latest:
                return None
            try:
                kind, answer = self._answer(mine, (job, operation, params, region))
            except (OSError, EOFError) as error:
                self._end()
                raise StateError("The try-out's process ended.", "Try a smaller piece.") from error
        if kind == "error":
            raise StateError(*answer)
        return answer if kind == "done" and mine == self.latest else None

    def _answer(self, mine: int, order: tuple) -> tuple[str, Any]:
        """What the child answers; OSError or EOFError where it is gone."""
        process, orders, stop = self._warm()
        stop.clear()
        orders.send(order)
        asked = None
        while not orders.poll(LOOK):
            if not process.is_alive():
                raise EOFError
            if mine != self.latest:
                asked = asked or time.monotonic()
                if time.monotonic() - asked > PATIENCE:
                    self._end()
                    return "stopped", None
        return orders.recv()

    def _warm(self):
        if self.child is None or not self.child[0].is_alive():
            mine, theirs = self.context.Pipe()
            stop = self.context.Event()
            process = self.context.Process(target=serve, args=(self.workspace, theirs, stop))
            self.starter.submit(process.start).result()
            theirs.close()
            self.child = process, mine, stop
        return self.child

    def close(self) -> None:
        """End the child, and begin no other."""
        self._end()
        self.starter.shutdown()

    def _end(self) -> None:
        if self.child is not None:
            process, orders, _ = self.child
            self.child = None
            orders.close()
            with contextlib.suppress(ProcessLookupError, PermissionError):
                if os.getpgid(process.pid) == process.pid:
                    os.killpg(process.pid, signal.SIGKILL)  # with its helpers
            process.kill()
            process.join(PATIENCE)


class _Progress:
    def __init__(self, stop):
        self.stop = stop

    def advance(self, done: float, total: float, label: str = "") -> None:
        from terrazza.errors import Cancelled

        if self.stop.is_set():
            raise Cancelled()


def serve(workspace: str, orders, stop) -> None:
    """Answer one try-out after another, as the head of a group of its own."""
    os.setsid()
    from terrazza.fleet.lifeline import die_with_parent

    die_with_parent()
    import terrazza.operations  # noqa: F401
    from terrazza.db.schema import open_database
    from terrazza.errors import Cancelled, understood

    open_database(workspace)
    while True:
        try:
            job, operation, params, region = orders.recv()
        except (EOFError, OSError):
            return
        try:
            orders.send(("done", tried(workspace, job, operation, params, region, _Progress(stop))))
        except Cancelled:
            orders.send(("stopped", None))
        except TerrazzaError as error:
            orders.send(("error", (error.message, error.hint)))
        except Exception as error:
            known = understood(error)
            said = (known.message, known.hint) if known else (f"{type(error).__name__}: {error}", "")
            orders.send(("error", said))


def tried(workspace: str, job: int, operation: str, params: dict, region: dict, progress) -> dict[str, Any]:
    """Ask an operation's preview about the points of a region (planes in the grid or job frame less
    ``origin``): ``figures``, ``whole`` (whether these are all points in view), ``revision``, ``seconds``, and
    ``points`` (n, 3) float32, places of what would go, or where it would go to (an even share of many), less
    the origin.
    """
    import numpy as np

    from terrazza.core.geometry import rigid
    from terrazza.db import queries
    from terrazza.operations.clean.trying import Piece
    from terrazza.operations.spine.base import find
    from terrazza.operations.spine.job import Job
    from terrazza.store import regions

    started = time.monotonic()
    kind, opened = find(operation), Job(workspace, queries.job_by(id=job))
    if not kind.tries:
        raise StateError(f"{kind.title} has no try-out.", "Run it, and undo it where it is not right.")
    origin, clouds = np.array(region["origin"]), []
    for scan in opened.scans(region["scans"] or None, placed=True):
        pose = opened.grid_pose(scan).copy()
        pose[:3, 3] -= origin
        clouds.append((scan.id, opened.cloud(scan.id), pose))
    wanted = regions.Region(
        tuple(np.array(p, float) for p in region["pieces"]),
        np.array(region["but"], float).reshape(-1, 4),
        tuple(region["hidden"]),
    )
    found, whole = regions.points([(cloud, pose) for _, cloud, pose in clouds], wanted, MOST)
    piece = Piece({k: index for (k, _, _), index in zip(clouds, found) if len(index)}, whole)
    if not piece.points:
        raise StateError("There are no placed points in view.", "Look at some, then try again.")
    result = kind().preview(opened, kind.check(params), piece, progress)
    share = min(1.0, SHOWN / max(sum(map(len, result.gone.values())), 1))
    places = [np.zeros((0, 3))]
    for number, cloud, pose in clouds:
        index = result.gone.get(number, np.zeros(0, np.int64))
        step = max(int(round(1 / share)), 1)
        if number in result.places:
            places.append(result.places[number][::step] - origin)
        elif len(index):
            places.append(rigid.apply(pose, cloud.at(index[::step])))
    return {
        "figures": result.figures,
        "whole": whole,
        "revision": opened.revision,
        "seconds": time.monotonic() - started,
        "points": np.concatenate(places).astype(np.float32),
    }
