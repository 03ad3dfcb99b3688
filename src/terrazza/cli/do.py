"""``terrazza do``, ``undo`` and ``recipe``: one operation on a job, one step back, and a recipe from a field
book.
"""

import json
from pathlib import Path

import typer

from terrazza.cli.terminal import Bar, doubts
from terrazza.db import queries
from terrazza.errors import ParamsError, TerrazzaError
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine import recipe as recipes
from terrazza.operations.spine.base import find
from terrazza.operations.spine.fieldbook import enter
from terrazza.settings import settings
from terrazza.work import launchers
from terrazza.work.lease import lease
from terrazza.work.open import open_workspace
from terrazza.work.runner import run_entry


def _value(text: str):
    try:
        return json.loads(text)
    except json.JSONDecodeError:
        return text


def _perform(workspace: str, row, name: str, params: dict):
    operation = find(name)
    entry = enter(row, name, params, "command line")
    with Bar(operation.title) as bar:
        entry = run_entry(workspace, entry, bar)
    if entry.state != "done":
        raise TerrazzaError(f"{name} {entry.state}: {entry.message}", entry.hint)
    doubts(entry.figures)
    print(f"{entry.number} {operation.title}: {entry.figures.get('says', '')} ({entry.seconds:.1f} s)")


def register(app: typer.Typer) -> None:
    @app.command()
    def do(
        operation: str = typer.Argument(...),
        params: list[str] = typer.Argument(None, metavar="NAME=VALUE…"),
        job: str = typer.Option(..., help="Name of the job."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Run one operation on a job; values are JSON or plain words."""
        values = {}
        for word in params or []:
            key, mark, text = word.partition("=")
            if not mark:
                raise ParamsError(f"“{word}” is not NAME=VALUE.", f"See “terrazza operations {operation}”.")
            values[key] = _value(text)
        folder = str(workspace or settings().workspace)
        open_workspace(folder)
        _perform(folder, queries.job_by(name=job), operation, values)

    @app.command()
    def undo(
        number: int = typer.Argument(...),
        job: str = typer.Option(..., help="Name of the job."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Undo one entry of the field book; a cut is put back by itself."""
        folder = str(workspace or settings().workspace)
        open_workspace(folder)
        row = queries.job_by(name=job)
        entry = queries.entry_of(row, number)
        if fieldbook.is_cut(entry):
            _perform(folder, row, "clean.put_back", {"cut": entry.figures["cut"]})
            return
        with lease(folder, row.folder, "an undo"):
            fieldbook.undo(entry)
        print(f"Entry {number} is undone.")

    @app.command()
    def recipe(
        job: str = typer.Option(..., help="Name of the job."),
        bound: bool = typer.Option(False, "--bound", help="Also steps that are bound to the place."),
        into: Path = typer.Option(None, help="Write it into this folder, with files that run it there."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Print the job's field book as a recipe, or write it with launchers for every system."""
        open_workspace(str(workspace or settings().workspace))
        row = queries.job_by(name=job)
        text = recipes.write(recipes.entries_of(row), row.name, bound)
        print("\n".join(launchers.lay(text, row.name, str(into))) + "\n" if into else text, end="")
