"""What a format is: one module of this package with a ``FORMAT``, found by being there."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from terrazza.formats.contents import Contents, ImageInside, ScanInside


@dataclass
class Line:
    """A line (n, 3) in the file's unit and frame; ``closed`` lines bound an area."""

    xyz: np.ndarray
    closed: bool = False
    name: str = ""
    layer: str = ""


@dataclass
class Mesh:
    """A surface: vertices (n, 3) in the file's unit and frame, triangles (m, 3) of their indices, break lines
    (each (k, 3)) and outline (k, 3) that it keeps as edges.
    """

    vertices: np.ndarray
    triangles: np.ndarray
    name: str = ""
    breaks: list[np.ndarray] = field(default_factory=list)
    outline: np.ndarray | None = None


@dataclass
class Shapes:
    """What a drawing or a model holds."""

    lines: list[Line] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    @property
    def areas(self) -> list[Line]:
        return [line for line in self.lines if line.closed]


def places(chunk: dict[str, Any], whole: Any, every: int = 1) -> np.ndarray:
    """(n, 3) float64 places of every ``every``-th point of a chunk, in the file's unit; ``whole`` is what
    ``coordinates`` gives.
    """
    if "position" in chunk:
        return chunk["position"][::every] * whole[0] + whole[1]
    return np.asarray(chunk["xyz"][::every], float)


def _at_no_origin(inside: ScanInside) -> bool:
    return False


def _no_coordinates(path: str, index: int = 0) -> None:
    """The file has no whole numbers of its own."""


@dataclass(frozen=True)
class Format:
    """One format, or several that one module reads.

    ``names`` are what ``Contents.format`` may say; a file is this format's where it begins with one of the
    ``signatures`` or where ``claims`` says so of its first bytes (formats of plain text are asked last, by
    ``turn``).  ``look(path)`` gives its contents, with ``mapped`` as ``look(path, columns)``.

    Clouds have ``read_points(path, index, …)``, which yields chunks as ``naming.chunk`` gives them: with
    ``seeks`` from any ``start`` to ``stop``, with ``sparse`` every ``every``-th point, with ``mapped`` by
    ``columns``; ``coordinates(path, index)`` gives (scale, offset) of whole numbers in the file that are to
    be kept, or None; ``stationed(inside)`` says whether the instrument is at the origin of the scan's own
    frame, ``shared`` that coordinates are in a frame that files share; ``read_image(path, image)`` gives the
    bytes of a photo.  Drawings and models have ``read_shapes(path)``.
    """

    names: tuple[str, ...]
    look: Callable[..., Contents]
    signatures: tuple[bytes, ...] = ()
    claims: Callable[[bytes, str], bool] | None = None
    turn: int = 0
    read_points: Callable[..., Iterator[dict[str, Any]]] | None = None
    coordinates: Callable[..., Any] = _no_coordinates
    read_image: Callable[[str, ImageInside], bytes] | None = None
    read_shapes: Callable[[str], Shapes] | None = None
    stationed: Callable[[ScanInside], bool] = _at_no_origin
    seeks: bool = False
    sparse: bool = False
    mapped: bool = False
    shared: bool = False

    def points(
        self,
        path: str,
        index: int,
        start: int = 0,
        stop: int | None = None,
        raw: bool = False,
        every: int = 1,
        columns: tuple[str, ...] = (),
    ) -> Iterator[dict[str, Any]]:
        """Chunks of a scan's points, asked for as far as the format can be asked: from ``start`` to ``stop``
        of those that seek, every ``every``-th of those that can leave out.
        """
        if self.read_points is None:
            raise TypeError(f"{self.names[0]} holds no points")
        if self.seeks:
            return self.read_points(path, index, start=start, stop=stop)
        how: dict[str, Any] = {"raw": raw}
        if self.sparse and every > 1:
            how["every"] = every
        if self.mapped:
            how["columns"] = columns
        return self.read_points(path, index, **how)
