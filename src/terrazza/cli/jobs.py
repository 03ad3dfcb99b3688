"""``terrazza jobs``, ``fieldbook``, ``check``, ``backup`` and ``restore``: what is in a workspace, whether it is whole, and moving it."""

from pathlib import Path

import typer

from terrazza.db import queries
from terrazza.cli.terminal import Bar
from terrazza.db.models import Job as Row
from terrazza.errors import TerrazzaError
from terrazza.operations import health, recipe
from terrazza.operations.base import find
from terrazza.operations.job import Job
from terrazza.settings import settings
from terrazza.work import archive
from terrazza.work.open import open_workspace


def register(app: typer.Typer) -> None:
    @app.command()
    def jobs(workspace: Path = typer.Option(None, help="Folder of the workspace.")) -> None:
        """List the jobs of a workspace."""
        open_workspace(str(workspace or settings().workspace))
        for row in Row.select().order_by(Row.id):
            print(f"{row.name}\t{row.folder}")

    @app.command(name="fieldbook")
    def book(job: str = typer.Option(..., help="Name of the job."), workspace: Path = typer.Option(None, help="Folder of the workspace.")) -> None:
        """Print a job's field book."""
        open_workspace(str(workspace or settings().workspace))
        for e in recipe.entries_of(queries.job_by(name=job)):
            print(f"{e.number:>4}  {e.state:<12} {find(e.operation).title:<28} {(e.figures or {}).get('says', '') or e.message}")

    @app.command()
    def check(job: str = typer.Argument(..., help="Name of the job."), workspace: Path = typer.Option(None, help="Folder of the workspace.")) -> None:
        """Verify every file, column, index and record of a job; exits 2 and says what is wrong."""
        folder = str(workspace or settings().workspace)
        open_workspace(folder)
        with Bar("Checking") as bar:
            wrong = health.check(Job(folder, queries.job_by(name=job)), bar)
        if wrong:
            raise TerrazzaError("\n".join([f"“{job}” is not whole:", *wrong]), "Restore it from a backup, or undo the entries that wrote what is damaged.")
        print(f"“{job}” is whole.")

    @app.command()
    def backup(job: str = typer.Argument(..., help="Name of the job."), file: Path = typer.Argument(..., help="Where to write it."), workspace: Path = typer.Option(None, help="Folder of the workspace.")) -> None:
        """Write a whole job into one file; work on it may go on meanwhile."""
        folder = str(workspace or settings().workspace)
        open_workspace(folder)
        print(f"{archive.backup(folder, queries.job_by(name=job), str(file)) / 1e6:.1f} MB in {file}")

    @app.command()
    def restore(file: Path = typer.Argument(..., help="A file that backup wrote."), job: str = typer.Option("", help="Its name here; empty: the name it had."), workspace: Path = typer.Option(None, help="Folder of the workspace.")) -> None:
        """Bring a backed-up job into a workspace."""
        folder = str(workspace or settings().workspace)
        open_workspace(folder)
        row = archive.restore(folder, str(file), job)
        print(f"“{row.name}” is here.")
