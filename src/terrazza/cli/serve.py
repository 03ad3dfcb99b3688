"""``terrazza serve`` and ``demo``: the application in the browser, with its worker."""

import contextlib
import os
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import typer

from terrazza.cli.demos import begin
from terrazza.cli.run import WHO, take_steps
from terrazza.cli.terminal import Bar
from terrazza.errors import InputError, ParamsError, TerrazzaError
from terrazza.operations.spine.reach import PAGE
from terrazza.settings import settings
from terrazza.work.demos import DEMOS
from terrazza.work.open import open_workspace

LOAD_AFTER = 2.0  # s
LOOPBACK = {"127.0.0.1", "localhost", "::1"}


def register(app: typer.Typer) -> None:
    @app.command()
    def serve(
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
        port: int = typer.Option(None, help="Port."),
        host: str = typer.Option(None, help="Address."),
    ) -> None:
        """Serve the application and run its worker until Ctrl-C."""
        _serve(str(workspace or settings().workspace), host or settings().host, port or settings().port)

    @app.command()
    def demo(
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
        port: int = typer.Option(None, help="Port."),
        build_only: bool = typer.Option(False, "--build-only", help="Make the demo job and stop."),
        which: str = typer.Option("estate", help=f"Which job: {', '.join(DEMOS)}."),
        page: bool = typer.Option(
            False, "--for-page", hidden=True, help="Begin it; a server takes its steps."
        ),
    ) -> None:
        """Make a demo job where it is missing, then serve."""
        folder, where = str(workspace or settings().workspace), port or settings().port
        if which not in DEMOS:
            raise ParamsError(f"There is no demo “{which}”.", f"There are {', '.join(DEMOS)}.")
        if page:
            begin(folder, which, PAGE)
            return
        if not build_only:
            need_port(settings().host, where)
        make_demo(folder, which)
        if not build_only:
            _serve(folder, settings().host, where)


def need_port(host: str, port: int) -> None:
    """TerrazzaError where the port is taken."""
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            raise TerrazzaError(
                f"Port {port} on {host} is taken by another program ({error.strerror}).",
                f"Stop that one, or choose another: make demo PORT={port + 1}.",
            ) from error


def make_demo(workspace: str, key: str = "estate") -> None:
    """A job to look around in, where there is none of its name yet; a demo job that cannot be made is gone
    again.
    """
    with Bar("Simulated field work") as bar:
        row = begin(workspace, key, WHO, bar)
    if row is None:
        return
    try:
        take_steps(workspace, row, strict=False)
    except TerrazzaError as error:
        if key == "estate":
            row.delete_instance(recursive=True)
        raise TerrazzaError(f"The job “{row.name}” could not be made: {error.message}", error.hint) from error


def _serve(workspace: str, host: str, port: int) -> None:
    import uvicorn

    if host not in LOOPBACK:
        raise InputError(
            f"Terrazza has no accounts yet, so it does not listen on {host}.",
            "Use 127.0.0.1, and reach it from elsewhere through a tunnel of your own.",
        )
    need_port(host, port)
    os.environ["TERRAZZA_WORKSPACE"] = os.path.abspath(workspace)
    settings.cache_clear()
    open_workspace(workspace)
    stop = threading.Event()
    threading.Thread(
        target=_keep_worker, args=(os.path.abspath(workspace), (host, port), stop), daemon=True
    ).start()
    threading.Thread(target=_load_compiled, args=(stop,), daemon=True).start()
    print(f"Terrazza is at http://{host}:{port}  (Ctrl-C stops it)", flush=True)
    try:
        uvicorn.run(
            "terrazza.web.app:create",
            factory=True,
            host=host,
            port=port,
            log_level="warning",
            timeout_graceful_shutdown=2,
        )
    finally:
        stop.set()


def _load_compiled(stop: threading.Event) -> None:
    """Load what picks and the plan's tiles need while the first page is being looked at: the first of them
    would wait most of a second for it.
    """
    if not stop.wait(LOAD_AFTER):
        from terrazza.core.draw import from_above  # noqa: F401
        from terrazza.store import boxed, regions

        boxed.load()
        regions.load()


def _keep_worker(workspace: str, address: tuple[str, int], stop: threading.Event) -> None:
    """Start the worker once pages are answered, and start it again should it die."""
    while not stop.wait(0.05):
        with contextlib.suppress(OSError), socket.create_connection(address, 1):
            break
    while not stop.is_set():
        worker = subprocess.Popen([sys.executable, "-m", "terrazza.work.worker", workspace])
        while worker.poll() is None and not stop.wait(0.3):
            pass
        if stop.is_set():
            worker.terminate()
            return
        time.sleep(1)
