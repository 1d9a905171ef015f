"""Loading an archive from the web: a real server that does what servers do."""

from __future__ import annotations

import random
import threading
from collections.abc import Iterator
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from vetrin.archive.download import fetch
from vetrin.errors import BadArchive

CONTENT = random.Random(7).randbytes(200_000)


@dataclass
class Web:
    """A server of one file. ``cuts`` are how many bytes of each answer come before the line breaks; ``codes`` what
    it answers first; ``tag`` tells its editions apart."""

    address: str = ""
    content: bytes = CONTENT
    tag: dict[str, str] = field(default_factory=lambda: {"ETag": '"one"'})
    cuts: list[int] = field(default_factory=list)
    codes: list[int] = field(default_factory=list)
    ranges: bool = True
    shift: int = 0
    asked: list[tuple[str, str]] = field(default_factory=list)


@pytest.fixture
def web() -> Iterator[Web]:
    web = Web()

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            wanted, known = self.headers.get("Range", ""), self.headers.get("If-Range", "")
            web.asked.append((wanted, known))
            if web.codes:
                self.send_error(web.codes.pop(0))
                return
            start = int(wanted[6:-1]) if wanted and web.ranges and known in web.tag.values() else 0
            if start and start == len(web.content):
                self.send_error(416)
                return
            body = web.content[start + web.shift * bool(start) :]
            self.send_response(206 if start else 200)
            for name, value in web.tag.items():
                self.send_header(name, value)
            if start:
                at = start + web.shift
                self.send_header(
                    "Content-Range", f"bytes {at}-{len(web.content) - 1}/{len(web.content)}"
                )
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body[: web.cuts.pop(0)] if web.cuts else body)

        def log_message(self, *values: object) -> None:
            pass

    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        web.address = f"http://127.0.0.1:{server.server_port}/a%20b/site.zip?signature=whistle"
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        yield web
        server.shutdown()
        thread.join()


def loaded(web: Web, folder: Path) -> tuple[bytes, list[float]]:
    pauses: list[float] = []
    path = fetch(web.address, folder, wait=pauses.append)
    assert path.name == "site.zip" and not path.with_name("site.zip.part").exists()
    return path.read_bytes(), pauses


def test_a_line_that_breaks_is_gone_on_with(web: Web, tmp_path: Path) -> None:
    web.cuts = [10_000] * 12
    content, pauses = loaded(web, tmp_path)
    assert content == CONTENT
    # As each attempt brings something, the pauses do not grow, and there is no end of them.
    assert pauses == [0.5] * 12
    assert [wanted for wanted, _ in web.asked[1:3]] == ["bytes=10000-", "bytes=20000-"]
    assert {known for _, known in web.asked[1:]} == {'"one"'}


def test_a_later_command_goes_on(web: Web, tmp_path: Path) -> None:
    web.cuts = [50_000] + [0] * 9
    with pytest.raises(BadArchive, match="goes on where it ended") as caught:
        loaded(web, tmp_path)
    assert "whistle" not in str(caught.value)
    web.cuts = []
    web.asked.clear()
    assert loaded(web, tmp_path) == (CONTENT, [])
    assert web.asked == [("bytes=50000-", '"one"')]
    # A later one begins anew: the file may have changed since.
    assert loaded(web, tmp_path)[0] == CONTENT and web.asked[-1] == ("", "")


@pytest.mark.parametrize("tag", [{"ETag": 'W/"weak"'}, {}])
def test_what_is_not_surely_the_same_begins_anew(
    web: Web, tmp_path: Path, tag: dict[str, str]
) -> None:
    web.tag, web.cuts = tag, [50_000]
    assert loaded(web, tmp_path)[0] == CONTENT
    assert web.asked == [("", ""), ("", "")]


def test_the_time_of_the_last_change_does_for_a_tag(web: Web, tmp_path: Path) -> None:
    moment = "Mon, 23 Nov 2026 08:00:00 GMT"
    web.tag, web.cuts = {"ETag": 'W/"weak"', "Last-Modified": moment}, [50_000]
    assert loaded(web, tmp_path)[0] == CONTENT and web.asked[1] == ("bytes=50000-", moment)


def test_a_file_that_changed_meanwhile_is_that_one(web: Web, tmp_path: Path) -> None:
    web.cuts = [50_000] + [0] * 9
    with pytest.raises(BadArchive):
        loaded(web, tmp_path)
    web.cuts, web.tag, web.content = [], {"ETag": '"two"'}, CONTENT[::-1]
    assert loaded(web, tmp_path)[0] == CONTENT[::-1]


@pytest.mark.parametrize(("ranges", "shift"), [(False, 0), (True, 100)])
def test_a_server_that_does_not_go_on_as_it_should(
    web: Web, tmp_path: Path, ranges: bool, shift: int
) -> None:
    web.ranges, web.shift, web.cuts = ranges, shift, [50_000]
    assert loaded(web, tmp_path)[0] == CONTENT


def test_all_of_it_had_come(web: Web, tmp_path: Path) -> None:
    """The line broke behind the last byte."""
    (place,) = [fetch(web.address, tmp_path).parent]
    (place / "site.zip").rename(place / "site.zip.part")
    (place / "site.zip.etag").write_text('"one"')
    assert loaded(web, tmp_path)[0] == CONTENT


def test_a_busy_server_is_waited_for_and_a_refusal_is_not(web: Web, tmp_path: Path) -> None:
    web.codes = [503, 429, 502]
    assert loaded(web, tmp_path) == (CONTENT, [0.5, 1, 2])
    web.codes = [503] * 9
    with pytest.raises(BadArchive, match="the server answers 503"):
        loaded(web, tmp_path)
    for code in (403, 404, 410, 500):
        web.codes = [code]
        web.asked.clear()
        with pytest.raises(BadArchive, match=f"the server answers {code}") as caught:
            loaded(web, tmp_path)
        assert len(web.asked) == 1 and "whistle" not in str(caught.value)


@pytest.mark.parametrize("address", ["https://[::1/site.zip", "https:///site.zip"])
def test_what_is_no_address_is_not_tried_twice(tmp_path: Path, address: str) -> None:
    with pytest.raises(BadArchive):
        fetch(address, tmp_path, wait=lambda pause: pytest.fail("it was tried again"))
