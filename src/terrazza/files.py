"""The one place that makes files durable: written, synced, and only then named.

``disk`` is what all layers write through, so that a test can put a recording or a
failing one in its place.
"""

import contextlib
import os
import shutil
import zlib
from collections.abc import Iterator

import numpy as np


class Disk:
    """Durable writes on the file system."""

    def sync(self, path: str) -> None:
        """Bring a file's content, or a folder's names, to the disk."""
        handle = os.open(path, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)

    def write_array(self, path: str, array: np.ndarray) -> None:
        """Write one ``.npy`` file and sync it; the caller syncs the folder once all its files are written."""
        with open(path, "wb") as f:
            np.lib.format.write_array(f, np.ascontiguousarray(array), allow_pickle=False)
        self.sync(path)

    def write_bytes(self, path: str, data: bytes) -> None:
        """Write one file and sync it."""
        with open(path, "wb") as f:
            f.write(data)
        self.sync(path)

    def rename(self, old: str, new: str) -> None:
        """Give a synced file its final name, durably."""
        os.replace(old, new)
        self.sync(os.path.dirname(os.path.abspath(new)))


disk = Disk()


def checksum(data) -> str:
    """Eight hexadecimal digits (CRC-32) of some bytes or of a contiguous array."""
    return f"{zlib.crc32(memoryview(data).cast('B') if len(data) else b''):08x}"


def named_by(name: str) -> str:
    """The checksum that a file of ours carries in its name: the word before the ending."""
    return name.rsplit(".", 2)[-2]


def second_name(path: str, other: str) -> None:
    """Give a file another name beside its own; a copy where the disk knows no links."""
    try:
        os.link(path, other)
    except OSError:
        shutil.copy2(path, other)


@contextlib.contextmanager
def whole(path: str) -> Iterator[str]:
    """A temporary name to write to; the file gets its final one, synced, only when the block ends well."""
    partial = f"{path}.part"
    try:
        yield partial
        disk.sync(partial)
        disk.rename(partial, path)
    except BaseException:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(partial)
        raise
