"""Step 2, Register: bring all scans into one frame, automatically or by hand."""
