"""Fishplate's web server: renders pages and pictures from a site's database and files.

Run as ``python -m vetrin.demo.server ROOT PORT``.
"""

from __future__ import annotations

import html
import json
import mimetypes
import re
import sqlite3
import sys
import tomllib
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import unquote, urlsplit

_STYLE = (
    "body{font:17px/1.5 Georgia,serif;margin:0 auto;max-width:46em;padding:1em 2em;color:#2b2622}"
    "header{border-bottom:4px solid #842a2e;margin-bottom:1em}h1 a{color:#842a2e;text-decoration:none}"
    "nav a{margin-right:1.2em;color:#26543e}img{max-width:100%;border-radius:6px}"
    "table{border-collapse:collapse}td,th{padding:.2em 1em .2em 0;text-align:left}"
    "section{border-top:1px solid #d8cfc4;margin-top:1.5em}footer{color:#857a6e;font-size:85%}"
)
_STRIP = (
    "margin:-1em -2em 1em;padding:.4em;background:#7a3b00;color:#fff;text-align:center;"
    "font:600 13px sans-serif"
)
_LINK = re.compile(r's:\d+:"(https?://[^"]+)"')
_TITLE = re.compile(r's:5:"title";s:\d+:"([^"]*)"')


class Site:
    """One copy of the site, read anew for each request."""

    def __init__(self, root: Path) -> None:
        self.root = root
        settings = tomllib.loads((root / "fishplate.toml").read_text(encoding="utf-8"))
        self.database = root / settings["database"]["file"]

    def rows(self, sql: str, *values: object) -> list[sqlite3.Row]:
        connection = sqlite3.connect(f"{self.database.as_uri()}?mode=ro", uri=True, timeout=10)
        try:
            connection.row_factory = sqlite3.Row
            return connection.execute(sql, values).fetchall()
        finally:
            connection.close()

    def setting(self, name: str) -> str:
        rows = self.rows("SELECT value FROM settings WHERE name = ?", name)
        return str(rows[0]["value"]) if rows else ""

    def strip(self) -> str:
        """What a copy says at the top of each page."""
        name = self.setting("banner")
        if not name:
            return ""
        where = html.escape(f"{name} · {self.setting('address')} · a copy, not the live site")
        return f'<p style="{_STRIP}">{where}</p>'

    def theme(self) -> tuple[str, str]:
        """The theme's style and footer; an error in it breaks every page."""
        folder = self.root / "themes/maroon"
        data = tomllib.loads((folder / "theme.toml").read_text(encoding="utf-8"))
        return (folder / "style.css").read_text(encoding="utf-8"), str(data["footer"])

    def page(self, title: str, body: str) -> str:
        style, footer = self.theme()
        generated = ""
        if (self.root / "media/generated/site.css").is_file():
            generated = (
                f'<link rel="stylesheet" href="{self.setting("address")}/media/generated/site.css">'
            )
        menu = self.setting("menu")
        links = "".join(
            f'<a href="{html.escape(link)}">{html.escape(name)}</a>'
            for name, link in zip(_TITLE.findall(menu), _LINK.findall(menu), strict=False)
        )
        site = html.escape(self.setting("title"))
        return (
            f"<!doctype html><html lang=en><meta charset=utf-8><title>{html.escape(title)} – {site}</title>"
            f'<style>{_STYLE}{style}</style>{generated}{self._robots()}{self.strip()}<header><h1><a href="{self.setting("address")}/">{site}</a></h1>'
            f"<nav>{links}</nav></header><main>{body}</main>"
            f"<footer>{html.escape(footer)} · {html.escape(self.setting('e-mail'))}</footer></html>"
        )

    def _robots(self) -> str:
        hidden = self.setting("hidden_from_search") == "yes"
        return '<meta name="robots" content="noindex">' if hidden else ""

    def home(self) -> str:
        blocks = json.loads(self.setting("home_blocks") or "{}")
        hero = blocks.get("hero", {})
        address = self.setting("address")
        news = self.rows(
            "SELECT slug, title, changed FROM entries WHERE state = 'public' AND kind = 'news'"
            " ORDER BY changed DESC LIMIT 6"
        )
        events = self.rows("SELECT title, date FROM next_events LIMIT 5")
        body = f'<a href="{hero.get("href", "/")}"><img src="{hero.get("image", "")}" alt=""></a>'
        body += (
            "<section><h2>News</h2><ul>"
            + "".join(
                f'<li><a href="{address}/{row["slug"]}">{html.escape(row["title"])}</a> '
                f"<small>{row['changed'][:10]}</small></li>"
                for row in news
            )
            + "</ul></section><section><h2>Coming up</h2><table>"
            + "".join(
                f"<tr><td>{row['date']}</td><td>{html.escape(row['title'])}</td></tr>"
                for row in events
            )
        )
        return self.page("Home", body + "</table></section>")

    def entry(self, row: sqlite3.Row) -> str:
        body = f"<h2>{html.escape(row['title'])}</h2>{row['body']}"
        if row["slug"] == "timetable":
            body += self._table(
                "SELECT train, station, departs FROM timetable WHERE season = 'summer'"
                " AND train < 4 ORDER BY train, departs"
            )
        elif row["slug"] == "fares":
            body += self._table(
                "SELECT origin, destination, pence FROM fares WHERE kind = 'adult' ORDER BY 1, 2"
            )
        comments = self.rows(
            "SELECT author, body FROM comments WHERE entry_id = ? AND state = 'approved' LIMIT 20",
            row["id"],
        )
        if comments:
            body += (
                "<section><h3>Comments</h3>"
                + "".join(
                    f"<p><b>{html.escape(c['author'])}</b>: {html.escape(c['body'])}</p>"
                    for c in comments
                )
                + "</section>"
            )
        return self.page(row["title"], body)

    def _table(self, sql: str) -> str:
        return (
            "<table>"
            + "".join(
                "<tr>" + "".join(f"<td>{html.escape(str(cell))}</td>" for cell in row) + "</tr>"
                for row in self.rows(sql)
            )
            + "</table>"
        )


class Handler(BaseHTTPRequestHandler):
    """Answers GET and HEAD."""

    site: Site
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        path = unquote(urlsplit(self.path).path)
        if (self.site.root / "closed-for-work").exists():
            self._send(503, "text/plain; charset=utf-8", b"Closed for a moment of work.")
            return
        try:
            self._answer(path)
        except sqlite3.Error as error:
            self._send(500, "text/plain; charset=utf-8", f"database error: {error}".encode())
        except (OSError, tomllib.TOMLDecodeError, KeyError) as error:
            self._send(500, "text/plain; charset=utf-8", f"theme error: {error}".encode())

    do_HEAD = do_GET

    def _answer(self, path: str) -> None:
        site = self.site
        if path.startswith("/media/"):
            self._file(path)
        elif site.setting("closed") == "yes" and path != "/sign-in":
            self._send(302, "text/plain", b"", f"{site.setting('address')}/sign-in")
        elif path == "/":
            self._page(site.home())
        elif path == "/sign-in":
            form = '<form id="sign-in-form" method="post"><input name="who"><input name="word" type="password"></form>'
            self._page(site.page("Sign in", form))
        elif path.startswith("/entry/"):
            rows = site.rows("SELECT slug FROM entries WHERE id = ? AND state = 'public'", path[7:])
            if rows:
                self._send(302, "text/plain", b"", f"{site.setting('address')}/{rows[0]['slug']}")
            else:
                self._missing()
        else:
            rows = site.rows(
                "SELECT * FROM entries WHERE slug = ? AND state = 'public'", path.strip("/")
            )
            if rows:
                self._page(site.entry(rows[0]))
            else:
                self._missing()

    def _file(self, path: str) -> None:
        media = (self.site.root / "media").resolve()
        file = (self.site.root / path.lstrip("/")).resolve()
        if not file.is_relative_to(media) or not file.is_file():
            self._missing()
            return
        kind = mimetypes.guess_type(file.name)[0] or "application/octet-stream"
        self._send(200, kind, file.read_bytes())

    def _missing(self) -> None:
        self._send(
            404,
            "text/html; charset=utf-8",
            self.site.page("Not found", "<h2>Not found</h2>").encode(),
        )

    def _page(self, text: str) -> None:
        self._send(200, "text/html; charset=utf-8", text.encode())

    def _send(self, status: int, kind: str, body: bytes, location: str = "") -> None:
        self.send_response(status)
        self.send_header("content-type", kind)
        self.send_header("content-length", str(len(body)))
        if location:
            self.send_header("location", location)
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def log_message(self, format: str, *args: object) -> None:
        """Say nothing: the demo's output belongs to its steps."""


def serve(root: Path, port: int) -> None:
    """Serve the site at ``root`` on the loopback address until the process is ended."""
    handler = type("SiteHandler", (Handler,), {"site": Site(root)})
    with ThreadingHTTPServer(("127.0.0.1", port), handler) as server:
        server.daemon_threads = True
        server.serve_forever()


if __name__ == "__main__":
    serve(Path(sys.argv[1]).resolve(), int(sys.argv[2]))
