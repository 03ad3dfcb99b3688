"""Step 6, Classify: ground and heights."""
