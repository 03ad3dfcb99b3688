"""Text points: one line a point, X Y Z, then intensity and colour where wanted."""

import numpy as np

from terrazza.files import whole


class Writer:
    """Streams text points; ``decimals`` of the coordinates; appears under its name only when whole."""

    def __init__(self, path: str, columns: tuple[str, ...], decimals: int = 4, delimiter: str = " "):
        self.path, self.columns = str(path), columns
        self.delimiter = delimiter
        self.formats = [f"%.{decimals}f"] * 3 + ["%d"] * ("intensity" in columns) + ["%d"] * (3 * ("rgb" in columns)) + ["%d"] * ("class" in columns)

    def __enter__(self):
        self._file = whole(self.path)
        self.stream = open(self._file.__enter__(), "w", encoding="ascii", newline="\n")
        heading = ["X", "Y", "Z"] + ["Intensity"] * ("intensity" in self.columns) + ["R", "G", "B"] * ("rgb" in self.columns) + ["Class"] * ("class" in self.columns)
        self.stream.write("# " + self.delimiter.join(heading) + "\n")
        return self

    def write(self, chunk: dict[str, np.ndarray]) -> None:
        """``xyz`` (n, 3), and the columns named at the start."""
        for start in range(0, len(chunk["xyz"]), 50_000):
            self.stream.write(self.text({k: v[start : start + 50_000] for k, v in chunk.items()}))

    def text(self, chunk: dict[str, np.ndarray]) -> str:
        """The lines of a chunk."""
        parts = [chunk["xyz"]]
        for name in ("intensity", "rgb", "class"):
            if name in self.columns:
                parts.append(np.asarray(chunk[name], float).reshape(len(chunk["xyz"]), -1))
        row = self.delimiter.join(self.formats) + "\n"
        return (row * len(chunk["xyz"])) % tuple(np.concatenate(parts, 1).ravel().tolist())

    def __exit__(self, kind, error, trace):
        self.stream.close()
        self._file.__exit__(kind, error, trace)
