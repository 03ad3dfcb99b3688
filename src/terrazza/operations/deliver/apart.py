"""Files of points: one, or several by what they are parted by."""

from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.operations.pieces.parting import parts_of
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.promises import statement
from terrazza.operations.spine.base import Figures, Operation
from terrazza.operations.spine.job import Job


class PointFile(Operation):
    """Writes chosen points; ``write`` makes one file."""

    def write(self, job: Job, params, progress: Progress) -> Figures:
        """Write one file; its figures."""
        raise NotImplementedError

    @classmethod
    def promise(cls, job: Job, params: PointParams, progress: Progress) -> dict:
        return statement(job, cls.name.removeprefix("deliver."), params, progress)

    def run(self, job: Job, params: PointParams, progress: Progress) -> Figures:
        if not params.each:
            return self.write(job, params, progress)
        parts, files = parts_of(job, params), []
        if not parts:
            raise StateError("No file would hold a point.", "Choose other scans, classes or box.")
        for k, part in enumerate(parts):
            share = Part(progress, k / len(parts), (k + 1) / len(parts))
            files.append(self.write(job, part.params, share) | {"part": part.what})
        points, size = (sum(f[k] for f in files) for k in ("points", "bytes"))
        return {
            "says": f"{len(files)} files, {points:,} points, {size / 1e6:.1f} MB",
            "path": files[0]["path"],
            "paths": [f["path"] for f in files],
            "points": points,
            "bytes": size,
            "files": [{k: f[k] for k in ("part", "path", "points", "bytes")} for f in files],
            "doubt": [f"{f['part']}: {d}" for f in files for d in f.get("doubt") or []],
        }
