"""One settings object, filled from environment variables ``TERRAZZA_*``."""

import os
from functools import lru_cache
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict


class Settings(BaseSettings):
    """``TERRAZZA_WORKSPACE``, ``_HOST``, ``_PORT``, ``_CLUSTER``, ``_MEMORY`` (bytes), ``_FOLDERS``."""

    model_config = SettingsConfigDict(env_prefix="TERRAZZA_")

    workspace: Path = Field(
        Path("workspace"), description="Folder that holds the database and one folder a job."
    )
    host: str = Field(
        "127.0.0.1", description="Address the server listens on; only loopback is allowed without accounts."
    )
    port: int = Field(8321, ge=1, le=65535, description="Port the server listens on.")
    cluster: str = Field(
        "",
        description="Address of a Dask scheduler, tcp://host:port, whose workers see the workspace; empty: "
        "this machine alone.",
    )
    memory: int = Field(
        2_000_000_000, ge=200_000_000, description="Memory that chunked work may use, in bytes."
    )
    folders: str = Field(
        "",
        description="Folders on this computer whose files may be imported from the page without copying, "
        f"parted by “{os.pathsep}”; empty: none.",
    )

    def allowed_folders(self) -> list[Path]:
        return [Path(p).expanduser().resolve() for p in self.folders.split(os.pathsep) if p]


@lru_cache
def settings() -> Settings:
    """The settings of this process."""
    return Settings()
