"""ASTM E2807 (E57): scans and images streamed into a new file."""

import uuid
from collections.abc import Iterable
from typing import Any

import numpy as np
from pye57 import libe57 as lib

from terrazza.core.geometry import rigid
from terrazza.files import whole

CARTESIAN = ("cartesianX", "cartesianY", "cartesianZ")
CHUNK = 200_000
TIES, TIES_URI = (
    "ties",
    "urn:terrazza:e57:ties:1",
)  # an extension of the format: which scans were tied to each other


class Writer:
    """Streams scans and images into a new E57 file; use it as a context manager.

    The file appears under a temporary name and is renamed when all went well.
    """

    def __init__(self, path: str, coordinate_metadata: str = "", guid: str = ""):
        self.path = str(path)
        self.metadata, self.guid = coordinate_metadata, guid or _guid()

    def __enter__(self) -> "Writer":
        self._whole = whole(self.path)
        self.file = lib.ImageFile(self._whole.__enter__(), "w")
        self.file.extensionsAdd("", lib.E57_V1_0_URI)
        root = self.file.root()
        self._put(
            root,
            formatName="ASTM E57 3D Imaging Data File",
            guid=self.guid,
            versionMajor=1,
            versionMinor=0,
            e57LibraryVersion="",
            coordinateMetadata=self.metadata,
        )
        self.scans, self.images = lib.VectorNode(self.file, True), lib.VectorNode(self.file, True)
        root.set("data3D", self.scans)
        root.set("images2D", self.images)
        self.ties = None
        return self

    def __exit__(self, kind: type | None, error: Any, trace: Any) -> None:
        if self.file.isOpen():
            self.file.close()
        self._whole.__exit__(kind, error, trace)

    def _put(self, node: Any, **values: dict[str, dict[str, float] | float] | float | str) -> None:
        for key, value in values.items():
            if isinstance(value, dict):
                child = lib.StructureNode(self.file)
                node.set(key, child)
                self._put(child, **value)
            elif isinstance(value, str):
                node.set(key, lib.StringNode(self.file, value))
            elif isinstance(value, (int, np.integer)):
                node.set(key, lib.IntegerNode(self.file, int(value)))
            else:
                node.set(key, lib.FloatNode(self.file, float(value)))

    def add_scan(
        self,
        name: str,
        chunks: Iterable[dict[str, np.ndarray]],
        columns: list[str],
        pose: np.ndarray | None = None,
        grid: tuple[int, int] | None = None,
        guid: str = "",
        scale: float = 1e-5,
        offset: tuple[float, float, float] = (0.0, 0.0, 0.0),
        limits: tuple[float, float] | None = None,
        bounds: tuple[np.ndarray, np.ndarray] | None = None,
        instrument: str = "",
        deep: bool = False,
    ) -> str:
        """Write one scan from chunks of ``columns``; returns its guid.

        ``columns`` out of xyz, intensity (u16), native_rgb, row, column, invalid (0 or 2). Coordinates are
        scaled integers of ``scale`` metres about ``offset``; colours u8, or u16 where ``deep``. Columns (n,)
        or (n, 3), m; ``pose`` (4, 4).
        """
        scan, proto = lib.StructureNode(self.file), lib.StructureNode(self.file)
        guid = guid or _guid()
        self.scans.append(scan)
        self._put(scan, guid=guid, name=name)
        if instrument:
            self._put(scan, sensorModel=instrument)
        if pose is not None:
            self._put(scan, pose=_pose_values(pose))
        if bounds is not None:
            low, high = bounds
            self._put(
                scan,
                cartesianBounds={
                    f"{a}{m}": float(v)
                    for m, side in (("Minimum", low), ("Maximum", high))
                    for a, v in zip("xyz", side)
                },
            )
        for axis, o in zip(CARTESIAN, offset):
            proto.set(axis, lib.ScaledIntegerNode(self.file, 0, -(2**31), 2**31 - 1, scale, float(o)))
        fields, integers = (
            list(CARTESIAN),
            self._integers(scan, columns, grid, limits, 65535 if deep else 255),
        )
        for n, top in integers.items():
            proto.set(n, lib.IntegerNode(self.file, 0, 0, top))
        fields += integers
        self._write_points(scan, proto, fields, chunks)
        return guid

    def _integers(
        self,
        scan: Any,
        columns: list[str],
        grid: tuple[int, int] | None,
        limits: tuple[float, float] | None,
        bright: int,
    ) -> dict[str, int]:
        """Fields of whole numbers with their largest values; their limits go into the scan's head."""
        integers = {}
        if "invalid" in columns:
            integers["cartesianInvalidState"] = 2
        if "row" in columns and grid:
            integers |= {"rowIndex": grid[0] - 1, "columnIndex": grid[1] - 1}
            self._put(
                scan,
                indexBounds=dict(
                    rowMinimum=0,
                    rowMaximum=grid[0] - 1,
                    columnMinimum=0,
                    columnMaximum=grid[1] - 1,
                    returnMinimum=0,
                    returnMaximum=0,
                ),
            )
        if "intensity" in columns:
            integers["intensity"] = 65535
            low, high = limits or (0, 65535)
            self._put(scan, intensityLimits=dict(intensityMinimum=int(low), intensityMaximum=int(high)))
        if "native_rgb" in columns:
            integers |= {"colorRed": bright, "colorGreen": bright, "colorBlue": bright}
            self._put(
                scan,
                colorLimits={
                    f"color{c}{m}": v
                    for c in ("Red", "Green", "Blue")
                    for m, v in (("Minimum", 0), ("Maximum", bright))
                },
            )
        return integers

    def _write_points(
        self, scan: Any, proto: Any, fields: list[str], chunks: Iterable[dict[str, np.ndarray]]
    ) -> None:
        points = lib.CompressedVectorNode(self.file, proto, lib.VectorNode(self.file, True))
        scan.set("points", points)
        held = {n: np.empty(CHUNK, np.float64) for n in fields}
        buffers = lib.VectorSourceDestBuffer()
        for n, a in held.items():
            buffers.append(lib.SourceDestBuffer(self.file, n, a, CHUNK, True, True))
        writer = points.writer(buffers)
        try:
            for chunk in chunks:
                self._write_chunk(writer, held, chunk)
        finally:
            writer.close()

    @staticmethod
    def _write_chunk(writer: Any, held: dict[str, np.ndarray], chunk: dict[str, np.ndarray]) -> None:
        plain = {
            "intensity": "intensity",
            "rowIndex": "row",
            "columnIndex": "column",
            "cartesianInvalidState": "invalid",
        }
        for start in range(0, len(chunk["xyz"]), CHUNK):
            part = slice(start, start + CHUNK)
            size = len(chunk["xyz"][part])
            for n, a in held.items():
                if n in CARTESIAN:
                    a[:size] = chunk["xyz"][part, CARTESIAN.index(n)]
                elif n.startswith("color"):
                    a[:size] = chunk["native_rgb"][part, ("colorRed", "colorGreen", "colorBlue").index(n)]
                else:
                    a[:size] = chunk[plain[n]][part]
            writer.write(size)

    def add_tie(self, first: str, second: str, rms: float, overlap: float) -> None:
        """Note that two scans (guids) were tied: root mean square of the distances between them (m), and the
        share of their points in common.
        """
        if self.ties is None:
            self.file.extensionsAdd(TIES, TIES_URI)
            self.ties = lib.VectorNode(self.file, True)
            self.file.root().set(f"{TIES}:ties", self.ties)
        tie = lib.StructureNode(self.file)
        self.ties.append(tie)
        self._put(
            tie,
            **{
                f"{TIES}:{name}": value
                for name, value in (("first", first), ("second", second), ("rms", rms), ("overlap", overlap))
            },
        )

    def add_image(
        self,
        data: bytes,
        representation: str,
        width: int,
        height: int,
        scan_guid: str = "",
        pose: np.ndarray | None = None,
        name: str = "photo",
        guid: str = "",
        lens: dict[str, Any] | None = None,
    ) -> None:
        """Attach one encoded JPEG or PNG; ``lens`` says what its representation needs, by default a spherical
        image that spans the full turn. ``pose`` (4, 4), picture to scan.
        """
        node, rep = lib.StructureNode(self.file), lib.StructureNode(self.file)
        self.images.append(node)
        self._put(node, guid=guid or _guid(), name=name)
        if scan_guid:
            self._put(node, associatedData3DGuid=scan_guid)
        if pose is not None:
            self._put(node, pose=_pose_values(pose))
        node.set(f"{representation}Representation", rep)
        blob = lib.BlobNode(self.file, len(data))
        rep.set("pngImage" if data[:4] == b"\x89PNG" else "jpegImage", blob)
        self._put(
            rep,
            imageWidth=width,
            imageHeight=height,
            **(lens or {"pixelWidth": 2 * np.pi / width, "pixelHeight": np.pi / height}),
        )
        blob.write(np.frombuffer(data, np.uint8).copy(), 0, len(data))


def _guid() -> str:
    return "{" + str(uuid.uuid4()).upper() + "}"


def _pose_values(pose: np.ndarray) -> dict[str, dict[str, float]]:
    q = rigid.to_quaternion(pose[:3, :3])
    return dict(
        rotation=dict(zip("wxyz", map(float, q))), translation=dict(zip("xyz", map(float, pose[:3, 3])))
    )
