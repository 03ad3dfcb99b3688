"""Step 5, Colorize: colours from photos."""
