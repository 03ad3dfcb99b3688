"""Processor time of pages, pictures, picks and movement by this version against another one, in pairs.

python benchmarks/serving.py OTHER-SRC FILE [--pairs 3] [--rows TEXT]

OTHER-SRC is the ``src`` folder of another version (a git worktree).  Each version imports FILE into a
workspace of its own and serves it; then both do each row below in turn.  A row gives the medians of processor
seconds of the server with its helpers (of the browser with all its processes where the row moves the table)
and the median of the pairs' ratios.
"""

import argparse
import os
import pathlib
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.parse
import urllib.request

from playwright.sync_api import sync_playwright

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from benchmarks.moving import REST, TURN
from benchmarks.pages import STEPS
from benchmarks.plan_picture import WHOLE
from tests.browser.conftest import FLAGS, serve

TICKS = os.sysconf("SC_CLK_TCK")
PICKS = """(async () => { const { exact } = await import("/static/js/picking.js"), r = terrazza.space.rect;
  for (let k = 0; k < 60; k++) await exact(terrazza, terrazza.space, r.width * (0.2 + 0.01 * k),
    r.height * 0.6); })()"""
MANY = 10  # repeats of what is over quickly: processor time is counted in hundredths


def spent(pid: int) -> float:
    """Processor seconds of a process and of all below it, ended ones included."""
    with open(f"/proc/{pid}/stat") as f:
        fields = f.read().rsplit(")", 1)[1].split()
    with open(f"/proc/{pid}/task/{pid}/children") as f:
        below = f.read().split()
    return sum(int(v) for v in fields[11:15]) / TICKS + sum(spent(int(child)) for child in below)


class Side:
    """One version, serving its own copy of the job, with a window of its own."""

    def __init__(self, source: str, file: str, folder: str, play) -> None:
        os.environ["PYTHONPATH"] = source
        recipe = pathlib.Path(folder, "recipe.toml")
        recipe.write_text('[[step]]\noperation = "import.files"\n')
        subprocess.run(
            [
                sys.executable,
                "-m",
                "terrazza.cli.main",
                "run",
                str(recipe),
                "--workspace",
                f"{folder}/ws",
                "--job",
                "Pair",
                file,
            ],
            check=True,
            capture_output=True,
        )
        self.kept, (self.server, self.address) = f"{folder}/ws/jobs", serve(f"{folder}/ws")
        self.browser = play.chromium.launch(
            executable_path="/usr/bin/chromium", args=[*FLAGS, f"--user-agent={folder}"]
        )
        self.root = next(int(p.name) for p in pathlib.Path("/proc").glob("[0-9]*") if _mine(p, folder))
        self.file, self.page = os.path.basename(file), None

    def open(self) -> None:
        if self.page:
            self.page.context.close()
        self.page = self.browser.new_context(
            viewport={"width": 1280, "height": 800}, bypass_csp=True
        ).new_page()
        self.page.goto(f"{self.address}/jobs/1/register")
        self.page.wait_for_selector("#table[data-state=idle]", timeout=120_000)

    def get(self, path: str, form: dict | None = None) -> bytes:
        data = urllib.parse.urlencode(form).encode() if form is not None else None
        return urllib.request.urlopen(
            urllib.request.Request(self.address + path, data, {"Origin": self.address})
        ).read()

    def pages(self) -> None:
        for step in STEPS * MANY:
            self.get(f"/jobs/1/{step}")

    def scenes(self) -> None:
        for _ in range(5 * MANY):
            self.get("/jobs/1/scene.json")

    def statement(self) -> None:
        for _ in range(MANY):
            self.get("/jobs/1/deliverables/statement/laz", {"path": "out.laz", "step": "0.05"})

    def plan(self, again: bool) -> None:
        if not again:
            for picture in pathlib.Path(self.kept).glob("*/pictures/plan-*"):
                picture.unlink()
        fit = self.page.evaluate("terrazza.plan.scale")
        for how in ("walls", "density", "intensity", "height"):
            for zoom in (1.0, 4.0, 30.0):
                self.page.evaluate(WHOLE, [how, fit / zoom])
        self.page.evaluate("(s) => { terrazza.plan.scale = s; terrazza.dirty(terrazza.plan); }", fit)


def _mine(process: pathlib.Path, mark: str) -> bool:
    """Whether this is the browser's first process, which carries ``mark`` and no type."""
    try:
        line = (process / "cmdline").read_bytes().decode(errors="replace")
    except OSError:
        return False
    return "chromium" in line and mark in line and "--type=" not in line and "/bin/sh" not in line


ROWS = {
    "eight pages, ten times": ("server", Side.pages),
    "the scene, fifty times": ("server", Side.scenes),
    "opening the table until it rests": ("server", Side.open),
    "… the browser's own": ("browser", Side.open),
    "sixty picks": ("server", lambda s: s.page.evaluate(PICKS)),
    "twelve pictures of the plan, drawn anew": ("server", lambda s: s.plan(False)),
    "… out of what is kept": ("server", lambda s: s.plan(True)),
    "sixty frames in movement": ("browser", lambda s: s.page.evaluate(TURN)),
    "coming to rest": ("browser", lambda s: s.page.evaluate(REST)),
    "estimate of a thinned deliverable, ten times": ("server", Side.statement),
}


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("other")
    parser.add_argument("file")
    parser.add_argument("--pairs", type=int, default=3)
    parser.add_argument("--rows", default="", help="only rows whose name holds this text")
    args = parser.parse_args()
    here = str(pathlib.Path(__file__).resolve().parent.parent / "src")
    with (
        tempfile.TemporaryDirectory() as one,
        tempfile.TemporaryDirectory() as two,
        sync_playwright() as play,
    ):
        sides = [
            Side(os.path.abspath(args.other), os.path.abspath(args.file), one, play),
            Side(here, os.path.abspath(args.file), two, play),
        ]
        try:
            for side in sides:
                side.open()
                side.pages()
            for name, (whose, act) in ((n, r) for n, r in ROWS.items() if args.rows in n):
                taken = []
                for k in range(args.pairs):
                    pair = [0.0, 0.0]
                    for at in (0, 1) if k % 2 else (1, 0):
                        pid = sides[at].server.pid if whose == "server" else sides[at].root
                        before = spent(pid)
                        act(sides[at])
                        time.sleep(0.3)
                        pair[at] = spent(pid) - before
                    taken.append(pair)
                old, new = (statistics.median(t[k] for t in taken) for k in (0, 1))
                print(
                    f"{name:45} {old:7.2f} s before, {new:7.2f} s now, ratio "
                    f"{statistics.median(t[1] / max(t[0], 0.01) for t in taken):.2f}",
                    flush=True,
                )
        finally:
            for side in sides:
                side.server.terminate()


if __name__ == "__main__":
    main()
