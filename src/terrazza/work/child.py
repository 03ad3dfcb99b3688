"""The process in which operations run: spawned ahead, warmed up, used again, killable with all
its helpers.
"""

import os
import resource

ENDED, LEAVING = "ended", "leaving"


def serve(workspace: str, orders) -> None:
    """Import what operations need, then run one entry after another as their ids come, and say when each has
    ended.

    It says that it is leaving with the end of an entry after which it has grown beyond a third of the memory
    that work may use, and it ends after an error of its own and when no more orders can come, so that the
    next entry finds a fresh process.
    """
    os.setsid()
    from terrazza.fleet.lifeline import die_with_parent

    die_with_parent()
    import terrazza.operations  # noqa: F401
    from terrazza.db.models import Entry
    from terrazza.db.schema import open_database
    from terrazza.later import load_all
    from terrazza.settings import settings
    from terrazza.work.runner import fleet, run_entry

    load_all()
    open_database(workspace)
    begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
    try:
        leaving = False
        while not leaving:
            run_entry(workspace, Entry.get_by_id(orders.recv()))
            leaving = (
                resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 - begun > settings().memory / 3
            )
            orders.send(LEAVING if leaving else ENDED)
    except (EOFError, BrokenPipeError):
        return
    finally:
        fleet(workspace).close()
