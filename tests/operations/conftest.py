"""A job that nothing has been done in."""

import pytest

from terrazza.db import queries


@pytest.fixture
def row(workspace):
    return queries.create_job(workspace, "New")
