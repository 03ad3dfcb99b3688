"""The turn of a scanner against its craft on simulated flights: errors, what was claimed, and their ratio, by
pattern of passes and by how far passes are off as a whole.

.venv/bin/python benchmarks/strips.py [FLIGHTS]
"""

import pathlib
import sys
import time

import numpy as np

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from tests import flown

if __name__ == "__main__":
    for pattern in flown.PATTERNS:
        for shift in (0.0, 0.01, 0.03):
            off, claimed, start = [], [], time.process_time()
            for seed in range(int(sys.argv[1]) if len(sys.argv) > 1 else 6):
                turn = np.radians(np.random.default_rng(seed).uniform(-0.1, 0.1, 3))
                angles, covariance = flown.solved(
                    flown.fly(np.random.default_rng(100 + seed), pattern, turn, shift=shift, houses=60)
                )
                off.append(np.degrees(angles - turn) * 1000)
                claimed.append(np.degrees(np.sqrt(np.diag(covariance))) * 1000)
            off, claimed = np.array(off), np.array(claimed)
            print(
                f"{pattern}, passes off by {shift * 1000:.0f} mm: error (roll, pitch, heading)",
                np.round(np.sqrt((off**2).mean(0)), 2),
                "claimed",
                np.round(np.median(claimed, 0), 2),
                "mdeg, e²/σ²",
                np.round((off**2 / claimed**2).mean(0), 2),
                f"{(time.process_time() - start) / len(off):.0f} s a flight",
            )
