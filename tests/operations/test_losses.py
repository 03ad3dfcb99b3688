"""Nothing lost in silence: honest files come in whole, what is lost is counted and told, numbers and names
are never mixed up.
"""

import os
import shutil

import laspy
import numpy as np
import plyfile
import pye57
import pytest

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.formats import e57, e57_writer, las
from terrazza.operations.spine import fieldbook, health
from tests.run import must, opened, perform
from tests.scenes import write_room

RNG = np.random.default_rng(7)
XYZ = RNG.uniform(-8, 8, (4000, 3))


def xyz_of(workspace, row, number=1):
    return opened(workspace, row).cloud(number).xyz()


def test_a_removed_scans_number_is_never_given_again(workspace, row, tmp_path):
    """Undoing back to a removed scan finds its files; a new scan inherits nothing of it."""
    write_room(tmp_path / "r.e57", rows=60, columns=120)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    before = xyz_of(workspace, row, 3)
    must(workspace, row, "measure.take", kind="point", points=[{"scan": 3, "at": before[0].tolist()}])
    must(workspace, row, "register.leave_out", scan=3)
    must(workspace, row, "import.remove_scan", scan=3)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")], take=["1:3"])
    job = opened(workspace, row)
    assert [s.id for s in job.scans()] == [1, 2, 4] and not job.get("left_out", 4)
    for number in (5, 4):
        fieldbook.undo(queries.entry_of(row, number))
    fieldbook.sweep(workspace, row)
    assert (
        health.check(opened(workspace, row)) == []
        and (xyz_of(workspace, row, 3) == before).all()
        and opened(workspace, row).get("left_out", 3)
    )
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")], take=["1:1"])
    assert max(s.id for s in opened(workspace, row).scans()) == 5


@pytest.mark.parametrize("kind", ["measure", "pin", "view", "box"])
def test_numbers_and_default_names_of_the_table_are_their_own(workspace, row, tmp_path, kind):
    write_room(tmp_path / "r.e57", rows=40, columns=80)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    at = {"scan": 1, "at": xyz_of(workspace, row)[0].tolist()}
    make = {
        "measure": ("measure.take", {"kind": "point", "points": [at]}),
        "pin": ("pins.put", {"points": [at]}),
        "view": ("table.keep_view", {"name": "v", "address": "x"}),
        "box": ("boxes.put", {"centre": [0, 0, 0], "size": [1, 1, 1]}),
    }[kind]
    first = must(workspace, row, make[0], **make[1])[kind]
    must(workspace, row, "table.take_away", kind=kind, number=first)
    if kind != "view":
        must(
            workspace,
            row,
            "table.rename",
            kind=kind,
            number=must(workspace, row, make[0], **make[1])[kind],
            name=f"{'point' if kind == 'measure' else kind} {first + 2}",
        )
    second = must(workspace, row, make[0], **make[1])[kind]
    names = [v["name"] for v in opened(workspace, row).facts(kind).values()]
    assert second > first and len(set(names)) == len(names)


def test_a_box_of_a_name_that_is_there_is_replaced_and_says_so(workspace, row):
    for size, says in ((1, False), (2, True)):
        figures = must(workspace, row, "boxes.put", name="hall", centre=[0, 0, 0], size=[size] * 3)
        assert figures["replaced"] is says and ("replaces" in figures["says"]) is says
    assert len(opened(workspace, row).facts("box")) == 1


def flipped(path, seed):
    data = bytearray(path.read_bytes())
    rng = np.random.default_rng(seed)
    at = int(rng.integers(1024, len(data)))
    data[at] ^= 1 << int(rng.integers(8))
    out = path.with_name(f"flipped{seed}.e57")
    out.write_bytes(bytes(data))
    return out


def test_no_flipped_bit_of_an_e57_comes_in(tmp_path):
    """Of forty single bit flips behind the header every one is refused where the file is read."""
    e57_writer.Writer(str(tmp_path / "s.e57")).__enter__().__exit__(ValueError, None, None)
    with e57_writer.Writer(str(tmp_path / "s.e57")) as out:
        out.add_scan("S", [{"xyz": XYZ}], ["xyz"])
    for seed in range(40):
        path = flipped(tmp_path / "s.e57", seed)
        with pytest.raises(Exception, match="cannot be read as E57"):
            assert (
                sum(len(c["xyz"]) for c in e57.read_points(str(path), len(e57.look(str(path)).scans) - 1)) < 0
            )


@pytest.mark.parametrize(
    "place", [(0.0, 0.0, 0.0), (30_000.0, -12_000.0, 200.0), (689_000.0, 5_338_000.0, 520.0)]
)
def test_bounds_in_the_common_frame_lose_no_point(workspace, row, tmp_path, place):
    """The writer of pye57 gives header bounds in the common frame beside local points."""
    turn = rigid.about_z(0.7)
    file = pye57.E57(str(tmp_path / "c.e57"), mode="w")
    names = ("cartesianX", "cartesianY", "cartesianZ")
    for k in range(2):
        file.write_scan_raw(
            {n: XYZ[:, i] + k for i, n in enumerate(names)},
            rotation=np.array([np.cos(0.35), 0, 0, np.sin(0.35)]),
            translation=np.array(place) + 3 * k,
            name=f"s{k}",
        )
    file.close()
    figures = must(workspace, row, "import.files", files=[str(tmp_path / "c.e57")])
    job = opened(workspace, row)
    assert figures["lost"] == 0 and figures["doubt"] == [] and [s.points for s in job.scans()] == [4000, 4000]
    got = rigid.apply(job.scan(2).pose, job.cloud(2).xyz())
    want = (XYZ + 1) @ turn.T + np.array(place) + 3
    assert np.abs(np.sort(got, 0) - np.sort(want, 0)).max() < 2e-5


def las_file(path, count_off=0, packed=False):
    header = laspy.LasHeader(point_format=3, version="1.2")
    header.scales, header.offsets = [0.001] * 3, [0, 0, 0]
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = XYZ.T
    cloud.write(str(path))
    if count_off:
        data = bytearray(path.read_bytes())
        said = len(XYZ) + count_off
        data[107:111] = int(said).to_bytes(4, "little")
        path.write_bytes(bytes(data))
    return path


@pytest.mark.parametrize("off", [-1000, -4000])
def test_a_las_with_more_points_than_it_counts_comes_in_whole_and_says_so(workspace, row, tmp_path, off):
    figures = must(workspace, row, "import.files", files=[str(las_file(tmp_path / "c.las", off))])
    assert figures["points"] == 4000 and any(f"counts {4000 + off:,}" in d for d in figures["doubt"])


def test_a_laz_with_more_chunks_than_it_counts_says_so(tmp_path):
    header = laspy.LasHeader(point_format=0, version="1.2")
    cloud = laspy.LasData(header)
    cloud.x = np.arange(120_000) / 100
    cloud.write(str(tmp_path / "c.laz"))
    data = bytearray((tmp_path / "c.laz").read_bytes())
    data[107:111] = (30_000).to_bytes(4, "little")
    (tmp_path / "c.laz").write_bytes(bytes(data))
    found = las.look(str(tmp_path / "c.laz"))
    assert (
        found.scans[0].points == 100_000
        and "20,000" not in found.repairs[0].says
        and "50,000" in found.repairs[0].says
    )
    assert sum(len(c["position"]) for c in las.read_points(str(tmp_path / "c.laz"))) == 100_000


def test_empty_scans_are_left_out_alone(workspace, row, tmp_path):
    with e57_writer.Writer(str(tmp_path / "e.e57")) as out:
        out.add_scan("full", [{"xyz": XYZ}], ["xyz"])
        out.add_scan("empty", [{"xyz": XYZ[:0]}], ["xyz"])
    laspy.LasData(laspy.LasHeader(point_format=0, version="1.2")).write(str(tmp_path / "none.las"))
    figures = must(
        workspace, row, "import.files", files=[str(tmp_path / "e.e57"), str(tmp_path / "none.las")]
    )
    assert (
        figures["scans"] == 1
        and figures["points"] == 4000
        and sum("no valid point" in n for n in figures["notes"]) == 2
    )
    alone = perform(workspace, row, "import.files", files=[str(tmp_path / "none.las")])
    assert alone.state == "failed" and "valid point" in alone.message


@pytest.mark.parametrize(("rogue", "state"), [(20, "done"), (400, "failed")])
def test_rogue_returns_are_told_and_many_of_them_refused(workspace, row, tmp_path, rogue, state):
    """Returns farther than anything on Earth: up to one in a hundred is told of, more is a refusal unless
    asked for.
    """
    xyz = np.r_[XYZ, np.full((rogue, 3), 3e9)]
    plyfile.PlyData(
        [plyfile.PlyElement.describe(np.array([tuple(p) for p in xyz], [(a, "f8") for a in "xyz"]), "vertex")]
    ).write(str(tmp_path / "r.ply"))
    entry = perform(workspace, row, "import.files", files=[str(tmp_path / "r.ply")])
    assert entry.state == state, entry.message
    if state == "failed":
        assert f"{rogue:,} of {4000 + rogue:,} returns" in entry.message
        entry = perform(
            workspace, row, "import.files", files=[str(tmp_path / "r.ply")], losses="take the rest"
        )
    assert (
        entry.figures["lost"] == rogue
        and entry.figures["points"] == 4000
        and f"{rogue} points too far out" in entry.figures["doubt"][0]
    )
    assert health.check(opened(workspace, row)) == []


@pytest.mark.parametrize("reach", [5e3, 5e4, 3e6])
def test_wide_clouds_come_in_whole_at_the_step_they_need(workspace, row, tmp_path, reach):
    xyz = RNG.uniform(-reach, reach, (3000, 3))
    np.savetxt(tmp_path / "w.xyz", xyz, fmt="%.4f")
    figures = must(workspace, row, "import.files", files=[str(tmp_path / "w.xyz")])
    job = opened(workspace, row)
    got = rigid.apply(job.scan(1).pose, job.cloud(1).xyz())
    assert (
        figures["points"] == 3000
        and figures["lost"] == 0
        and np.abs(np.sort(got, 0) - np.sort(xyz, 0)).max() <= max(1e-4, 1.8e-9 * reach)
    )
    assert health.check(job) == []


NAMES = ['a"quote', "back\\slash", "naïve", "two/parts", "x" * 300, "..", "²"]


def test_columns_of_any_name_stay_and_files_are_not_named_after_them(workspace, row, tmp_path):
    head = (
        "ply\nformat ascii 1.0\nelement vertex 50\nproperty double x\nproperty double y\nproperty double z\n"
        + "".join(f"property float {n}\n" for n in NAMES)
        + "end_header\n"
    )
    lines = "".join(
        " ".join(f"{v:.3f}" for v in (*XYZ[k], *(k + n for n in range(len(NAMES))))) + "\n" for k in range(50)
    )
    (tmp_path / "n.ply").write_text(head + lines, encoding="utf-8")
    must(workspace, row, "import.files", files=[str(tmp_path / "n.ply")])
    fieldbook.sweep(workspace, row)
    job = opened(workspace, row)
    extra = [k.partition("/")[2] for k in job.facts("column") if "extra." in k]
    assert health.check(job) == [] and len(extra) == len(NAMES)
    for name in extra:
        values = np.asarray(job.cloud(1).read(name))
        assert len(np.unique(values)) == 50
    assert all(f.isascii() and len(f) < 80 for f in os.listdir(job.scan_folder(1)))


def test_a_doubt_is_a_line_on_standard_error_and_on_the_terrace(workspace, tmp_path):
    from terrazza.web.contexts import terraces
    from tests.conftest import command

    (tmp_path / "r.toml").write_text('[[step]]\noperation = "import.files"\n')
    done = command(
        "run",
        tmp_path / "r.toml",
        "--workspace",
        workspace,
        "--job",
        "D",
        las_file(tmp_path / "c.las", -1000),
    )
    assert done.returncode == 0 and done.stderr.count("terrazza: doubt:") == 1
    step = terraces.build(opened(workspace, queries.job_by(name="D")), "import")["steps"][0]
    assert step["doubt"].startswith("1 doubt") and "counts 3,000" in step["doubt"]


def test_pose_of_unseen_points_takes_native_colour(copied):
    """“photo, else native” is decided point by point."""
    row = queries.job_by(name="Whole")
    job = opened(copied, row)
    scan = next(
        s for s in job.scans() if job.cloud(s.id).has("photo_rgb") and job.cloud(s.id).has("native_rgb")
    )
    figures = must(copied, row, "deliver.laz", path="one", scans=[scan.id])
    cloud, out = job.cloud(scan.id), laspy.read(figures["path"])
    photo, native, kept = (
        (np.asarray(cloud.read(n)) for n in ("photo_rgb", "native_rgb", "cut"))
        if cloud.has("cut")
        else (*(np.asarray(cloud.read(n)) for n in ("photo_rgb", "native_rgb")), np.zeros(cloud.count))
    )
    want = np.where(photo.any(1), photo[:, 1], native[:, 1])[kept == 0]
    assert (np.sort(np.asarray(out.green) // 257) == np.sort(want)).all() and not photo.any(1).all()


@pytest.mark.parametrize("name", ["scan.las", "scan.laz"])
def test_bytes_of_las_and_laz_are_promised_to_two_per_cent(copied, name):
    from terrazza.core.progress import QUIET
    from terrazza.operations.pieces.promises import statement
    from terrazza.operations.spine.base import find

    row = queries.job_by(name="Whole")
    promised = statement(opened(copied, row), "laz", find("deliver.laz").check({"path": name}), QUIET)[
        "bytes"
    ]
    written = must(copied, row, "deliver.laz", path=name)["bytes"]
    assert promised == pytest.approx(written, rel=0.02 if name.endswith("z") else 1e-4)


@pytest.mark.parametrize("trouble", ["full", "read only", "gone"])
def test_a_failing_disk_is_a_sentence_and_nothing_is_lost(workspace, row, tmp_path, monkeypatch, trouble):
    import errno

    from terrazza import files

    write_room(tmp_path / "r.e57", rows=40, columns=80)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    before = dict(opened(workspace, row).facts("column"))
    code = {"full": errno.ENOSPC, "read only": errno.EROFS, "gone": errno.ENOENT}[trouble]

    def fail(path, *_):
        raise OSError(code, os.strerror(code), path)

    monkeypatch.setattr(files.disk, "write_array", fail)
    entry = perform(workspace, row, "clean.outliers", deviations=0.5)
    assert (
        entry.state == "failed"
        and {"full": "disk is full", "read only": "only be read", "gone": "not there"}[trouble]
        in entry.message
        and entry.hint
    )
    monkeypatch.undo()
    assert opened(workspace, row).facts("column") == before and health.check(opened(workspace, row)) == []


def test_a_damaged_or_locked_database_is_a_sentence(tmp_path):
    from tests.conftest import terrazza

    shutil.rmtree(tmp_path / "ws", ignore_errors=True)
    (tmp_path / "ws").mkdir()
    (tmp_path / "ws" / "terrazza.sqlite").write_bytes(b"no database at all" * 400)
    done = terrazza("jobs", "--workspace", tmp_path / "ws")
    assert done.returncode == 2 and "database is damaged" in done.stderr and "Traceback" not in done.stderr
