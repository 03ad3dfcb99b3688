"""A helper process must not outlive the one that asked for it."""

import ctypes
import os
import signal

PR_SET_PDEATHSIG = 1


def die_with_parent() -> None:
    """Ask Linux to end this process when its parent ends, however that ends."""
    parent = os.getppid()
    try:
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    except (OSError, AttributeError):
        return
    if os.getppid() != parent:
        os.kill(os.getpid(), signal.SIGKILL)
