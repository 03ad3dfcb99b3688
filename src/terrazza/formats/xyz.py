"""Text points: one line a point, X Y Z, then intensity and colour where wanted."""

from dataclasses import dataclass

import numpy as np

from terrazza.files import whole


@dataclass(frozen=True)
class Lines:
    """How points become text: the columns after the coordinates, out of intensity, rgb and class; the
    coordinates' decimals; what stands between.
    """

    columns: tuple[str, ...]
    decimals: int = 4
    delimiter: str = " "

    @property
    def heading(self) -> str:
        names = (
            ["X", "Y", "Z"]
            + ["Intensity"] * ("intensity" in self.columns)
            + ["R", "G", "B"] * ("rgb" in self.columns)
            + ["Class"] * ("class" in self.columns)
        )
        return "# " + self.delimiter.join(names) + "\n"

    def text(self, chunk: dict[str, np.ndarray]) -> str:
        """The lines of a chunk: ``xyz`` (n, 3), and the columns."""
        return "".join(
            self._some({k: v[start : start + 50_000] for k, v in chunk.items()})
            for start in range(0, len(chunk["xyz"]), 50_000)
        )

    def _some(self, chunk) -> str:
        parts = [chunk["xyz"]] + [
            np.asarray(chunk[name], float).reshape(len(chunk["xyz"]), -1)
            for name in ("intensity", "rgb", "class")
            if name in self.columns
        ]
        values = np.concatenate(parts, 1)
        row = self.delimiter.join([f"%.{self.decimals}f"] * 3 + ["%d"] * (values.shape[1] - 3)) + "\n"
        return (row * len(values)) % tuple(values.ravel().tolist())


@dataclass(frozen=True)
class CountedLines(Lines):
    """Lines of PTS: their number first, then X Y Z, intensity (0 where there is none), and colour."""

    points: int = 0

    @property
    def heading(self) -> str:
        return f"{self.points}\n"

    def _some(self, chunk) -> str:
        toned = chunk if "intensity" in chunk else chunk | {"intensity": np.zeros(len(chunk["xyz"]))}
        return super()._some(toned)


class Writer:
    """Streams text points; appears under its name only when whole."""

    def __init__(self, path: str, lines: Lines):
        self.path, self.lines = str(path), lines

    def __enter__(self):
        self._file = whole(self.path)
        self.stream = open(self._file.__enter__(), "w", encoding="ascii", newline="\n")
        self.stream.write(self.lines.heading)
        return self

    def put(self, text: str) -> None:
        """The next lines."""
        self.stream.write(text)

    def __exit__(self, kind, error, trace):
        self.stream.close()
        self._file.__exit__(kind, error, trace)
