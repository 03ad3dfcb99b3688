"""The demo job: the lemon terraces of Settegradini, built by the simulated instruments."""
