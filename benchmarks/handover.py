"""The handover folder with very many points: time, memory, size against the promise.

python benchmarks/handover.py [MILLIONS …]

The land of ``ground.py``, all its points delivered.  Wanted: 100 million points in 5 minutes.
"""

import pathlib
import sys
import tempfile
import time

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from benchmarks.ground import land
from benchmarks.many_scans import Watch
from tests.run import must


def main() -> None:
    for millions in [float(word) for word in sys.argv[1:]] or [10, 100]:
        with tempfile.TemporaryDirectory() as folder:
            workspace, row, brought = land(folder, millions)
            watch, start = Watch(), time.perf_counter()
            watch.start()
            figures = must(workspace, row, "deliver.handover", most=2**40)
            wall = time.perf_counter() - start
            watch.done.set()
            print(
                f"{figures['points'] / 1e6:.1f} M points: import {brought:.0f} s, folder {wall:.0f} s "
                f"({watch.used:.0f} s of processor time), {watch.most / 2**30:.2f} GB, "
                f"{figures['bytes'] / 1e6:.0f} MB, "
                f"{figures['bytes'] / figures['promised']:.2f} of what was promised",
                flush=True,
            )


if __name__ == "__main__":
    main()
