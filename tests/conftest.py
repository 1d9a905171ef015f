from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import boto3
import pytest
from hypothesis import settings
from moto.server import ThreadedMotoServer

from connected import hosts
from line import Line, railway_line
from railway import Railway
from ssh_server import SFTP_ONLY, SHELL_LESS, SshServer, ssh_server
from systems import DatabaseServer, Mariadb, Mysql, Some, running
from vetrin.config import VARIABLE
from vetrin.demo import sample as samples
from vetrin.demo.sample import Sample, lay_out, servers
from web_host import Relayed, WebHost, lay_relay

# What takes longest begins first, so that processes that work beside one another end together.
LONG = ("faults", "relay_wordpress", "archives_wordpress", "push_wordpress", "ssh", "interrupted", "push", "command_line", "store", "wagtail", "relay",
        "baselines", "ssh_wordpress", "wordpress", "mariadb", "choices", "arrival")  # fmt: skip


# Relays that serve the same folder are of one moment, as one that is made later takes an earlier one's place.
STARTED = int(time.time())

# What a machine does beside a test says nothing of the test.
settings.register_profile("vetrin", deadline=None)
settings.load_profile("vetrin")


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption(
        "--every",
        type=int,
        default=0,
        metavar="COMMANDS",
        help="try every fault at every step, not a part of them, each with so many of the commands that can follow",
    )


@pytest.fixture
def every(request: pytest.FixtureRequest) -> int:
    return int(request.config.getoption("--every"))


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    places = {f"test_{name}.py": place for place, name in enumerate(LONG)}
    items.sort(key=lambda item: places.get(item.path.name, len(LONG)))


@pytest.fixture(scope="session", autouse=True)
def commands_of_samples() -> None:
    """Nobody is there to be asked."""
    os.environ[VARIABLE] = "run"
    # Nor has anybody defaults of their own.
    os.environ["XDG_CONFIG_HOME"] = os.devnull


@pytest.fixture(scope="session", autouse=True)
def ports_of_samples() -> None:
    """Sample projects of tests that run beside one another look for free ports in different places."""
    samples.FIRST_PORT += 400 * (1 + int(os.environ.get("PYTEST_XDIST_WORKER", "gw0")[2:]))


@contextlib.contextmanager
def own_server(make: type[Some]) -> Iterator[Some]:
    folder = Path(tempfile.mkdtemp(prefix="vt-", dir="/tmp"))
    try:
        with running(make, folder) as server:
            yield server
    finally:
        shutil.rmtree(folder, ignore_errors=True)


# The servers that files of tests on this worker share, one after the other.
SHARED: list[DatabaseServer] = []


@contextlib.contextmanager
def shared_server(make: type[Some]) -> Iterator[Some]:
    with own_server(make) as server:
        SHARED.append(server)
        yield server
        SHARED.remove(server)


@pytest.fixture(scope="session")
def mariadb_server() -> Iterator[Mariadb]:
    with shared_server(Mariadb) as server:
        yield server


@pytest.fixture(scope="session")
def mysql_server() -> Iterator[Mysql]:
    with shared_server(Mysql) as server:
        yield server


@pytest.fixture(scope="module", autouse=True)
def nothing_of_another_file() -> Iterator[None]:
    """Every file of tests finds empty servers, whichever files came to its worker before."""
    yield
    for server in SHARED:
        server.clear()


@pytest.fixture(scope="session")
def database_server(request: pytest.FixtureRequest) -> DatabaseServer:
    """MariaDB; with DATABASE=mysql, what does not ask for one of the two runs against MySQL."""
    found = request.getfixturevalue(f"{os.environ.get('DATABASE', 'mariadb')}_server")
    assert isinstance(found, DatabaseServer)
    return found


@pytest.fixture(params=["sqlite", "mariadb", "mysql"])
def line(request: pytest.FixtureRequest, tmp_path: Path) -> Line:
    engine = request.param
    server = None if engine == "sqlite" else request.getfixturevalue(f"{engine}_server")
    return railway_line(engine, tmp_path, server)


@pytest.fixture(scope="session")
def ssh() -> Iterator[SshServer]:
    with ssh_server() as server:
        yield server


@pytest.fixture(scope="session")
def sftp_alone() -> Iterator[SshServer]:
    with ssh_server(SFTP_ONLY) as server:
        yield server


@pytest.fixture(scope="session")
def shell_less() -> Iterator[SshServer]:
    with ssh_server(user=SHELL_LESS) as server:
        yield server


@pytest.fixture(scope="session")
def relay(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Relayed]:
    """A relay behind nginx and PHP-FPM with the limits of a small host, for all folders that tests make."""
    root = tmp_path_factory.mktemp("web")
    with WebHost(root) as web:
        yield lay_relay(web, root="/..", made=STARTED)


@pytest.fixture(scope="session")
def relay_by_library(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Relayed]:
    """The same on a host whose PHP may open no connections, so that its library for databases does."""
    root = tmp_path_factory.mktemp("web")
    shut = {"disable_functions": "stream_socket_client,fsockopen,pfsockopen"}
    with WebHost(root, settings=shut) as web:
        yield lay_relay(web, root="/..", made=STARTED)


@pytest.fixture(scope="session")
def object_storage() -> Iterator[dict[str, str]]:
    """A server of the S3 interface with a bucket named harrowmere; what the environment says of it."""
    server = ThreadedMotoServer("127.0.0.1", 0, verbose=False)
    server.start()
    try:
        _, port = server.get_host_and_port()
        environ = {
            "AWS_ENDPOINT_URL": f"http://127.0.0.1:{port}",
            "AWS_ACCESS_KEY_ID": "made-up",
            "AWS_SECRET_ACCESS_KEY": "made-up-word",
            "AWS_DEFAULT_REGION": "us-east-1",
        }
        client = boto3.client(
            "s3",
            endpoint_url=environ["AWS_ENDPOINT_URL"],
            aws_access_key_id="made-up",
            aws_secret_access_key="made-up-word",
            region_name="us-east-1",
        )
        client.create_bucket(Bucket="harrowmere")
        yield environ
    finally:
        server.stop()


@pytest.fixture
def open_folder() -> Iterator[Path]:
    """A folder that every account may enter and write to; connections end with it."""
    found = Path(tempfile.mkdtemp(prefix="vetrin-open-"))
    found.chmod(0o777)
    yield found
    hosts.close()
    shutil.rmtree(found)


@pytest.fixture
def railway(tmp_path: Path) -> Railway:
    return Railway(tmp_path / "railway")


@pytest.fixture
def sample(tmp_path: Path) -> Sample:
    return lay_out(tmp_path / "railway")


@pytest.fixture
def served(sample: Sample) -> Iterator[Sample]:
    with servers(sample):
        yield sample
