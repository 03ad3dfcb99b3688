"""How a helper process lives: no longer than the one that asked for it, and with memory that it keeps for its
next arrays.
"""

import ctypes
import os
import signal

PR_SET_PDEATHSIG = 1
M_TRIM_THRESHOLD, M_MMAP_THRESHOLD = -1, -3
KEPT = 256 * 2**20


def die_with_parent() -> None:
    """Ask Linux to end this process when its parent ends, however that ends."""
    parent = os.getppid()
    try:
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    except (OSError, AttributeError):
        return
    if os.getppid() != parent:
        os.kill(os.getpid(), signal.SIGKILL)


def keep_memory() -> None:
    """Ask the C library to keep freed arrays for the next ones, up to 256 MB; page faults are a tenth of
    import's time otherwise.
    """
    try:
        library = ctypes.CDLL(None)
        library.mallopt(M_MMAP_THRESHOLD, KEPT)
        library.mallopt(M_TRIM_THRESHOLD, KEPT)
    except (OSError, AttributeError):
        return
