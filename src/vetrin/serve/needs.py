"""What a local copy needs to be served here, and whether it is there."""

from __future__ import annotations

import ipaddress
import shutil
import socket
import subprocess

from msgspec import Struct

from ..cms import Definition, value_in
from ..config import Environment
from ..site import Site, extensions_of, version_numbers

_CMS = "the site"
_LONGEST = 20  # seconds that PHP may take to say what it is


class Origin(Struct, frozen=True):
    """The environment that a copy's content came from, and what the CMS ran in there, such as "PHP 8.2.20"; empty
    where that is not known."""

    name: str
    runtime: str = ""


class Need(Struct, frozen=True):
    """One thing that was looked at. ``must``: without it nothing can be served."""

    what: str
    good: bool
    says: str
    remedy: str = ""
    must: bool = True


def needs_of(site: Site, origin: Origin | None = None) -> list[Need]:
    """Everything that serving an environment on this machine needs; ``origin`` is where its content came from."""
    environment = site.environment
    found = [*_web(environment)]
    rule = site.definition.serve
    if rule is not None and rule.front:
        found += _php(site, origin)
    found.append(_data(site))
    return found


def _web(environment: Environment) -> list[Need]:
    address = environment.address
    found = []
    if address.scheme != "http":
        found.append(
            Need("address", False, f"{address} wants a certificate, and what serves here speaks http only",
                 f"write an http:// address in [environment.{environment.name}], or let a web server with a "
                 "certificate serve it")
        )  # fmt: skip
    name, port = address.host, address.port or 80
    if leads_here(name):
        found.append(Need("name", True, f"{name} leads to this machine"))
    else:
        found.append(
            Need("name", False, f"{name} does not lead to this machine",
                 f"add the line `127.0.0.1 {name}` to the hosts file (/etc/hosts)", must=False)
        )  # fmt: skip
    problem = _port(port)
    found.append(Need("port", not problem, problem or f"{port} is free", _way_out(port, problem)))
    return found


def leads_here(name: str) -> bool:
    """Whether a host name leads to this machine's own addresses."""
    if name == "localhost" or name.endswith(".localhost"):
        return True  # browsers know that (RFC 6761)
    try:
        found = {str(item[4][0]) for item in socket.getaddrinfo(name, None)}
    except OSError:
        return False
    return all(ipaddress.ip_address(text.partition("%")[0]).is_loopback for text in found)


def _port(port: int) -> str:
    """Why nothing can listen there; empty where it can."""
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except PermissionError:
            return f"{port} is for the superuser alone"
        except OSError:
            return f"something listens on port {port} already"
    return ""


def _way_out(port: int, problem: str) -> str:
    if "superuser" in problem:
        return "give the address a port of 1024 or above, such as :8080"
    return "if that serves this copy, nothing is to be done; else give the address another port"


def _php(site: Site, origin: Origin | None) -> list[Need]:
    """PHP itself, its version and its extensions, and whether it is as where the content came from."""
    rule = site.definition.serve
    assert rule is not None
    if shutil.which("php") is None:
        return [
            Need("PHP", False, "there is none on this machine",
                 "install it; on Debian: apt install php-cli php-mysql")
        ]  # fmt: skip
    try:
        said = subprocess.run(
            ["php", "-r", 'echo PHP_VERSION, "\\n", implode("\\n", get_loaded_extensions());'],
            capture_output=True, text=True, timeout=_LONGEST, check=True,
        ).stdout.splitlines()  # fmt: skip
    except (OSError, subprocess.SubprocessError) as error:
        return [Need("PHP", False, f"it does not run: {error}", "see that `php --version` works")]
    version, there = said[0], {name.lower() for name in said[1:]}
    wanted = _versions(site.definition, site)
    least, who = max(wanted, key=lambda need: version_numbers(need[0]), default=("", ""))
    good = not least or version_numbers(version) >= version_numbers(least)
    wants = f" ({who} needs {least})" if least else ""
    found = [
        Need(
            "PHP",
            good,
            f"{version}{wants}",
            "" if good else f"install PHP {least} or later",
            must=any(
                version_numbers(version) < version_numbers(need)
                for need, who in wanted
                if who == _CMS
            ),
        )  # what an extension asks for need not keep the rest from running
    ]
    if origin is not None and origin.runtime:
        found.append(_as_there(version, origin))
    lacking = [name for name in rule.modules if name.lower() not in there]
    if lacking:
        found.append(
            Need("extensions", False, f"PHP lacks {', '.join(lacking)}",
                 "install them; on Debian: apt install " + " ".join(map(_package, lacking)))
        )  # fmt: skip
    elif rule.modules:
        found.append(Need("extensions", True, ", ".join(rule.modules)))
    return found


def _as_there(version: str, origin: Origin) -> Need:
    """Whether PHP here is that of the environment that the content came from. A copy on another one is no proof that
    something runs there."""
    there = version_numbers(origin.runtime)[:2]
    if version_numbers(version)[:2] == there:
        return Need("PHP there", True, f"{origin.name} runs {origin.runtime}")
    wanted = ".".join(map(str, there))
    return Need(
        "PHP there",
        False,
        f"{origin.name} runs {origin.runtime}, here it is {version}: what runs in one need not run in the other",
        f"install PHP {wanted} to see the site as it is there",
        must=False,
    )


def _versions(definition: Definition, site: Site) -> list[tuple[str, str]]:
    """The least versions of PHP that this release of the CMS and its active extensions say they need, and who says
    so."""
    rule = definition.serve
    found = []
    if rule is not None and len(rule.version) == 2:
        found.append((value_in(site.root, *rule.version) or "", _CMS))
    return found + [(item.needs, item.title) for item in extensions_of(site) if item.active]


def _package(module: str) -> str:
    return "php-" + {"mysqli": "mysql", "dom": "xml", "simplexml": "xml"}.get(module, module)


def _data(site: Site) -> Need:
    if site.tables:
        return Need("database", True, f"{site.configuration.database}, {len(site.tables)} tables")
    return Need("database", False, f"{site.configuration.database} has no tables",
                f"vetrin pull --to {site.environment.name} fills it", must=False)  # fmt: skip
