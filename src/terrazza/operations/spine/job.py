"""A job as operations see it: facts, scans, point columns; writes are gathered and committed at once."""

import contextlib
import os
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.db import queries
from terrazza.db.models import Entry, database
from terrazza.db.models import Job as Row
from terrazza.errors import NotFound, StateError, TerrazzaError
from terrazza.files import checksum, disk
from terrazza.fleet import Local
from terrazza.operations.spine import commit, snapshot
from terrazza.operations.spine.base import known
from terrazza.operations.spine.facts import kind_of
from terrazza.operations.spine.reach import Reach
from terrazza.store.cloud import Cloud

# What every sentence and every cloud needs.
ALWAYS_READ = frozenset({"scan", "pose", "column", "shelf", "frame", "notation", "class_name", "layer"})
FOLDERS = ("scans", "photos", "drawings", "deliverables", "pictures", "arrays", "inbox")


@dataclass
class Scan:
    """One scan: its number (from 1), its record, and its pose scan → job (None where not placed)."""

    id: int
    record: dict
    pose: np.ndarray | None
    pose_record: dict

    @property
    def name(self) -> str:
        return self.record["name"]

    @property
    def points(self) -> int:
        return int(self.record["points"])


class Job(Reach):
    """Facts of one job, read as they were when it was opened plus what this run has put.

    ``entry`` is the field-book line that is running, None for reading only.  ``inputs`` and ``out`` are the
    files and the folder for deliverables that a command line gave, ``search`` folders to look for files in,
    ``may_read`` those that the page may read.  While ``watched``, operations may only read the kinds of
    facts that they declare.
    """

    watched = False

    def __init__(
        self,
        workspace: str,
        row: Row,
        entry: Entry | None = None,
        fleet=None,
        inputs: list[str] | None = None,
        out: str = "",
    ):
        self.workspace, self.row, self.entry = workspace, row, entry
        self.fleet = fleet or Local()
        self.inputs, self.out = inputs or [], out
        self.search: list[str] = []
        self.may_read: list[str] = []
        self.folder = os.path.join(workspace, "jobs", row.folder)
        self._snapshot = snapshot.Snapshot(row) if entry is None else None
        self.revision = self._snapshot.revision if self._snapshot else queries.revision(row.id)
        self._facts: dict[str, dict] = {}
        self._columns: dict[int, dict[str, list[str]]] | None = None
        self.puts: dict[tuple[str, str], tuple] = {}
        self.marks: list[tuple[int, str]] = []

    def settle(self) -> None:
        """Read, at one moment, all that the operation says it reads, so that light ones may go on beside it;
        the moment is the entry's ``revision``.
        """
        operation = known(self.entry.operation)
        with database.atomic():
            self.revision = self.entry.revision = queries.revision(self.row.id)
            for kind in sorted(operation.reads | operation.looks | operation.writes | ALWAYS_READ):
                self.facts(kind)

    # --- facts

    def facts(self, kind: str) -> dict:
        """Values of one kind by key, in the order of their keys (numbers as numbers); those of a job that is
        open for reading are shared, and not to be changed.
        """
        if kind not in self._facts:
            self._need_declared(kind, "read")
            self._facts[kind] = (
                self._snapshot.facts(kind) if self._snapshot else snapshot.read(self.row.id, kind)
            )
        return self._facts[kind]

    def once(self, what: Any, make: Callable[[], Any], of: tuple[str, ...] = ()) -> Any:
        """What ``make`` gives; for a job that is open for reading it is made once a revision, or once as long
        as no fact of the kinds ``of`` changes.
        """
        return self._snapshot.once(what, make, of) if self._snapshot else make()

    def get(self, kind: str, key: str = "", default=None):
        return self.facts(kind).get(str(key), default)

    def put(self, kind: str, key, value, scan: int | None = None) -> None:
        """Set a fact when this run is committed; ``value`` None removes it."""
        key = str(key)
        self._need_declared(kind, "put")
        kind_of(kind)
        self.facts(kind)
        if self._snapshot:
            raise StateError("This job is open for reading only.")
        if kind == "column":
            self._columns = None
        if value is not None:
            kind_of(kind).check(key, value)
        self.puts[(kind, key)] = (value, scan)
        if value is None:
            self._facts[kind].pop(key, None)
        else:
            self._facts[kind][key] = value

    def _need_declared(self, kind: str, what: str) -> None:
        """TerrazzaError where the operation that runs does not say that it writes facts of a kind, or, while
        tests watch, that it reads them.
        """
        operation = known(self.entry.operation) if self.entry is not None else None
        if operation is None or kind in operation.writes:
            return
        if what == "put":
            raise TerrazzaError(f"{operation.name} puts a {kind}, which it does not declare.")
        kind_of(kind)
        if self.watched and kind not in operation.reads | operation.looks | ALWAYS_READ:
            raise TerrazzaError(f"{operation.name} reads a {kind}, which it does not declare.")

    def next_number(self, kind: str) -> int:
        """A number for a new fact of a kind that no other of the job ever had, nor gets in this run."""
        mine = [int(key) for k, key in self.puts if k == kind and key.isdecimal()]
        return max(queries.next_number(self.row.id, kind), *(n + 1 for n in mine), 1)

    def next_photo(self, scan: int) -> int:
        """A number for a new photo of a scan that none of its photos ever had (they are named
        scan-number).
        """
        return 1 + max(
            (int(k.partition("-")[2]) for k in queries.keys_ever(self.row.id, "photo", f"{scan}-")),
            default=-1,
        )

    def clear(self, kind: str) -> None:
        """Remove every fact of a kind when this run is committed."""
        for key in list(self.facts(kind)):
            self.put(kind, key, None)

    def mark(self, number: int, state: str) -> None:
        """Set the state of another entry when this run is committed."""
        self.marks.append((number, state))

    # --- the field book

    def last_entries(self) -> dict[str, Entry]:
        """The last living entry of each operation, by name."""
        return self.once("last entries", lambda: queries.last_entries(self.row.id))

    def last_of_step(self, start: str, figure: str = "") -> Entry | None:
        """The last living entry of the operations whose names begin with ``start``, with that figure where
        one is named.
        """
        found = [
            e
            for name, e in self.last_entries().items()
            if name.startswith(start) and (not figure or figure in (e.figures or {}))
        ]
        return max(found, key=lambda e: e.number, default=None)

    def entries(self, operation: str) -> list[Entry]:
        """Living entries of one operation, oldest first."""
        return self.once(("entries", operation), lambda: queries.done_entries(self.row, operation))

    # --- scans and their columns

    def scans(self, chosen: list[int] | None = None, placed: bool = False) -> list[Scan]:
        """Scans in file order; ``chosen`` limits to numbers (NotFound for a wrong one); ``placed`` to those
        with a pose.
        """
        found = self.once("scans", self._all_scans, ("scan", "pose"))[:]
        if chosen:
            wrong = set(chosen) - {s.id for s in found}
            if wrong:
                raise NotFound(
                    f"This job has no scan {min(wrong)}.",
                    f"Its scans are {', '.join(str(s.id) for s in found) or 'none yet'}.",
                )
            found = [s for s in found if s.id in set(chosen)]
        return [s for s in found if s.pose is not None] if placed else found

    def _all_scans(self) -> list[Scan]:
        poses, found = self.facts("pose"), []
        for key, record in self.facts("scan").items():
            pose = poses.get(key) or {}
            matrix = np.array(pose["matrix"]) if pose.get("matrix") else None
            if matrix is not None and self._snapshot:
                matrix.setflags(write=False)
            found.append(Scan(int(key), record, matrix, pose))
        return found

    def scan(self, number: int) -> Scan:
        found = self.once("scan by number", self._by_number, ("scan", "pose")).get(number)
        return found or self.scans([number])[0]

    def need_scans(self, chosen: list[int] | None = None, placed: bool = False, why: str = "") -> list[Scan]:
        """Like ``scans``, but StateError where none are there."""
        found = self.scans(chosen, placed)
        if not found:
            if placed and self.facts("scan"):
                raise StateError(f"No scan is placed yet{why}.", "Register the scans first.")
            raise StateError("The job has no scans yet.", "Import some first.")
        return found

    def scan_folder(self, number: int) -> str:
        return os.path.join(self.folder, "scans", str(number))

    def _by_number(self) -> dict[int, Scan]:
        return {s.id: s for s in self.scans()}

    def cloud(self, number: int, delivering: bool = False) -> Cloud:
        """The scan's columns at the versions of this moment; with ``delivering`` its shelves are kept apart
        as deliverables have them.
        """
        record = self.facts("scan")[str(number)]
        return Cloud(self.scan_folder(number), self.columns(number), record, self.apart(delivering))

    def apart(self, delivering: bool = False) -> tuple[int, ...]:
        """Numbers of the shelves whose points are kept out of views and work, or out of deliverables."""
        out = (lambda v: not v["delivered"]) if delivering else (lambda v: v["apart"])
        return tuple(int(k) for k, v in self.facts("shelf").items() if out(v))

    def columns(self, number: int) -> dict[str, list[str]]:
        """The files of a scan's columns by name."""
        if self._columns is None:
            self._columns = self.once("columns", self._columns_by_scan, ("column",))
        return dict(self._columns.get(number, {}))

    def _columns_by_scan(self) -> dict[int, dict[str, list[str]]]:
        found: dict[int, dict[str, list[str]]] = {}
        for key, files in self.facts("column").items():
            scan, _, name = key.partition("/")
            found.setdefault(int(scan), {})[name] = files
        return found

    def put_column(self, number: int, name: str, files: list[str]) -> None:
        """Point a column of a scan to new block files, which are on the disk already (their names are made
        durable here).
        """
        disk.sync(self.scan_folder(number))
        self.put("column", f"{number}/{name}", files, scan=number)

    def write_array(self, name: str, values: np.ndarray) -> None:
        """Keep an array that is too large for a fact (for example a joint covariance)."""
        folder, file = (
            self.subfolder("arrays"),
            f"{name}.{self.version}.{checksum(np.ascontiguousarray(values))}.npy",
        )
        disk.write_array(os.path.join(folder, file), values)
        disk.sync(folder)
        self.put("array", name, file)

    def array(self, name: str) -> np.ndarray | None:
        file = self.get("array", name)
        return None if file is None else np.load(os.path.join(self.folder, "arrays", file))

    @property
    def version(self) -> str:
        """What makes the file names of this run unique."""
        if self.entry is None:
            raise StateError("This job is open for reading only.")
        return f"e{self.entry.number}"

    @contextlib.contextmanager
    def scratch(self):
        """A folder for what this run needs only while it runs, on the job's own disk."""
        where = "scratch" if self.entry is not None else "trials"  # nobody sweeps under a look's feet
        with tempfile.TemporaryDirectory(prefix="run.", dir=self.subfolder(where)) as folder:
            yield folder

    def subfolder(self, name: str) -> str:
        path = os.path.join(self.folder, name)
        os.makedirs(path, exist_ok=True)
        return path

    # --- frames

    @property
    def frame(self) -> np.ndarray:
        """4×4 from the job frame to the grid; the identity while the job is not georeferenced."""
        return self.once("frame", self._frame, ("frame",))

    def _frame(self) -> np.ndarray:
        value = self.get("frame")
        frame = np.eye(4) if value is None else np.array(value["matrix"])
        if self._snapshot:
            frame.setflags(write=False)
        return frame

    @property
    def georeferenced(self) -> bool:
        return self.get("frame") is not None

    def grid_pose(self, scan: Scan) -> np.ndarray:
        """4×4 from the scan to what readouts and files show (the grid, or the job frame while
        there is none).
        """
        if self._snapshot is None:
            return self.frame @ scan.pose
        kept = self.once("grid poses", dict, ("scan", "pose", "frame"))
        if scan.id not in kept:
            pose = self.frame @ scan.pose
            pose.setflags(write=False)
            kept[scan.id] = pose
        return kept[scan.id]

    def adjusted(self) -> list[int]:
        """Numbers of the scans in the joint covariance of the last network adjustment, in its order."""
        network = self.get("network")
        return network["scans"] if network else []

    def commit(self, figures: dict, seconds: float, light: bool = False) -> None:
        """All changes and the entry's state in one transaction; see ``commit.commit``."""
        commit.commit(self, figures, seconds, light)


def covariance_of(record: dict) -> np.ndarray | None:
    """(6, 6) covariance of (rotation, shift) in the job frame that a pose record carries, or None."""
    value = record.get("covariance")
    return None if value is None else np.array(value)


def plain(pose: np.ndarray) -> list:
    """A pose as nested lists, for a fact."""
    return [[float(v) for v in row] for row in pose]
