"""Looking into files while people wait at the page: helper processes that take glimpses, one file after the other."""

import multiprocessing
import os
import queue
import threading
from concurrent.futures import ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool

from terrazza.fleet.lifeline import die_with_parent
from terrazza.formats import glimpse


class Looker:
    """``ask`` answers at once with what is known already, and has the rest looked at in the background, in the order asked for."""

    def __init__(self, cores: int | None = None):
        self.cores = cores or min(os.cpu_count() or 1, 4)
        self._asked: set[str] = set()
        self._waiting: queue.SimpleQueue = queue.SimpleQueue()
        self._thread: threading.Thread | None = None
        self._lock = threading.Lock()

    def ask(self, ask: glimpse.Ask) -> dict | None:
        """What a glimpse found, or None while it is being taken."""
        found = glimpse.kept(ask)
        if found is not None:
            return found
        with self._lock:
            if ask.base not in self._asked:
                self._asked.add(ask.base)
                self._waiting.put(ask)
            if self._thread is None:  # helpers live as long as the thread that starts them, so it is one of their own
                self._thread = threading.Thread(target=self._work, name="looker", daemon=True)
                self._thread.start()
        return None

    def close(self) -> None:
        """Let the helpers go once what they do is done."""
        self._waiting.put(None)

    def _work(self):
        pool = None
        while (ask := self._waiting.get()) is not None:
            for _ in range(2):
                pool = pool or ProcessPoolExecutor(self.cores, multiprocessing.get_context("spawn"), die_with_parent)
                try:
                    pool.submit(glimpse.take, ask).add_done_callback(lambda _, base=ask.base: self._asked.discard(base))
                    break
                except BrokenProcessPool:
                    pool = None
        if pool:
            pool.shutdown(wait=False, cancel_futures=True)
