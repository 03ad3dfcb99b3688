"""Imports that are put off: written as imports, done at the first use, and in one module only."""

import builtins
import sys
import threading

import pytest

from terrazza.later import Later, later


def test_modules_named_in_a_block_are_imported_at_their_first_use():
    for name in ("wave", "xml.sax.saxutils"):
        sys.modules.pop(name, None)
    with later():
        import wave
        from xml.sax import saxutils as written
    assert isinstance(wave, Later) and not {"wave", "xml.sax.saxutils"} & set(sys.modules)
    assert written.escape("<") == "&lt;" and "xml.sax.saxutils" in sys.modules and "wave" not in sys.modules


def test_others_import_as_ever_meanwhile():
    """Other modules and other threads, while a block is open; a second block waits for the first."""
    before, got = builtins.__import__, []
    thread = threading.Thread(target=lambda: got.append(exec("with later(): import chunk", {"later": later})))
    with later():
        exec("import colorsys; got.append(colorsys)", {"got": got})
        thread.start()
        thread.join(0.2)
        assert thread.is_alive() and not isinstance(got[0], Later)
    thread.join(5)
    assert not thread.is_alive() and builtins.__import__ is before


def test_a_dotted_import_is_refused():
    with pytest.raises(ImportError, match="from … import …"), later():
        import xml.dom.minidom  # noqa: F401
    import textwrap

    assert not isinstance(textwrap, Later)
