"""What lies in the inbox, looked into without importing."""

import errno
import itertools
import lzma
import os
import shutil
import struct
import zipfile
import zlib
from pathlib import Path

import numpy as np

from terrazza.core.geometry.axes import UPRIGHT
from terrazza.errors import InputError, NotFound, TerrazzaError
from terrazza.formats.contents import REPAIRS
from terrazza.formats.glimpse import Ask
from terrazza.operations.importing.asked import BYTES_A_POINT, told_shapes
from terrazza.operations.pieces import reading
from terrazza.operations.spine.job import Job
from terrazza.settings import settings
from terrazza.units import FACTORS
from terrazza.work.looking import Looker

SECONDS_A_POINT = 1.1e-6
TEXTS = (".csv", ".txt", ".asc", ".xyz")
PICTURES = (".png", ".jpg", ".jpeg")
FEW = 500
MIRRORED = "-x +y +z"
PLAN = 150
MOST_FILES, MOST_SHRUNK = 10_000, 300


def build(job: Job) -> dict:
    """``files``: each with its contents or the sentence that says what is wrong; ``texts``: files that may
    hold control; ``pictures``: of scans, of pins, or sketches.
    """
    folder = job.subfolder("inbox")
    taken = {r["file"] for r in (s.record for s in job.scans())}
    files, texts, pictures, parts, drawings = [], [], [], [], []
    for name in sorted(os.listdir(folder)):
        path = os.path.join(folder, name)
        if name.endswith(".part"):
            continue
        if name.endswith(".upload"):
            parts.append({"name": name.removesuffix(".upload"), "bytes": _bytes(path)})
        elif name.lower().endswith(TEXTS) and not _is_cloud(path):
            texts.append({"name": name, "bytes": _bytes(path)})
        elif name.lower().endswith(PICTURES):
            pictures.append({"name": name, "bytes": _bytes(path)})
        else:
            row = _file(path, name, name in taken)
            (drawings if row["shapes"] else files).append(row)
    for number, row in enumerate((f for f in files if not f["error"]), 1):
        row["number"] = number  # among the files that the form hands in
    scans = [s for f in files for s in f["scans"]]
    return {
        "job": job.row,
        "files": files,
        "texts": texts,
        "pictures": pictures,
        "drawings": drawings,
        "parts": parts,
        "points": sum(s["points"] for s in scans),
        "bytes_a_point": BYTES_A_POINT,
        "seconds_a_point": SECONDS_A_POINT,
        "folders": [str(p) for p in settings().allowed_folders()],
        "units": list(FACTORS),
        "upright": {words: f"{up[1]} {'up' if up[0] == '+' else 'down'}" for up, words in UPRIGHT.items()}
        | {MIRRORED: "mirrored"},
    }


def _bytes(path: str) -> int:
    return os.path.getsize(path) if os.path.exists(path) else 0


def _is_cloud(path: str) -> bool:
    """Whether a text file holds a cloud rather than control: many lines, all of numbers."""
    try:
        return reading.look(path).scans[0].points >= FEW
    except TerrazzaError:
        return False


def _file(path: str, name: str, imported: bool) -> dict:
    linked = os.path.islink(path)
    row = {
        "name": name,
        "path": os.path.realpath(path) if linked else path,
        "bytes": _bytes(path),
        "linked": linked,
        "imported": imported,
        "error": "",
        "format": "",
        "scans": [],
        "images": 0,
        "notes": [],
        "unit": "",
        "plan": None,
        "layout": None,
        "shapes": "",
    }
    try:
        found = reading.look(path)
        laid_out = reading.layout(path) if found.mapped else None
    except TerrazzaError as error:
        return row | {"error": str(error)}
    images = {i.scan_guid for i in found.images if i.scan_guid}
    scans = [
        {
            "index": s.index,
            "name": s.name,
            "points": s.points,
            "grid": s.grid,
            "posed": s.pose is not None,
            "photo": bool(s.guid and s.guid in images),
            "instrument": s.instrument,
            "captured": s.captured,
            "colour": bool({"colorRed", "red"} & set(s.columns)),
            "damage": [r.says or REPAIRS[r.code] for r in found.repairs if r.scan == s.index],
        }
        for s in found.scans
    ]
    return row | {
        "format": found.format,
        "shapes": told_shapes(found.shapes) if found.shapes and not found.scans else "",
        "scans": scans,
        "images": len(found.images),
        "notes": found.notes + [r.says for r in found.repairs if r.scan is None],
        "unit": found.unit,
        "plan": _plan(found),
        "layout": laid_out,
    }


def _plan(found) -> dict | None:
    """Where the scans of a file stand and which the file says are tied, in a box of ``PLAN`` by ``PLAN``;
    None unless several are posed.
    """
    posed = [s for s in found.scans if s.pose is not None]
    if len(posed) < 2:
        return None
    at = np.array([s.pose[:2, 3] for s in posed])
    low, size = at.min(0), max(float(np.ptp(at, axis=0).max()), 1e-6)
    spots = 12 + (at - low) / size * (PLAN - 24)
    by = {
        s.index: {"x": float(x), "y": float(PLAN - y), "name": s.name, "number": s.index + 1}
        for (x, y), s in zip(spots, posed)
    }
    return {
        "side": PLAN,
        "spots": list(by.values()),
        "ties": [(by[a], by[b]) for a, b in found.ties if a in by and b in by],
        "size": size,
    }


def link(job: Job, path: str) -> None:
    """Put links to a file, or to every file below a folder, into the inbox; InputError outside the folders
    that the settings allow.
    """
    real, folder = Path(path).expanduser().resolve(), job.subfolder("inbox")
    allowed = settings().allowed_folders()
    if not any(real == a or a in real.parents for a in allowed):
        raise InputError(
            f"“{path}” lies outside the folders that may be read from the page.",
            f"They are {', '.join(map(str, allowed)) or 'none; name some in TERRAZZA_FOLDERS'}.",
        )
    if not real.exists():
        raise InputError(f"“{path}” is not there.", "Check the path.")
    names = _Names(folder)
    for file in (
        [real]
        if real.is_file()
        else sorted(p for p in real.rglob("*") if p.is_file() and not p.name.startswith("."))
    ):
        if any(a in file.resolve().parents for a in allowed) and not file.name.lower().endswith(
            (".part", ".upload")
        ):
            os.symlink(file.resolve(), os.path.join(folder, names.free(file.name)))


def unpack(path: str) -> None:
    """Replace a zip in the inbox by the files in it, flat; InputError where it is damaged or would fill the
    disk.
    """
    folder, shown = os.path.dirname(path), os.path.basename(path)
    try:
        with zipfile.ZipFile(path) as packed:
            inside = [
                i
                for i in packed.infolist()
                if not i.is_dir()
                and not os.path.basename(i.filename).startswith(".")
                and "__MACOSX" not in i.filename
            ]
            size, packed_size = sum(i.file_size for i in inside), os.path.getsize(path)
            if len(inside) > MOST_FILES:
                raise InputError(
                    f"“{shown}” holds {len(inside):,} files; {MOST_FILES:,} are the most.",
                    "Pack fewer at a time.",
                )
            if size > 1e8 and size > MOST_SHRUNK * packed_size:
                raise InputError(
                    f"“{shown}” swells from {packed_size / 1e6:.1f} MB to {size / 1e9:.1f} GB, as no "
                    "scan does.",
                    "Bring the files one by one.",
                )
            if size > shutil.disk_usage(folder).free * 0.9:
                raise InputError(
                    f"“{shown}” does not fit on the disk unpacked ({size / 1e9:.1f} GB).",
                    "Make room, or bring the files one by one.",
                )
            names = _Names(folder)
            for item in inside:
                name = names.free(os.path.basename(item.filename))
                with packed.open(item) as source, open(os.path.join(folder, f"{name}.part"), "wb") as target:
                    shutil.copyfileobj(source, target, 1 << 20)
                os.replace(os.path.join(folder, f"{name}.part"), os.path.join(folder, name))
    except (
        zipfile.BadZipFile,
        zlib.error,
        lzma.LZMAError,
        EOFError,
        NotImplementedError,
        RuntimeError,
        ValueError,
        struct.error,
    ) as error:
        raise InputError(
            f"“{shown}” is damaged or locked and cannot be unpacked.",
            "Pack it again without a password, or bring the files one by one.",
        ) from error
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
        raise InputError(
            f"“{shown}” is damaged: it says of its files that they begin where they cannot.",
            "Pack it again, or bring the files one by one.",
        ) from error
    finally:
        os.unlink(path)


class _Names:
    """Names that are free in a folder."""

    def __init__(self, folder: str):
        self.taken, self.last = set(os.listdir(folder)), {}

    def free(self, name: str) -> str:
        """The name, shortened where no disk takes it, with a number behind it where it is taken."""
        stem, ending = os.path.splitext(name.replace("\0", "").lstrip(".") or "file")
        ending = ending if len(ending) < 20 else ""
        stem = stem.encode(errors="replace")[:180].decode(errors="ignore")
        for k in itertools.count(self.last.get((stem, ending), 0) + 1):
            found = f"{stem}{ending}" if k == 1 else f"{stem} ({k}){ending}"
            if found not in self.taken:
                self.last[stem, ending] = k
                self.taken.add(found)
                return found


def ask_for(job: Job, file: str, index: int, columns: str = "") -> Ask:
    """What to ask a looker about a scan of an inbox file; NotFound where it is not there."""
    path = os.path.join(job.subfolder("inbox"), os.path.basename(file))
    if not os.path.isfile(path):
        raise NotFound(f"“{file}” is not in the inbox.", "Bring it again.")
    return Ask(path, index, tuple(columns.split()), job.subfolder("pictures"))


def inside(job: Job, looker: Looker, file: str, index: int) -> dict:
    """What is known of one scan by now: ``found`` is None while it is looked at."""
    found = looker.ask(ask_for(job, file, index))
    row = {
        "job": job.row,
        "file": file,
        "index": index,
        "found": found,
        "error": "",
        "size": None,
        "evidence": None,
        "repairs": [],
    }
    if found is None:
        return row
    if "error" in found:
        return row | {"error": found["error"]}
    size = [high - low for low, high in zip(found["low"], found["high"])]
    return row | {
        "size": size,
        "evidence": found["evidence"],
        "repairs": [f"{n:,} {REPAIRS[code]}" for code, n in found["repairs"].items()],
    }
