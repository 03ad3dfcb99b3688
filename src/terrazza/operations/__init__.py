"""Operations: importing this package enters them all into the table."""

from terrazza.operations import (
    around,
    bending,
    classify,
    clean,
    colorize,
    deliver,
    draw,
    georeference,
    importing,
    judging,
    lists,
    photos,
    register,
    report,
    table,
    targets,
    walks,
)  # noqa: F401
