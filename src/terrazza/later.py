"""Modules that take long to import, imported when first used: so that a server answers and a command starts
at once.
"""

from importlib import import_module
from types import ModuleType
from typing import Any

_put_off: list[str] = []


class Later(ModuleType):
    """Stands for a module until one of its names is asked for."""

    def __getattr__(self, name: str) -> Any:
        return getattr(import_module(self.__name__), name)


def later(name: str) -> Any:
    """The module ``name``, not imported yet."""
    _put_off.append(name)
    return Later(name)


def load_all() -> None:
    """Import everything that was put off: for processes that wait for work anyway."""
    for name in _put_off:
        import_module(name)
