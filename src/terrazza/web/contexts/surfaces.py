"""Surfaces for the canvases: what the scene says of them, and their triangles."""

import numpy as np

from terrazza.errors import NotFound
from terrazza.operations.spine.job import Job


def listed(job: Job) -> list[dict]:
    """Number, name and version of every surface; the version is another one whenever the triangles are."""
    return [
        {"id": int(number), "name": surface["name"], "version": _version(job, number)}
        for number, surface in job.facts("surface").items()
    ]


def _version(job: Job, number: str) -> str:
    file = str(job.get("array", f"surface-{number}-vertices"))
    return file.split(".")[-2]  # its checksum


def pack(job: Job, number: int, version: str) -> bytes:
    """Numbers of vertices and triangles (u4), an origin (3 f8, m, grid or job frame), vertices from there
    (n × 3 f4) and triangles (m × 3 u4), little endian.
    """
    if str(number) not in job.facts("surface") or _version(job, str(number)) != version:
        raise NotFound("This surface is no more, or is another one.", "Load the scene again.")
    vertices, triangles = (job.array(f"surface-{number}-{what}") for what in ("vertices", "triangles"))
    origin = np.round(np.asarray(vertices).mean(0))
    return b"".join(
        (
            np.array([len(vertices), len(triangles)], "<u4").tobytes(),
            origin.astype("<f8").tobytes(),
            (np.asarray(vertices) - origin).astype("<f4").tobytes(),
            np.asarray(triangles).astype("<u4").tobytes(),
        )
    )
