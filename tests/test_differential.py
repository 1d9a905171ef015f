"""A slice of the differential test: what scripts/differential does with all files of MariaDB's own test suite."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from differential import SUITE, WAYS, outcome, statements
from systems import Mariadb, running


@pytest.fixture(scope="module")
def server() -> Iterator[Mariadb]:
    """One of its own: the suite's statements need rights that no site's account has."""
    with running(Mariadb, Path(tempfile.mkdtemp(prefix="vt-", dir="/tmp"))) as started:
        yield started


# Triggers and views of many kinds, odd types and character sets, generated columns, sequences.
SLICE = {
    "trigger": 40,
    "view": 90,
    "type_enum": 4,
    "ctype_ucs": 4,
    "custom_aggregates_i_s": 4,
}


@pytest.mark.parametrize("name", SLICE)
def test_what_the_server_s_own_dump_brings_comes_by_every_way(
    name: str, tmp_path: Path, server: Mariadb
) -> None:
    found = outcome(server, tmp_path, SUITE / f"{name}.test")
    assert found.objects >= SLICE[name]
    assert not found.failed
    known = set(found.lost["the server's own"])
    assert {way: [item for item in found.lost[way] if item not in known] for way in WAYS} == {
        way: [] for way in WAYS
    }


def test_statements_are_read_as_the_suite_s_own_program_does(tmp_path: Path) -> None:
    path = tmp_path / "x.test"
    path.write_text(
        "--disable_warnings\ndrop table if exists t1;\ncreate table t1 (a int,\n b text);\n"
        "--error 1062\ninsert into t1 values (1, 'x;y');\nlet $1=2;\ndelimiter //;\n"
        "create procedure p()\nbegin\n select 1; select 2;\nend//\ndelimiter ;//\nselect * from t1;\n"
    )
    assert list(statements(path)) == [
        "create table t1 (a int,\n b text)",
        "insert into t1 values (1, 'x;y')",
        "create procedure p()\nbegin\n select 1; select 2;\nend",
    ]
