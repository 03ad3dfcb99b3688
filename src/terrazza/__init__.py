"""Terrazza: from raw laser scans to signed survey deliverables."""

__version__ = "0.1.0"
