"""Processor time of this version against another one, operation by operation, in pairs.

python benchmarks/versions.py OTHER-SRC FILE… [--pairs 3]

OTHER-SRC is the ``src`` folder of another version (a git worktree).  Each FILE (LAZ or E57 of one scan, see
big_files.py) is taken through each recipe below by both versions in turn.  A row gives the medians of user
and system seconds of the command and of every process it started, helpers of helpers included, and the median
of the pairs' ratios; rows after the first hold the first one's work too.
"""

import argparse
import ctypes
import os
import resource
import statistics
import subprocess
import sys
import tempfile

IMPORT = '[[step]]\noperation = "import.files"\n'
RECIPES = {
    "import": IMPORT,
    "import, export as LAZ": IMPORT + '[[step]]\noperation = "deliver.laz"\npath = "out.laz"\n',
    "import, export as E57": IMPORT + '[[step]]\noperation = "deliver.e57"\npath = "out.e57"\n',
    "import, outlier filter": IMPORT + '[[step]]\noperation = "clean.outliers"\n',
    "import, ground": IMPORT + '[[step]]\noperation = "classify.ground"\n',
}
BECOME_REAPER = (
    36  # PR_SET_CHILD_SUBREAPER of prctl(2): orphans come to this process, so that their times are counted
)


def spent(source: str, recipe: str, file: str) -> float:
    """Processor seconds of one recipe by the version in ``source``."""
    with tempfile.TemporaryDirectory() as scratch:
        path = os.path.join(scratch, "recipe.toml")
        with open(path, "w") as f:
            f.write(recipe)
        before = times()
        command = [
            sys.executable,
            "-m",
            "terrazza.cli.main",
            "run",
            path,
            "--workspace",
            os.path.join(scratch, "ws"),
            "--job",
            "Pair",
            file,
        ]
        done = subprocess.run(
            command,
            cwd=scratch,
            env=dict(os.environ, PYTHONPATH=source),
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        while True:
            try:
                os.wait()
            except ChildProcessError:
                return (
                    times() - before if done.returncode == 0 else float("nan")
                )  # an unplaced scan is not delivered


def times() -> float:
    usage = resource.getrusage(resource.RUSAGE_CHILDREN)
    return usage.ru_utime + usage.ru_stime


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("other")
    parser.add_argument("files", nargs="+")
    parser.add_argument("--pairs", type=int, default=3)
    args = parser.parse_args()
    ctypes.CDLL(None).prctl(BECOME_REAPER, 1, 0, 0, 0)
    here = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "src")
    for file in map(os.path.abspath, args.files):
        for name, recipe in RECIPES.items():
            pairs = [
                (spent(here, recipe, file), spent(os.path.abspath(args.other), recipe, file))
                for _ in range(args.pairs)
            ]
            ours, theirs = (statistics.median(p[k] for p in pairs) for k in (0, 1))
            print(
                f"{os.path.basename(file):<16} {name:<24} {ours:7.1f} s against {theirs:7.1f} s, ratio "
                f"{statistics.median(a / b for a, b in pairs):.2f}",
                flush=True,
            )


if __name__ == "__main__":
    main()
