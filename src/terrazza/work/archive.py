"""A job as one file: backed up while it is in use, restored whole on another machine.

The file is a tar archive: first ``job.json`` (the job's row, field book, facts and changes), then every file that
they name, the deliverables and the inbox.  Pictures are left out, since they are made again.
"""

import contextlib
import io
import json
import os
import shutil
import tarfile
import uuid

from terrazza import files
from terrazza.db.models import Change, Entry, Fact, database
from terrazza.db.models import Job as Row
from terrazza.db.queries import create_job
from terrazza.errors import InputError, StateError
from terrazza.operations import fieldbook

FORM = 1
ALSO = ("deliverables", "inbox", "drawings")
NOT_OURS = "It is no backup of a Terrazza job, or it is cut off."


def backup(workspace: str, row: Row, path: str) -> int:
    """Write a job into one file; returns its bytes.  Work on the job may go on meanwhile: what is written is the job at one moment."""
    base = os.path.join(workspace, "jobs", row.folder)
    keep = os.path.join(workspace, f"backup-{uuid.uuid4().hex}")
    try:
        with database.atomic("IMMEDIATE"):
            record = {"form": FORM, "job": _plain(row, "id"), "entries": [_plain(e, "job") for e in Entry.select().where(Entry.job == row)], "facts": [_plain(f, "id", "job") for f in Fact.select().where(Fact.job == row)],
                      "changes": [_plain(c, "id") for c in Change.select().join(Entry).where(Entry.job == row)], "folder": os.path.abspath(base)}
            _hold(base, keep, sorted(fieldbook.named_files(row)) + _others(base))
        with files.whole(path) as partial, tarfile.open(partial, "w") as tar:
            text = json.dumps(record, allow_nan=False).encode()
            head = tarfile.TarInfo("job.json")
            head.size = len(text)
            tar.addfile(head, io.BytesIO(text))
            for folder, _, names in os.walk(keep):
                for name in sorted(names):
                    full = os.path.join(folder, name)
                    tar.add(full, arcname=os.path.join("files", os.path.relpath(full, keep)))
    finally:
        shutil.rmtree(keep, ignore_errors=True)
    return os.path.getsize(path)


def _plain(model, *without) -> dict:
    return {k: v for k, v in model.__data__.items() if k not in without}


def _others(base: str) -> list[tuple[str, str]]:
    found = []
    for also in ALSO:
        for folder, _, names in os.walk(os.path.join(base, also)):
            found += [(os.path.relpath(folder, base), n) for n in names if not n.endswith(".part")]
    return found


def _hold(base: str, keep: str, named: list[tuple[str, str]]) -> None:
    """Give every file a second name in ``keep``, so that it stays whatever the job does; copies where the disk knows no links."""
    for folder, name in named:
        source, target = os.path.join(base, folder, name), os.path.join(keep, folder, name)
        os.makedirs(os.path.dirname(target), exist_ok=True)
        if not os.path.exists(source):
            raise StateError(f"The job is not whole: {folder}/{name} is missing.", "“terrazza check” says what else is wrong.")
        try:
            os.link(source, target)
        except OSError:
            shutil.copy2(source, target)


def restore(workspace: str, path: str, name: str = "") -> Row:
    """Bring a backup into a workspace as a job of its own name or ``name``; InputError where the file is none, or the name is taken.  Nothing is half done."""
    partial = os.path.join(workspace, "jobs", f"restore-{uuid.uuid4().hex}.part")
    try:
        with _opened(path) as tar:
            record = _record(tar, path)
            os.makedirs(partial)
            while (member := tar.next()) is not None:
                if not (member.isfile() and member.name.startswith("files/")):
                    raise InputError(f"“{os.path.basename(path)}” holds “{member.name}”, which no backup does.", NOT_OURS)
                tar.extract(member, partial, filter="data")
        inside = os.path.join(partial, "files")
        os.makedirs(inside, exist_ok=True)
        with database.atomic("IMMEDIATE"):
            row = create_job(workspace, name or record["job"]["name"])
            target = os.path.join(workspace, "jobs", row.folder)
            _rows(row, record, os.path.abspath(target))
            _settle(inside, target)
        return row
    finally:
        shutil.rmtree(partial, ignore_errors=True)


@contextlib.contextmanager
def _opened(path: str):
    name = os.path.basename(path)
    try:
        with tarfile.open(path, "r:") as tar:
            yield tar
    except (tarfile.TarError, EOFError, KeyError, ValueError) as error:
        raise InputError(f"“{name}” cannot be read ({error}).", NOT_OURS) from error
    except OSError as error:
        raise InputError(f"“{name}” cannot be read ({error.strerror or error}).", NOT_OURS) from error


def _record(tar, path: str) -> dict:
    head = tar.next()
    if head is None or head.name != "job.json":
        raise InputError(f"“{os.path.basename(path)}” does not begin with a job.", NOT_OURS)
    record = json.loads(tar.extractfile(head).read())
    if record.get("form") != FORM:
        raise InputError(f"“{os.path.basename(path)}” was written by a newer Terrazza.", "Update the application.")
    return record


def _rows(row: Row, record: dict, target: str) -> None:
    """Enter field book, facts and changes; deliverables get the addresses that they have here."""
    Row.update(created=record["job"]["created"], settings=record["job"]["settings"]).where(Row.id == row.id).execute()
    entries = {}
    for values in record["entries"]:
        state = "interrupted" if values["state"] in {"queued", "running"} else values["state"]
        entries[values["id"]] = Entry.create(job=row, **{k: v for k, v in values.items() if k != "id"} | {"state": state})
    moved = lambda key: target + key[len(record["folder"]):] if key.startswith(record["folder"] + os.sep) else key  # noqa: E731
    for kind in record["facts"] + record["changes"]:
        if kind["kind"] == "deliverable":
            kind["key"] = moved(kind["key"])
            for side in ("value", "before", "after"):
                if kind.get(side):
                    kind[side] |= {"path": moved(kind[side]["path"])}
    for values in record["facts"]:
        Fact.create(job=row, **values)
    for values in record["changes"]:
        Change.create(**values | {"entry": entries[values["entry"]]})


def _settle(inside: str, target: str) -> None:
    """Move the files in, all of them durable before the rows that name them are."""
    for folder, _, names in os.walk(inside):
        for name in names:
            files.disk.sync(os.path.join(folder, name))
        files.disk.sync(folder)
    shutil.rmtree(target, ignore_errors=True)
    files.disk.rename(inside, target)
