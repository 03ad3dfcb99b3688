"""How long work says how far it is, and learns that it should stop."""

from typing import Protocol


class Progress(Protocol):
    """``advance(done, total, label)`` reports real work; it raises Cancelled when the user cancelled."""

    def advance(self, done: float, total: float, label: str = "") -> None: ...


class Quiet:
    """Reports nothing and never cancels: for tests and for callers that do not care."""

    def advance(self, done: float, total: float, label: str = "") -> None:
        return None


class Part:
    """The stretch from ``start`` to ``stop`` (shares of one) of another progress, which counts to ``total``;
    ``label`` says what goes on where the work does not.
    """

    def __init__(self, whole: Progress, start: float, stop: float, total: float = 1.0, label: str = ""):
        self.whole, self.start, self.stop, self.total, self.label = whole, start, stop, total, label

    def advance(self, done: float, total: float, label: str = "") -> None:
        share = done / total if total else 1.0
        self.whole.advance(
            (self.start + (self.stop - self.start) * share) * self.total, self.total, label or self.label
        )


QUIET = Quiet()
