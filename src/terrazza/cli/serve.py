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

from terrazza.cli.terminal import Bar
from terrazza.db.models import Job as Row
from terrazza.errors import InputError, TerrazzaError
from terrazza.settings import settings
from terrazza.work.keeping import DEMO, FLIGHT
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
        flight: bool = typer.Option(False, "--flight", help="Make the demo's flight over the terraces."),
    ) -> None:
        """Make the demo job where it is missing, then serve."""
        folder, where = str(workspace or settings().workspace), port or settings().port
        if flight:
            make_flight(folder)
            return
        if not build_only:
            need_port(settings().host, where)
        make_demo(folder)
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


def make_demo(workspace: str) -> None:
    """Field data by the simulated instruments, and a job that has imported it like anybody's."""
    from terrazza.db import queries
    from terrazza.demo import build
    from terrazza.operations.spine.fieldbook import enter
    from terrazza.work.runner import run_entry

    open_workspace(workspace)
    if Row.get_or_none(name=DEMO):
        return
    field = field_folder(workspace)
    if not os.path.isfile(os.path.join(field, build.CONTROL_FILE)):
        print("Building the demo's field data: eight scans with photos, and a walk …", file=sys.stderr)
        with Bar("Simulated field work") as bar:
            build.build(field, progress=bar)
    row = queries.create_job(workspace, DEMO)
    files = [os.path.join(field, name) for name in [name for name, _ in build.FILES] + [build.WALK_FILE]]
    with Bar("Importing the demo scans") as bar:
        for name, params in (
            ("import.files", {"files": files}),
            ("import.walk", {"scan": 9, "trajectory": os.path.join(field, build.WALK_PATH)}),
        ):
            entry = run_entry(workspace, enter(row, name, params, "demo"), bar)
            if entry.state != "done":
                row.delete_instance(recursive=True)
                raise TerrazzaError(f"The demo job could not be made: {entry.message}", entry.hint)


def make_flight(workspace: str) -> None:
    """Field data of a simulated drone, and a job that has imported it like anybody's."""
    from terrazza.db import queries
    from terrazza.demo import flight
    from terrazza.operations.spine.fieldbook import enter
    from terrazza.work.runner import run_entry

    open_workspace(workspace)
    if Row.get_or_none(name=FLIGHT):
        return
    field = field_folder(workspace)
    if not os.path.isfile(os.path.join(field, flight.CONTROL)):
        flight.build(field)
    row = queries.create_job(workspace, FLIGHT)
    files = [os.path.join(field, flight.CLOUD)]
    entry = run_entry(workspace, enter(row, "import.files", {"files": files}, "demo"))
    if entry.state != "done":
        row.delete_instance(recursive=True)
        raise TerrazzaError(f"The demo's flight could not be made: {entry.message}", entry.hint)


def field_folder(workspace: str) -> str:
    """Where the demo's field data lies."""
    return os.path.join(os.path.abspath(workspace), "demo-field")


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
