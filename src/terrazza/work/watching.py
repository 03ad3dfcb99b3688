"""A watched folder: what is laid into it becomes jobs, run by a recipe without hands.

A *set* is a subfolder, or a file of points lying loose with the files named after it.  It is taken once its
sizes have been at rest for a while, becomes a job of the workspace, and ends in ``done`` or ``failed`` beside
it, with what was given, the deliverables and a short text.

Whenever the process ends, it goes on where it was: a job knows which set it was made of and how far its
recipe is (``course``); an end is written down before the first file moves, every move can be made twice, and
what ends is built up aside and appears in one rename.
"""

import contextlib
import fcntl
import fnmatch
import glob
import json
import os
import shutil
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from terrazza.db import queries
from terrazza.db.models import Entry, database
from terrazza.db.models import Job as Row
from terrazza.errors import BusyError, InputError, StateError, TerrazzaError
from terrazza.files import disk, second_name
from terrazza.operations.pieces import reading
from terrazza.operations.spine import course
from terrazza.operations.spine.base import find, title
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.recipe import Recipe
from terrazza.work.runner import run_entry
from terrazza.work.summary import summary

WHO = "watched folder"
KEY = "watched"
ASIDE = ".terrazza"  # in the watched folder: ends under construction, and what could not be moved
DONE, FAILED, GIVEN = "done", "failed", "given"
UNFINISHED = (".part", ".partial", ".tmp", ".crdownload", ".filepart", ".download", "~")
POINTS = (".e57", ".las", ".laz", ".ptx", ".pts", ".ply", ".pcd", ".xyz", ".asc", ".txt", ".zip")
LOOK = 1.0  # s from one look to the next, at most


@dataclass(frozen=True)
class Set:
    """A job's files: the ``name``, what lies in the watched folder for it (``roots``: a subfolder, or loose
    files), and all files with size and time of change.
    """

    name: str
    roots: tuple[str, ...]
    files: tuple[tuple[str, int, int], ...]

    @property
    def whole(self) -> bool:
        """Whether there are files, and none is known to be on its way."""
        return bool(self.files) and not any(f.lower().endswith(UNFINISHED) for f, _, _ in self.files)


def sets(folder: str, leave: set[str]) -> list[Set]:
    """What lies in a folder, by name; paths in ``leave`` are nobody's."""
    entries = sorted(
        (
            e
            for e in os.scandir(folder)
            if not e.name.startswith(".") and os.path.abspath(e.path) not in leave
        ),
        key=lambda e: e.name,
    )
    found = [
        Set(e.name, (e.path,), _listed(e.path))
        for e in entries
        if e.is_dir() and e.name not in {DONE, FAILED, ASIDE}
    ]
    loose = [e.path for e in entries if e.is_file()]
    stems = {os.path.splitext(os.path.basename(p))[0] for p in loose if p.lower().endswith(POINTS)}
    by_stem: dict[str, list[str]] = {}
    for path in loose:
        mine = [s for s in stems if os.path.basename(path).startswith(s)]
        if mine:
            by_stem.setdefault(max(mine, key=len), []).append(path)
    folders = {s.name for s in found}
    return found + [
        Set(stem if stem not in folders else f"{stem} (files)", tuple(paths), tuple(map(_about, paths)))
        for stem, paths in by_stem.items()
    ]


def _listed(folder: str) -> tuple:
    out = []
    for base, folders, files in os.walk(folder):
        folders[:] = sorted(f for f in folders if not f.startswith("."))
        out += [os.path.join(base, f) for f in sorted(files) if not f.startswith(".")]
    return tuple(map(_about, out))


def _files(root: str) -> tuple:
    """A file, or all files of a folder, with size and time of change."""
    return _listed(root) if os.path.isdir(root) else (_about(root),)


def _about(path: str) -> tuple[str, int, int]:
    try:
        about = os.stat(path)
    except OSError:  # it went while we looked: it is not at rest
        return path, -1, time.time_ns()
    return path, about.st_size, about.st_mtime_ns


def free_name(wanted: str, taken: Callable[[str], bool] = lambda name: False) -> str:
    """A job's name that no job has, and that is not ``taken`` otherwise: numbered where it must be."""
    number, wanted = 2, " ".join(wanted.split())[:100]
    name = wanted
    while Row.get_or_none(name=name) or taken(name):
        name, number = f"{wanted} {number}", number + 1
    return name


def fitted(recipe: Recipe, files: list[str]) -> tuple[Recipe, list[str]]:
    """A filled recipe with its names and patterns of names (“*control*.csv”) that are among ``files`` as
    their paths, and the files of points that no step names.
    """
    wanted, named = recipe.model_copy(deep=True), set()
    for step in wanted.steps:
        for parameter, field in find(step.operation).Params.model_fields.items():
            value = step.params.get(parameter)
            if (field.json_schema_extra or {}).get("role") != "read" or not isinstance(value, str):
                continue
            mine = [f for f in files if fnmatch.fnmatch(os.path.basename(f), os.path.basename(value))]
            if glob.has_magic(value) and len(mine) != 1:
                raise InputError(
                    f"{title(step.operation)} wants one file like “{value}”; there are {len(mine)}.",
                    "Lay it beside the scans, and all together where they were.",
                )
            if mine:
                step.params[parameter] = mine[0]
                named.add(mine[0])
    inputs = [f for f in files if f not in named and f.lower().endswith(POINTS) and not _notes(f)]
    if not inputs:
        raise InputError(
            "There is no file of points among these.", f"Known are {', '.join(v[1:] for v in POINTS)}."
        )
    return wanted, inputs


def _notes(path: str) -> bool:
    """Whether a text file holds no points: notes that came along."""
    if not path.lower().endswith((".txt", ".asc")):
        return False
    try:
        return not reading.look(path).scans
    except InputError:
        return True


def files_of(paths: list[str], leave: tuple[str, ...] = ()) -> list[str]:
    """Files, and all files in folders, of a list of paths; what lies under ``leave`` is left out."""
    out = [f for path in paths for f, _, _ in _files(path)]
    under = tuple(os.path.join(os.path.abspath(v), "") for v in leave)
    return [f for f in out if not os.path.abspath(f).startswith(under)] if under else out


class Watch:
    """One watched folder with its recipe; ``say`` takes a line for whoever looks on, what lies at
    the paths of ``leave`` is nobody's.
    """

    def __init__(
        self,
        folder: str,
        recipe: Recipe,
        beside: str,
        workspace: str,
        say: Callable[[str], None],
        leave: tuple[str, ...] = (),
    ):
        self.folder, self.recipe, self.beside = os.path.abspath(folder), recipe, beside
        self.workspace, self.say = workspace, say
        self.aside = os.path.join(self.folder, ASIDE)
        self.leave = set(map(os.path.abspath, leave))
        self.seen: dict[str, tuple[Set, float]] = {}
        self.failed = 0
        os.makedirs(self.aside, exist_ok=True)

    @contextlib.contextmanager
    def held(self) -> Iterator[None]:
        """Nobody else watches this folder meanwhile; BusyError where somebody does."""
        with open(os.path.join(self.aside, "lock"), "a+", encoding="utf-8") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                raise BusyError(
                    f"“{self.folder}” is being watched already.", "Stop the other command first."
                ) from error
            yield

    def go_on(self) -> None:
        """Finish what an earlier run has begun."""
        for path in sorted(glob.glob(os.path.join(glob.escape(self.aside), "*.end.json"))):
            with open(path, encoding="utf-8") as file:
                self._end(path, json.load(file))
        for row in Row.select():
            about = row.settings.get(KEY)
            if about and about["folder"] == self.folder and about["state"] == "running":
                self._run(row, about["roots"])

    def wait(self, rest: float, once: bool) -> None:
        """Take sets as they come to rest for ``rest`` seconds; ``once``: until all that are there are
        done.
        """
        while True:
            ready, pending = self._look(rest)
            for one in ready:
                self.take(one)
            if once and not ready and not pending:
                return
            if not ready:
                time.sleep(min(LOOK, max(rest / 5, 0.05)))

    def _look(self, rest: float) -> tuple[list[Set], int]:
        """The sets that have been at rest for so long, and how many have not."""
        now, ready, pending, seen = time.monotonic(), [], 0, {}
        for one in sets(self.folder, self.leave):
            if self._kept(one):
                continue
            before = self.seen.get(one.name)
            since = before[1] if before and before[0] == one else now
            seen[one.name] = (one, since)
            if one.whole and now - since >= rest:
                ready.append(one)
            elif one.files:
                pending += 1
        self.seen = seen
        return ready, pending

    def take(self, one: Set) -> None:
        """Make a set a job and run it."""
        taken = lambda n: any(os.path.exists(os.path.join(self.folder, end, n)) for end in (DONE, FAILED))
        name = free_name(one.name, taken)
        self.say(f"{name}: taken, {len(one.files)} files")
        try:
            wanted, inputs = fitted(self.recipe, [f for f, _, _ in one.files])
            course.check(wanted, inputs, [self.beside, *self._folders(one)], self.workspace)
            with database.atomic("IMMEDIATE"):
                row = queries.create_job(self.workspace, name)
                about = {"folder": self.folder, "set": name, "roots": list(one.roots), "state": "running"}
                Row.update(settings=row.settings | {KEY: about}).where(Row.id == row.id).execute()
                course.begin(
                    row, wanted, WHO, inputs=inputs, out="", search=[self.beside, *self._folders(one)]
                )
        except TerrazzaError as error:
            self._lay(name, one.roots, FAILED, f"{name}: not begun.\n\n{error.message}\n{error.hint}\n", None)
            return
        self._run(Row.get_by_id(row.id), one.roots)

    def _folders(self, one: Set) -> list[str]:
        return sorted({os.path.dirname(f) for f, _, _ in one.files})

    def _run(self, row: Row, roots) -> None:
        """Run a job's recipe to its end, and lay down what came of it."""
        if course.told(row)["state"] not in {"done", "stopped"}:  # these are over; a verdict stays one
            with contextlib.suppress(StateError):  # its step has not begun
                course.resume(row)
        entry = None
        while (following := _following(row)) is not None:
            entry = run_entry(self.workspace, following)
            if entry.state != "done":
                break
            self.say(f"{row.name}: {title(entry.operation)}: {entry.figures.get('says', '')}")
        standing = course.told(row)
        end = DONE if standing["state"] == "done" else FAILED
        self._lay(row.name, roots, end, _text(row, standing, entry), row)

    def _lay(self, name: str, roots, end: str, text: str, row: Row | None) -> None:
        """Build an end aside, write down that it is one, and let it appear."""
        made = os.path.join(self.aside, name)
        shutil.rmtree(made, ignore_errors=True)
        os.makedirs(os.path.join(made, GIVEN))
        if row is not None:
            for path in (d["path"] for d in Job(self.workspace, row).facts("deliverable").values()):
                _copy(path, made)
            figures = json.dumps(summary(self.workspace, row), indent=1, ensure_ascii=False)
            disk.write_bytes(os.path.join(made, "figures.json"), figures.encode())
        disk.write_bytes(os.path.join(made, "result.txt"), text.encode())
        note = os.path.join(self.aside, f"{name}.end.json")
        about = {"made": made, "to": end, "name": name, "roots": list(roots), "job": row.id if row else None}
        disk.write_bytes(f"{note}.part", json.dumps(about).encode())
        disk.rename(f"{note}.part", note)
        self._end(note, about)
        self.failed += end == FAILED
        self.say(f"{name}: {end}")

    def _end(self, note: str, about: dict) -> None:
        """Move what was given and let the end appear; what is done already is passed over."""
        made, target = about["made"], os.path.join(self.folder, about["to"], about["name"])
        if os.path.isdir(made):
            for root in filter(os.path.exists, about["roots"]):
                try:
                    os.rename(root, os.path.join(made, GIVEN, os.path.basename(root)))
                except OSError:
                    self._keep(root)
            os.makedirs(os.path.dirname(target), exist_ok=True)
            disk.rename(made, target)
        if about["job"] is not None:
            row = Row.get_or_none(id=about["job"])
            if row is not None:
                over = row.settings | {KEY: row.settings[KEY] | {"state": about["to"]}}
                Row.update(settings=over).where(Row.id == row.id).execute()
        os.unlink(note)

    def _keep(self, root: str) -> None:
        """Note a root that cannot be moved, so that it is not taken again while it stays as it is."""
        note = os.path.join(self.aside, f"{os.path.basename(root)}.kept.json")
        disk.write_bytes(note, json.dumps(_files(root)).encode())

    def _kept(self, one: Set) -> bool:
        for root in one.roots:
            note = os.path.join(self.aside, f"{os.path.basename(root)}.kept.json")
            if not os.path.exists(note):
                return False
            with open(note, encoding="utf-8") as file:
                known = [tuple(v) for v in json.load(file)]
            if known != list(_files(root)):
                return False
        return True


def _following(row: Row) -> Entry | None:
    """The entry that a kill left queued, else that of the next step."""
    waiting = Entry.select().where(Entry.job == row, Entry.state == "queued").order_by(Entry.number)
    return waiting.first() or course.advance(row)


def _copy(path: str, folder: str) -> None:
    """A deliverable beside the others: a second name for the same file where the disk can, else a copy."""
    if os.path.basename(path) == "index.html":
        path = os.path.dirname(path)
    target, number = os.path.join(folder, os.path.basename(path)), 2
    stem, ending = os.path.splitext(target)
    while os.path.exists(target):
        target, number = f"{stem} {number}{ending}", number + 1
    if os.path.isdir(path):
        shutil.copytree(path, target, copy_function=second_name)
    elif os.path.exists(path):
        second_name(path, target)


def _text(row: Row, standing: dict, last) -> str:
    """What came of a job, for somebody who opens the folder."""
    lines = [f"{row.name}: {standing['title']}".rstrip(": "), ""]
    for entry in row.entries.order_by(row.entries.model.number):
        if entry.state == "done":
            lines.append(f"{title(entry.operation)}: {(entry.figures or {}).get('says', '')}")
            lines += [f"  in doubt: {d}" for d in (entry.figures or {}).get("doubt") or []]
    if standing["state"] == "stopped":
        lines += ["", f"Stopped after {standing['what']}: {standing['says']}"]
        lines += [f"What to do: look at the job “{row.name}”, then go on there, or run it by hand."]
    elif standing["state"] != "done":
        lines += ["", f"{standing['what']} {standing['state']}: {last.message if last else standing['says']}"]
        hint = (last.hint if last else "") or "Look at the job in the application."
        lines += [f"What to do: {hint}"]
        lines += ["Then lay what is in “given” into the watched folder again."]
    return "\n".join(lines) + "\n"
