"""``terrazza run``: a recipe on files, without a screen."""

import json
import os
import sys
from pathlib import Path

import typer

from terrazza.cli.terminal import Bar, doubts
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.db.models import Job as Row
from terrazza.errors import InputError, ParamsError, TerrazzaError
from terrazza.operations.spine import course, recipe
from terrazza.operations.spine.base import title
from terrazza.settings import settings
from terrazza.work.open import open_workspace
from terrazza.work.runner import run_entry
from terrazza.work.summary import summary
from terrazza.work.watching import files_of, fitted, free_name

WHO = "command line"


def register(app: typer.Typer) -> None:
    @app.command()
    def run(
        recipe_file: Path = typer.Argument(..., metavar="RECIPE.toml"),
        inputs: list[Path] = typer.Argument(None, metavar="INPUT…"),
        workspace: Path = typer.Option(None, help="Folder of the workspace."),
        job: str = typer.Option("", help="Name of the job; by default after the first input."),
        figures: Path = typer.Option(None, help="Write figures, poses and deliverables to this JSON file."),
        out: Path = typer.Option(None, help="Folder for deliverables."),
        append: bool = typer.Option(False, "--append", help="Run the recipe in a job that is there."),
        resume: bool = typer.Option(False, "--resume", help="Go on where this recipe broke off or stopped."),
        sets: list[str] = typer.Option(
            None, "--set", metavar="NAME=VALUE", help="Answer a question, or set step.parameter=value."
        ),
        strict: bool = typer.Option(False, "--strict", help="Stop at the first doubt, with exit status 3."),
    ) -> None:
        """Run a recipe on files, or on the files in folders; exits 0 only if every step succeeded, 2 where
        one failed, with --strict 3 where one is in doubt, and 4 where a verdict of the recipe stops it.
        """
        folder = str(workspace or settings().workspace)
        result = {"steps": [], "scans": [], "deliverables": [], "error": None}
        try:
            try:
                _run(
                    folder,
                    recipe_file,
                    [os.path.abspath(p) for p in inputs or []],
                    job,
                    os.path.abspath(out) if out else "",
                    append,
                    resume,
                    strict,
                    answers(sets or []),
                    result,
                )
            except Exception as error:
                result["error"] = str(error)
                raise
        finally:
            if figures is not None:
                _write(figures, result)


def _write(path: Path, result: dict) -> None:
    partial = Path(f"{path}.part")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        partial.write_text(
            json.dumps(result, indent=1, allow_nan=False, ensure_ascii=False), encoding="utf-8"
        )
    except OSError as error:
        raise InputError(
            f"The figures cannot be written to “{path}” ({error.strerror}).",
            "Name a file that you may write.",
        ) from error
    os.replace(partial, path)


def answers(words: list[str]) -> dict:
    """NAME=VALUE words as values: JSON or plain words; ParamsError for what is none."""
    found = {}
    for word in words:
        key, mark, text = word.partition("=")
        if not mark or not key:
            raise ParamsError(f"“{word}” is not NAME=VALUE.", "For example clean.outliers.neighbours=12.")
        try:
            found[key] = json.loads(text)
        except json.JSONDecodeError:
            found[key] = text
    return found


def _run(workspace, recipe_file, inputs, name, out, append, resume, strict, given, result):
    wanted = recipe.filled(recipe.read(str(recipe_file)), given)
    name = name or (_named_after(inputs, workspace) if not (append or resume) else "")
    if any(map(os.path.isdir, inputs)):
        wanted, inputs = fitted(wanted, files_of(inputs, (workspace, *([out] if out else []))))
    beside = [os.path.dirname(os.path.abspath(recipe_file)), "."]
    course.check(wanted, inputs, beside, workspace)
    open_workspace(workspace)
    row = Row.get_or_none(name=" ".join(name.split()))
    if row is not None and not (append or resume):
        raise InputError(
            f"A job “{row.name}” exists already.",
            "Name another, go on in it with --append, or with --resume where a run broke off.",
        )
    if row is None and resume:
        raise InputError(f"There is no job “{name}” to go on in.", "Run the recipe without --resume.")
    row = row or queries.create_job(workspace, name)
    if out:
        os.makedirs(out, exist_ok=True)
    first = (max((e.number for e in Entry.select(Entry.number).where(Entry.job == row)), default=0)) + 1
    if resume:
        course.resume(row, wanted, WHO)
    else:
        course.begin(row, wanted, WHO, inputs=inputs, out=out, search=beside[:1])
    try:
        take_steps(workspace, row, strict)
    finally:
        result.update(summary(workspace, row, first))


def _named_after(inputs: list[str], workspace: str) -> str:
    """A free name for a job that was given none."""
    if not inputs:
        raise InputError("The job needs a name.", "Give it with --job.")
    open_workspace(workspace)
    return free_name(os.path.splitext(os.path.basename(os.path.normpath(inputs[0])))[0])


def take_steps(workspace: str, row: Row, strict: bool) -> None:
    """Run the steps of the job's recipe to the end; TerrazzaError where one fails, Exit where one stops."""
    while (entry := course.advance(row)) is not None:
        number, of = (course.told(row)[k] for k in ("step", "of"))
        what = title(entry.operation)
        with Bar(f"{number}/{of} {what}") as bar:
            entry = run_entry(workspace, entry, bar)
        if entry.state != "done":
            raise TerrazzaError(
                f"Step {number}, {entry.operation}, {entry.state}: {entry.message}",
                f"{entry.hint} Then go on with --resume.".strip(),
            )
        print(
            f"{number}/{of} {what}: {entry.figures.get('says', '')} ({entry.seconds:.1f} s)", file=sys.stderr
        )
        if doubts(entry.figures) and strict:
            raise typer.Exit(3)
    standing = course.told(row)
    if standing["state"] == "stopped":
        print(
            f"terrazza: stopped after step {standing['step']}, {standing['what']}: {standing['says']}.  "
            "Look at it, then go on with --resume.",
            file=sys.stderr,
        )
        raise typer.Exit(4)
