"""Looking into files while people wait at the page: threads that have glimpses taken where a bad file does no
harm.
"""

import os
import queue
import threading

from terrazza.errors import TerrazzaError
from terrazza.fleet.guard import allowed, guard
from terrazza.formats import glimpse


class Looker:
    """``ask`` answers at once with what is known already, and has the rest looked at in the background, in
    the order asked for.
    """

    def __init__(self, cores: int | None = None):
        self.cores = cores or min(os.cpu_count() or 1, 4)
        self._asked: set[str] = set()
        self._waiting: queue.SimpleQueue = queue.SimpleQueue()
        self._threads: list[threading.Thread] = []
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
            while len(self._threads) < self.cores:
                self._threads.append(threading.Thread(target=self._work, name="looker", daemon=True))
                self._threads[-1].start()
        return None

    def close(self) -> None:
        """Let the helpers go once what they do is done."""
        for _ in self._threads:
            self._waiting.put(None)

    def _work(self):
        while (ask := self._waiting.get()) is not None:
            try:
                guard("glimpses").call(
                    glimpse.take, ask, about=os.path.basename(ask.path), seconds=allowed(ask.path)
                )
            except TerrazzaError as error:
                glimpse.keep(ask, {"error": str(error)})
            except OSError:
                pass  # the file is gone: whoever asks again is told
            finally:
                with self._lock:
                    self._asked.discard(ask.base)
