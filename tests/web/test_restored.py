"""Backups: they come back whole, and one that was doctored or cut off leaves nothing."""

import json
import os
import random
import tarfile

import pytest

from terrazza.db import queries
from terrazza.work import archive
from tests.run import must, opened
from tests.scenes import write_room


def doctored(source, target, change):
    """A copy of an archive with its record changed and its sums put right again."""
    import hashlib
    import io

    with tarfile.open(source) as old, tarfile.open(target, "w") as new:
        members = [(m.name, old.extractfile(m).read()) for m in old.getmembers()]
        record, sums = json.loads(members[0][1]), json.loads(members[-1][1])
        change(record)
        text = json.dumps(record).encode()
        sums["job.json"] = hashlib.sha256(text).hexdigest()
        for name, data in [("job.json", text), *members[1:-1], ("sums.json", json.dumps(sums).encode())]:
            head = tarfile.TarInfo(name)
            head.size = len(data)
            new.addfile(head, io.BytesIO(data))


def small_backup(workspace, tmp_path, name="B"):
    write_room(tmp_path / "r.e57", rows=30, columns=60)
    row = queries.create_job(workspace, name)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    inbox = opened(workspace, row).subfolder("inbox")
    os.symlink(tmp_path / "r.e57", os.path.join(inbox, "linked.e57"))
    must(workspace, row, "deliver.xyz", path="one", scans=[1]) if opened(workspace, row).scans(
        placed=True
    ) else must(workspace, row, "deliver.e57", path="one")
    return row, archive.backup(workspace, row, str(tmp_path / "b.tar"))


def test_a_backup_with_linked_files_comes_back(workspace, tmp_path):
    row, (_, linked) = small_backup(workspace, tmp_path)
    assert linked == ["linked.e57"]
    back = archive.restore(workspace, str(tmp_path / "b.tar"), "Back")
    assert [s.points for s in opened(workspace, back).scans()] == [
        s.points for s in opened(workspace, row).scans()
    ]


CHANGES = {
    "a path up": lambda r: [
        f["value"].__setitem__(0, "../../../../etc/hostname") for f in r["facts"] if f["kind"] == "column"
    ][:1],
    "a file that is missing": lambda r: [
        f["value"].__setitem__(0, "column.0.e1.00000000.npy") for f in r["facts"] if f["kind"] == "column"
    ][:1],
    "another type": lambda r: r["entries"][0].__setitem__("number", "one"),
    "a strange field": lambda r: r.__setitem__("more", 1),
    "no facts": lambda r: r.pop("facts"),
    "changes of nobody": lambda r: r["changes"][0].__setitem__("entry", 10**6),
}


@pytest.mark.parametrize("what", CHANGES)
def test_a_doctored_record_is_refused_and_leaves_nothing(workspace, tmp_path, what):
    small_backup(workspace, tmp_path)
    doctored(tmp_path / "b.tar", tmp_path / "d.tar", CHANGES[what])
    before = sorted(os.listdir(os.path.join(workspace, "jobs")))
    with pytest.raises(Exception, match="“d.tar”|field book"):
        archive.restore(workspace, str(tmp_path / "d.tar"), "D")
    assert sorted(os.listdir(os.path.join(workspace, "jobs"))) == before and [
        j.name for j in queries.Job.select()
    ] == ["B"]


@pytest.mark.parametrize("seed", range(12))
def test_a_backup_that_changed_is_refused(workspace, tmp_path, seed):
    """One flipped bit, or a cut, anywhere in the content of its members."""
    small_backup(workspace, tmp_path)
    rng, data = random.Random(seed), bytearray((tmp_path / "b.tar").read_bytes())
    with tarfile.open(tmp_path / "b.tar") as tar:
        members = [m for m in tar.getmembers() if m.size]
    member = rng.choice(members)
    if seed % 4 == 3:
        data = data[: member.offset_data + member.size // 2]
    else:
        data[member.offset_data + rng.randrange(member.size)] ^= 1 << rng.randrange(8)
    (tmp_path / "c.tar").write_bytes(data)
    with pytest.raises(Exception, match="c.tar"):
        archive.restore(workspace, str(tmp_path / "c.tar"), "C")
    assert [j.name for j in queries.Job.select()] == ["B"]


def test_a_restored_record_makes_the_page_serve_no_file_of_the_machine(client, copied, tmp_path):
    row = queries.job_by(name="Whole")
    archive.backup(copied, row, str(tmp_path / "w.tar"))

    def change(record):
        for fact in record["facts"]:
            if fact["kind"] == "deliverable":
                fact["value"]["path"] = fact["key"] = "/etc/hostname"
                break

    doctored(tmp_path / "w.tar", tmp_path / "d.tar", change)
    back = archive.restore(copied, str(tmp_path / "d.tar"), "Back")
    for number in range(1, len(opened(copied, back).facts("deliverable")) + 1):
        assert (
            open("/etc/hostname").read().strip()
            not in client.get(f"/jobs/{back.id}/deliverables/file/{number}").text[:200]
        )


def test_remains_of_killed_restores_and_backups_go_at_the_next_start(workspace):
    from terrazza.work.open import open_workspace

    left = [
        os.path.join(workspace, "jobs", "restore-1.part"),
        os.path.join(workspace, "backup-2"),
        os.path.join(workspace, "jobs", "9-halfway"),
    ]
    for folder in left:
        os.makedirs(folder)
        open(os.path.join(folder, archive.MARK), "w").close()
    with archive._claimed(workspace, os.path.join(workspace, "jobs", "restore-3.part")):
        open_workspace(workspace)
        assert not any(map(os.path.exists, left)) and os.path.exists(
            os.path.join(workspace, "jobs", "restore-3.part")
        )
