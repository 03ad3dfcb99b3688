"""Tables of a workspace: jobs, their field books, and the facts that living entries have made.

A *fact* is one named value of a job (a pose, a column's list of files, a tie, a
control point).  A field-book entry changes facts; every change keeps the value
before, so undo is moving pointers back.
"""

import json

import orjson
from peewee import (
    AutoField,
    BooleanField,
    CharField,
    FloatField,
    ForeignKeyField,
    IntegerField,
    Model,
    SqliteDatabase,
    TextField,
)

database = SqliteDatabase(None)


class JsonField(TextField):
    """Any JSON value; floats keep full double precision, and what is not finite is refused."""

    def db_value(self, value):
        return None if value is None else json.dumps(value, allow_nan=False, separators=(",", ":"))

    def python_value(self, value):
        return None if value is None else orjson.loads(value)


class Table(Model):
    class Meta:
        database = database
        legacy_table_names = False


class Job(Table):
    """One piece of work; ``folder`` is relative to the workspace.

    ``revision`` grows with every change of its facts, ``revisions`` has the last one by kind; ``unswept``
    says that a run may have left files that nothing names, ``listed`` that the files of its facts are in
    ``NamedFile``.
    """

    id = AutoField()
    name = CharField(unique=True)
    folder = CharField()
    created = FloatField()
    settings = JsonField(default=dict)
    revision = IntegerField(default=0)
    revisions = JsonField(default=dict)
    unswept = BooleanField(default=False)
    listed = BooleanField(default=True)


class Entry(Table):
    """One line of the field book; ``state``: queued, running, done, undone, failed, cancelled or
    interrupted; ``revision`` is that of the job when the run began.
    """

    job = ForeignKeyField(Job, backref="entries", on_delete="CASCADE")
    number = IntegerField()
    operation = CharField()
    version = IntegerField()
    params = JsonField(default=dict)
    state = CharField(default="queued", index=True)
    figures = JsonField(null=True)
    message = TextField(default="")
    hint = TextField(default="")
    who = CharField(default="")
    created = FloatField()
    started = FloatField(null=True)
    seconds = FloatField(null=True)
    done = FloatField(default=0.0)
    total = FloatField(default=0.0)
    label = CharField(default="")
    cancel = BooleanField(default=False)
    revision = IntegerField(null=True)

    class Meta:
        indexes = ((("job", "number"), True), (("job", "operation", "number"), False))


class Fact(Table):
    """A current value; ``entry`` is the number of the entry that wrote it, ``scan`` the scan it belongs to,
    if any.
    """

    job = ForeignKeyField(Job, on_delete="CASCADE")
    kind = CharField()
    key = CharField()
    scan = IntegerField(null=True)
    value = JsonField()
    entry = IntegerField()

    class Meta:
        indexes = ((("job", "kind", "key"), True),)


class Change(Table):
    """What one entry did to one fact; ``before_entry`` wrote the value before."""

    entry = ForeignKeyField(Entry, backref="changes", on_delete="CASCADE")
    kind = CharField()
    key = CharField()
    scan = IntegerField(null=True)
    before = JsonField(null=True)
    before_entry = IntegerField(null=True)
    after = JsonField(null=True)

    class Meta:
        indexes = ((("kind", "key"), False), (("scan",), False))


class NamedFile(Table):
    """A file of a job that a fact names (``entry`` 0), or that it named before the entry of that number."""

    job = ForeignKeyField(Job, on_delete="CASCADE", index=False)
    folder = CharField()
    name = CharField()
    kind = CharField()
    key = CharField()
    entry = IntegerField()

    class Meta:
        indexes = (
            (("job", "folder", "name"), False),
            (("job", "kind", "key", "entry"), False),
            (("job", "entry"), False),
        )


class LooseFile(Table):
    """A file that nothing names any more: the next run deletes it."""

    job = ForeignKeyField(Job, on_delete="CASCADE")
    folder = CharField()
    name = CharField()


TABLES = (Job, Entry, Fact, Change, NamedFile, LooseFile)
