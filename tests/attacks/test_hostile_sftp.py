"""An SFTP server that lists what cannot be, and what leads out."""

from __future__ import annotations

import asyncio
import stat
from collections.abc import AsyncIterator, Iterator
from pathlib import Path
from typing import Any

import asyncssh
import pytest
from hostile_ssh import hostile_ssh

from test_command_line import vetrin
from vetrin.demo.sample import Sample

PLANTED = b"planted by the host"
NAMES = [b"../planted", b"../../planted", b"../../../planted", b"/tmp/planted-by-a-host", b"sub/../../../planted", b".vetrin",
         b".git", b"a\0b", b"", b"..", b".", b"x/y", b"back\\..\\planted", b"C:planted"]  # fmt: skip


class Hostile(asyncssh.SFTPServer):
    """The files of a folder, and in each folder of it the names above; each is a file with something in it."""

    async def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        async for entry in super().scandir(path):
            yield entry
        for name in NAMES:
            if name not in (b"..", b".") and b"uploads" not in path and b"media" not in path:
                continue
            attrs = asyncssh.SFTPAttrs(
                size=len(PLANTED), permissions=stat.S_IFREG | 0o644, uid=0, gid=0, atime=1, mtime=1
            )
            yield asyncssh.SFTPName(name, attrs=attrs)

    def open(self, path: bytes, pflags: int, attrs: Any) -> Any:
        if b"planted" in path or path.endswith((b"x/y", b"a\0b")):
            return asyncio.sleep(0, _Content())
        return super().open(path, pflags, attrs)

    def read(self, file: Any, offset: int, size: int) -> Any:
        return (
            PLANTED[offset : offset + size]
            if isinstance(file, _Content)
            else super().read(file, offset, size)
        )

    def close(self, file: Any) -> Any:
        return None if isinstance(file, _Content) else super().close(file)


class _Content:
    pass


class Admits(asyncssh.SSHServer):
    def begin_auth(self, username: str) -> bool:
        return False


@pytest.fixture
def host(tmp_path: Path) -> Iterator[str]:
    with hostile_ssh(tmp_path / "home", Admits, sftp_factory=Hostile) as address:
        yield address


def test_nothing_is_written_where_a_listing_leads(
    sample: Sample, host: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOME", str(tmp_path / "home"))
    file = sample.folder / "vetrin.toml"
    text = file.read_text().replace(
        'root = "production"', f'root = "{sample.root("production")}"\nhost = "{host}"'
    )
    file.write_text(text)
    assert not Path("/tmp/planted-by-a-host").exists()
    before = {path for path in tmp_path.rglob("*") if ".vetrin" not in path.parts}
    done = vetrin(sample.folder, "pull", "--parts", "media,code", "--yes")
    came = {path for path in tmp_path.rglob("*") if ".vetrin" not in path.parts} - before
    root = sample.root("local")
    assert all(root in path.parents for path in came), came
    with_it = [
        path for path in tmp_path.rglob("*") if path.is_file() and path.read_bytes() == PLANTED
    ]
    assert [
        path
        for path in with_it
        if root not in path.parents or {".vetrin", ".git"} & set(path.parts)
    ] == []
    assert not Path("/tmp/planted-by-a-host").exists()
    # The honest rest came, and what did not is named.
    assert (root / "extras/live-departures/extra.toml").exists()
    assert "no path of a site's file" in " ".join(done.stdout.split())
