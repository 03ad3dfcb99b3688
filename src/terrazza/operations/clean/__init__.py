"""Step 4, Clean: take points out; every cut comes back in any order."""
