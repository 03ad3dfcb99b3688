"""The command line: one module a command, gathered here."""

import sys

import typer

from terrazza.cli import do, jobs, operations, run, serve
from terrazza.errors import Cancelled, TerrazzaError

app = typer.Typer(no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False, help="Terrazza: from raw laser scans to signed survey deliverables.")
for module in (run, do, operations, jobs, serve):
    module.register(app)


def main() -> None:
    """Entry point: errors made for people end in one sentence on standard error and exit status 2."""
    try:
        app()
    except Cancelled:
        sys.exit(130)
    except TerrazzaError as error:
        print(f"terrazza: {error}", file=sys.stderr)
        sys.exit(2)


if __name__ == "__main__":
    main()
