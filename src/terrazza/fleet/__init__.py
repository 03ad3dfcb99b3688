"""Mapping pieces of work over the cores of one machine, or over a cluster (``cluster``, imported only when
asked for).

``Local.map`` runs a module-level function on pieces in spawned processes (never
forked: a child forked after a compiled parallel region dies), reports summed
progress, passes cancel on, and returns results in the order of the pieces.
"""

from terrazza.fleet.local import Local, few, inline

__all__ = ["Local", "few", "inline"]
