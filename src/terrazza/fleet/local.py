"""A pool of spawned processes with progress counters and a cancel flag in shared memory."""

import contextlib
import importlib
import multiprocessing
import os
import tempfile
from collections.abc import Callable, Iterator
from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor
from concurrent.futures import wait as wait_for
from concurrent.futures.process import BrokenProcessPool
from functools import lru_cache
from typing import Any

from terrazza.errors import Cancelled, TerrazzaError
from terrazza.fleet.common import Shared, dump, gather, laid, load
from terrazza.fleet.lifeline import die_with_parent, keep_memory

MOST_PIECES = 100_000
BYTES_A_POINT = 500
LITTLE = 10_000_000
FEW = 400_000
MOST_AT_ONCE = 2_000_000
_shared = None


def _begin(counters, stop):
    global _shared
    die_with_parent()
    keep_memory()
    _shared = (counters, stop)


class _Counter:
    """Progress of one piece, written where the parent reads it."""

    def __init__(self, number: int):
        self.number = number

    def advance(self, done: float, total: float, label: str = "") -> None:
        counters, stop = _shared
        counters[self.number] = done
        if stop.value:
            raise Cancelled()


_loaded = lru_cache(maxsize=1)(load)


def run_piece(function, piece, common: str, progress):
    """Call a piece's function, with what it has in common with the others where there is something."""
    return function(piece, _loaded(common), progress) if common else function(piece, progress)


def _ready(module):
    importlib.import_module(module)


def _run(function, number, piece, common):
    return run_piece(function, piece, common, _Counter(number))


def piece_size(memory: int) -> int:
    """How many points a piece may hold: by the memory alone, so that results do not depend on how many cores
    or machines there are.
    """
    return min(max(int(memory / (4 * BYTES_A_POINT)), 50_000), MOST_AT_ONCE)


def few(points: list[int]) -> bool:
    """Whether so few points are at stake that other processes would take longer to start than the work takes;
    for ``light``.
    """
    return sum(points) <= FEW


def inline(total: float) -> bool:
    """Whether light work of this size is not worth other processes."""
    return total <= LITTLE


class _Inline:
    def __init__(self, progress, before: float, total: float, label: str):
        self.progress, self.before, self.total, self.label = progress, before, total, label

    def advance(self, done: float, total: float, label: str = "") -> None:
        self.progress.advance(self.before + done, self.total, label or self.label)


class Fleet:
    """Those who do pieces of work: the cores of this machine, or those of a cluster.

    ``memory`` (bytes) is what all of them may use together.
    """

    memory: int

    @property
    def points_at_once(self) -> int:
        """How many points a piece may hold in memory."""
        return piece_size(self.memory)

    def map(
        self,
        function: Callable[..., Any],
        pieces: list[Any],
        sizes: list[float],
        progress: Any,
        label: str,
        common: Any = None,
        light: bool = False,
    ) -> list[Any]:
        """Results of ``function(piece, progress)`` in order; ``sizes`` are the pieces' shares of the total.

        A piece reports ``advance(done, …)`` in the unit of its size.  With ``common``, something large that
        all pieces need, the call is ``function(piece, common, progress)``.  ``light`` work of little size is
        done in this process where others would have to be started first.  The first error of a piece stops
        the others and is raised.
        """
        return list(self.each(function, pieces, sizes, progress, label, common, light, ahead=len(pieces)))

    def each(
        self,
        function: Callable[..., Any],
        pieces: list[Any],
        sizes: list[float],
        progress: Any,
        label: str,
        common: Any = None,
        light: bool = False,
        ahead: int = 0,
    ) -> Iterator[Any]:
        """The results of ``map`` one after another, as they are asked for: so many pieces are ``ahead`` of
        the one that is taken.
        """
        raise NotImplementedError


class Local(Fleet):
    """``cores`` processes at most, kept from one map to the next; one piece alone, or one core, runs in this
    process.
    """

    def __init__(self, cores: int | None = None, memory: int = 2_000_000_000):
        self.memory = memory
        self.cores = min(
            cores or os.cpu_count() or 1, max(int(memory / (piece_size(memory) * BYTES_A_POINT)), 1)
        )
        self._pool = None

    def each(
        self,
        function,
        pieces: list,
        sizes: list[float],
        progress,
        label: str,
        common=None,
        light: bool = False,
        ahead: int = 0,
    ):
        """As ``Fleet.each``, by default one piece more ``ahead`` than there are cores."""
        total = float(sum(sizes)) or 1.0
        if (
            len(pieces) <= 1
            or self.cores == 1
            or (light and inline(total) and (self._pool is None or total <= FEW))
        ):
            for n, piece in enumerate(pieces):
                share = _Inline(progress, sum(sizes[:n]), total, label)
                yield (
                    function(piece, share)
                    if common is None
                    else function(piece, common.value if isinstance(common, Shared) else common, share)
                )
            progress.advance(total, total, label)
            return
        with laid(common, self.share) as path:
            yield from self._spread(function, pieces, total, progress, label, path, ahead or self.cores + 1)

    @contextlib.contextmanager
    def share(self, value):
        """Something large that several maps have in common, laid where all processes read it; to be given to
        them instead of ``value``, which may go.
        """
        with tempfile.TemporaryDirectory(prefix="terrazza-") as folder:
            path = os.path.join(folder, "common")
            dump(value, path)
            yield Shared(path)

    @contextlib.contextmanager
    def gather(self, results):
        """The same of what is still to come, such as from ``each``: tuples, laid one by one; the value are
        lists of the first thing of each, of the second and so on.
        """
        with tempfile.TemporaryDirectory(prefix="terrazza-") as folder:
            yield gather(results, folder)

    def _spread(self, function, pieces, total, progress, label, common, ahead):
        pool, counters, stop = self._started(len(pieces))
        futures = []
        try:
            for n in range(len(pieces)):
                futures += [
                    pool.submit(_run, function, k, pieces[k], common)
                    for k in range(len(futures), min(n + ahead, len(pieces)))
                ]
                while not futures[n].done():
                    wait_for(
                        [f for f in futures[n:] if not f.done()], timeout=0.25, return_when=FIRST_COMPLETED
                    )
                    for ended in futures[n:]:
                        if ended.done():
                            ended.result()
                    progress.advance(min(sum(counters[: len(pieces)]), total), total, label)
                result, futures[n] = futures[n].result(), None
                yield result
            progress.advance(total, total, label)
        except BrokenProcessPool as error:
            self.close()
            raise TerrazzaError(
                "A helper process died in mid-work.",
                "The machine may be out of memory: close other programs and start the step again.",
            ) from error
        except BaseException:
            self.close()
            raise

    def warm(self, module: str) -> None:
        """Start the processes and have them import what they will need, while this one does
        something else.
        """
        if self.cores > 1:
            pool, _, _ = self._started(0)
            for _ in range(self.cores):
                pool.submit(_ready, module)

    def _started(self, pieces: int):
        if pieces > MOST_PIECES:
            raise TerrazzaError(
                f"This work falls into {pieces:,} pieces; {MOST_PIECES:,} are the most.",
                "Choose fewer scans at a time.",
            )
        if self._pool is None:
            context = multiprocessing.get_context("spawn")
            counters, stop = context.Array("d", MOST_PIECES), context.Value("b", 0)
            self._pool = (ProcessPoolExecutor(self.cores, context, _begin, (counters, stop)), counters, stop)
        _, counters, _ = self._pool
        counters[:pieces] = [0.0] * pieces
        return self._pool

    def close(self) -> None:
        """Stop whatever runs and let the processes go."""
        if self._pool is not None:
            (pool, _, stop), self._pool = self._pool, None
            stop.value = 1
            pool.shutdown(wait=True, cancel_futures=True)
