"""Text points: one line a point, X Y Z, then intensity and colour where wanted."""

from dataclasses import dataclass

import numpy as np

from terrazza.files import whole
from terrazza.later import later

with later():
    from terrazza.formats import digits


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

    def text(self, chunk: dict[str, np.ndarray]) -> bytes:
        """The lines of a chunk: ``xyz`` (n, 3), and the columns."""
        wanted = [(chunk[name], 0) for name in ("intensity", "rgb", "class") if name in self.columns]
        return digits.lines([(chunk["xyz"], self.decimals), *wanted], self.delimiter)


@dataclass(frozen=True)
class CountedLines(Lines):
    """Lines of PTS: their number first, then X Y Z, intensity (0 where there is none), and colour."""

    points: int = 0

    @property
    def heading(self) -> str:
        return f"{self.points}\n"

    def text(self, chunk: dict[str, np.ndarray]) -> bytes:
        none = np.zeros(len(chunk["xyz"]), np.uint16)
        return super().text(chunk if "intensity" in chunk else chunk | {"intensity": none})


class Writer:
    """Streams text points; appears under its name only when whole."""

    def __init__(self, path: str, lines: Lines):
        self.path, self.lines = str(path), lines

    def __enter__(self) -> "Writer":
        self._file = whole(self.path)
        self.stream = open(self._file.__enter__(), "wb")
        self.stream.write(self.lines.heading.encode("ascii"))
        return self

    def put(self, text: bytes) -> None:
        """The next lines."""
        self.stream.write(text)

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        self.stream.close()
        self._file.__exit__(kind, error, trace)
