"""Operations: importing this package enters them all into the table."""

from terrazza.operations import around, classify, clean, colorize, deliver, draw, georeference, importing, judging, lists, photos, register, report, table, walks  # noqa: F401
