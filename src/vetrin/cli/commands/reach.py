"""vetrin reach"""

from __future__ import annotations

import argparse
import os

from msgspec import Struct
from msgspec.structs import asdict

from ...cms import read_version
from ...config import Environment, Project
from ...errors import DatabaseError, DatabaseUnreachable, ExitStatus, ReachError
from ...remote import Hosts
from ...site import (
    Site,
    configuration_of,
    is_empty,
    open_database,
    open_site,
    remote_host_of,
    root_of,
)
from ..common import project_of
from ..console import Out, lead, number, plural, size


class Proof(Struct, frozen=True):
    """One thing that was tried. ``remedy`` is set where it failed."""

    part: str
    good: bool
    says: str
    remedy: str = ""


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("environment", metavar="ENV", help="the environment to try")
    parser.epilog = """examples:
  vetrin reach production
  vetrin reach staging --json"""


def run(args: argparse.Namespace, out: Out) -> int:
    project = project_of(args)
    environment = project.environment(args.environment)
    proofs = [*_host(out.hosts, environment)]
    empty = False
    if all(proof.good for proof in proofs):
        empty = environment.access == "read-write" and is_empty(
            root_of(out.hosts, environment), project.definition
        )
        look = _still_empty if empty else _inside
        proofs += look(out.hosts, project, environment)
    proofs.append(_address(environment, empty=empty))
    out.document(
        "reach",
        {"environment": environment.name, "good": all(p.good for p in proofs),
         "proofs": [asdict(proof) for proof in proofs]},
    )  # fmt: skip
    lines = lead(f"{environment.name} ({environment.role}, {environment.access}), ", "bold")
    lines.append(f"on {environment.host}\n" if environment.host else "on this machine\n")
    for proof in proofs:
        lines.append(" ✓ " if proof.good else " ✗ ", style="good" if proof.good else "bad")
        lines.append(f"{proof.part:<14}", style="bold").append(f"{proof.says}\n")
        if proof.remedy:
            lines.append(f"   → {proof.remedy}\n")
    lines.rstrip()
    out.show(lines)
    return ExitStatus.DONE if all(proof.good for proof in proofs) else ExitStatus.FAILED


def _host(hosts: Hosts, environment: Environment) -> list[Proof]:
    """The connection to another machine, and which way its files are got at, and why."""
    if environment.host is None:
        return []
    try:
        remote_host = remote_host_of(hosts, environment)
    except ReachError as error:
        return [Proof("host", False, error.reason, error.remedy)]
    assert remote_host is not None
    measured = remote_host.measured()
    says = f"{remote_host.account}, {measured.latency * 1000:.1f} ms away"
    if measured.rate:
        says += f", about {size(int(measured.rate))}/s; "
        says += "what shrinks is compressed" if measured.compresses else "nothing is compressed"
    if measured.limit:
        says += f"; limited to {size(measured.limit)}/s"
    found = [Proof(part, True, text) for part, text in remote_host.findings]
    return [
        Proof("host", True, says),
        Proof("way", True, f"files {remote_host.file_way}"),
        *found,
    ]


def _still_empty(hosts: Hosts, project: Project, environment: Environment) -> list[Proof]:
    """An environment that a transfer is still to fill: whether its database can be got at."""
    root = root_of(hosts, environment)
    proofs = [Proof("files", True, f"{root} is empty; a transfer fills it")]
    sources = [one for one in project.environments.values() if one.name != environment.name]
    live = next((one for one in sources if one.role == "production"), next(iter(sources), None))
    if live is None:
        return [
            *proofs,
            Proof("source", False, "no other environment could fill it", "vetrin add names one"),
        ]
    try:
        like = configuration_of(hosts, project, live)
        configuration = configuration_of(hosts, project, environment, like)
        database = open_database(
            hosts, environment, configuration, read_only=True, may_be_missing=True
        )
    except ReachError as error:
        remedy = (
            error.remedy or f"write its database into [environment.{environment.name}.database]"
        )
        return [*proofs, Proof("configuration", False, str(error), remedy)]
    except DatabaseError as error:
        remedy = error.remedy or f"correct [environment.{environment.name}.database]"
        return [*proofs, Proof("database", False, str(error), remedy)]
    try:
        facts = database.facts()
        says = f"{facts.product} {facts.version}, {facts.where}"
        held = (
            "is still to be made, which the account may"
            if database.missing
            else (f"has {plural(len(database.tables()), 'table')}")
        )
        return [*proofs, Proof("database", True, f"{says}; {configuration.database} {held}")]
    finally:
        database.close()


def _inside(hosts: Hosts, project: Project, environment: Environment) -> list[Proof]:
    proofs: list[Proof] = []
    try:
        configuration = configuration_of(hosts, project, environment)
    except ReachError as error:
        part = "files" if error.part == "files" else "configuration"
        return [Proof(part, False, error.reason, error.remedy or "correct it there")]
    root = root_of(hosts, environment)
    version = read_version(root, project.definition) or "of unknown version"
    proofs.append(Proof("files", True, f"{root}: {project.definition.title} {version}"))
    writable = environment.host is not None or os.access(environment.root, os.W_OK)
    if environment.access == "read-write" and not writable:
        proofs.append(
            Proof("writing", False, f"this account may not write to {root}",
                  "let it, or run as the account that owns the files")
        )  # fmt: skip
    if configuration.file is not None:
        says = f"{configuration.file.name}: database {configuration.database}"
        if configuration.user:
            says += f", user {configuration.user}, prefix {configuration.prefix!r}"
        proofs.append(Proof("configuration", True, says))
    try:
        with open_site(hosts, project, environment) as site:
            proofs += _database(site)
            if site.remote_host is not None and (way := site.remote_host.ways.get("database")):
                proofs.append(Proof("way", True, f"database at {way}"))
            proofs.append(
                Proof("free space", True, f"{size(site.files.room('').free)} beside the site")
            )
    except DatabaseUnreachable as error:
        proofs.append(Proof("database", False, str(error), error.remedy))
    except DatabaseError as error:
        proofs.append(Proof("database", False, str(error), "look into the server's error log"))
    return proofs


def _database(site: Site) -> list[Proof]:
    facts = site.database.facts()
    says = f"{facts.product} {facts.version}, {facts.where}, {facts.charset}"
    if "account" in facts.details:
        says += f", as {facts.details['account']}"
    proofs = [Proof("database", True, says)]
    if facts.max_statement is not None:
        way = "LOAD DATA LOCAL" if facts.bulk_load else "INSERT (LOAD DATA LOCAL is forbidden)"
        proofs.append(
            Proof("limits", True, f"packets of {size(facts.max_statement)}; rows go in by {way}")
        )
    if not site.tables:
        proofs.append(
            Proof("tables", False, f"none begin with {site.prefix!r}",
                  "check the prefix, or pull into it: an empty database is no obstacle")
        )  # fmt: skip
    else:
        rows = sum(table.rows for table in site.tables)
        proofs.append(
            Proof("tables", True, f"{plural(len(site.tables), 'table')}, about {number(rows)} rows")
        )
    return proofs


def _address(environment: Environment, *, empty: bool) -> Proof:
    # Loaded only where a page is asked for.
    from ...inspect.web_access import client_for
    from ...inspect.web_check import wrong_with
    from ...inspect.web_page import fetch

    url = f"{environment.address}/"
    with client_for(environment) as client:
        page = fetch(client, url, environment.address)
    if empty and not page.status:
        return Proof("address", True, f"{url}: nothing answers, as nothing is there yet")
    problem, remedy = wrong_with(page, environment, ())
    if problem and (page.problem or page.status in (401, 407) or page.status >= 500):
        if page.leads_to:
            remedy = f"if that is its address, write it in [environment.{environment.name}]"
        return Proof("address", False, f"{url}: {problem}", remedy)
    return Proof("address", True, f"{url} answers {page.status}, {size(len(page.body))}")
