"""Every error that Terrazza raises on purpose.

TerrazzaError            message says what is wrong and where; ``hint`` says what to do
├── InputError           a file or value from outside cannot be used
├── ParamsError          a parameter is out of its range, unknown or missing
├── StateError           the job is not yet (or no longer) in a state that allows this
├── BusyError            somebody else is working on the job right now
├── NotFound             no such job, scan, file or operation
└── Cancelled            the surveyor cancelled; not a failure
"""

import errno
import os
import sqlite3


class TerrazzaError(Exception):
    """Base of all; ``str(error)`` is one sentence for the surveyor.

    ``hint`` is a second sentence that says what to do about it (may be empty).
    """

    status = 400

    def __init__(self, message: str, hint: str = ""):
        super().__init__(message)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.message} {self.hint}".strip()

    def __reduce__(self):
        return type(self), (self.message, self.hint)


class InputError(TerrazzaError):
    status = 422


class ParamsError(TerrazzaError):
    status = 422


class StateError(TerrazzaError):
    status = 409


class BusyError(TerrazzaError):
    status = 409


class NotFound(TerrazzaError):
    status = 404


SAID = {
    errno.ENOSPC: ("The disk is full", "Make room, then start it again."),
    errno.EDQUOT: ("The disk's quota for this user is used up", "Make room, then start it again."),
    errno.EROFS: ("The disk can only be read", "Use a folder that may be written to."),
    errno.EACCES: ("The system does not allow it", "Ask for the rights to this folder, or use another."),
    errno.EPERM: ("The system does not allow it", "Ask for the rights to this folder, or use another."),
    errno.EIO: ("The disk answers with errors", "Look after the disk; make a backup from another copy."),
    errno.ENOENT: (
        "A folder or file of the workspace is not there any more",
        "Bring the disk back, then start it again.",
    ),
    errno.ENOTDIR: (
        "A folder of the workspace is not there any more",
        "Bring the disk back, then start it again.",
    ),
    errno.EMFILE: ("Too many files are open at once", "Close other programs, then start it again."),
    errno.ENAMETOOLONG: ("A file name is too long", "Choose a shorter one."),
}
DATABASE = (
    (
        "locked",
        "The workspace's database is in use by another program",
        "Wait until that has ended, or close it, then start again.",
    ),
    (
        "malformed",
        "The workspace's database is damaged",
        "Restore its jobs from backups into a new workspace.",
    ),
    (
        "not a database",
        "The workspace's database is damaged",
        "Restore its jobs from backups into a new workspace.",
    ),
    ("full", "The disk is full", "Make room, then start it again."),
    ("readonly", "The workspace's database can only be read", "Use a folder that may be written to."),
    (
        "unable to open",
        "The workspace's database cannot be opened",
        "Look whether its folder is there and may be written to.",
    ),
    ("disk i/o", "The disk answers with errors", "Look after the disk; make a backup from another copy."),
    (
        "no such table",
        "The workspace's database is damaged",
        "Restore its jobs from backups into a new workspace.",
    ),
)


def understood(error: BaseException) -> "TerrazzaError | None":
    """What a failure of the system or of the database means to the surveyor; None for errors of
    other kinds.
    """
    if isinstance(error, TerrazzaError):
        return error
    if isinstance(error, MemoryError):
        return StateError(
            "The machine has too little memory for this.",
            "Close other programs, lower TERRAZZA_MEMORY, or take fewer scans at a time.",
        )
    chain, e = [], error
    while e is not None and e not in chain:
        chain.append(e)
        e = e.__cause__ or e.__context__
    if any(isinstance(e, sqlite3.Error) or type(e).__module__ == "peewee" for e in chain):
        text = " ".join(str(e) for e in chain if e).lower()
        said = next(((what, todo) for word, what, todo in DATABASE if word in text), None)
        return StateError(f"{said[0]}.", said[1]) if said else None
    if isinstance(error, OSError) and error.errno in SAID:
        what, todo = SAID[error.errno]
        return StateError(
            f"{what}{f' (“{os.path.basename(str(error.filename))}”)' if error.filename else ''}.", todo
        )
    return None


class Cancelled(TerrazzaError):
    def __init__(self, message: str = "Cancelled.", hint: str = ""):
        super().__init__(message, hint)
