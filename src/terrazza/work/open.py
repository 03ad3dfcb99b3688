"""Opening a workspace: database, operations, and recovery from whatever was cut off."""

import contextlib

import terrazza.operations  # noqa: F401  (enters all operations into the table)
from terrazza.db.models import Job as Row
from terrazza.db.models import database
from terrazza.db.schema import open_database
from terrazza.errors import BusyError
from terrazza.operations.spine import fieldbook, files_named
from terrazza.work import archive
from terrazza.work.lease import LOOKING, lease


def open_workspace(workspace: str) -> int:
    """Bind the database and recover; returns how many interrupted runs were found."""

    @contextlib.contextmanager
    def claim(job):
        with contextlib.ExitStack() as stack:
            try:
                stack.enter_context(lease(workspace, job.folder, LOOKING))
                ours = True
            except BusyError:
                ours = False
            yield ours

    open_database(workspace)
    for row in Row.select().where(~Row.listed):
        with database.atomic("IMMEDIATE"):
            files_named.make_list(row)
    archive.clear_remains(workspace)
    return fieldbook.recover(workspace, claim)
