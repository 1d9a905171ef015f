"""Pages as a visitor gets them, against a small server that misbehaves on request."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import httpx
import pytest

from vetrin.config import Environment
from vetrin.inspect.strays import StrayScanner
from vetrin.inspect.web_page import Page, belongs, fetch, parse_page
from vetrin.rewrite import Address


class Misbehaving(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        where = {"/circle": "/circle", "/away": "http://elsewhere.test/x", "/once": "/page"}.get(
            self.path
        )
        if where:
            self.send_response(302)
            self.send_header("location", where)
            self.send_header("content-length", "0")
            self.end_headers()
            return
        self.send_response(500 if self.path == "/error" else 200)
        self.send_header("content-type", "text/html; charset=utf-8")
        self.end_headers()
        self.wfile.write(
            b"<title>A &amp;\n B</title><svg><title>no</title></svg><img src='/a.png'><img src=b.png>"
            b"<a href='//other.test/'>x</a>"
        )

    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture(scope="module")
def address() -> Iterator[Address]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Misbehaving)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield Address.parse(f"http://127.0.0.1:{server.server_port}")
    server.shutdown()
    server.server_close()


def get(address: Address, path: str) -> Page:
    with httpx.Client(timeout=5) as client:
        return fetch(client, f"{address}{path}", address)


def test_redirects_are_followed_within_the_site_only(address: Address) -> None:
    assert get(address, "/once").status == 200
    assert get(address, "/once").url == f"{address}/page"
    assert get(address, "/circle").problem == "redirects in a circle"
    away = get(address, "/away")
    assert (away.leads_to, away.problem) == (
        "http://elsewhere.test/x",
        "redirects to http://elsewhere.test/x",
    )
    assert get(address, "/error").status == 500
    nowhere = Address.parse("http://127.0.0.1:1")
    assert get(nowhere, "/").problem.startswith("no connection")


def test_a_page_is_taken_apart(address: Address) -> None:
    found = parse_page(get(address, "/page"))
    assert found.title == "A & B"
    assert found.pictures == [f"{address}/a.png", f"{address}/b.png"]
    assert found.links == ["http://other.test/"]


@pytest.mark.parametrize(
    ("url", "expected"),
    [
        ("http://x.test/railway", True), ("http://x.test/railway/a?b#c", True), ("https://x.test/railway/", True),
        ("http://x.test/railways", False), ("http://x.test/", False), ("http://x.test:8080/railway", False),
        ("mailto:desk@x.test", False), ("/railway", False),
    ],
)  # fmt: skip
def test_what_belongs_to_an_address(url: str, expected: bool) -> None:
    assert belongs(url, Address.parse("http://x.test/railway")) is expected


def environment(name: str, address: str, root: str, *also: str) -> Environment:
    return Environment(name, Address.parse(address), Path(root), tuple(map(Address.parse, also)))


def test_strays_are_told_from_what_is_ones_own() -> None:
    live = environment("production", "https://x.example", "/srv/www", "https://old.example")
    copy = environment("staging", "https://x.example/try", "/srv/www/try")
    scanner = StrayScanner(copy, [live])
    own = b"https://x.example/try/a /srv/www/try/b //x.example/try desk@x.example https://y.example"
    assert scanner.find(own) == []
    found = scanner.find(b'see https:\\/\\/x.example\\/a, "/srv/www/a" and https://old.example')
    assert [(s.environment, s.form, s.target) for s in found] == [
        ("production", "json", "https://x.example"), ("production", "path", "/srv/www"),
        ("production", "plain", "https://old.example"),
    ]  # fmt: skip
    assert all(stray.text in stray.snippet for stray in found)
    both = StrayScanner(live, [copy])
    assert [s.environment for s in both.find(own)] == ["staging"] * 3
