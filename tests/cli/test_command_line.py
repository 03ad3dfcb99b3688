"""The command line's contract: recipes, figures, exits, and the list of operations."""

import json

import numpy as np
import pytest

from terrazza.operations.spine.base import all_operations
from tests import scenes
from tests.conftest import ROOT, command

CONTRACT = [
    "import.files",
    "register.automatic",
    "georeference.control",
    "clean.outliers",
    "colorize.photos",
    "classify.ground",
    "classify.height_bands",
    "draw.plan_slab",
    "deliver.e57",
    "deliver.laz",
    "deliver.report",
]


def test_figures_of_a_whole_run(whole):
    out = json.loads((whole / "out.json").read_text())
    assert [s["operation"] for s in out["steps"]] == CONTRACT and all(
        s["state"] == "done" and s["seconds"] > 0 and s["figures"] for s in out["steps"]
    )
    assert [s["name"] for s in out["scans"]][:2] == ["Lemon house west", "Lemon house east"]
    for scan in out["scans"]:
        assert set(scan) == {
            "name",
            "points",
            "kept",
            "placed",
            "pose",
            "sigma_mm",
            "sigma_mdeg",
            "island",
            "doubt",
            "alternatives",
        } and (scan["island"], scan["doubt"], scan["alternatives"]) == (1, None, [])
        pose = np.array(scan["pose"]).reshape(4, 4)
        assert np.allclose(pose[:3, :3] @ pose[:3, :3].T, np.eye(3), atol=1e-12) and pose[3].tolist() == [
            0,
            0,
            0,
            1,
        ]
        assert len(scan["sigma_mm"]) == len(scan["sigma_mdeg"]) == 3
    names = {p.rsplit("/", 1)[-1] for p in out["deliverables"]}
    assert {"plan.dxf", "scans.e57", "cloud.laz", "report.pdf"} <= names
    assert all((whole / "out" / n).stat().st_size > 1000 for n in names), (
        "--out names another folder for them"
    )


def test_a_failing_step_names_itself(tmp_path):
    scenes.write_room(tmp_path / "r.e57", rows=40, columns=90)
    (tmp_path / "r.toml").write_text(
        '[[step]]\noperation = "import.files"\n[[step]]\noperation = '
        '"classify.height_bands"\n[[step]]\noperation = "deliver.e57"\n'
    )
    run = [
        "run",
        tmp_path / "r.toml",
        "--workspace",
        tmp_path / "ws",
        "--job",
        "R",
        "--figures",
        tmp_path / "f.json",
    ]
    done = command(*run, tmp_path / "r.e57")
    assert done.returncode == 2
    assert (
        "Step 2, classify.height_bands" in done.stderr
        and "Register the scans first" in done.stderr
        and "Traceback" not in done.stderr
    )
    out = json.loads((tmp_path / "f.json").read_text())
    assert (
        [s["state"] for s in out["steps"]] == ["done", "failed"]
        and out["steps"][1]["message"]
        and len(out["scans"]) == 3
    )
    assert out["scans"][0]["pose"] is None and out["scans"][0]["placed"] is False
    again = command(*run, tmp_path / "r.e57")
    assert again.returncode == 2 and "--append" in again.stderr
    assert json.loads((tmp_path / "f.json").read_text())["steps"] == []
    (tmp_path / "r.toml").write_text('[[step]]\noperation = "clean.outliers"\n')
    assert command(*run, "--append").returncode == 0
    assert [s["operation"] for s in json.loads((tmp_path / "f.json").read_text())["steps"]] == [
        "clean.outliers"
    ]


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (None, "is not there"),
        ("[[step]]\noperation = 'no.such'\n", "no operation"),
        ("[[step]]\noperation = 'clean.outliers'\nneighbours = -3\n", "greater than or equal"),
    ],
)
def test_bad_recipes_fail_before_they_start(tmp_path, text, words):
    if text:
        (tmp_path / "r.toml").write_text(text)
    done = command(
        "run",
        tmp_path / "r.toml",
        "--workspace",
        tmp_path / "ws",
        "--job",
        "R",
        "--figures",
        tmp_path / "f.json",
    )
    assert done.returncode == 2 and words in done.stderr and "Traceback" not in done.stderr
    assert not (tmp_path / "ws").exists() and json.loads((tmp_path / "f.json").read_text())["error"]


def test_operations_are_listed_with_units_and_ranges():
    rows = json.loads(command("operations", "--json").stdout)
    assert [r["name"] for r in rows] == [o.name for o in all_operations()] and set(CONTRACT) <= {
        r["name"] for r in rows
    }
    strength = next(
        p for r in rows if r["name"] == "clean.outliers" for p in r["params"] if p["name"] == "deviations"
    )
    assert strength["unit"] == "σ" and strength["ge"] == 0.1 and strength["le"] == 20 and strength["help"]
    text = command("operations", "draw.plan_slab").stdout
    assert "draw.plan_slab" in text and "thickness [m]" in text and "from 0.005 to 5" in text
    assert "Did you mean clean.outliers" in command("operations", "clean.outlier").stderr


def test_one_operation_undo_and_recipe(tmp_path):
    scenes.write_room(tmp_path / "Größe 1.e57", posed=True, rows=40, columns=90)
    (tmp_path / "i.toml").write_text('[[step]]\noperation = "import.files"\n')
    base = ["--workspace", tmp_path / "ws", "--job", "Größe 1"]
    assert command("run", tmp_path / "i.toml", *base, tmp_path / "Größe 1.e57").returncode == 0
    done = command("do", "clean.outliers", "neighbours=6", *base)
    assert done.returncode == 0 and "points taken out" in done.stdout
    assert "neighbours = 6" in command("recipe", *base).stdout
    assert "put back" in command("undo", 2, *base).stdout
    assert command("undo", 2, *base).returncode == 2
    book = command("fieldbook", *base).stdout
    assert "undone" in book and "Put a cut back" in book
    assert "Größe 1" in command("jobs", "--workspace", tmp_path / "ws").stdout
    assert "is not NAME=VALUE" in command("do", "clean.outliers", "six", *base).stderr


def test_a_busy_port_is_a_sentence(tmp_path):
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        done = command("serve", "--workspace", tmp_path / "ws", "--port", taken.getsockname()[1])
    assert (
        done.returncode == 2
        and "taken by another program" in done.stderr
        and "make demo PORT=" in done.stderr
    )
    away = command("serve", "--workspace", tmp_path / "ws", "--host", "0.0.0.0")
    assert away.returncode == 2 and "no accounts" in away.stderr


def test_every_command_and_setting_is_documented():
    from terrazza.cli.main import app
    from terrazza.settings import Settings

    guide = "\n".join(p.read_text() for p in (ROOT / "docs").glob("*.md")) + (ROOT / "README.md").read_text()
    for one in app.registered_commands:
        name = one.name or one.callback.__name__
        assert f"terrazza {name}" in guide, f"no word about “terrazza {name}”"
    for name, field in Settings.model_fields.items():
        assert f"TERRAZZA_{name.upper()}" in guide and field.description, name


def test_the_demo_is_always_the_same(tmp_path):
    from terrazza.demo import build

    for name in ("a", "b"):
        build.build(str(tmp_path / name), density=0.08, photo_width=64, cores=1)
    for file in ("settegradini-house.e57", "settegradini-garden.e57", "settegradini-control.csv"):
        assert (tmp_path / "a" / file).read_bytes() == (tmp_path / "b" / file).read_bytes(), file
