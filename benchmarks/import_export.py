"""Import and export of large files against bare decoding and encoding in the same run.

python benchmarks/import_export.py FILE… [--keep WORKSPACE]

For each LAZ file laspy alone decodes it on all cores, for each E57 file libe57 streams it on one; then the
file is imported into a fresh workspace, exported as LAZ, and laspy alone encodes the same points.  Rows give
seconds, microseconds a point, ratio and peak memory.
"""

import argparse
import json
import os
import sys
import tempfile
import time

import laspy
import numpy as np
from pye57 import libe57

sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
from measuring import run_measured

RECIPE = """
[[step]]
operation = "import.files"
[[step]]
operation = "deliver.laz"
path = "out.laz"
verify = false
"""


def decode_laz(path: str) -> float:
    started = time.time()
    with laspy.open(path) as reader:
        for points in reader.chunk_iterator(1_000_000):
            len(points)
    return time.time() - started


def decode_e57(path: str) -> float:
    return decode_scan(path, 0)


def decode_scan(path: str, scan: int) -> float:
    """Seconds that libe57 takes to stream one scan of a file."""
    image = libe57.ImageFile(path, "r", 0)
    points = image.root()["data3D"][scan]["points"]
    prototype, size = libe57.StructureNode(points.prototype()), 200_000
    names = [prototype.get(k).elementName() for k in range(prototype.childCount())]
    held = {n: np.empty(size) for n in names}
    buffers = libe57.VectorSourceDestBuffer()
    for n, a in held.items():
        buffers.append(libe57.SourceDestBuffer(image, n, a, size, True, True))
    started = time.time()
    reader = points.reader(buffers)
    while reader.read():
        pass
    reader.close()
    return time.time() - started


def encode_laz(path: str, folder: str) -> float:
    """Seconds that laspy takes to write the points of a file again, held ready in memory a million
    at a time.
    """
    seconds = 0.0
    with laspy.open(path) as reader, open(os.path.join(folder, "again.laz"), "wb") as stream:
        with laspy.LasWriter(stream, reader.header, do_compress=True, closefd=False) as writer:
            for points in reader.chunk_iterator(1_000_000):
                started = time.time()
                writer.write_points(points)
                seconds += time.time() - started
            started = time.time()
        os.fsync(stream.fileno())
    return seconds + time.time() - started


def show(name: str, points: int, seconds: float, bare: float, peak: float = 0.0) -> None:
    print(
        f"{name:<32} {points / 1e6:6.0f} M {seconds:8.1f} s {seconds / points * 1e6:7.2f} µs a point, bare "
        f"{bare:7.1f} s, ratio {seconds / bare:5.2f}" + (f", peak {peak:.2f} GB" if peak else ""),
        flush=True,
    )


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("files", nargs="+")
    parser.add_argument("--keep", default="", help="workspace folder to keep")
    args = parser.parse_args()
    for path in args.files:
        with tempfile.TemporaryDirectory(dir=os.path.dirname(os.path.abspath(path))) as scratch:
            bare = decode_laz(path) if path.endswith(".laz") else decode_e57(path)
            recipe, figures, workspace = (
                os.path.join(scratch, "r.toml"),
                os.path.join(scratch, "f.json"),
                args.keep or os.path.join(scratch, "ws"),
            )
            with open(recipe, "w") as f:
                f.write(
                    RECIPE if path.endswith(".laz") else RECIPE.split('[[step]]\noperation = "deliver')[0]
                )
            _, peak = run_measured(
                [
                    sys.executable,
                    "-m",
                    "terrazza.cli.main",
                    "run",
                    recipe,
                    "--workspace",
                    workspace,
                    "--job",
                    os.path.basename(path),
                    "--figures",
                    figures,
                    path,
                ]
            )
            with open(figures) as f:
                steps = {s["operation"]: s for s in json.load(f)["steps"]}
            brought = steps["import.files"]
            show(
                f"import {os.path.basename(path)}",
                brought["figures"]["points"],
                brought["seconds"],
                bare,
                peak,
            )
            folders = [
                os.path.join(a, f)
                for a, _, fs in os.walk(os.path.join(workspace, "jobs"))
                for f in fs
                if "/scans/" in a
            ]
            print(
                f"{'on disk':<32} {sum(map(os.path.getsize, folders)) / brought['figures']['points']:6.1f} "
                "bytes a point",
                flush=True,
            )
            if "deliver.laz" in steps:
                out = steps["deliver.laz"]
                show(
                    "export LAZ",
                    out["figures"]["points"],
                    out["seconds"],
                    encode_laz(out["figures"]["path"], scratch),
                )


if __name__ == "__main__":
    main()
