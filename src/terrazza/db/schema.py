"""Opening a workspace's database and bringing its schema up to date."""

import os

from terrazza.db.models import database
from terrazza.errors import InputError

FILE = "terrazza.sqlite"


# What each version added, as it was written then: statements of a version that has gone out never change.
MIGRATIONS = (
    (
        """CREATE TABLE IF NOT EXISTS "job" ("id" INTEGER NOT NULL PRIMARY KEY, "name" VARCHAR(255) NOT NULL,
        "folder" VARCHAR(255) NOT NULL, "created" REAL NOT NULL, "settings" TEXT NOT NULL)""",
        """CREATE UNIQUE INDEX IF NOT EXISTS "job_name" ON "job" ("name")""",
        """CREATE TABLE IF NOT EXISTS "entry" ("id" INTEGER NOT NULL PRIMARY KEY, "job_id" INTEGER NOT NULL,
        "number" INTEGER NOT NULL, "operation" VARCHAR(255) NOT NULL, "version" INTEGER NOT NULL,
        "params" TEXT NOT NULL, "state" VARCHAR(255) NOT NULL, "figures" TEXT, "message" TEXT NOT NULL,
        "hint" TEXT NOT NULL, "who" VARCHAR(255) NOT NULL, "created" REAL NOT NULL, "started" REAL,
        "seconds" REAL, "done" REAL NOT NULL, "total" REAL NOT NULL, "label" VARCHAR(255) NOT NULL,
        "cancel" INTEGER NOT NULL, FOREIGN KEY ("job_id") REFERENCES "job" ("id") ON DELETE CASCADE)""",
        """CREATE INDEX IF NOT EXISTS "entry_job_id" ON "entry" ("job_id")""",
        """CREATE INDEX IF NOT EXISTS "entry_state" ON "entry" ("state")""",
        """CREATE UNIQUE INDEX IF NOT EXISTS "entry_job_id_number" ON "entry" ("job_id", "number")""",
        """CREATE TABLE IF NOT EXISTS "fact" ("id" INTEGER NOT NULL PRIMARY KEY, "job_id" INTEGER NOT NULL,
        "kind" VARCHAR(255) NOT NULL, "key" VARCHAR(255) NOT NULL, "scan" INTEGER, "value" TEXT NOT NULL,
        "entry" INTEGER NOT NULL, FOREIGN KEY ("job_id") REFERENCES "job" ("id") ON DELETE CASCADE)""",
        """CREATE INDEX IF NOT EXISTS "fact_job_id" ON "fact" ("job_id")""",
        """CREATE UNIQUE INDEX IF NOT EXISTS "fact_job_id_kind_key" ON "fact" ("job_id", "kind", "key")""",
        """CREATE TABLE IF NOT EXISTS "change" ("id" INTEGER NOT NULL PRIMARY KEY,
        "entry_id" INTEGER NOT NULL, "kind" VARCHAR(255) NOT NULL, "key" VARCHAR(255) NOT NULL,
        "scan" INTEGER, "before" TEXT, "before_entry" INTEGER, "after" TEXT,
        FOREIGN KEY ("entry_id") REFERENCES "entry" ("id") ON DELETE CASCADE)""",
        """CREATE INDEX IF NOT EXISTS "change_entry_id" ON "change" ("entry_id")""",
        """CREATE INDEX IF NOT EXISTS "change_kind_key" ON "change" ("kind", "key")""",
    ),
    (
        """ALTER TABLE "job" ADD COLUMN "revision" INTEGER NOT NULL DEFAULT 0""",
        """ALTER TABLE "job" ADD COLUMN "revisions" TEXT NOT NULL DEFAULT '{}'""",
        """ALTER TABLE "job" ADD COLUMN "unswept" INTEGER NOT NULL DEFAULT 1""",
        """ALTER TABLE "job" ADD COLUMN "listed" INTEGER NOT NULL DEFAULT 0""",
        """ALTER TABLE "entry" ADD COLUMN "revision" INTEGER""",
        """CREATE INDEX "entry_job_id_operation_number" ON "entry" ("job_id", "operation", "number")""",
        """CREATE INDEX "change_scan" ON "change" ("scan")""",
        """CREATE TABLE "named_file" ("id" INTEGER NOT NULL PRIMARY KEY, "job_id" INTEGER NOT NULL,
        "folder" VARCHAR(255) NOT NULL, "name" VARCHAR(255) NOT NULL, "kind" VARCHAR(255) NOT NULL,
        "key" VARCHAR(255) NOT NULL, "entry" INTEGER NOT NULL,
        FOREIGN KEY ("job_id") REFERENCES "job" ("id") ON DELETE CASCADE)""",
        """CREATE INDEX "named_file_job_id_folder_name" ON "named_file" ("job_id", "folder", "name")""",
        """CREATE INDEX "named_file_job_id_kind_key_entry"
        ON "named_file" ("job_id", "kind", "key", "entry")""",
        """CREATE INDEX "named_file_job_id_entry" ON "named_file" ("job_id", "entry")""",
        """CREATE TABLE "loose_file" ("id" INTEGER NOT NULL PRIMARY KEY, "job_id" INTEGER NOT NULL,
        "folder" VARCHAR(255) NOT NULL, "name" VARCHAR(255) NOT NULL,
        FOREIGN KEY ("job_id") REFERENCES "job" ("id") ON DELETE CASCADE)""",
        """CREATE INDEX "loose_file_job_id" ON "loose_file" ("job_id")""",
    ),
)


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
                for statement in MIGRATIONS[number]:
                    database.execute_sql(statement)
                database.execute_sql(f"PRAGMA user_version = {number + 1}")
