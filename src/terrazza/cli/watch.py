"""``terrazza watch``: a folder whose contents become jobs."""

import os
import sys
from pathlib import Path

import typer

from terrazza.cli.run import answers
from terrazza.errors import InputError
from terrazza.operations.spine import recipe
from terrazza.settings import settings
from terrazza.work.open import open_workspace
from terrazza.work.watching import Watch


def register(app: typer.Typer) -> None:
    @app.command()
    def watch(
        folder: Path = typer.Argument(..., metavar="FOLDER"),
        recipe_file: Path = typer.Argument(..., metavar="RECIPE.toml"),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
        once: bool = typer.Option(False, "--once", help="End when all that lies there is done."),
        rest: float = typer.Option(60.0, min=0.0, help="Seconds for which sizes must be at rest."),
        sets: list[str] = typer.Option(
            None, "--set", metavar="NAME=VALUE", help="Answer a question, or set step.parameter=value."
        ),
    ) -> None:
        """Run a recipe on every subfolder and set of files laid into FOLDER; results go to FOLDER/done/NAME,
        failed ones to FOLDER/failed/NAME.  With --once it exits 2 where one failed.
        """
        if not folder.is_dir():
            raise InputError(f"The folder “{folder}” is not there.", "Make it, or check its path.")
        wanted = recipe.filled(recipe.read(str(recipe_file)), answers(sets or []))
        open_workspace(str(workspace or settings().workspace))
        say = lambda line: print(line, file=sys.stderr, flush=True)
        watch = Watch(
            str(folder),
            wanted,
            os.path.dirname(os.path.abspath(recipe_file)),
            str(workspace or settings().workspace),
            say,
            (str(recipe_file),),
        )
        with watch.held():
            watch.go_on()
            try:
                watch.wait(rest, once)
            except KeyboardInterrupt:
                say("terrazza: no longer watching; what was begun goes on at the next start")
                raise typer.Exit(130) from None
        if watch.failed:
            raise typer.Exit(2)
