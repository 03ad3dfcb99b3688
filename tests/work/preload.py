"""What the forkserver of the crash tests imports once."""

import terrazza.operations  # noqa: F401
from terrazza.later import load_all

load_all()
