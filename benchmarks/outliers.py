"""The statistical outlier filter against the same filter of a general-purpose 3D library, on the same points
in one run.

pip install -e '.[reference]'          # open3d; on Debian it needs libusb-1.0-0 and libgl1
    python benchmarks/outliers.py FILE… [--bare 10]

Each file (a LAZ or E57 of one scan, see big_files.py) is imported; then clean.outliers with eight neighbours
and 2 σ, whole operation with reading and writing columns, and up to ``--bare`` million points the library's
filter on the same points held in memory, nine neighbours there because it counts the point itself.  Rows give
seconds, microseconds a point, ratio, and in how many points the two differ.
"""

import argparse
import os
import sys
import tempfile
import time

import numpy as np

from terrazza.db import queries
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.work.open import open_workspace
from terrazza.work.runner import run_entry


def performed(workspace: str, row, operation: str, **params) -> float:
    """Seconds that an operation takes; it has to succeed."""
    kind, started = find(operation), time.time()
    entry = run_entry(
        workspace,
        queries.add_entry(row, operation, kind.version, kind.check(params).model_dump(), "benchmark"),
    )
    if entry.state != "done":
        raise SystemExit(f"{operation}: {entry.message}")
    return time.time() - started


def library(xyz: np.ndarray) -> tuple[float, np.ndarray]:
    """Seconds of the library's filter, and the mask of what it takes."""
    import open3d

    cloud = open3d.geometry.PointCloud(open3d.utility.Vector3dVector(xyz))
    started = time.time()
    _, kept = cloud.remove_statistical_outlier(nb_neighbors=9, std_ratio=2.0)
    seconds, gone = time.time() - started, np.ones(len(xyz), bool)
    gone[np.asarray(kept)] = False
    return seconds, gone


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("files", nargs="+")
    parser.add_argument(
        "--bare", type=float, default=10, help="The library's turn up to so many million points."
    )
    args = parser.parse_args()
    for path in args.files:
        with tempfile.TemporaryDirectory(dir=os.path.dirname(os.path.abspath(path))) as workspace:
            open_workspace(workspace)
            row = queries.create_job(workspace, "Outliers")
            performed(workspace, row, "import.files", files=[os.path.abspath(path)])
            seconds = performed(
                workspace, row, "clean.outliers", neighbours=8, deviations=2.0, by_range=False
            )
            cloud = Job(workspace, row).cloud(1)
            line = (
                f"{os.path.basename(path):<16} {cloud.count / 1e6:6.0f} M {seconds:8.1f} s "
                f"{seconds / cloud.count * 1e6:6.2f} µs a point"
            )
            if cloud.count <= args.bare * 1e6 * 1.01:
                bare, gone = library(cloud.xyz())
                mine = ~cloud.kept()
                line += (
                    f", library {bare:.1f} s, {bare / seconds:.2f} times as fast; differ in "
                    f"{int((mine != gone).sum())} of {int(gone.sum())} taken"
                )
            print(line, flush=True)


if __name__ == "__main__":
    sys.exit(main())
