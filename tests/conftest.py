from __future__ import annotations

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from ssh_server import SHELL_LESS, SshServer, ssh_server
from systems import Mariadb, mariadb


@pytest.fixture(scope="session")
def database_server() -> Iterator[Mariadb]:
    folder = Path(tempfile.mkdtemp(prefix="vt-", dir="/tmp"))
    try:
        with mariadb(folder) as server:
            yield server
    finally:
        shutil.rmtree(folder, ignore_errors=True)


@pytest.fixture(scope="session")
def ssh() -> Iterator[SshServer]:
    with ssh_server() as server:
        yield server


@pytest.fixture(scope="session")
def shell_less() -> Iterator[SshServer]:
    with ssh_server(user=SHELL_LESS) as server:
        yield server
