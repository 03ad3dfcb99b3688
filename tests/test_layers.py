"""The architecture, held by tests: imports go one way, everything public says what it does."""

import ast
import re
import subprocess
import sys
from pathlib import Path

import pytest

import terrazza.operations  # noqa: F401
from terrazza.operations.spine.base import GROUPS, STEPS, all_operations, describe

SOURCE = Path(__file__).parent.parent / "src" / "terrazza"
ALLOWED = {
    "errors": set(),
    "files": set(),
    "later": set(),
    "units": {"errors"},
    "settings": set(),
    "core": {"errors", "units"},
    "store": {"errors", "units", "files", "core"},
    "formats": {"errors", "units", "files", "core"},
    "instruments": {"errors", "units", "core"},
    "db": {"errors"},
    "fleet": {"errors"},
    "operations": {"errors", "units", "files", "core", "store", "formats", "instruments", "db", "fleet"},
    "demo": {"errors", "units", "core", "store", "formats", "instruments", "db", "fleet"},
    "work": {
        "errors",
        "files",
        "units",
        "settings",
        "core",
        "store",
        "formats",
        "instruments",
        "db",
        "fleet",
        "operations",
    },
    "web": {"errors", "units", "settings", "core", "store", "formats", "db", "fleet", "operations", "work"},
    "cli": {
        "errors",
        "units",
        "settings",
        "core",
        "store",
        "formats",
        "db",
        "fleet",
        "operations",
        "work",
        "web",
        "demo",
    },
}
FILES = sorted(p for p in SOURCE.rglob("*.py") if p.name != "__init__.py" or p.parent != SOURCE)


def imported(tree):
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (a.name for a in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module == "terrazza":
            yield from (f"terrazza.{a.name}" for a in node.names if not a.name.startswith("__"))
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


# one pass of compiled loops, and one system of equations: parts would need all names of the whole
ONE_PASS = {"_scores", "_second_pass", "colours", "equations_of"}


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_imports_go_one_way(path):
    layer = path.relative_to(SOURCE).parts[0].removesuffix(".py")
    for name in imported(ast.parse(path.read_text())):
        parts = name.split(".")
        if parts[0] == "terrazza" and len(parts) > 1 and parts[1] not in {layer, "later"}:
            assert parts[1] in ALLOWED[layer], f"{layer} must not import {name}"
        if layer in {"core", "store", "formats", "instruments", "fleet"}:
            assert parts[0] not in {"fastapi", "peewee", "jinja2", "huey", "typer"}, (
                f"{layer} must not import {name}"
            )
        if layer == "db":
            assert parts[0] != "numpy"


def test_core_loads_without_web_or_database():
    code = (
        "import terrazza.core, terrazza.core.register.linking, terrazza.core.georef.fit, sys; assert not "
        "{'fastapi', 'peewee', 'huey'} & set(sys.modules)"
    )
    assert subprocess.run([sys.executable, "-c", code]).returncode == 0


@pytest.mark.parametrize("module", ["terrazza.cli.main", "terrazza.web.app"])
def test_starting_waits_for_no_computation(module):
    """What only operations need is imported by the process that runs them."""
    code = (
        f"import {module}, sys; slow = {{'numba', 'scipy', 'laspy', 'pye57', 'pyproj', 'ezdxf', "
        "'reportlab'} & set(sys.modules); assert not slow, slow"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_modules_say_what_they_are(path):
    tree = ast.parse(path.read_text())
    if tree.body:
        assert ast.get_docstring(tree), f"{path} has no docstring"
    functions = (ast.FunctionDef, ast.AsyncFunctionDef)
    long = {n.name for n in ast.walk(tree) if isinstance(n, functions) and n.end_lineno - n.lineno >= 60}
    assert long <= ONE_PASS, f"too long to read: {long}"
    assert len(path.read_text().splitlines()) <= 400


@pytest.mark.parametrize(
    "path",
    [p for kind in ("js", "css") for p in sorted((SOURCE / "web" / "static" / kind).rglob("*." + kind))],
    ids=lambda p: p.name,
)
def test_scripts_and_styles_are_short_and_say_what_they_are(path):
    lines = path.read_text().splitlines()
    assert lines[0].startswith(("//", "/*")) and len(lines) <= 400


SHAPED = ("core", "store", "formats", "operations/pieces")
SHAPE = re.compile(r"\((?:\d+|[a-z]\w*|…|\d*n),[^()]{0,40}\)|\d ?×|[a-z] × ")


def test_nine_in_ten_public_functions_of_arrays_say_their_shapes():
    """Of those that take or give arrays, in what other parts build upon."""
    says = {}
    for path in (p for room in SHAPED for p in sorted((SOURCE / room).rglob("*.py"))):
        body = ast.parse(path.read_text()).body
        classes = [n for n in body if isinstance(n, ast.ClassDef) and not n.name.startswith("_")]
        for function in (n for scope in (body, *(c.body for c in classes)) for n in scope):
            if isinstance(function, ast.FunctionDef) and not function.name.startswith("_"):
                kinds = [a.annotation for a in function.args.args + function.args.kwonlyargs]
                if any("ndarray" in ast.unparse(k) for k in [*kinds, function.returns] if k is not None):
                    told = ast.get_docstring(function) or ""
                    says[path, function.lineno] = bool(SHAPE.search(told))
    silent = [f"{p.relative_to(SOURCE)}:{line}" for (p, line), said in says.items() if not said]
    assert len(says) > 400 and len(silent) <= 0.1 * len(says), silent


@pytest.mark.parametrize("operation", all_operations(), ids=lambda o: o.name)
def test_operations_are_documented(operation):
    about = describe(operation)
    assert about["help"] and about["title"] and about["step"] in GROUPS
    assert operation.name.split(".")[0] in (
        {operation.step.lower(), "surface" if operation.step == "Draw" else operation.step.lower()}
        if operation.step in STEPS
        else {"measure", "pins", "boxes", "table", "deliver"}
    )
    for row in about["params"]:
        assert row["title"], row
        if row["type"] in {"number"} and row["name"] not in {"rounds"}:
            assert row["unit"] or row["help"], f"{operation.name}.{row['name']} has neither unit nor help"


def test_steps_have_operations():
    assert {o.step for o in all_operations()} == set(GROUPS)
