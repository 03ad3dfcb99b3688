"""Point columns on disk: immutable blocks of a million values or two, opened as memory maps.

A column is a list of file names, one per block, that the database holds; a new version
is a new list, in which unchanged blocks keep their old files.  All columns of a scan
have the same block ends.  Every file is synced before its name is returned, so a commit that
names it finds it there.
"""

import os
from functools import lru_cache
from hashlib import sha1
from typing import Any

import numpy as np

from terrazza.files import checksum, disk


@lru_cache(maxsize=2000)
def mapped(path: str) -> np.ndarray:
    """A file as a memory map, kept open; files never change once they have a name."""
    try:
        return np.load(path, mmap_mode="r").view(np.ndarray)
    except SystemError:  # Python 3.11's parser, which reads the header, may trip over a collection of garbage
        return np.load(path, mmap_mode="r").view(np.ndarray)


def file_word(column: str) -> str:
    """The word for a column in file names: its own name for ours, a checksum for one that a file of others
    brought, whose name may hold anything.
    """
    return (
        column
        if column.isascii() and column.replace("_", "").isalnum() and len(column) < 40
        else f"extra-{sha1(column.encode()).hexdigest()[:12]}"
    )


def write_block(folder: str, column: str, number: int, values: np.ndarray, version: str) -> str:
    """Write one block of a column; ``version`` makes its name unique, its checksum makes it provable. The
    caller syncs the folder. Values (n,) or (n, k).
    """
    values = np.ascontiguousarray(values)
    name = f"{file_word(column)}.{number}.{version}.{checksum(values)}.npy"
    disk.write_array(os.path.join(folder, name), values)
    return name


class Columns:
    """Read access to the columns of one scan at one version each.

    ``ends`` holds the number of points up to the end of each block; ``constants`` the columns that have one
    value throughout.
    """

    def __init__(
        self,
        folder: str,
        pointers: dict[str, list[str]],
        ends: np.ndarray,
        constants: dict[str, Any] | None = None,
    ):
        self.folder, self.pointers, self.ends, self.constants = (
            folder,
            pointers,
            np.asarray(ends, np.int64),
            constants or {},
        )

    def __contains__(self, name: str) -> bool:
        return name in self.pointers or name in self.constants

    def block(self, name: str, number: int) -> np.ndarray:
        """One block as a memory map. (n,) or (n, k)."""
        return mapped(os.path.join(self.folder, self.pointers[name][number]))

    def stretch(self, name: str, number: int) -> np.ndarray:
        """One block of any column, also of one that has the same value throughout. (n,) or (n, k)."""
        return (
            self.block(name, number)
            if name in self.pointers
            else np.broadcast_to(
                self.constants[name], int(self.ends[number] - (self.ends[number - 1] if number else 0))
            )
        )

    def read(self, name: str, start: int = 0, stop: int | None = None) -> np.ndarray:
        """Values ``start`` to ``stop`` of a column; a view of the map where they lie in one block. (n,) or
        (n, k).
        """
        total = int(self.ends[-1]) if len(self.ends) else 0
        stop = total if stop is None else min(stop, total)
        if name not in self.pointers:
            return np.full(max(stop - start, 0), self.constants[name])
        first, last = np.searchsorted(self.ends, [start, max(stop - 1, start)], side="right")
        if first >= len(self.ends):
            return self.block(name, len(self.ends) - 1)[:0]
        parts = []
        for number in range(first, last + 1):
            base = int(self.ends[number - 1]) if number else 0
            parts.append(self.block(name, number)[max(start - base, 0) : stop - base])
        return parts[0] if len(parts) == 1 else np.concatenate(parts)

    def whole(self, name: str) -> np.ndarray:
        """A column that is one file and not cut at the block ends (the nodes). (n,)."""
        return self.block(name, 0)
