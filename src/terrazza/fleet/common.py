"""What many pieces of one work need, in one file that every process maps: its arrays lie in memory once,
however many read them.
"""

import contextlib
import mmap
import os
import pickle
import struct
from collections.abc import Callable, Iterable
from functools import cached_property

ALIGN = 64
HEAD = struct.Struct("<QQ")  # length of the pickle, number of buffers


class Shared:
    """Something large that lies in a file for other processes, or in the files of a folder; ``value`` is the
    same, mapped from there when it is first asked for.
    """

    def __init__(self, path: str):
        self.path = path

    @cached_property
    def value(self):
        return load(self.path)


@contextlib.contextmanager
def laid(common, share: Callable):
    """The path at which pieces find what they have in common, empty where that is nothing; ``share`` lays
    what is not shared yet.
    """
    if common is None:
        yield ""
    elif isinstance(common, Shared):
        yield common.path
    else:
        with share(common) as shared:
            yield shared.path


def gather(results: Iterable[tuple], folder: str) -> Shared:
    """Lay results in a folder one by one as they come, so that they are never all in this process's own
    memory; together they are lists of the first thing of each result, of the second and so on.
    """
    for number, result in enumerate(results):
        dump(result, os.path.join(folder, f"{number:06d}"))
    return Shared(folder)


def dump(value, path: str) -> None:
    """Write anything that can be pickled, its arrays as they lie in memory."""
    buffers: list[pickle.PickleBuffer] = []
    data = pickle.dumps(value, protocol=5, buffer_callback=buffers.append)
    raw = [b.raw() for b in buffers]
    with open(path, "wb") as f:
        f.write(HEAD.pack(len(data), len(raw)))
        f.write(struct.pack(f"<{len(raw)}Q", *(b.nbytes for b in raw)))
        f.write(data)
        for b in raw:
            f.write(bytes(-f.tell() % ALIGN))
            f.write(b)


def load(path: str):
    """Read it back without copying: pages are shared with all who map the file, and private to who writes
    into them.  Of a folder see ``gather``.
    """
    if os.path.isdir(path):
        results = [load(entry.path) for entry in sorted(os.scandir(path), key=lambda e: e.name)]
        return tuple(list(column) for column in zip(*results))
    with open(path, "rb") as f:
        view = memoryview(mmap.mmap(f.fileno(), 0, access=mmap.ACCESS_COPY))
    size, count = HEAD.unpack_from(view)
    lengths = struct.unpack_from(f"<{count}Q", view, HEAD.size)
    at = HEAD.size + 8 * count
    data, at, buffers = view[at : at + size], at + size, []
    for length in lengths:
        at += -at % ALIGN
        buffers.append(view[at : at + length])
        at += length
    return pickle.loads(data, buffers=buffers)
