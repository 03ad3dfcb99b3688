"""Pieces that many operations use: surfaces, neighbours, thinning, selection, reading, bringing in."""
