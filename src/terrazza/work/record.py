"""The record of a backup: its form, read and checked."""

import contextlib
import hashlib
import json
import os
import tarfile
from typing import Any

from pydantic import BaseModel, ConfigDict, ValidationError

from terrazza.errors import InputError
from terrazza.operations.spine import facts

FORM = 2
LARGEST_RECORD = 2_000_000_000  # bytes of job.json
NOT_OURS = "It is no backup of a Terrazza job, or it is cut off."
CHANGED = "It is no longer as it was written: take another copy of the backup."


class _Plain(BaseModel):
    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class JobRecord(_Plain):
    name: str
    folder: str
    created: float
    settings: dict


class _Entry(_Plain):
    id: int
    number: int
    operation: str
    version: int
    params: dict
    state: str
    figures: dict | None
    message: str
    hint: str
    who: str
    created: float
    started: float | None
    seconds: float | None
    done: float
    total: float
    label: str
    cancel: bool
    revision: int | None = None


class _Fact(_Plain):
    kind: str
    key: str
    scan: int | None
    value: Any
    entry: int


class _Change(_Plain):
    entry: int
    kind: str
    key: str
    scan: int | None
    before: Any
    before_entry: int | None
    after: Any


class Record(_Plain):
    """What ``job.json`` holds."""

    form: int
    job: JobRecord
    entries: list[_Entry]
    facts: list[_Fact]
    changes: list[_Change]
    folder: str
    linked: list[str] = []
    written_by: str = ""


@contextlib.contextmanager
def opened(path: str):
    name = os.path.basename(path)
    try:
        with tarfile.open(path, "r:") as tar:
            yield tar
    except InputError:
        raise
    except (
        tarfile.TarError,
        EOFError,
        KeyError,
        ValueError,
        TypeError,
        RecursionError,
        OverflowError,
    ) as error:
        raise InputError(f"“{name}” cannot be read ({str(error)[:200]}).", NOT_OURS) from error
    except OSError as error:
        raise InputError(f"“{name}” cannot be read ({error.strerror or error}).", NOT_OURS) from error


def record_of(tar, path: str, sums: dict[str, str]) -> Record:
    shown, head = os.path.basename(path), tar.next()
    if head is None or head.name != "job.json" or not head.isfile():
        raise InputError(f"“{shown}” does not begin with a job.", NOT_OURS)
    if head.size > LARGEST_RECORD:
        raise InputError(f"The record in “{shown}” is said to have {head.size / 1e9:.1f} GB.", NOT_OURS)
    text = tar.extractfile(head).read()
    sums["job.json"] = hashlib.sha256(text).hexdigest()
    plain = json.loads(text)
    if not isinstance(plain, dict) or not isinstance(plain.get("form"), int):
        raise InputError(f"“{shown}” does not begin with a job.", NOT_OURS)
    if plain["form"] > FORM:
        raise InputError(f"“{shown}” was written by a newer Terrazza.", "Update the application.")
    try:
        return Record.model_validate(plain)
    except ValidationError as error:
        first = error.errors()[0]
        raise InputError(
            f"The record in “{shown}” is not one of a job ({'.'.join(map(str, first['loc']))}: "
            f"{first['msg']}).",
            NOT_OURS,
        ) from error


def need_named(record: Record, inside: str, path: str) -> None:
    """InputError unless every file that facts and changes name is a plain one that the archive brought."""
    shown = os.path.basename(path)
    living = {e.id for e in record.entries if e.state == "done"}
    values = [(f.kind, f.scan, f.value) for f in record.facts] + [
        (c.kind, c.scan, c.before) for c in record.changes if c.entry in living and c.before is not None
    ]
    for kind, scan, value in values:
        try:
            named = facts.files_of(kind, scan, value)
        except (KeyError, TypeError, AttributeError) as error:
            raise InputError(f"The record in “{shown}” has a {kind} that is none.", NOT_OURS) from error
        for folder, name in named:
            if not isinstance(name, str) or name != os.path.basename(name) or name in {".", ".."}:
                raise InputError(
                    f"The record in “{shown}” names “{str(name)[:80]}”, which is no file of a job.", NOT_OURS
                )
            if not os.path.isfile(os.path.join(inside, folder, name)):
                raise InputError(f"“{shown}” is not whole: {folder}/{name} is missing.", CHANGED)
    known = {e.id for e in record.entries}
    if (
        len({e.number for e in record.entries}) != len(record.entries)
        or len(known) != len(record.entries)
        or any(c.entry not in known for c in record.changes)
    ):
        raise InputError(f"The field book in “{shown}” is not one.", NOT_OURS)
