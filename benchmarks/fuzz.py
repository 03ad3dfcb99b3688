"""Seeded mutations of files of every kind that is read: each is refused in words, or taken and the job checks
whole.

.venv/bin/python benchmarks/fuzz.py [--count 10000] [--seed 0] [--workers 2]

Prints what came of the mutations by kind of file, and every failure with its seed.  Exits 1 where a mutation
crashed, hung, gave an error without words, or left a job that does not check whole.
"""

import argparse
import collections
import multiprocessing
import os
import random
import shutil
import struct
import sys
import tempfile
import time
import zipfile
from concurrent.futures import ProcessPoolExecutor

import laspy
import numpy as np
import plyfile

from terrazza.db import queries
from terrazza.errors import TerrazzaError
from terrazza.formats import e57_writer
from terrazza.operations.pieces import reading
from terrazza.operations.spine import health
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.web.contexts import inbox
from terrazza.work import archive
from terrazza.work.open import open_workspace
from terrazza.work.runner import run_entry

NUMBERS = [
    b"nan",
    b"inf",
    b"-1",
    b"0",
    b"1e308",
    b"-1e308",
    b"99999999999999999999",
    b"4294967296",
    b"1e-320",
    b"",
    b"x",
    b"1,5",
    "²".encode(),
]
PACKED = [struct.pack("<d", v) for v in (np.nan, np.inf, 1e308, -1e308, 0.0, 1e-310)] + [
    b"\xff" * 8,
    b"\0" * 8,
    b"\xff\xff\xff\x7f",
    b"\0\0\0\x80",
]
SLOW = 90.0
OWN = "error of its own"


def seeds(folder: str) -> list[str]:
    """One small honest file of every kind."""
    rng = np.random.default_rng(4)
    xyz, tone = rng.uniform(-9, 9, (700, 3)), rng.integers(0, 4000, 700)
    path = lambda name: os.path.join(folder, name)
    with e57_writer.Writer(path("a.e57")) as out:
        for k in range(2):
            out.add_scan(
                f"s{k}",
                [
                    {
                        "xyz": xyz,
                        "intensity": tone.astype(np.uint16),
                        "row": np.arange(700, dtype=np.uint32) // 35,
                        "column": np.arange(700, dtype=np.uint32) % 35,
                    }
                ],
                ["xyz", "intensity", "row", "column"],
                pose=np.eye(4),
                grid=(20, 35),
            )
    for version, form, name in (
        ("1.2", 3, "b.las"),
        ("1.4", 7, "c.las"),
        ("1.4", 7, "d.laz"),
        ("1.2", 1, "e.laz"),
    ):
        cloud = laspy.LasData(laspy.LasHeader(point_format=form, version=version))
        cloud.header.scales = [0.001] * 3
        cloud.x, cloud.y, cloud.z, cloud.intensity = *xyz.T, tone
        cloud.write(path(name))
    copc = os.path.join(os.path.dirname(__file__), "..", "tests", "references", "laspy", "simple.copc.laz")
    if os.path.exists(copc):
        shutil.copy(copc, path("f.copc.laz"))
    lines = [" ".join(f"{v:.4f}" for v in p) + f" {t} {t % 255} 3 9" for p, t in zip(xyz, tone)]
    texts = {
        "g.xyz": "\n".join(lines),
        "h.csv": "x,y,z,intensity,red,green,blue\n" + "\n".join(line.replace(" ", ",") for line in lines),
        "i.pts": "700\n" + "\n".join(lines),
        "j.ptx": "35\n20\n0 0 0\n1 0 0\n0 1 0\n0 0 1\n1 0 0 0\n0 1 0 0\n0 0 1 0\n0 0 0 1\n"
        + "\n".join(" ".join(line.split()[:3]) + " 0.5" for line in lines),
        "k.pcd": "# .PCD v0.7\nVERSION 0.7\nFIELDS x y z intensity\nSIZE 4 4 4 4\nTYPE F F F F\nCOUNT 1 1 1 "
        "1\nWIDTH 700\nHEIGHT 1\nVIEWPOINT 0 0 0 1 0 0 0\nPOINTS 700\nDATA ascii\n"
        + "\n".join(" ".join(line.split()[:4]) for line in lines),
        "way.txt": "time x y z heading\n"
        + "\n".join(f"{k / 10} {p[0]:.3f} {p[1]:.3f} {p[2]:.3f} {k % 360}" for k, p in enumerate(xyz)),
        "control.csv": "name,easting,northing,height\n"
        + "\n".join(f"P{k},{p[0]:.3f},{p[1]:.3f},{p[2]:.3f}" for k, p in enumerate(xyz[:9])),
    }
    for name, text in texts.items():
        with open(path(name), "w") as f:
            f.write(text + "\n")
    head, body = texts["k.pcd"].split("DATA ascii")[0], np.c_[xyz, tone].astype("<f4").tobytes()
    with open(path("l.pcd"), "wb") as f:
        f.write(head.encode() + b"DATA binary\n" + body)
    flat = np.ascontiguousarray(np.c_[xyz, tone].astype("<f4").T).tobytes()
    packed = b"".join(bytes([len(flat[k : k + 32]) - 1]) + flat[k : k + 32] for k in range(0, len(flat), 32))
    with open(path("m.pcd"), "wb") as f:
        f.write(
            head.encode() + b"DATA binary_compressed\n" + struct.pack("<II", len(packed), len(flat)) + packed
        )
    vertices = np.array(
        [tuple(p) + (int(t),) for p, t in zip(xyz, tone)],
        [("x", "f8"), ("y", "f8"), ("z", "f8"), ("intensity", "u2")],
    )
    for name, text in (("n.ply", True), ("o.ply", False)):
        plyfile.PlyData([plyfile.PlyElement.describe(vertices, "vertex")], text=text).write(path(name))
    with zipfile.ZipFile(path("p.zip"), "w", zipfile.ZIP_DEFLATED) as out:
        out.write(path("b.las"), "b.las")
        out.write(path("g.xyz"), "deep/g.xyz")
    workspace = path("ws")
    open_workspace(workspace)
    row = queries.create_job(workspace, "Seed")
    perform(workspace, row, "import.files", {"files": [path("g.xyz")]})
    archive.backup(workspace, row, path("q.tar"))
    return sorted(os.path.join(folder, n) for n in os.listdir(folder) if n != "ws")


def perform(workspace, row, name, params):
    kind = find(name)
    return run_entry(
        workspace, queries.add_entry(row, name, kind.version, kind.check(params).model_dump(), "fuzz")
    )


def mutated(data: bytes, rng: random.Random, text: bool) -> bytes:
    """One to four changes: bits, stretches, cuts, copies, and numbers that nobody expects."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 4)):
        at = (
            min(int(rng.expovariate(6 / max(len(out), 1))), len(out) - 1)
            if rng.random() < 0.5
            else rng.randrange(len(out))
        )  # heads are hit more often
        what = rng.randrange(7)
        if what == 0:
            out[at] ^= 1 << rng.randrange(8)
        elif what == 1:
            n = rng.randint(1, 64)
            out[at : at + n] = rng.randbytes(n)
        elif what == 2:
            del out[at : at + rng.randint(1, max(len(out) // 4, 1))]
        elif what == 3:
            out[at:at] = out[at : at + rng.randint(1, 2000)]
        elif what == 4:
            del out[max(at, 1) :]
        elif text:
            words = bytes(out).split(b" ")
            words[rng.randrange(len(words))] = rng.choice(NUMBERS)
            out = bytearray(b" ".join(words))
        else:
            word = rng.choice(PACKED)
            out[at : at + len(word)] = word
        if not out:
            return b"\0"
    return bytes(out)


def tried(workspace, row, path: str, kind: str) -> str:
    """What came of one file: refused or taken; anything else is a failure."""
    try:
        if kind == "zip":
            before = set(os.listdir(os.path.dirname(path)))
            inbox.unpack(path)
            for name in set(os.listdir(os.path.dirname(path))) - before:
                os.unlink(os.path.join(os.path.dirname(path), name))
            return "taken"
        if kind == "tar":
            back = archive.restore(workspace, path, f"r{time.monotonic_ns()}")
            wrong = health.check(Job(workspace, back))
            return f"a restored job is not whole: {wrong[0]}" if wrong else "taken"
        if kind == "way":
            reading.way(path)
            return "taken"
        if kind == "control":
            reading.control(path)
            return "taken"
    except TerrazzaError as error:
        return "refused" if error.message and error.hint else f"refused without a hint: {error}"
    entry = perform(workspace, row, "import.files", {"files": [path]})
    if entry.state == "done":
        return "taken"
    return (
        "refused"
        if entry.state == "failed" and entry.hint and OWN not in entry.message
        else f"{entry.state}: {entry.message}"
    )


def work(args) -> tuple[collections.Counter, list[str]]:
    folder, files, numbers, own = args
    workspace, results, failures = os.path.join(folder, f"ws{own}"), collections.Counter(), []
    open_workspace(workspace)
    row, since = queries.create_job(workspace, "Fuzz 0"), 0
    for number in numbers:
        rng = random.Random(number)
        source = files[number % len(files)]
        name, kind = (
            os.path.basename(source),
            "zip"
            if source.endswith(".zip")
            else "tar"
            if source.endswith(".tar")
            else "way"
            if "way." in source
            else "control"
            if "control." in source
            else "cloud",
        )
        with open(source, "rb") as f:
            data = mutated(
                f.read(),
                rng,
                name.rsplit(".", 1)[1] in {"xyz", "csv", "pts", "ptx", "txt"}
                or name == "k.pcd"
                or name == "n.ply",
            )
        path = os.path.join(folder, f"{own}", f"{number}-{name}")
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "wb") as f:
            f.write(data)
        begun = time.monotonic()
        try:
            said = tried(workspace, row, path, kind)
        except Exception as error:
            said = f"{type(error).__name__}: {error}"
        if time.monotonic() - begun > SLOW:
            said = f"took {time.monotonic() - begun:.0f} s"
        results[name, said if said in {"taken", "refused"} else "failed"] += 1
        if said not in {"taken", "refused"}:
            failures.append(f"{number} {name}: {said}"[:400])
        if os.path.exists(path):
            os.unlink(path)
        since += 1
        if since == 200 or number == numbers[-1]:
            wrong = health.check(Job(workspace, row))
            failures += [f"after {number}: the job is not whole: {w}" for w in wrong[:3]]
            row, since = queries.create_job(workspace, f"Fuzz {number}"), 0
    return results, failures


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--workers", type=int, default=2)
    args = parser.parse_args()
    begun = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        os.makedirs(os.path.join(folder, "seeds"))
        files = seeds(os.path.join(folder, "seeds"))
        tasks = [
            (folder, files, range(args.seed + k, args.seed + args.count, args.workers), k)
            for k in range(args.workers)
        ]
        with ProcessPoolExecutor(args.workers, multiprocessing.get_context("spawn")) as pool:
            found = list(pool.map(work, tasks))
    results, failures = sum((r for r, _ in found), collections.Counter()), [f for _, fs in found for f in fs]
    for name in sorted({n for n, _ in results}):
        print(
            f"{name:14} refused {results[name, 'refused']:5}  taken {results[name, 'taken']:5}  failed "
            f"{results[name, 'failed']:3}"
        )
    print(f"{args.count:,} mutations, {len(failures)} failures, {time.monotonic() - begun:.0f} s")
    print("\n".join(failures[:60]))
    sys.exit(bool(failures))


if __name__ == "__main__":
    main()
