"""Opening a workspace's database and bringing its schema up to date."""

import os

from terrazza.db.models import TABLES, database
from terrazza.errors import InputError

FILE = "terrazza.sqlite"


def _first(db):
    db.create_tables(TABLES)


MIGRATIONS = (_first,)


def open_database(workspace: str) -> None:
    """Bind the models to ``workspace`` (made where missing) and migrate it step by step.

    InputError where the workspace was written by a newer Terrazza or cannot be made.
    """
    try:
        os.makedirs(workspace, exist_ok=True)
    except OSError as error:
        raise InputError(
            f"The workspace folder “{workspace}” cannot be made ({error.strerror}).",
            "Name a folder that you may write to.",
        ) from error
    if not database.is_closed():
        database.close()
    pragmas = {"journal_mode": "wal", "foreign_keys": 1, "synchronous": "full", "busy_timeout": 20000}
    database.init(os.path.join(workspace, FILE), pragmas=pragmas, check_same_thread=False)
    version = database.execute_sql("PRAGMA user_version").fetchone()[0]
    if version > len(MIGRATIONS):
        raise InputError(
            "This workspace was written by a newer Terrazza.",
            "Update the application, or use another workspace.",
        )
    if version < len(MIGRATIONS):
        with database.atomic("IMMEDIATE"):
            version = database.execute_sql("PRAGMA user_version").fetchone()[0]
            for number in range(version, len(MIGRATIONS)):
                MIGRATIONS[number](database)
                database.execute_sql(f"PRAGMA user_version = {number + 1}")
