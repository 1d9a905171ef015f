"""What the commands share that look into archives and dumps."""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import replace

from ..archive.download import fetch, joined, keep_stream, shown
from ..archive.intake import Given, take_in
from ..config import Project
from ..database.mysql.charsets import Between, between
from ..errors import NeedsPassphrase, ProjectError, Unclear, UsageError
from ..site import ReadableSite
from ..store import FolderBackend, Manifest, Store, open_snapshot
from .console import Out, size

ARCHIVE_VARIABLE = "VETRIN_ARCHIVE_PASSPHRASE"


def add_given(parser: argparse.ArgumentParser) -> None:
    """The options that say which of several things in an archive is meant."""
    group = parser.add_argument_group("where an archive or dump holds several, or does not say it")
    group.add_argument("--database", metavar="NAME", default="", help="the database in the dump")
    group.add_argument("--prefix", metavar="TEXT", help="the table prefix of the site")
    group.add_argument("--folder", metavar="PATH", help="the site's root inside the archive")
    group.add_argument("--address", metavar="URL", default="", help="the address that the site had")
    group.add_argument(
        "--passphrase", action="store_true",
        help=f"the archive has one (asked for, or from {ARCHIVE_VARIABLE})",
    )  # fmt: skip


def given_of(args: argparse.Namespace, out: Out) -> Given:
    return Given(
        database=args.database, prefix=args.prefix, folder=args.folder,
        password=passphrase_of(out) if args.passphrase else os.environ.get(ARCHIVE_VARIABLE), address=args.address,
    )  # fmt: skip


def passphrase_of(out: Out, why: str = "--passphrase", *, new: bool = False) -> str:
    """The passphrase of an archive, or for a ``new`` one. Raises ProjectError where nobody says it."""
    found = os.environ.get(ARCHIVE_VARIABLE)
    if found:
        return found
    if not out.at_terminal or out.json:
        raise ProjectError(f"{why}: set {ARCHIVE_VARIABLE}; nobody is there to be asked")
    return out.secret("Passphrase of the archive", twice=new)


def is_file(text: str, project: Project) -> bool:
    """True for what names a file or a web address rather than an environment."""
    if text in project.environments:
        return False
    return text == "-" or "://" in text or "/" in text or "." in text or Path(text).is_file()


@contextlib.contextmanager
def looked_into(
    args: argparse.Namespace, out: Out, project: Project, names: list[str]
) -> Iterator[tuple[ReadableSite, Manifest]]:
    """Archives and dumps as a site that can be looked at; nothing of them stays."""
    with tempfile.TemporaryDirectory(prefix="vetrin-") as folder:
        store = Store(FolderBackend(Path(folder, "store")))
        manifest = brought(args, out, project, names, store, Path(folder, "incoming"))
        with open_snapshot(store, manifest, project.definition) as site:
            yield site, manifest


def brought(
    args: argparse.Namespace,
    out: Out,
    project: Project,
    names: list[str],
    store: Store,
    folder: Path,
    conversions: Between = between,
) -> Manifest:
    """Take archives and dumps into a store; ``conversions`` as for ``take_in``.

    Where one of several has to be named, a person is asked; the answer is put among the words of the command.

    Raises:
        UsageError: one of several has to be named.
        BadArchive, DatabaseError: they cannot be taken in.
    """
    paths: list[Path] = []
    came = 0

    def tell(what: str, length: int) -> None:
        nonlocal came
        came += length

    for name in names:
        if name == "-":
            paths.append(keep_stream(sys.stdin.buffer, folder))
        elif "://" in name:
            if not name.startswith(("https://", "http://")):
                raise ProjectError(f"{shown(name)}: only https:// and http:// addresses are loaded")
            out.say(f"loading {shown(name)} …")
            paths.append(fetch(name, folder, tell))
        else:
            paths.append(Path(name))
    files = joined(paths, folder)
    out.say(f"reading {', '.join(path.name for path in files)} …")
    given = given_of(args, out)
    while True:
        came = 0
        try:
            manifest = take_in(files, store, project.definition, given, tell, conversions)
        except Unclear as error:
            given = _cleared(error, given, args, out)
            continue
        except NeedsPassphrase as error:
            given = replace(given, password=passphrase_of(out, str(error)))
            continue
        out.say(f"{size(came)} were read")
        return manifest


def _cleared(error: Unclear, given: Given, args: argparse.Namespace, out: Out) -> Given:
    """The same with what a person chose. Raises UsageError where nobody does."""
    option = f"--{error.kind}"
    chosen = None if args.yes else out.choose(f"{error.what}:", error.choices)
    if chosen is None:
        raise UsageError(f"{error}; name one with {option}")
    args.words = [*args.words, f"{option}={chosen}"]
    return replace(given, **{error.kind: chosen})
