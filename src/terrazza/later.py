"""Modules that take long to import, imported when first used: so that a server answers and a command starts
at once.  They are written as ordinary imports, which editors and checkers see through:

    with later():
        from scipy import spatial
        from terrazza.core.register import cloud_fit

What is named in such a block is a module.
"""

import builtins
import sys
from collections.abc import Sequence
from importlib import import_module
from threading import Lock
from types import ModuleType
from typing import Any

_put_off: list[str] = []
_one_at_a_time = Lock()


class Later(ModuleType):
    """Stands for a module until one of its names is asked for."""

    def __getattr__(self, name: str) -> Any:
        return getattr(import_module(self.__name__), name)


class _Package:
    """Stands for a package from which modules are named."""

    def __init__(self, name: str):
        self._name = name

    def __getattr__(self, module: str) -> Later:
        return _noted(f"{self._name}.{module}")


class later:
    """A block of imports at the top of a module that are put off; imports of other modules and other threads
    meanwhile are not.
    """

    def __enter__(self) -> None:
        _one_at_a_time.acquire()
        self._of = sys._getframe(1).f_globals  # pyright: ignore[reportPrivateUsage]
        self._import = builtins.__import__
        builtins.__import__ = self._noted

    def __exit__(self, *why: object) -> None:
        builtins.__import__ = self._import
        _one_at_a_time.release()

    def _noted(
        self,
        name: str,
        globals: Any = None,
        locals: Any = None,
        fromlist: Sequence[str] | None = (),
        level: int = 0,
    ) -> Any:
        if globals is not self._of:
            return self._import(name, globals, locals, fromlist or (), level)
        if level or ("." in name and not fromlist):
            raise ImportError(f"write “from … import …” for what is imported later, not “{name}”")
        return _Package(name) if fromlist else _noted(name)


def _noted(name: str) -> Later:
    _put_off.append(name)
    return Later(name)


def load_all() -> None:
    """Import everything that was put off: for processes that wait for work anyway."""
    for name in _put_off:
        import_module(name)
