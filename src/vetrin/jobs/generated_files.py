"""Files that a transfer itself puts into the target: its configuration where it has none, the web
server's address rules, and the file that marks a copy. Beside these, cached files go.
"""

from __future__ import annotations

import re
import tempfile
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path, PurePosixPath

from ..cms import (
    SiteConfiguration,
    configuration_text,
    php_literal,
    read_configuration,
    source_text,
    with_constants,
)
from ..config import Arrival
from ..database.engines import engine_of
from ..errors import AddressError, ConfigurationWriteError, JobError
from ..files import Entry, Move
from ..rewrite import Address, Rewriter, Tally
from ..rewrite import Mapping as Pairs
from ..site import ReadableSite, Site, password_of


@dataclass(frozen=True)
class Placed:
    """A file to write, or (``content`` None) to take away. ``why`` is for the user; ``secrets`` are those that a
    configuration gets with it."""

    path: str
    content: bytes | None = field(repr=False)
    why: str = ""
    mode: int = 0o644
    replaces: bool = False
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False, compare=False)

    @property
    def entry(self) -> Entry:
        return Entry(self.path, "file", len(self.content or b""), time.time_ns(), self.mode)

    @property
    def move(self) -> Move:
        return Move(
            self.path,
            "file" if self.replaces else None,
            None if self.content is None else "file",
        )


def parents(site: Site, paths: list[str]) -> list[Move]:
    """The folders that have to be made so that files can stand at ``paths``, outermost first."""
    wanted = {parent.as_posix() for path in paths for parent in Path(path).parents} - {"."}
    return [
        Move(path, None, "folder")
        for path in sorted(wanted, key=lambda path: path.count("/"))
        if not site.files.exists(path)
    ]


def configuration_of_copy(source: ReadableSite, target: Site, mapping: Pairs) -> Placed | None:
    """The configuration file for a target that has none; None where it has, or needs none.

    Raises:
        JobError: it cannot be made from the source's.
    """
    if target.configuration.file is not None:
        return None
    configuration = target.configuration
    values = {
        "database": configuration.database,
        "user": configuration.user,
        "password": password_of(target.environment, configuration),
        "host": configuration.host or "localhost",
        "prefix": configuration.prefix,
    }
    if engine_of(configuration.engine).in_file:
        values = {"database": configuration.database}
    return made_configuration(source, target.environment.name, values, mapping)


def made_configuration(
    source: ReadableSite, target: str, values: Mapping[str, str], mapping: Pairs
) -> Placed | None:
    """The configuration file for a copy, made from its source's, with other ``values``; None where there is none.

    Raises:
        JobError: it cannot be made.
    """
    rule = source.definition.configuration
    theirs = source.configuration.file
    if theirs is None or not rule.files:
        return None
    name = theirs.name if rule.files[0].startswith("../") or "*" in rule.files[0] else rule.files[0]
    try:
        text = Rewriter(mapping).rewrite(source_text(theirs).encode(), Tally()).decode()
        made = configuration_text(text, source.definition, values)
        read = _read_back(source, made, values, name)
    except ConfigurationWriteError as error:
        raise JobError(
            f"{target} has no {name}, and it could not be made from "
            f"{source.environment.name}'s: {error}",
            f"write {name} there by hand, then run the command again",
        ) from error
    mode = theirs.stat().st_mode & 0o777
    return Placed(
        name, made.encode(), "its configuration, with fresh secrets", mode, secrets=read.secrets
    )


def _read_back(
    source: ReadableSite, made: str, values: Mapping[str, str], name: str
) -> SiteConfiguration:
    """The text read as any configuration is. Raises ConfigurationWriteError unless it says what it shall."""
    with tempfile.TemporaryDirectory(prefix="vetrin-") as folder:
        path = Path(folder, name)
        path.parent.mkdir(parents=True, exist_ok=True)
        path.touch(mode=0o600)
        path.write_text(made, encoding="utf-8")
        try:
            read = read_configuration(Path(folder), source.definition, environ={})
        except ValueError as error:
            raise ConfigurationWriteError(str(error).replace(folder, "")) from error
    for key, wanted in values.items():
        if key in source.definition.configuration.values and getattr(read, key, wanted) != wanted:
            raise ConfigurationWriteError(f"its {key} would not be read as it was meant")
    return read


def wrong_addresses(target: Site) -> list[str]:
    """Addresses that the target's configuration fixes and that are not its own."""
    found = []
    for text in target.configuration.addresses:
        try:
            address = Address.parse(text)
        except AddressError:
            continue
        if not target.environment.address.covers(address):
            found.append(text)
    return found


def corrected_configuration(target: Site) -> Placed | None:
    """The target's configuration with its own address in place of others.

    Raises:
        JobError: it is of a kind that cannot be written.
    """
    names = target.definition.configuration.values.get("addresses", ())
    path = target.configuration.file
    if path is None or not wrong_addresses(target):
        return None
    try:
        inside = PurePosixPath(str(path)).relative_to(str(target.root)).as_posix()
    except ValueError:
        raise JobError(
            f"{path} lies outside of the root of {target.environment.name}",
            "correct its addresses by hand",
        ) from None
    text = source_text(path)
    wanted = {
        name: str(target.environment.address)
        for name in ([names] if isinstance(names, str) else names)
        if re.search(rf"\b{re.escape(name)}\b", text)
    }
    try:
        made = with_constants(text, target.definition, wanted)
    except ConfigurationWriteError as error:
        raise JobError(f"{path}: {error}", "correct its addresses by hand") from error
    mode = path.stat().st_mode & 0o777
    return Placed(
        path=inside,
        content=made.encode(),
        why="its own address in its configuration",
        mode=mode,
        replaces=True,
    )


def address_rules(source: ReadableSite, target: ReadableSite, mapping: Pairs) -> Placed | None:
    """The web server's file with the rules for page addresses, for the target's folder."""
    rule = source.definition.address_rules
    if rule is None:
        return None
    base = f"{target.environment.address.path}/"
    own = target.files.exists(rule.file)
    if own:
        text = _content(target, rule.file)
        why = "its address rules for its own folder"
    elif source.files.exists(rule.file):
        text = Rewriter(mapping).rewrite(_content(source, rule.file), Tally())
        why = f"address rules, as {source.environment.name} has them"
    else:
        return None
    made = with_base(text, rule.lines, base)
    if own and made == text:
        return None
    return Placed(path=rule.file, content=made, why=why, mode=0o644, replaces=own)


def with_base(text: bytes, lines: tuple[str, ...], base: str) -> bytes:
    """``text`` with the folder ``base`` in the lines that name the site's folder."""
    for line in lines:
        before, _, behind = line.partition("{base}")
        words = r"[ \t]+".join(map(re.escape, before.split()))
        tail = r"[ \t]+".join(map(re.escape, behind.split(" "))) if behind else ""
        # Relative paths are right in any folder; only those from the root name it.
        pattern = re.compile(
            rf"(?m)^([ \t]*{words}[ \t]+)/(?:[^\s/]+/)*({tail})(?=[ \t]*\r?$)".encode()
        )
        text = pattern.sub(lambda m: m[1] + base.encode() + m[2], text)
    return text


def _content(site: ReadableSite, path: str) -> bytes:
    return b"".join(site.files.read(path))


def copy_file(target: ReadableSite, arrival: Arrival) -> Placed | None:
    """The file that marks a copy, turns its mail off and closes it, or its removal."""
    rule = target.definition.copy
    if rule is None or rule.file is None:
        return None
    there = target.files.exists(rule.file)
    live = target.environment.role == "production"
    marker, closed = bool(arrival.marker), bool(arrival.closed)
    mail = arrival.mail is not False
    if live or not (marker or closed or not mail):
        if not there:
            return None
        return Placed(
            path=rule.file, content=None, why="the mark of a copy goes", mode=0o644, replaces=True
        )
    name = arrival.marker if isinstance(arrival.marker, str) else target.environment.name
    values = {"name": php_literal(name), **{
        key: "true" if value else "false"
        for key, value in (("marker", marker), ("mail", mail), ("closed", closed))
    }}  # fmt: skip
    text = re.sub(r"\{\{(\w+)\}\}", lambda match: values[match[1]], rule.text)
    content = text.encode()
    if there and _content(target, rule.file) == content:
        return None
    what = [word for word, on in (
        ("marked as a copy", marker), ("mail off", not mail), ("closed to visitors", closed)) if on]  # fmt: skip
    return Placed(path=rule.file, content=content, why=", ".join(what), mode=0o644, replaces=there)


def cached_files(target: Site) -> Iterator[Move]:
    """The moves that take cached files away, folders last."""
    folders = [f for f in target.definition.arrival.cache_folders if target.files.exists(f)]
    entries = sorted(
        target.files.scan(folders).values(), key=lambda e: (-e.path.count("/"), e.path)
    )
    for entry in entries:
        if entry.kind != "folder":
            yield Move(entry.path, "file", None)
    for entry in entries:
        if entry.kind == "folder" and entry.path not in folders:
            yield Move(entry.path, "folder", None)
