"""A site's configuration that is made to keep whoever reads it busy, or to break them."""

from __future__ import annotations

import zlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from vetrin.cms.php_source import PhpFileError, read_values
from vetrin.cms.python_source import read_settings
from vetrin.remote.helper_protocol import ERROR, JSON, PACKED, ExchangeError, Frames, frame

HEAD = "<?php define('DB_NAME', 'railway');\n"
PHP = {
    "a text that doubles": "$a='x';" + "$a=$a.$a;" * 60,
    "a text that doubles within": "$a='x';" + '$a="$a$a";' * 60,
    "nested": "$a=" + "(" * 100_000 + ";",
    "nots": "$a=" + "!" * 100_000 + "1;",
    "a chain": "$a=" + "null ?? " * 100_000 + "1;",
    "calls": "$a=" + "f(" * 100_000 + ";",
    "a number": "$a=" + "9" * 100_000 + ";",
    "far up": "$a=dirname('/a/b', 999999999999);",
    "no letter": '$a="\\u{110000}\\u{d800}";',
    "texts that do not end": "<<<A\n" * 100_000,
    "large": "#" * (9 << 20),
}
# What is odd about these is left out; the rest is read.
READ = ("a text that doubles", "a text that doubles within", "a number", "far up", "no letter")


@pytest.mark.parametrize("name", PHP)
def test_php_that_would_never_end(name: str, tmp_path: Path) -> None:
    path = tmp_path / "wp-config.php"
    path.write_text(HEAD + PHP[name])
    if name in READ:
        found = read_values(path, {})
        assert found.values["DB_NAME"] == "railway"
        assert len(str(found.values.get("$a", ""))) <= 1 << 20
    else:
        with pytest.raises(PhpFileError):
            read_values(path, {})


PYTHON = {
    "a text that doubles": "a = 'x'\n" + "a = a + a\n" * 60,
    "a text that doubles within": "a = 'x'\n" + "a = f'{a}{a}'\n" * 60,
    "a path that doubles": "a = 'x'\n" + "a = os.path.join(a, a)\n" * 60,
    "odd calls": "a = Path()\nb = os.getenv()\nc = os.path.dirname()\nd = {[1]: 2}\ne = {}\ne[[1]] = 2\ne['e'] = e\n",
    "nested": "a = " + "[" * 100_000,
    "sums": "a = " + "1 + " * 50_000 + "1",
    "holds itself": "a = {}\nb = {'a': a}\na['b'] = b\n",
    "large": "#" * (9 << 20),
}


@pytest.mark.parametrize("name", PYTHON)
def test_python_that_would_never_end(name: str, tmp_path: Path) -> None:
    path = tmp_path / "settings.py"
    path.write_text("NAME = 'railway'\n" + PYTHON[name])
    try:
        found = read_settings(path, {})
    except PhpFileError:
        assert name in ("nested", "sums", "holds itself", "large")
    else:
        assert found.values["NAME"] == "railway"
        assert all(len(str(value)) <= 1 << 20 for value in found.values.values())


class Answer:
    """A channel whose other side has said something already."""

    def __init__(self, said: bytes) -> None:
        self.said = said

    def take_into(self, into: memoryview) -> int:
        part, self.said = self.said[: len(into)], self.said[len(into) :]
        into[: len(part)] = part
        return len(part)

    def sendall(self, data: bytes) -> None:
        """It does not listen."""


@pytest.mark.parametrize(
    "said",
    [frame(PACKED, zlib.compress(bytes(200 << 20), 1)), frame(PACKED, b"none"), frame(JSON, b"{"), frame(JSON, b"[" * 100_000),
     frame(JSON, b"[]") + frame(4), frame(ERROR, b"[]"), frame(ERROR, b'{"path": 1}'), frame(9), b"HTTP/1.1 200 OK", b""],
)  # fmt: skip
def test_a_helper_that_answers_what_it_likes(said: bytes) -> None:
    with pytest.raises(ExchangeError):
        Frames(Answer(said)).ask("look")


@given(st.binary(max_size=200))
def test_a_helper_that_answers_anything(said: bytes) -> None:
    try:
        found = Frames(Answer(said)).ask("look")
    except ExchangeError:
        return
    assert isinstance(found, dict)
