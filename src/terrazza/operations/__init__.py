"""Operations: importing this package enters them all into the table.

A module in a step's folder is found by being there.
"""

import importlib
import pkgutil

STEPS = (
    "importing",
    "register",
    "georeference",
    "clean",
    "colorize",
    "classify",
    "draw",
    "surface",
    "deliver",
    "table",
)

for _step in STEPS:
    _package = importlib.import_module(f"{__name__}.{_step}")
    for _module in pkgutil.iter_modules(_package.__path__, f"{_package.__name__}."):
        importlib.import_module(_module.name)
