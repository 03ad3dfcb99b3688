"""The command line: one module a command, gathered here."""

import sys

import typer

from terrazza import __version__
from terrazza.cli import do, jobs, operations, run, serve, watch
from terrazza.errors import Cancelled, understood

app = typer.Typer(
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Terrazza: from raw laser scans to signed survey deliverables.",
)


@app.callback(invoke_without_command=True)
def root(
    context: typer.Context, version: bool = typer.Option(False, "--version", help="Say the version and stop.")
) -> None:
    if version:
        print(f"terrazza {__version__}")
        raise typer.Exit()
    if context.invoked_subcommand is None:
        print(context.get_help())
        raise typer.Exit(2)


for module in (run, watch, do, operations, jobs, serve):
    module.register(app)


def main() -> None:
    """Entry point: errors made for people end in one sentence on standard error and exit status 2."""
    try:
        app()
    except Cancelled:
        sys.exit(130)
    except Exception as error:
        known = understood(error)
        if known is None:
            raise
        print(f"terrazza: {known}", file=sys.stderr)
        sys.exit(2)


if __name__ == "__main__":
    main()
