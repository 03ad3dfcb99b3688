"""A server with its worker, a job behind it, and a page in Debian's Chromium; console errors
fail the test.
"""

import os
import socket
import subprocess
import sys
import time
import urllib.request
from dataclasses import dataclass, replace
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import sync_playwright

from terrazza.db import queries
from terrazza.db.schema import open_database
from terrazza.operations.spine import recipe
from terrazza.operations.spine.job import Job
from terrazza.work import archive
from tests.conftest import like

FLAGS = [
    "--no-sandbox",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--use-angle=gl-egl",
    "--ignore-gpu-blocklist",
    "--disable-gpu-compositing",
]


LOGS: dict[int, str] = {}


def free_port() -> int:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


def serve(workspace):
    """Start ``terrazza serve`` and wait until it answers; returns (process, address)."""
    port = free_port()
    with open(f"{workspace}.log", "ab") as log:
        process = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "terrazza.cli.main",
                "serve",
                "--workspace",
                str(workspace),
                "--port",
                str(port),
            ],
            stdout=log,
            stderr=log,
        )
    LOGS[port] = f"{workspace}.log"
    address = f"http://127.0.0.1:{port}"
    for _ in range(300):
        try:
            urllib.request.urlopen(address, timeout=2).read()
            return process, address
        except OSError:
            time.sleep(0.1)
            assert process.poll() is None, "the server did not start"
    raise AssertionError("the server does not answer")


@pytest.fixture(scope="session")
def chromium():
    with sync_playwright() as p:
        browser = p.chromium.launch(
            executable_path=os.environ.get("CHROMIUM", "/usr/bin/chromium"), args=FLAGS
        )
        yield browser
        browser.close()


@pytest.fixture(scope="session")
def window(chromium):
    """One window for all tests of a worker: to open one costs more than many a test."""
    window = chromium.new_page(
        viewport={"width": 1280, "height": 800}, bypass_csp=True
    )  # Playwright waits by evaluating text; test_doors keeps the policy on
    window.add_init_script(
        "try { localStorage.setItem('points', 30000) } catch {}"
    )  # drawn in software, many at a time
    return window


@pytest.fixture
def page(window):
    """The window, with nothing left of the test before; errors on its console fail the test."""
    errors, ports = [], []
    listeners = {
        "console": lambda m: (
            errors.append(m.text)
            if m.type == "error" and "422" not in m.text and "Status Error Code" not in m.text
            else None
        ),
        "pageerror": lambda e: errors.append(str(e)),
        "framenavigated": lambda frame: ports.append(urlsplit(frame.url).port),
    }
    for event, listener in listeners.items():
        window.on(event, listener)
    yield window
    if urlsplit(window.url).port:
        window.evaluate("localStorage.clear(), sessionStorage.clear()")
    window.goto("about:blank")
    window.mouse.move(0, 0)
    for event, listener in listeners.items():
        window.remove_listener(event, listener)
    port = next(filter(None, reversed(ports)), None)
    assert not errors, f"{errors}\n{open(LOGS[port]).read()[-6000:] if port in LOGS else ''}"


@dataclass(frozen=True)
class Desk:
    """A job behind a server."""

    address: str
    workspace: str
    job: int

    @property
    def row(self):
        open_database(self.workspace)
        return queries.job_by(id=self.job)

    def opened(self) -> Job:
        return Job(self.workspace, self.row)

    def entries(self) -> list:
        return recipe.entries_of(self.row)

    def last_number(self) -> int:
        return max(e.number for e in self.entries())


@pytest.fixture(scope="session")
def viewed(whole, tmp_path_factory):
    """The finished job behind a server that a worker's tests share; for tests that do not change it."""
    workspace = like(whole / "ws", tmp_path_factory.mktemp("viewed") / "ws")
    process, address = serve(workspace)
    yield Desk(address, str(workspace), 1)
    process.terminate()
    process.wait(10)


@pytest.fixture(scope="session")
def packed(viewed):
    """A backup of the finished job."""
    archive.backup(viewed.workspace, viewed.row, f"{viewed.workspace}.backup")
    return f"{viewed.workspace}.backup"


@pytest.fixture
def served(viewed, packed, request):
    """A copy of the finished job behind the same server, for one test to change."""
    open_database(viewed.workspace)
    return replace(viewed, job=archive.restore(viewed.workspace, packed, request.node.name).id)
