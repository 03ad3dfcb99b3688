"""Files that are brought in through the page: uploads, zips, files of this computer, broken ones."""

import os
import time
import zipfile

import pytest

from terrazza import formats
from terrazza.db import queries
from terrazza.settings import settings
from tests import scenes


def test_uploads_go_on_where_they_broke_off(empty, tmp_path):
    empty.post("/jobs", data={"name": "Upload"})
    scenes.write_room(tmp_path / "Räume 1.e57", rows=40, columns=90)
    data, url = (tmp_path / "Räume 1.e57").read_bytes(), "/jobs/1/inbox/R%C3%A4ume 1.e57"
    half = len(data) // 2
    assert empty.head(url).headers["x-offset"] == "0"
    assert empty.put(f"{url}?offset=0&total={len(data)}", content=data[:half]).json() == {
        "offset": half,
        "whole": False,
    }
    assert "broke off" in empty.get("/jobs/1/inbox").text
    assert empty.head(url).headers["x-offset"] == str(half)
    assert empty.put(f"{url}?offset={half + 5}&total={len(data)}", content=b"x").status_code == 409
    assert (
        empty.put(f"{url}?offset={half}&total={len(data)}", content=data[half:] + b"more").status_code == 422
    )
    assert empty.put(f"{url}?offset={half}&total={len(data)}", content=data[half:]).json()["whole"]
    listing = empty.get("/jobs/1/inbox").text
    assert "Küche" in listing and "3.6 k" not in listing and "40 × 90" in listing
    picture = "/jobs/1/pictures/inside/0.png?file=R%C3%A4ume 1.e57"
    assert "looking" in empty.get("/jobs/1/inbox/inside/0?file=R%C3%A4ume 1.e57").text and empty.get(
        picture
    ).status_code in {200, 404}
    told = looked(empty, "R%C3%A4ume 1.e57")
    assert (
        "z is up: the columns of its grid stand along z" in told
        and "under the instrument: this looks like metres" in told
    )
    assert (
        empty.get(picture).headers["content-type"] == "image/png"
        and empty.get(picture).content != empty.get(picture + "&axes=%2Bx -z %2By").content
    )
    assert "Räume" not in empty.delete(url).text


def looked(client, file: str, index: int = 0) -> str:
    """The page's words about one scan once it has been looked into."""
    for _ in range(300):
        told = client.get(f"/jobs/1/inbox/inside/{index}?file={file}").text
        if "looking" not in told:
            return told
        time.sleep(0.1)
    raise AssertionError("nobody looked")


def test_a_zip_is_unpacked_and_a_damaged_one_refused(empty, tmp_path):
    empty.post("/jobs", data={"name": "Zip"})
    scenes.write_room(tmp_path / "r.e57", rows=40, columns=90)
    points = "".join(f"{k % 30} {k // 30} {k % 7}\n" for k in range(900))
    with zipfile.ZipFile(tmp_path / "card.zip", "w") as packed:
        packed.write(tmp_path / "r.e57", "card/day 1/r.e57")
        packed.writestr("card/day 2/../cloud.xyz", points)
        packed.writestr("card/.hidden", "x")
        packed.writestr("control.csv", "A,1,2,3\nB,4,5,6\n")
    data = (tmp_path / "card.zip").read_bytes()
    assert empty.put(f"/jobs/1/inbox/card.zip?offset=0&total={len(data)}", content=data).json()["whole"]
    page = empty.get("/jobs/1/inbox").text
    assert (
        all(w in page for w in ("r.e57", "Küche", "cloud.xyz", "900 points", "control.csv"))
        and "card.zip" not in page
        and "hidden" not in page
    )
    assert '<td class="n">5</td>' in page and "control? choose it" in page
    broken = data[: len(data) // 2]
    assert (
        empty.put(f"/jobs/1/inbox/b.zip?offset=0&total={len(broken)}", content=broken).status_code == 422
        and "b.zip" not in empty.get("/jobs/1/inbox").text
    )


def test_the_small_plan_shows_the_ties_that_a_file_tells(empty, whole, workspace):
    from tests.run import opened

    empty.post("/jobs", data={"name": "Again"})
    os.symlink(
        whole / "out" / "scans.e57",
        os.path.join(opened(workspace, queries.job_by(id=1)).subfolder("inbox"), "scans.e57"),
    )
    page = empty.get("/jobs/1/inbox").text
    ties = formats.look(str(whole / "out" / "scans.e57")).ties
    assert (
        len(ties) > 7
        and page.count("tied in the file</title></line>") == len(ties)
        and page.count("<circle") == 8
    )


def test_files_of_this_computer_are_taken_without_copying(empty, tmp_path, monkeypatch):
    empty.post("/jobs", data={"name": "Link"})
    (tmp_path / "card" / "deep").mkdir(parents=True)
    scenes.write_room(tmp_path / "card" / "deep" / "ä b.e57", rows=40, columns=90)
    assert (
        "outside the folders"
        in empty.post("/jobs/1/inbox/link", data={"path": str(tmp_path / "card")}).json()["message"]
    )
    monkeypatch.setattr(settings(), "folders", str(tmp_path / "card"))
    page = empty.post("/jobs/1/inbox/link", data={"path": str(tmp_path / "card")}).text
    assert (
        "ä b.e57" in page
        and "the file stays" in page
        and "under the instrument" in looked(empty, "%C3%A4 b.e57")
    )
    assert (
        empty.post(
            "/jobs/1/inbox/link", data={"path": str(tmp_path / "card" / ".." / "elsewhere")}
        ).status_code
        == 422
    )
    assert (
        "ä b.e57" not in empty.delete("/jobs/1/inbox/%C3%A4 b.e57").text
        and (tmp_path / "card" / "deep" / "ä b.e57").exists()
    )


@pytest.mark.parametrize("name", ["..%2Fx.e57", ".hidden", "a" * 250])
def test_upload_names_stay_in_the_inbox(empty, name):
    empty.post("/jobs", data={"name": "Upload"})
    assert empty.put(f"/jobs/1/inbox/{name}?offset=0&total=1", content=b"x").status_code in {404, 405, 422}


@pytest.mark.parametrize("content", [b"", b"ASTM-E57" + b"\0" * 200, b"LASF", b"hello"])
def test_broken_uploads_are_said_and_take_nothing_with_them(empty, content):
    empty.post("/jobs", data={"name": "Broken"})
    empty.put(f"/jobs/1/inbox/bad.e57?offset=0&total={len(content)}", content=content)
    page = empty.get("/jobs/1/import")
    assert page.status_code == 200 and "bad.e57" in page.text and "verdict bad" in page.text
