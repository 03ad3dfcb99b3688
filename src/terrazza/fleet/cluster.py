"""Mapping pieces of work over the machines of a Dask cluster that share the workspace's storage."""

import contextlib
import os
import tempfile
import time
import uuid

from distributed import Client, Event, KilledWorker, get_worker

from terrazza.errors import Cancelled, TerrazzaError
from terrazza.fleet.common import Shared, dump, gather, laid
from terrazza.fleet.local import Fleet, inline, run_piece

EVERY = 0.25
LOOK = 0.25
PATIENCE = 10.0


class _Telling:
    """Progress of one piece, told to whoever asked for the map, at most four times a second."""

    def __init__(self, name: str, number: int):
        self.name, self.number, self.last = name, number, 0.0
        self.stop = Event(f"stop-{name}")

    def advance(self, done: float, total: float, label: str = "") -> None:
        now = time.monotonic()
        if now - self.last < EVERY:
            return
        self.last = now
        get_worker().log_event(name_of(self.name), (self.number, float(done)))
        if self.stop.is_set():
            raise Cancelled()


def name_of(name: str) -> str:
    return f"terrazza-{name}"


def _run(function, number, piece, common, name):
    return run_piece(function, piece, common, _Telling(name, number))


class Cluster(Fleet):
    """The same as ``Local``, on the workers of a scheduler at ``address``; pieces of a worker that dies are
    done again by others.

    ``shared`` is a folder that all of them see under the same name.
    """

    cores = 2  # at least: others do the work

    def __init__(self, address: str, shared: str, memory: int = 2_000_000_000):
        self.address, self.shared, self.memory = address, shared, memory
        self._client = None

    def warm(self, module: str) -> None:
        """Workers of a cluster are warm."""

    def _connected(self) -> Client:
        if self._client is None:
            try:
                self._client = Client(self.address, timeout=PATIENCE, set_as_default=False)
            except (OSError, TimeoutError) as error:
                raise TerrazzaError(
                    f"The cluster at {self.address} does not answer.",
                    "Start its scheduler, or unset TERRAZZA_CLUSTER to work on this machine alone.",
                ) from error
            if not self._client.scheduler_info()["workers"]:
                self.close()
                raise TerrazzaError(
                    f"The cluster at {self.address} has no workers.",
                    "Start some that see the same workspace.",
                )
        return self._client

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
        """As ``Fleet.each``, by default one piece more ``ahead`` than the cluster has threads."""
        total = float(sum(sizes)) or 1.0
        if len(pieces) <= 1 or (light and inline(total)):
            from terrazza.fleet.local import Local

            yield from Local(cores=1, memory=self.memory).each(
                function, pieces, sizes, progress, label, common
            )
            return
        client, name = self._connected(), uuid.uuid4().hex
        done = [0.0] * len(pieces)

        def heard(event):
            number, value = event[1]
            done[number] = max(done[number], value)

        def submit(n):
            return client.submit(_run, function, n, pieces[n], path, name, pure=False, retries=2)

        kept = contextlib.ExitStack()
        try:
            path = kept.enter_context(laid(common, self.share))
            client.subscribe_topic(name_of(name), heard)
            yield from self._followed(
                client,
                name,
                submit,
                sizes,
                done,
                total,
                progress,
                label,
                ahead or 1 + sum(client.nthreads().values()),
            )
        except KilledWorker as error:
            raise TerrazzaError(
                "The same piece of work ended several workers of the cluster.",
                "They may be out of memory: give them more, or lower TERRAZZA_MEMORY.",
            ) from error
        finally:
            with contextlib.suppress(ValueError):
                client.unsubscribe_topic(name_of(name))
            kept.close()

    @contextlib.contextmanager
    def share(self, value):
        """As ``Local.share``, in the folder that all workers see."""
        path = os.path.join(self.shared, f"common-{uuid.uuid4().hex}.pickle")
        try:
            dump(value, path)
            yield Shared(path)
        finally:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(path)

    @contextlib.contextmanager
    def gather(self, results):
        """As ``Local.gather``, in the folder that all workers see."""
        with tempfile.TemporaryDirectory(prefix="common-", dir=self.shared) as folder:
            yield gather(results, folder)

    @staticmethod
    def _followed(client, name, submit, sizes, done, total, progress, label, ahead):
        futures = []
        try:
            for n in range(len(sizes)):
                futures += [submit(k) for k in range(len(futures), min(n + ahead, len(sizes)))]
                while True:
                    for k in range(n, len(futures)):
                        if futures[k].done() and done[k] != sizes[k]:
                            if futures[k].status != "finished":
                                futures[k].result()
                            done[k] = sizes[k]
                    progress.advance(min(sum(done), total), total, label)
                    if futures[n].done():
                        break
                    time.sleep(LOOK)
                result, futures[n] = futures[n].result(), None
                yield result
        except BaseException:
            Event(f"stop-{name}", client=client).set()
            client.cancel([f for f in futures if f is not None])
            raise

    def close(self) -> None:
        """Let go of the cluster."""
        if self._client is not None:
            client, self._client = self._client, None
            client.close()
