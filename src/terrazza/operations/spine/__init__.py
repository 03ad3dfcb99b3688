"""The spine: what an operation is, the job it works on, field book, recipe, notation and health."""
