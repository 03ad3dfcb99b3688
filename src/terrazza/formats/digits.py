"""Numbers as lines of text, fast: whole numbers with a fixed place of the decimal point."""

import numpy as np
from numba import njit

LONGEST = 22  # characters of one number and what stands after it


@njit(cache=True, nogil=True)
def _write(values: np.ndarray, decimals: np.ndarray, mark: int, out: np.ndarray):
    at = 0
    digits = np.empty(24, np.uint8)
    rows, columns = values.shape
    for i in range(rows):
        for k in range(columns):
            value, point = values[i, k], decimals[k]
            if value < 0:
                out[at] = 45
                at += 1
                value = -value
            many = 0
            while value > 0 or many <= point:
                digits[many] = 48 + value % 10
                value //= 10
                many += 1
            for d in range(many - 1, -1, -1):
                out[at] = digits[d]
                at += 1
                if d == point and point > 0:
                    out[at] = 46
                    at += 1
            out[at] = mark if k + 1 < columns else 10
            at += 1
    return at


def lines(columns: list[tuple[np.ndarray, int]], delimiter: str = " ") -> bytes:
    """A line a row: each column is (n,) or (n, m) numbers and the decimals that they are written with."""
    count = len(columns[0][0])
    if not count:
        return b""
    numbers, decimals = [], []
    for values, places in columns:
        flat = np.asarray(values).reshape(count, -1)
        if flat.dtype.kind == "f":
            flat = np.rint(flat * 10.0**places)
        elif places:
            flat = flat.astype(np.int64) * 10**places
        numbers.append(flat.astype(np.int64))
        decimals += [places] * flat.shape[1]
    table = np.concatenate(numbers, axis=1)
    out = np.empty(table.size * LONGEST, np.uint8)
    used = _write(table, np.array(decimals, np.int64), ord(delimiter), out)
    return out[:used].tobytes()
