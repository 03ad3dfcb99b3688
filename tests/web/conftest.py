"""The application on a job, without a browser."""

import pytest
from fastapi.testclient import TestClient

from terrazza.settings import settings

STEPS = ["import", "register", "georeference", "clean", "colorize", "classify", "draw", "deliver"]


def client_on(workspace, monkeypatch):
    monkeypatch.setenv("TERRAZZA_WORKSPACE", workspace)
    settings.cache_clear()
    from terrazza.web.app import create

    return TestClient(create(), base_url="http://127.0.0.1", raise_server_exceptions=False)


@pytest.fixture
def client(copied, monkeypatch):
    return client_on(copied, monkeypatch)


@pytest.fixture
def empty(workspace, monkeypatch):
    return client_on(workspace, monkeypatch)
