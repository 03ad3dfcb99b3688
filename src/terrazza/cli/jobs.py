"""``terrazza jobs``, ``fieldbook``, ``check``, ``backup`` and ``restore``: what is in a workspace, whether it
is whole, and moving it.
"""

import sys
from pathlib import Path

import typer

from terrazza.cli.terminal import Bar
from terrazza.db import queries
from terrazza.db.models import Job as Row
from terrazza.errors import ParamsError, TerrazzaError
from terrazza.operations.spine import health, recipe
from terrazza.operations.spine.base import title
from terrazza.operations.spine.job import Job
from terrazza.settings import settings
from terrazza.work import archive
from terrazza.work.open import open_workspace


def _named(position: str, option: str) -> str:
    """The job that a command means: given by ``--job`` or by its place among the words."""
    if not (position or option):
        raise ParamsError("The job is not named.", "Write --job NAME.")
    return option or position


def register(app: typer.Typer) -> None:
    _register_looks(app)
    _register_moves(app)


def _register_looks(app: typer.Typer) -> None:
    """What is there, and whether it is whole."""

    @app.command()
    def jobs(workspace: Path = typer.Option(None, help="Folder of the workspace.")) -> None:
        """List the jobs of a workspace."""
        open_workspace(str(workspace or settings().workspace))
        for row in Row.select().order_by(Row.id):
            print(f"{row.name}\t{row.folder}")

    @app.command(name="fieldbook")
    def book(
        job: str = typer.Option(..., help="Name of the job."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Print a job's field book."""
        open_workspace(str(workspace or settings().workspace))
        for e in recipe.entries_of(queries.job_by(name=job)):
            print(
                f"{e.number:>4}  {e.state:<12} {title(e.operation):<28} "
                f"{(e.figures or {}).get('says', '') or e.message}"
            )

    @app.command()
    def check(
        name: str = typer.Argument("", metavar="[JOB]", help="Name of the job."),
        job: str = typer.Option("", help="Name of the job."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Verify every file, column, index and record of a job; exits 2 and says what is wrong."""
        folder, job = str(workspace or settings().workspace), _named(name, job)
        open_workspace(folder)
        with Bar("Checking") as bar:
            wrong = health.check(Job(folder, queries.job_by(name=job)), bar)
        if wrong:
            raise TerrazzaError(
                "\n".join([f"“{job}” is not whole:", *wrong]),
                "Restore it from a backup, or undo the entries that wrote what is damaged.",
            )
        print(f"“{job}” is whole.")


def _register_moves(app: typer.Typer) -> None:
    """Into a file and back."""

    @app.command()
    def backup(
        words: list[str] = typer.Argument(
            None,
            metavar="[JOB] FILE",
            help="Name of the job, where --job does not give it, and where to write the backup.",
        ),
        job: str = typer.Option("", help="Name of the job."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Write a whole job into one file; work on it may go on meanwhile."""
        folder, words = str(workspace or settings().workspace), list(words or [])
        if len(words) != (1 if job else 2):
            raise ParamsError(
                f"backup takes a job and a file, got {len(words)} words{' beside --job' if job else ''}.",
                "Write: terrazza backup --job NAME FILE.",
            )
        job, file = _named(words[0], job), words[-1]
        open_workspace(folder)
        size, linked = archive.backup(folder, queries.job_by(name=job), str(file))
        print(f"{size / 1e6:.1f} MB in {file}")
        if linked:
            print(
                f"terrazza: not in it, since the job only links to them: {', '.join(linked)}", file=sys.stderr
            )

    @app.command()
    def restore(
        file: Path = typer.Argument(..., help="A file that backup wrote."),
        job: str = typer.Option("", help="Its name here; empty: the name it had."),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
    ) -> None:
        """Bring a backed-up job into a workspace."""
        folder = str(workspace or settings().workspace)
        open_workspace(folder)
        row = archive.restore(folder, str(file), job)
        print(f"“{row.name}” is here.")
