"""One page as a visitor gets it: fetched, its redirects followed within the site, taken apart."""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from html.parser import HTMLParser
from typing import TYPE_CHECKING
from urllib.parse import urljoin

from ..errors import AddressError
from ..rewrite import Address

if TYPE_CHECKING:
    import httpx

_MOST_REDIRECTS = 5
_BIGGEST = 32 << 20  # bytes of a page
LONGEST = 60.0  # seconds that a page may take to come


@dataclass
class Page:
    """What came back. ``status`` is 0 where nothing did; ``problem`` says why."""

    url: str
    status: int = 0
    kind: str = ""
    body: bytes = b""
    problem: str = ""
    leads_to: str = ""

    @property
    def is_html(self) -> bool:
        return "html" in self.kind


@dataclass
class Parsed:
    """What is looked at of a page: its title, and the addresses of its pictures and links."""

    title: str = ""
    pictures: list[str] = field(default_factory=list)
    links: list[str] = field(default_factory=list)


class _Reader(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.result = Parsed()
        self._in_title = False

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        values = {name: value or "" for name, value in attrs}
        if tag == "title" and not self.result.title:
            self._in_title = True
        elif tag == "img" and values.get("src"):
            self.result.pictures.append(values["src"])
        elif tag == "a" and values.get("href"):
            self.result.links.append(values["href"])

    def handle_endtag(self, tag: str) -> None:
        if tag == "title":
            self._in_title = False

    def handle_data(self, data: str) -> None:
        if self._in_title:
            self.result.title += data


def parse_page(page: Page) -> Parsed:
    """Title, pictures and links of an HTML page, addresses made absolute."""
    reader = _Reader()
    reader.feed(page.body.decode("utf-8", "replace"))
    found = reader.result
    found.title = " ".join(found.title.split())
    found.pictures = list(_joined(page.url, found.pictures))
    found.links = list(_joined(page.url, found.links))
    return found


def _joined(base: str, addresses: Iterable[str]) -> Iterator[str]:
    """Addresses made absolute; what is none is passed over, as by a browser."""
    for address in addresses:
        with contextlib.suppress(ValueError):
            yield urljoin(base, address)


def belongs(url: str, address: Address) -> bool:
    """True if a URL lies at or below an environment's address."""
    try:
        return address.covers(Address.parse(url.partition("?")[0].partition("#")[0]))
    except AddressError:
        return False


def fetch(client: httpx.Client, url: str, address: Address) -> Page:
    """Get ``url``, following redirects as long as they stay at ``address``; of a page that has no end, its
    beginning."""
    import httpx  # loaded with the client

    page = Page(url)
    try:
        for _ in range(_MOST_REDIRECTS):
            with client.stream("GET", page.url) as answer:
                page.status = answer.status_code
                target = answer.headers.get("location")
                if not answer.is_redirect or target is None:
                    page.kind = answer.headers.get("content-type", "")
                    page.body = _body(answer)
                    return page
            target = urljoin(page.url, target)
            if not belongs(target, address):
                page.leads_to = target
                page.problem = f"redirects to {target}"
                return page
            page.url = target
        page.problem = "redirects in a circle"
    except httpx.ConnectError as error:
        said = re.sub(r"^\[Errno -?\d+\] ", "", str(error))
        page.problem = f"no connection: {said[:1].lower()}{said[1:]}"
    except httpx.TimeoutException:
        page.problem = "no answer in time"
    except (httpx.HTTPError, httpx.InvalidURL, ValueError) as error:
        page.problem = str(error) or type(error).__name__
    return page


def _body(answer: httpx.Response) -> bytes:
    """What a page consists of, unpacked; no more than anybody would look at, nor for longer than one would wait."""
    found = bytearray()
    until = time.monotonic() + LONGEST
    for block in answer.iter_bytes():
        found += block
        if len(found) > _BIGGEST or time.monotonic() > until:
            break
    return bytes(found[:_BIGGEST])
