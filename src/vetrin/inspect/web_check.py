"""Checking an environment as a visitor: pages, pictures, log-in, and where they lead."""

from __future__ import annotations

import html
import os
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import quote

from msgspec import Struct
from msgspec.structs import asdict

from ..config import Environment, web_refusal
from ..database import WantedRows
from ..errors import DatabaseError
from ..site import Site
from ..site.summary import counts_of
from .strays import Mender, StrayScanner
from .web_access import client_for
from .web_page import Page, belongs, fetch, parse_page

_PAGES = 6
_PICTURES = 8


class Finding(Struct, frozen=True):
    """Something that is not as it should be, where, and what to do about it. ``code`` is, for programs, what kind of
    thing it is: that of ``Looked``, or leads-elsewhere, or references."""

    what: str
    where: str
    remedy: str = ""
    code: str = "home"


@dataclass
class Looked:
    """One thing that was looked at. ``kind`` is home, page, picture, log-in, title, count or data."""

    kind: Literal["home", "page", "picture", "log-in", "title", "count", "data"]
    what: str
    result: str
    good: bool


@dataclass
class CheckReport:
    """The pages of an environment that were looked at, and what is wrong with them."""

    environment: str
    looked: list[Looked] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    def as_json(self) -> dict[str, Any]:
        return {
            "environment": self.environment,
            "looked": [vars(item) for item in self.looked],
            "findings": [asdict(item) for item in self.findings],
        }


class Expectation(Struct, frozen=True):
    """What came with the last transfer: its source, and that one's counts at the time."""

    source: str
    counts: Mapping[str, int]


class Home(Struct, frozen=True):
    """How an environment's home page answers.

    ``state`` is fine, broken (a server error, a blank page, the CMS's own report of a failure) or
    silent (no answer at all).
    """

    url: str
    state: Literal["fine", "broken", "silent"]
    says: str


def look_at_home(site: Site) -> Home:
    """Get the home page as a visitor would."""
    address = site.environment.address
    with client_for(site.environment) as client:
        page = fetch(client, f"{address}/", address)
    if page.problem and not page.leads_to:
        return Home(page.url, "silent", page.problem)
    if page.status >= 500:
        return Home(page.url, "broken", f"answers {page.status}")
    if not page.leads_to and page.status < 400 and not page.body.strip():
        return Home(page.url, "broken", "is blank")
    for mark in site.definition.check.broken:
        if mark.encode() in page.body:
            return Home(page.url, "broken", f"shows {mark!r}")
    return Home(page.url, "fine", f"answers {page.status}")


class Check:
    """One check of one open environment.

    ``others`` are the environments that no page may lead to; ``source``, where it is open, is
    asked for the titles of the same entries.
    """

    def __init__(
        self,
        site: Site,
        others: Sequence[Environment],
        expected: Expectation | None = None,
        source: Site | None = None,
        *,
        data: bool = True,
    ) -> None:
        """Without ``data``, only what visitors see is looked at."""
        self._site = site
        self._all = data
        self._address = site.environment.address
        self._strays = StrayScanner(site.environment, others)
        self._others = others
        self._expected = expected
        self._source = source
        self._report = CheckReport(site.environment.name)
        self._answers = True  # whether there is anything to look at

    def run(self) -> CheckReport:
        """Look at everything.

        Raises:
            DatabaseError: the environment's database could not be read.
        """
        with client_for(self._site.environment) as client:
            self._client = client
            pictures = self._pages()
            if self._answers:
                self._pictures(pictures)
                self._log_in()
        if self._all:
            self._counts()
            self._data()
        self._report.findings = folded(self._report.findings)
        return self._report

    def _add(self, kind: Any, what: str, result: str, problem: str = "", remedy: str = "") -> None:
        self._report.looked.append(Looked(kind, what, result, not problem))
        if problem:
            self._report.findings.append(Finding(problem, what, remedy, kind))

    def _pages(self) -> list[str]:
        """Home page and a sample of entries; the pictures they show, in order."""
        base = str(self._address)
        pictures: dict[str, None] = {}
        home = self._page("home", base + "/", None, pictures)
        # What keeps from the home page keeps from all others; it is said once.
        self._answers = bool(home.status) and home.status not in (401, 407)
        closed = self._is_closed(home)
        if closed:
            self._add("home", base + "/", "closed to visitors: the log-in comes instead of pages")
        rule = self._site.definition.entries
        if rule is None or not self._site.has_table(rule.table):
            return list(pictures)
        table = self._site.prefix + rule.table
        where = self._site.condition(rule.where)
        names = [rule.id, rule.title]
        select = self._site.database.select
        rows = select(
            table,
            names,
            where=where,
            order=(rule.changed, rule.id),
            descending=True,
            limit=_PAGES - 2,
        )
        oldest = select(table, names, where=where, order=(rule.changed, rule.id), limit=2)
        rows += [row for row in oldest if row not in rows]
        theirs = self._their_titles([row[0] for row in rows])
        for identifier, title in rows:
            link = base + rule.link.format(id=identifier)
            if not closed and self._answers:
                self._page("page", link, str(title), pictures)
            if theirs is not None and theirs.get(str(identifier), title) != title:
                self._add(
                    "title", link, "differs",
                    f"its title is {title!r}, at {self._expected_source} {theirs[str(identifier)]!r}",
                )  # fmt: skip
        if theirs is not None:
            there = sum(str(row[0]) in theirs for row in rows)
            self._add("title", f"{there} titles", f"compared with {self._expected_source}")
        return list(pictures)

    def _is_closed(self, home: Page) -> bool:
        """True for a copy whose home page leads visitors to its log-in; then that is all to see."""
        login = self._site.definition.check.login
        return login is not None and home.url.partition("?")[0] == f"{self._address}{login}"

    @property
    def _expected_source(self) -> str:
        return self._expected.source if self._expected else ""

    def _their_titles(self, identifiers: list[Any]) -> dict[str, str] | None:
        rule = self._site.definition.entries
        if self._source is None or rule is None or not identifiers:
            return None
        try:
            rows = self._source.database.select(
                self._source.prefix + rule.table,
                [rule.id, rule.title],
                where={rule.id: identifiers},
            )
        except DatabaseError:
            return None
        return {str(row[0]): str(row[1]) for row in rows}

    def _page(self, kind: str, url: str, title: str | None, pictures: dict[str, None]) -> Page:
        page = fetch(self._client, url, self._address)
        problem, remedy = wrong_with(page, self._site.environment, self._others)
        shown = (
            f"{page.status} {page.kind.partition(';')[0]}".strip() if page.status else "no answer"
        )
        if problem or not page.is_html:
            self._add(
                kind, url, shown or "nothing", problem or f"is no page but {page.kind}", remedy
            )
            return page
        parsed = parse_page(page)
        if not page.body.strip():
            problem = "is blank"
        elif (
            title
            and _plain(title) not in _plain(parsed.title)
            and _plain(title) not in _plain(page.body.decode("utf-8", "replace"))
        ):
            problem = f"does not show its title {title!r}"
        self._add(kind, url, f"{shown}, “{parsed.title}”", problem)
        for picture in parsed.pictures:
            pictures.setdefault(picture)
        strays = Counter((stray.environment, stray.text) for stray in self._strays.find(page.body))
        for (environment, text), count in strays.items():
            self._report.findings.append(
                Finding(
                    f"leads to {environment}, {count}×: {text}", page.url, code="leads-elsewhere"
                )
            )
            self._report.looked[-1].good = False
        return page

    def _pictures(self, found: list[str]) -> None:
        own = [url for url in found if belongs(url, self._address)]
        for folder in self._site.definition.parts.get("media", ()):
            for path, entry in self._site.files.scan([folder]).items():
                if entry.kind == "file" and path.lower().endswith(
                    (".png", ".jpg", ".webp", ".svg")
                ):
                    own.append(f"{self._address}/{quote(os.fsencode(path))}")
                if len(own) >= _PICTURES * 2:
                    break
        for url in list(dict.fromkeys(own))[:_PICTURES]:
            page = fetch(self._client, url, self._address)
            problem, remedy = wrong_with(page, self._site.environment, self._others)
            if not problem and not page.kind.startswith("image/"):
                problem = f"is no picture but {page.kind or 'nothing'}"
            self._add("picture", url, f"{page.status} {page.kind}".strip(), problem, remedy)

    def _log_in(self) -> None:
        rule = self._site.definition.check
        if rule.login is None:
            return
        url = f"{self._address}{rule.login}"
        page = fetch(self._client, url, self._address)
        problem, remedy = wrong_with(page, self._site.environment, self._others)
        if not problem and rule.login_mark and rule.login_mark.encode() not in page.body:
            problem = "shows no log-in form"
        self._add("log-in", url, f"{page.status} {page.kind.partition(';')[0]}", problem, remedy)

    def _counts(self) -> None:
        if self._expected is None:
            return
        here = counts_of(self._site)
        for name, count in self._expected.counts.items():
            found = here.get(name)
            if found is None:
                continue
            problem = (
                ""
                if found == count
                else f"{found} {name} here, {count} came from {self._expected.source}"
            )
            self._add("count", name, str(found), problem)

    def _data(self) -> None:
        """References to other environments that a transfer should have rewritten. What nothing would mend was
        left on purpose, and is no finding."""
        total = left = 0
        name = self._site.environment.name
        mender = Mender(self._site.environment, self._others)
        with self._site.database.reading() as reader:
            reader.expect([WantedRows(table) for table in self._site.tables])
            for table in self._site.tables:
                wanted = self._site.rewritable(table)
                found: Counter[tuple[str, str, str]] = Counter()
                for batch in reader.rows(table):
                    for index in wanted:
                        values = list(filter(None, batch.texts(index)))
                        if not self._strays.may_find(b"\0".join(values)):
                            continue
                        for value in values:
                            strays = self._strays.find(value)
                            mends = mender.mends(value) if strays else ""
                            left += bool(strays) and not mends
                            for stray in strays if mends else ():
                                found[table.columns[index].name, stray.environment, mends] += 1
                for (column, environment, by), count in found.items():
                    total += count
                    self._report.findings.append(
                        Finding(
                            f"{count} references to {environment}",
                            f"{table.name}.{column}",
                            f"vetrin heal {name}, then vetrin strays {name}"
                            if by == "heal"
                            else f"vetrin strays {name} says how to mend them",
                            "references",
                        )
                    )
        result = f"{total or 'no'} references to another environment"
        if left:
            those = "1 value" if left == 1 else f"{left} values"
            result += f", beside {those} that could not be rewritten and were left as they are"
        self._report.looked.append(
            Looked("data", f"{len(self._site.tables)} tables", result, total == 0)
        )


def folded(findings: Sequence[Finding]) -> list[Finding]:
    """The same findings, those of several pages that have one cause as one."""
    places: dict[tuple[str, str, str, str], list[str]] = {}
    for finding in findings:
        place = "" if "://" in finding.where else finding.where
        places.setdefault((finding.what, finding.remedy, finding.code, place), []).append(
            finding.where
        )
    return [
        Finding(what, where[0] + (f" and {len(where) - 1} more" if where[1:] else ""), remedy, code)
        for (what, remedy, code, _), where in places.items()
    ]


def wrong_with(
    page: Page, environment: Environment, others: Sequence[Environment]
) -> tuple[str, str]:
    """What is wrong with an answer as such, and what to do."""
    if page.leads_to:
        for other in others:
            if any(belongs(page.leads_to, address) for address in other.addresses):
                return f"redirects to {other.name}: {page.leads_to}", "look at its address settings"
        return page.problem, "look at its address settings"
    if page.status == 401:
        return web_refusal(environment.name, environment.web.user)
    if "CERTIFICATE_VERIFY_FAILED" in page.problem:
        return (
            page.problem,
            f"if an authority of your own signed it, write certificate in [environment.{environment.name}.web]",
        )
    if page.problem:
        here = environment.host is None and environment.role == "local"
        served = f"vetrin serve {environment.name} serves it; " if here else ""
        return page.problem, f"{served}check that the site's web server runs and its name resolves"
    if page.status >= 400:
        return f"answers {page.status}", "look into the site's error log"
    return "", ""


def _plain(text: str) -> str:
    """Text as it can be compared over different ways of writing quotes, dashes and entities."""
    text = html.unescape(text)
    for ornate, simple in (
        ("’", "'"),
        ("‘", "'"),
        ("“", '"'),
        ("”", '"'),
        ("–", "-"),
        ("—", "-"),
        ("…", "..."),
    ):
        text = text.replace(ornate, simple)
    return " ".join(text.split()).casefold().replace("--", "-")
