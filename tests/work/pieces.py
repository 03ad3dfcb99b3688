"""Pieces of work that tests send out."""

import os
import time

import numpy as np

from terrazza.errors import InputError


def double(piece, progress):
    progress.advance(1.0, 1.0)
    return 2 * piece


def shifted(piece, common, progress):
    return piece + common


def ramp(piece, progress):
    """A number, and as many as it says."""
    return piece, np.arange(float(piece))


def summed(piece, common, progress):
    numbers, ramps = common
    return piece + sum(numbers) + sum(float(r.sum()) for r in ramps)


def slow(piece, progress):
    """Write down which process does the piece, and take a second."""
    folder, number = piece
    with open(os.path.join(folder, f"{number}-{os.getpid()}"), "w"):
        pass
    for _ in range(10):
        time.sleep(0.1)
        progress.advance(0.5, 1.0)
    return number


def wrong(piece, progress):
    raise InputError(f"Piece {piece} is wrong.", "Mend it.")
