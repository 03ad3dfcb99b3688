"""Jobs as things one keeps, in the browser: listed, found, renamed, put away, deleted and back, removed,
backed up and restored.
"""

import os

import numpy as np
import pytest

from terrazza.db.models import Entry, Fact
from terrazza.db.models import Job as Row
from terrazza.operations.spine.fieldbook import enter
from terrazza.work import demos, keeping
from terrazza.work.runner import run_entry
from tests.run import must
from tests.web.conftest import client_on


@pytest.fixture
def two(workspace, monkeypatch, tmp_path):
    """A client on a workspace of two jobs, “North è” with a scan in the grid and “South” with nothing."""
    client = client_on(workspace, monkeypatch)
    for name in ("North è", "South"):
        client.post("/jobs", data={"name": name})
    xyz = np.random.default_rng(0).uniform(0, 5, (3000, 3)).round(3)
    (tmp_path / "a.xyz").write_text("\n".join(" ".join(map(str, p)) for p in xyz))
    must(workspace, Row.get(name="North è"), "import.files", files=[str(tmp_path / "a.xyz")])
    return client, workspace


def listed(client, **query) -> list[str]:
    """Names of the jobs that the list leads to."""
    text = client.get("/", params=query).text
    return [n for n in ("North è", "South", "Nord") if f'">{n}</a>' in text]


def test_the_list_finds_and_shows(two):
    client, _ = two
    text = client.get("/").text
    assert listed(client) == ["North è", "South"] and "3 000" in text.replace("\u2009", " ").replace(
        "\u202f", " "
    )
    assert listed(client, find="NORTH") == ["North è"] and listed(client, find="x<b>") == []
    assert "No job here has" in client.get("/", params={"find": "x<b>"}).text
    assert client.get("/jobs/2/plan.png").status_code == 404
    must(two[1], Row.get(name="North è"), "register.set_pose", scan=1, x=0, y=0, z=0, heading_deg=0)
    picture = client.get("/jobs/1/plan.png")
    assert picture.status_code == 200 and picture.content[:4] == b"\x89PNG"
    assert "plan.png?of=" in client.get("/").text


def test_names_change_and_are_not_taken_twice(two):
    client, _ = two
    assert client.post("/jobs/2/name", data={"name": "  Nord  "}, follow_redirects=False).status_code == 303
    assert listed(client) == ["North è", "Nord"] and Row.get_by_id(2).name == "Nord"
    for name, says in (("North è", "exists already"), ("", "needs a name"), ("n" * 121, "characters")):
        answer = client.post("/jobs/2/name", data={"name": name})
        assert answer.status_code == 422 and says in answer.text
    assert Row.get_by_id(2).name == "Nord"


@pytest.mark.parametrize("where", ["away", "deleted"])
def test_jobs_go_and_come_back(two, where):
    client, workspace = two
    gone = client.post("/jobs/1/kept", data={"where": where})
    assert listed(client) == ["South"] and ("Undo" in gone.text) == (where == "deleted")
    assert ("for good" in client.get("/").text) == (where == "deleted")
    assert os.path.isdir(os.path.join(workspace, "jobs", Row.get_by_id(1).folder))
    client.post("/jobs/1/kept", data={"where": ""})
    assert listed(client) == ["North è", "South"] and client.get("/jobs/1/import").status_code == 200
    assert client.post("/jobs/1/kept", data={"where": "elsewhere"}).status_code == 422


def test_a_job_goes_for_good_only_once_deleted(two):
    client, workspace = two
    folder = os.path.join(workspace, "jobs", Row.get_by_id(1).folder)
    assert client.post("/jobs/1/removed").status_code == 409 and os.path.isdir(folder)
    enter(Row.get_by_id(1), "register.automatic", {}, "test")
    assert client.post("/jobs/1/kept", data={"where": "deleted"}).status_code == 409, (
        "something waits to be done"
    )
    Entry.update(state="cancelled").where(Entry.state == "queued").execute()
    client.post("/jobs/1/kept", data={"where": "deleted"})
    assert client.post("/jobs/1/removed", follow_redirects=False).status_code == 303
    assert not os.path.exists(folder) and listed(client) == ["South"]
    assert not Entry.select().where(Entry.job == 1).count() and not Fact.select().where(Fact.job == 1).count()
    assert client.get("/jobs/1/import").status_code == 404


def test_a_backup_comes_down_and_goes_up(two):
    client, workspace = two
    backup = client.get("/jobs/1/backup.tar")
    assert backup.status_code == 200 and "North" in backup.headers["content-disposition"]
    send = lambda data, name="", file="b.tar": client.post(
        "/jobs/restored", files={"file": (file, data)}, data={"name": name}, follow_redirects=False
    )
    taken = send(backup.content)
    assert taken.status_code == 422 and "exists already" in taken.text
    assert send(backup.content, "Nord").status_code == 303 and listed(client) == ["North è", "South", "Nord"]
    row = Row.get(name="Nord")
    assert must(workspace, row, "register.set_pose", scan=1, x=1, y=0, z=0, heading_deg=0)
    broken = send(backup.content[:5000], "Cut", "my backup.tar")
    assert broken.status_code == 422 and "my backup.tar" in broken.text and ".part" not in broken.text
    assert not [n for n in os.listdir(workspace) if n.endswith(".part")] and Row.select().count() == 3


def test_demos_are_offered_beside_the_demo_job_and_begun_once(workspace, monkeypatch):
    """The button lays the field data and queues the recipe; the worker's step brings the cloud in."""
    client = client_on(workspace, monkeypatch)
    offered = lambda: {k for k in demos.DEMOS if f"/jobs/demo/{k}" in client.get("/").text}
    assert not offered()
    client.post("/jobs", data={"name": keeping.DEMO})
    assert offered() == {"flight", "second", "finished"}
    answer = client.post("/jobs/demo/flight", follow_redirects=False)
    job = Row.get(name=demos.DEMOS["flight"].name)
    assert answer.status_code == 303 and answer.headers["location"] == f"/jobs/{job.id}/register"
    assert offered() == {"second", "finished"} and client.post("/jobs/demo/none").status_code == 404
    (entry,) = Entry.select().where(Entry.job == job)
    assert run_entry(workspace, entry).state == "done"
    assert "settegradini-flight" in client.get(f"/jobs/{job.id}/register").text
