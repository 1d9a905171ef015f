"""A web server that means harm, as `check` meets one."""

from __future__ import annotations

import gzip
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import httpx
import pytest

from vetrin.inspect import web_page
from vetrin.inspect.web_page import Page, fetch, parse_page
from vetrin.rewrite import Address

BOMB = gzip.compress(bytes(100 << 20), 1)


class Hostile(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        if self.path == "/round":
            self.send_response(302)
            self.send_header("Location", "http://[")
            self.end_headers()
            return
        self.send_response(200)
        self.send_header("Content-Type", "text/html")
        if self.path == "/bomb":
            self.send_header("Content-Encoding", "gzip")
            self.end_headers()
            self.wfile.write(BOMB)
            return
        self.end_headers()
        try:
            while True:
                self.wfile.write(b"<p>and on")
                time.sleep(0.05)
        except OSError:
            return

    def log_message(self, *values: object) -> None:
        """Nobody wants to know."""


@pytest.fixture
def address() -> Iterator[Address]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), Hostile)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield Address.parse(f"http://127.0.0.1:{server.server_port}")
    server.shutdown()


def got(address: Address, path: str) -> Page:
    with httpx.Client(timeout=5) as client:
        return fetch(client, f"{address}{path}", address)


def test_a_page_that_unpacks_to_more_than_a_page(address: Address) -> None:
    assert len(got(address, "/bomb").body) == 32 << 20


def test_a_page_without_an_end(address: Address, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(web_page, "LONGEST", 0.5)
    begun = time.monotonic()
    assert got(address, "/endless").body.startswith(b"<p>and on")
    assert time.monotonic() - begun < 4


def test_addresses_that_are_none(address: Address) -> None:
    assert "IPv6" in got(address, "/round").problem
    assert got(address, "/\x1b[2J").problem
    html = b'<img src="http://["><a href="http://[x">y</a><img src="good.png">'
    assert parse_page(Page(f"{address}/", 200, "text/html", html)).pictures == [
        f"{address}/good.png"
    ]
