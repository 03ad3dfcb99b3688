"""PLY, binary (Turk 1994): coordinates as doubles, intensity, colour, class and scan of each point."""

from dataclasses import dataclass

import numpy as np

from terrazza.files import whole

NAMES = {"<f8": "double", "<u2": "ushort", "u1": "uchar"}


@dataclass(frozen=True)
class Record:
    """How points become bytes: ``columns`` out of intensity, rgb and class, and the ``step`` (m) that
    coordinates are whole numbers of.
    """

    columns: tuple[str, ...]
    step: float
    deep: bool = False  # colours in 16 bits

    @property
    def kind(self) -> np.dtype:
        byte = "<u2" if self.deep else "u1"
        return np.dtype(
            [("x", "<f8"), ("y", "<f8"), ("z", "<f8")]
            + [("intensity", "<u2")] * ("intensity" in self.columns)
            + [("red", byte), ("green", byte), ("blue", byte)] * ("rgb" in self.columns)
            + [("classification", "u1")] * ("class" in self.columns)
            + [("scan", "<u2")]
        )

    def heading(self, points: int) -> bytes:
        kinds = [f"property {NAMES[self.kind[n].str.replace('|', '')]} {n}" for n in self.kind.names or ()]
        lines = [
            "ply",
            "format binary_little_endian 1.0",
            "comment Terrazza, metres",
            f"element vertex {points}",
        ]
        return ("\n".join([*lines, *kinds, "end_header"]) + "\n").encode("ascii")

    def data(self, chunk: dict[str, np.ndarray]) -> bytes:
        """The bytes of a chunk: ``xyz`` (n, 3), ``source`` (n,) and the columns."""
        out = np.zeros(len(chunk["xyz"]), self.kind)
        for k, axis in enumerate("xyz"):
            out[axis] = np.rint(chunk["xyz"][:, k] / self.step) * self.step
        out["scan"] = chunk["source"]
        if "intensity" in self.columns:
            out["intensity"] = chunk["intensity"]
        if "class" in self.columns:
            out["classification"] = chunk["class"]
        if "rgb" in self.columns:
            for k, name in enumerate(("red", "green", "blue")):
                out[name] = chunk["rgb"][:, k]
        return out.tobytes()


class Writer:
    """Streams points; appears under its name only when whole."""

    def __init__(self, path: str, heading: bytes):
        self.path, self.heading = str(path), heading

    def __enter__(self) -> "Writer":
        self._file = whole(self.path)
        self.stream = open(self._file.__enter__(), "wb")
        self.stream.write(self.heading)
        return self

    def put(self, data: bytes) -> None:
        """The next bytes."""
        self.stream.write(data)

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        self.stream.close()
        self._file.__exit__(kind, error, trace)
