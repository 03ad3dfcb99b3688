"""One job, one worker at a time: a lock on a file that the system frees when its holder dies."""

import contextlib
import fcntl
import os
import time

from terrazza.errors import BusyError

LOOKING = "a look after a start"
PATIENCE = 20.0


def _path(workspace: str, folder: str) -> str:
    path = os.path.join(workspace, "jobs", folder)
    os.makedirs(path, exist_ok=True)
    return os.path.join(path, ".lease")


@contextlib.contextmanager
def lease(workspace: str, folder: str, holder: str):
    """Hold the job's lease; BusyError names who has it now.  A passing look by another process is
    waited for.
    """
    with open(_path(workspace, folder), "a+", encoding="utf-8") as file:
        _take(file, holder)
        file.truncate(0)
        file.write(holder)
        file.flush()
        try:
            yield
        finally:
            file.truncate(0)


def _take(file, holder: str) -> None:
    until = time.monotonic() + PATIENCE
    while True:
        try:
            return fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            file.seek(0)
            now = file.read().strip()
            if now not in {"", LOOKING} or holder == LOOKING or time.monotonic() > until:
                raise BusyError(
                    f"The job is being worked on by {now or 'somebody else'}.",
                    "Wait until that is done, or cancel it.",
                ) from error
            time.sleep(0.05)
