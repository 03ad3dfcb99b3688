"""Step 7, Draw: lines from slabs."""
