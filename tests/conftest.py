from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from systems import Mariadb, mariadb


@pytest.fixture(scope="session")
def database_server() -> Iterator[Mariadb]:
    folder = Path(tempfile.mkdtemp(prefix="vt-", dir="/tmp"))
    try:
        with mariadb(folder) as server:
            yield server
    finally:
        shutil.rmtree(folder, ignore_errors=True)
