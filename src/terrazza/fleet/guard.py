"""Where files of others are read: in helper processes with limits of time and memory, whose death is a
sentence and no more.

Decoders may crash, hang or ask for all memory on a damaged or doctored file.  A helper is forked from a clean
server process that has the readers loaded already, so one costs some hundredths of a second; it is used again
until it dies or has grown.
"""

import contextlib
import multiprocessing
import os
import resource
import threading
import time
from collections.abc import Callable
from typing import Any

from terrazza.errors import InputError, StateError, TerrazzaError
from terrazza.fleet.lifeline import die_with_parent

PRELOAD = (
    "terrazza.operations.pieces.ingest",
    "terrazza.formats.glimpse",
    "terrazza.formats.las",
    "terrazza.formats.e57",
    "terrazza.formats.ptx",
    "terrazza.formats.ply",
    "terrazza.store.build",
)
SIDE_BY_SIDE = 2
STARTING = 60.0
GROWN = 600_000_000
SECONDS, BYTES_A_SECOND = 20.0, 30e6
MEMORY = 1_500_000_000
AGAIN = "It may be damaged: copy it again, or export it again from where it came."


class _Said:
    """Progress of a call, sent to who asked for it at most four times a second."""

    def __init__(self, line):
        self.line, self.last = line, 0.0

    def advance(self, done: float, total: float, label: str = "") -> None:
        if time.monotonic() - self.last > 0.25:
            self.last = time.monotonic()
            self.line.send(("progress", (done, total, label)))


def _serve(line) -> None:
    """Answer calls one after another until nobody asks any more."""
    die_with_parent()
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    quiet = os.open(os.devnull, os.O_WRONLY)
    os.dup2(quiet, 2)  # what a dying decoder prints is nothing for the surveyor
    with contextlib.suppress(EOFError, BrokenPipeError, KeyboardInterrupt):
        line.send("ready")
        while True:
            function, args, memory, progress = line.recv()
            _limit(memory)
            try:
                answer = ("done", function(*args, _Said(line)) if progress else function(*args))
            except TerrazzaError as error:
                answer = ("refused", error)
            except MemoryError:
                answer = ("memory", None)
            except Exception as error:
                answer = ("failed", f"{type(error).__name__}: {str(error)[:200]}")
            _limit(None)
            line.send((*answer, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024))


def _limit(more: int | None) -> None:
    """Let this process map so many bytes more than now; None: any number."""
    hard = resource.getrlimit(resource.RLIMIT_AS)[1]
    soft = hard
    if more is not None:
        with open("/proc/self/statm") as f:
            soft = int(f.read().split()[0]) * resource.getpagesize() + more
    resource.setrlimit(resource.RLIMIT_AS, (soft, hard))


def allowed(path: str) -> float:
    """Seconds that a look into a file may take, by its size."""
    return SECONDS + (os.path.getsize(path) / BYTES_A_SECOND if os.path.exists(path) else 0)


class Guard:
    """Runs calls in helpers, at most ``SIDE_BY_SIDE`` at a time; from any thread."""

    def __init__(self):
        self._free: list = []
        self._room = threading.BoundedSemaphore(SIDE_BY_SIDE)
        self._lock = threading.Lock()
        self._context = multiprocessing.get_context("forkserver")
        self._context.set_forkserver_preload(list(PRELOAD))

    def call(
        self,
        function: Callable,
        *args,
        about: str,
        seconds: float = SECONDS,
        memory: int = MEMORY,
        progress=None,
    ) -> Any:
        """What ``function(*args)`` gives; with ``progress`` it is called with one as its last argument, and
        ``seconds`` count from its last report.

        ``about`` names the file.  TerrazzaErrors come through; InputError says that the reader failed, died,
        took too long or needed too much memory.
        """
        with self._room:
            try:
                helper, line = self._taken()
            except (EOFError, OSError):
                raise StateError(
                    "No helper process starts.", "Close other programs: the machine may be short of memory."
                ) from None
            try:
                line.send((function, args, memory, progress is not None))
                kind, value, *held = self._answer(line, seconds, progress)
            except (EOFError, OSError):
                self._end(helper, line)
                raise InputError(
                    f"“{about}” cannot be read: it took its reader down with it.", AGAIN
                ) from None
            except BaseException:
                self._end(helper, line)
                raise
            if kind == "late":
                self._end(helper, line)
                raise InputError(
                    f"“{about}” cannot be read: its reader came to no end within {seconds:.0f} s.", AGAIN
                )
            if held[0] > GROWN or kind == "memory":
                self._end(helper, line)
            else:
                with self._lock:
                    self._free.append((helper, line))
        if kind == "refused":
            raise value
        if kind == "memory":
            raise InputError(
                f"“{about}” cannot be read: it asks for more than {memory / 1e9:.1f} GB of memory.", AGAIN
            )
        if kind == "failed":
            raise InputError(f"“{about}” cannot be read ({value}).", AGAIN)
        return value

    @staticmethod
    def _answer(line, seconds, progress):
        while line.poll(seconds):
            said = line.recv()
            if said[0] != "progress":
                return said
            if progress is not None:
                progress.advance(*said[1])
        return "late", None, 0

    def _taken(self):
        with self._lock:
            while self._free:
                helper, line = self._free.pop()
                if helper.is_alive():
                    return helper, line
                line.close()
            mine, theirs = self._context.Pipe()
            helper = self._context.Process(target=_serve, args=(theirs,), daemon=True)
            helper.start()
            theirs.close()
            if not mine.poll(STARTING):
                self._end(helper, mine)
                raise StateError(
                    "No helper process starts.", "Close other programs: the machine may be short of memory."
                )
            mine.recv()
            return helper, mine

    @staticmethod
    def _end(helper, line) -> None:
        line.close()
        helper.kill()
        helper.join(5)

    def close(self) -> None:
        """Let all helpers go."""
        with self._lock:
            for helper, line in self._free:
                self._end(helper, line)
            self._free.clear()


_guards: dict[str, Guard] = {}
_making = threading.Lock()


def guard(lane: str = "") -> Guard:
    """A guard of this process; what waits in one lane does not wait for what runs in another."""
    with _making:
        if lane not in _guards:
            _guards[lane] = Guard()
        return _guards[lane]
