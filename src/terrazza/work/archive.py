"""A job as one file: backed up while it is in use, restored whole on another machine.

The file is a tar archive: first ``job.json`` (the job's row, field book, facts and changes), then every file
that they name, the deliverables and the inbox, and last ``sums.json``, the SHA-256 of all of them.  Pictures
are left out, since they are made again, and files that the inbox only links to, since they are others'.
Nothing of an archive is trusted: all of it is verified before the job gets a name, and no path that it holds
is followed.
"""

import contextlib
import fcntl
import hashlib
import io
import json
import os
import shutil
import tarfile
import uuid

from terrazza import __version__, files
from terrazza.db.models import Change, Entry, Fact, database
from terrazza.db.models import Job as Row
from terrazza.db.queries import create_job
from terrazza.errors import InputError, StateError
from terrazza.operations.spine import files_named
from terrazza.work.record import (
    CHANGED,
    FORM,
    LARGEST_RECORD,
    NOT_OURS,
    JobRecord,
    Record,
    need_named,
    opened,
    record_of,
)

ALSO = ("deliverables", "inbox", "drawings")
FOLDERS = ("scans", "photos", "arrays", *ALSO)
MARK = ".restoring"


def backup(workspace: str, row: Row, path: str) -> tuple[int, list[str]]:
    """Write a job into one file; returns its bytes and the names of linked files, which are not in it.  Work
    on the job may go on meanwhile: what is written is the job at one moment.
    """
    base = os.path.join(workspace, "jobs", row.folder)
    keep = os.path.join(workspace, f"backup-{uuid.uuid4().hex}")
    try:
        with _claimed(workspace, keep):
            with database.atomic("IMMEDIATE"):
                others, linked = _others(base)
                record = {
                    "form": FORM,
                    "job": {k: v for k, v in _plain(row).items() if k in JobRecord.model_fields},
                    "entries": [_plain(e, "job") for e in Entry.select().where(Entry.job == row)],
                    "facts": [_plain(f, "id", "job") for f in Fact.select().where(Fact.job == row)],
                    "changes": [_plain(c, "id") for c in Change.select().join(Entry).where(Entry.job == row)],
                    "folder": os.path.abspath(base),
                    "linked": linked,
                    "written_by": __version__,
                }
                _hold(base, keep, sorted(files_named.all_named(row)) + others)
            with files.whole(path) as partial, tarfile.open(partial, "w") as tar:
                _write(tar, keep, json.dumps(record, allow_nan=False).encode())
    finally:
        shutil.rmtree(keep, ignore_errors=True)
    return os.path.getsize(path), linked


def _write(tar: tarfile.TarFile, keep: str, record: bytes) -> None:
    sums = {"job.json": hashlib.sha256(record).hexdigest()}
    _put(tar, "job.json", record)
    for folder, _, names in os.walk(keep):
        for name in sorted(names):
            if name == MARK:
                continue
            full = os.path.join(folder, name)
            inside = "files/" + os.path.relpath(full, keep).replace(os.sep, "/")
            with open(full, "rb") as source:
                about = tar.gettarinfo(arcname=inside, fileobj=source)
                about.type, about.linkname = tarfile.REGTYPE, ""  # two names of one file are two files
                about.size = os.fstat(source.fileno()).st_size
                tracked = _Summed(source)
                tar.addfile(about, tracked)
            sums[inside] = tracked.sum.hexdigest()
    _put(tar, "sums.json", json.dumps(sums).encode())


class _Summed:
    """A file whose bytes are summed up while they are read."""

    def __init__(self, source):
        self.source, self.sum = source, hashlib.sha256()

    def read(self, size: int = -1) -> bytes:
        data = self.source.read(size)
        self.sum.update(data)
        return data


def _put(tar, name: str, data: bytes) -> None:
    head = tarfile.TarInfo(name)
    head.size = len(data)
    tar.addfile(head, io.BytesIO(data))


def _plain(model, *without) -> dict:
    return {k: v for k, v in model.__data__.items() if k not in without}


def _others(base: str) -> tuple[list[tuple[str, str]], list[str]]:
    """(folder, file) of what no fact names and goes along, and the names of linked files, which do not."""
    found, linked = [], []
    for also in ALSO:
        for folder, _, names in os.walk(os.path.join(base, also)):
            for name in names:
                if os.path.islink(os.path.join(folder, name)):
                    linked.append(name)
                elif not name.endswith((".part", ".upload")):
                    found.append((os.path.relpath(folder, base), name))
    return found, sorted(linked)


def _hold(base: str, keep: str, named: list[tuple[str, str]]) -> None:
    """Give every file a second name in ``keep``, so that it stays whatever the job does; copies where the
    disk knows no links.
    """
    for folder, name in named:
        source, target = os.path.join(base, folder, name), os.path.join(keep, folder, name)
        os.makedirs(os.path.dirname(target), exist_ok=True)
        if not os.path.exists(source):
            raise StateError(
                f"The job is not whole: {folder}/{name} is missing.",
                "“terrazza check” says what else is wrong.",
            )
        files.second_name(source, target)


@contextlib.contextmanager
def _claimed(workspace: str, folder: str):
    """A folder with a mark that says, as long as this process lives, that somebody works in it (see
    ``clear_remains``).
    """
    os.makedirs(folder)
    with open(os.path.join(folder, MARK), "w", encoding="utf-8") as mark:
        fcntl.flock(mark, fcntl.LOCK_EX)
        yield mark


def clear_remains(workspace: str) -> int:
    """Delete what killed backups and restores left behind, and job folders that no job has; returns how many
    folders went.
    """
    jobs, gone = os.path.join(workspace, "jobs"), 0
    folders = {row.folder for row in Row.select(Row.folder)}
    for base, names in ((workspace, _listed(workspace)), (jobs, _listed(jobs))):
        for name in names:
            path = os.path.join(base, name)
            if name in folders or not os.path.exists(os.path.join(path, MARK)):
                continue
            with open(os.path.join(path, MARK), "a", encoding="utf-8") as mark:
                try:
                    fcntl.flock(mark, fcntl.LOCK_EX | fcntl.LOCK_NB)
                except OSError:
                    continue
                shutil.rmtree(path, ignore_errors=True)
                gone += 1
    return gone


def _listed(folder: str) -> list[str]:
    return os.listdir(folder) if os.path.isdir(folder) else []


def restore(workspace: str, path: str, name: str = "") -> Row:
    """Bring a backup into a workspace as a job of its own name or ``name``.

    InputError where the file is none, is damaged or changed, holds what no backup does, or where the name is
    taken.  Nothing is half done.
    """
    partial = os.path.join(workspace, "jobs", f"restore-{uuid.uuid4().hex}.part")
    try:
        with _claimed(workspace, partial):
            with opened(path) as tar:
                record = _taken(tar, path, partial)
            inside = os.path.join(partial, "files")
            os.makedirs(inside, exist_ok=True)
            need_named(record, inside, path)
            with database.atomic("IMMEDIATE"), contextlib.ExitStack() as undone:
                row = create_job(workspace, name or record.job.name)
                target = os.path.join(workspace, "jobs", row.folder)
                undone.callback(shutil.rmtree, target, ignore_errors=True)
                os.replace(
                    os.path.join(partial, MARK), os.path.join(inside, MARK)
                )  # until the rows are there, the folder is nobody's
                _rows(row, record, os.path.abspath(target))
                _settle(inside, target)
                undone.pop_all()
            os.unlink(os.path.join(target, MARK))
        return row
    finally:
        shutil.rmtree(partial, ignore_errors=True)


def _taken(tar, path: str, folder: str) -> Record:
    """Unpack an archive below ``folder`` and verify every byte of it; its record."""
    shown, sums, told = os.path.basename(path), {}, None
    record = record_of(tar, path, sums)
    while (member := tar.next()) is not None:
        if member.name == "sums.json" and member.isfile() and member.size < LARGEST_RECORD:
            told = json.loads(tar.extractfile(member).read())
            continue
        if record.form == 1 and member.issym():
            continue  # the first form took links along, which lead to others' files
        target = _place(folder, member)
        if target is None or member.name in sums:
            raise InputError(f"“{shown}” holds “{member.name}”, which no backup does.", NOT_OURS)
        os.makedirs(os.path.dirname(target), exist_ok=True)
        source = _Summed(tar.extractfile(member))
        with open(target, "xb") as out:
            shutil.copyfileobj(source, out, 1 << 20)
        if os.path.getsize(target) != member.size:
            raise InputError(f"“{shown}” is cut off within “{member.name}”.", NOT_OURS)
        sums[member.name] = source.sum.hexdigest()
    if record.form == 1 and told is None:
        return record
    if not isinstance(told, dict):
        raise InputError(f"“{shown}” is cut off: the list of its sums is missing.", NOT_OURS)
    wrong = sorted(n for n in sums.keys() | told.keys() if sums.get(n) != told.get(n))
    if wrong:
        how = "has changed" if wrong[0] in sums else "is missing"
        more = f", and {len(wrong) - 1} more" if len(wrong) > 1 else ""
        raise InputError(f"“{shown}” is damaged: “{wrong[0]}” {how}{more}.", CHANGED)
    return record


def _place(folder: str, member) -> str | None:
    """Where a member of an archive goes; None for what no backup holds: anything but plain files in the job's
    own folders.
    """
    parts = member.name.split("/")
    plain = member.isfile() and len(parts) >= 3 and parts[0] == "files" and parts[1] in FOLDERS
    if (
        not plain
        or any(
            p in {"", ".", ".."} or "\\" in p or "\0" in p or len(p.encode(errors="replace")) > 255
            for p in parts
        )
        or parts[-1] == MARK
    ):
        return None
    return os.path.join(folder, *parts)


def _rows(row: Row, record: Record, target: str) -> None:
    """Enter field book, facts and changes; deliverables get the addresses that they have here."""
    Row.update(created=record.job.created, settings=record.job.settings).where(Row.id == row.id).execute()
    entries = {}
    for values in record.entries:
        state = "interrupted" if values.state in {"queued", "running"} else values.state
        entries[values.id] = Entry.create(job=row, **values.model_dump(exclude={"id"}) | {"state": state})
    moved = lambda key: target + key[len(record.folder) :] if key.startswith(record.folder + os.sep) else key
    for kind in [*record.facts, *record.changes]:
        if kind.kind == "deliverable":
            kind.key = moved(kind.key)
            for side in ("value", "before", "after"):
                if getattr(kind, side, None):
                    setattr(kind, side, getattr(kind, side) | {"path": moved(getattr(kind, side)["path"])})
    for values in record.facts:
        Fact.create(job=row, **values.model_dump())
    for values in record.changes:
        Change.create(**values.model_dump() | {"entry": entries[values.entry]})
    files_named.make_list(row)


def _settle(inside: str, target: str) -> None:
    """Move the files in, all of them durable before the rows that name them are."""
    for folder, _, names in os.walk(inside):
        for name in names:
            files.disk.sync(os.path.join(folder, name))
        files.disk.sync(folder)
    shutil.rmtree(target, ignore_errors=True)
    files.disk.rename(inside, target)
