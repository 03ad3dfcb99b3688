"""What the benchmarks share: wall time and memory of a process with all its descendants."""

import os
import subprocess
import sys
import threading
import time


def family_memory(pid: int) -> int:
    """Anonymous and shared pages (bytes) of a process and all its descendants."""
    total, todo = 0, [pid]
    while todo:
        p = todo.pop()
        try:
            with open(f"/proc/{p}/status") as f:
                rows = dict(line.split(":", 1) for line in f)
            total += (int(rows["RssAnon"].split()[0]) + int(rows["RssShmem"].split()[0])) * 1024
            for task in os.listdir(f"/proc/{p}/task"):
                with open(f"/proc/{p}/task/{task}/children") as f:
                    todo += [int(c) for c in f.read().split()]
        except (OSError, KeyError):
            continue
    return total


def run_measured(command: list[str]) -> tuple[float, float]:
    """Wall seconds and peak memory (GB) of a command with its children."""
    started, peak = time.time(), 0
    process = subprocess.Popen(command)
    done = threading.Event()
    while process.poll() is None:
        peak = max(peak, family_memory(process.pid))
        done.wait(0.1)
    if process.returncode:
        sys.exit(f"failed: {' '.join(command)}")
    return time.time() - started, peak / 1e9
