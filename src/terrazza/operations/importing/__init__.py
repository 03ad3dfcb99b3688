"""Step 1, Import: files, walks and photos come in."""
