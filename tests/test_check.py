"""Pages as a visitor gets them, against a small server that misbehaves on request."""

from __future__ import annotations

import base64
import ssl
import subprocess
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import httpx
import pytest
from msgspec.structs import replace

from test_command_line import document
from vetrin.config import Environment, WebAccess
from vetrin.demo.sample import Sample
from vetrin.inspect.strays import StrayScanner
from vetrin.inspect.web_access import client_for
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


class Guarded(BaseHTTPRequestHandler):
    """A web server that asks for a name and a password; ``heard`` are the credentials that came."""

    heard: ClassVar[list[str]] = []

    def do_GET(self) -> None:
        told = self.headers.get("authorization", "")
        self.heard.append(told)
        if self.path == "/away":
            self.send_response(200)
        elif told != "Basic " + base64.b64encode(b"guard:whistle").decode():
            self.send_response(401)
            self.send_header("www-authenticate", 'Basic realm="Harrowmere"')
        else:
            self.send_response(200)
        self.send_header("content-type", "text/html; charset=utf-8")
        self.end_headers()
        self.wfile.write(b"<title>Harrowmere</title>")

    def log_message(self, format: str, *args: object) -> None:
        pass


def own_authority(folder: Path) -> tuple[Path, Path]:
    """A certificate for 127.0.0.1 that no system trusts, and its key."""
    certificate, key = folder / "own.pem", folder / "own.key"
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", str(key), "-out", str(certificate),
         "-days", "2", "-subj", "/CN=Harrowmere", "-addext", "subjectAltName=IP:127.0.0.1"],
        check=True, capture_output=True,
    )  # fmt: skip
    return certificate, key


def test_pages_that_not_everybody_may_see(sample: Sample, tmp_path: Path) -> None:
    certificate, key = own_authority(tmp_path)
    server = ThreadingHTTPServer(("127.0.0.1", 0), Guarded)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    server.socket = context.wrap_socket(server.socket, server_side=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    file = sample.folder / "vetrin.toml"
    plain = file.read_text().replace(
        sample.address("staging"), f"https://127.0.0.1:{server.server_port}"
    )

    def proof(text: str, code: int, **environ: str) -> dict[str, str]:
        file.write_text(plain + text)
        found = document(sample.folder, "reach", "staging", code=code, **environ)["proofs"]
        return next(item for item in found if item["part"] == "address")

    trusted = f'\n[environment.staging.web]\ncertificate = "{certificate}"\n'
    known = trusted + 'user = "guard"\n'
    try:
        bad = proof("", 1)
        assert (
            "CERTIFICATE_VERIFY_FAILED" in bad["says"]
            and "[environment.staging.web]" in bad["remedy"]
        )
        bad = proof(trusted, 1)
        assert "asks for a name and a password" in bad["says"]
        assert "VETRIN_STAGING_WEB_PASSWORD" in bad["remedy"]
        bad = proof(known, 1)
        assert (
            "asks for the password of" in bad["says"]
            and "VETRIN_STAGING_WEB_PASSWORD" in bad["remedy"]
        )
        bad = proof(known, 1, VETRIN_STAGING_WEB_PASSWORD="no-word")
        assert "refuses the name and password" in bad["says"]
        assert "no-word" not in str(bad)
        assert "answers 200" in proof(known, 0, VETRIN_STAGING_WEB_PASSWORD="whistle")["says"]
        # All pages of a check stand behind one door; it is said once.
        file.write_text(plain + trusted)
        found = document(sample.folder, "check", "staging", code=4)["findings"]
        assert [item["code"] for item in found if item["where"].startswith("https://")] == ["home"]
    finally:
        server.shutdown()
        server.server_close()


def test_a_password_is_told_to_its_own_addresses_alone(
    address: Address, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("VETRIN_STAGING_WEB_PASSWORD", "whistle")
    server = ThreadingHTTPServer(("127.0.0.1", 0), Guarded)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    mine = replace(environment("staging", str(address), "/srv"), web=WebAccess("guard"))
    Guarded.heard.clear()
    try:
        with client_for(mine) as client:
            client.get(f"http://127.0.0.1:{server.server_port}/away")
        assert Guarded.heard == [""]
        with client_for(
            replace(mine, address=Address.parse(f"http://127.0.0.1:{server.server_port}"))
        ) as client:
            assert client.get(f"http://127.0.0.1:{server.server_port}/").status_code == 200
    finally:
        server.shutdown()
        server.server_close()


def test_names_below_localhost_are_found(address: Address) -> None:
    named = Address("http", "harrowmere.localhost", address.port)
    with client_for(environment("local", str(named), "/srv")) as client:
        assert fetch(client, f"{named}/page", named).status == 200
