"""Step 8, Deliver: files, lists and the report."""
