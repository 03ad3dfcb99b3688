"""Deliverables that are folders: made beside, put in place whole, never over what is not ours."""

import contextlib
import os
import shutil
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass

from terrazza.errors import StateError
from terrazza.files import disk, whole
from terrazza.operations.spine import sums
from terrazza.operations.spine.job import Job


@dataclass
class Folder:
    """A folder that is being made: ``partial``, where its files go until it is whole; ``path``, where it will
    be; ``size`` in bytes once it is there.
    """

    partial: str
    path: str
    size: int = 0

    def file(self, *names: str) -> str:
        """The path of a file in it, whose folder is there."""
        path = os.path.join(self.partial, *names)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        return path


def called(path: str, about: dict) -> str:
    """The name of a deliverable: that of its file, or of its folder."""
    return f"{os.path.basename(os.path.dirname(path))}/" if about.get("folder") else os.path.basename(path)


@contextlib.contextmanager
def made(job: Job, path: str, first: str, form: str, mark: str = "", **about) -> Iterator[Folder]:
    """Make a folder and enter it among the deliverables under its ``first`` file; a folder of that name is
    ours where ``mark`` (else ``first``) lies in it.
    """
    index = job.output(os.path.join(path, first), os.path.splitext(first)[1])
    folder = os.path.dirname(index)
    if (
        os.path.exists(folder)
        and os.listdir(folder)
        and not os.path.exists(os.path.join(folder, mark or first))
    ):
        raise StateError(f"“{folder}” is there and no {form}.", "Choose another name.")
    made = Folder(f"{folder}.making", folder)
    shutil.rmtree(made.partial, ignore_errors=True)
    os.makedirs(made.partial)
    try:
        yield made
        sums.enlist_all(made.partial)
        made.size = _put(made.partial, folder, first)
    finally:
        shutil.rmtree(made.partial, ignore_errors=True)
    job.deliver(index, format=form, folder=True, bytes=made.size, **about)


def _put(partial: str, folder: str, first: str) -> int:
    """Put a finished folder in the place of an older one; its size in bytes."""
    size = 0
    for where, _, names in os.walk(partial):
        for name in names:
            size += os.path.getsize(os.path.join(where, name))
            disk.sync(os.path.join(where, name))
        disk.sync(where)
    old = f"{folder}.before"
    shutil.rmtree(old, ignore_errors=True)
    if os.path.exists(folder):
        os.rename(folder, old)
    os.rename(partial, folder)
    disk.sync(os.path.join(folder, first))
    disk.sync(folder)
    disk.sync(os.path.dirname(folder))
    shutil.rmtree(old, ignore_errors=True)
    return size


PACKED = (".jpg", ".png", ".woff2")  # that packing makes no smaller


def zipped(job: Job, folder: str, form: str) -> str:
    """Write a finished folder as a zip beside it and enter that, too; its path."""
    path = job.output(f"{folder}.zip", ".zip")
    with whole(path) as partial, zipfile.ZipFile(partial, "w", zipfile.ZIP_DEFLATED) as out:
        for where, _, names in sorted(os.walk(folder)):
            for name in sorted(names):
                full = os.path.join(where, name)
                inside = os.path.join(os.path.basename(folder), os.path.relpath(full, folder))
                stored = zipfile.ZIP_STORED if name.endswith(PACKED) else zipfile.ZIP_DEFLATED
                out.write(full, inside, stored)
    job.deliver(path, format=f"{form}, zip")
    return path
