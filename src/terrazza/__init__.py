"""Terrazza: from raw laser scans to signed survey deliverables.

Work is spread over processes: linear algebra runs on one thread in each, so that threads do not wait for each
other and results are the same whatever the number of cores.
"""

import os

__version__ = "0.1.0"

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
