"""vetrin init"""

from __future__ import annotations

import argparse
import contextlib
import dataclasses
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace
from rich.text import Text

from ...archive.recognise import definition_in
from ...atomic import write_whole
from ...cms import configuration_file
from ...config import (
    FILE_NAME,
    Draft,
    Environment,
    EnvironmentDraft,
    Project,
    parse_project,
    password_variable,
    project_text,
)
from ...database.engines import engine_of
from ...errors import ExitStatus, ReachError, UsageError
from ...jobs import Account
from ...site import UNKNOWN, Discovered, ReadableSite, Where, open_site
from ..archives import looked_into
from ..console import Out, lead
from ..setup import (
    CopyDatabase,
    add_account,
    add_web,
    address_of,
    draft_of,
    found_at,
    local_address,
    named_definition,
    tell,
    web_of,
    where_of,
)

_TRIES = 3


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Write a commented vetrin.toml for a site. In a folder with a site, its own configuration is read,\n"
        "without running it. With an address such as ssh://deploy@harrowmere.example, the site is looked\n"
        "for on that host, and a copy on this machine is prepared for `vetrin pull`. What cannot be found\n"
        "out is asked for, or taken from the options; each answer is tried at once."
    )
    parser.add_argument(
        "where", nargs="?", metavar="WHERE",
        help="the site: a folder (.), ssh://USER@HOST[:PORT][/FOLDER], the address of a relay's file, or an archive "
        "with its files",
    )  # fmt: skip
    parser.add_argument("--name", help="the site's name")
    parser.add_argument("--cms", help="a definition's name or file, where the files do not tell it")
    parser.add_argument(
        "--as",
        dest="called",
        metavar="ENV",
        help="what the site there is called (local; on a host production)",
    )
    parser.add_argument(
        "--address", metavar="URL", help="the web address of the copy on this machine"
    )
    parser.add_argument(
        "--address-there",
        metavar="URL",
        help="the web address of the site on the host, where it does not say it",
    )
    parser.add_argument(
        "--root",
        metavar="DIR",
        default="public",
        help="the folder of the copy on this machine (public)",
    )
    parser.add_argument(
        "--other", action="append", default=[], metavar="ENV=WHERE",
        help="a further environment, as `vetrin add` takes it; can be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--above", action="store_true",
        help="where this is the site's root, write vetrin.toml into the folder above, which no web server serves",
    )  # fmt: skip
    add_web(parser)
    add_account(parser)
    parser.epilog = """examples:
  vetrin init
  vetrin init ssh://deploy@harrowmere.example
  vetrin init ssh://deploy@harrowmere.example/srv/www/harrowmere --address http://harrowmere.test:8080 --yes
  vetrin init https://www.harrowmere.example/vetrin-relay-7c21d0f19a3be845.php
  vetrin init https://try.harrowmere.example/vetrin-relay-7c21d0f19a3be845.php --web-user guests
  vetrin init panel.zip
  vetrin init --other production=ssh://deploy@harrowmere.example/srv/www/harrowmere"""


class _Setup(Struct, frozen=True):
    """What is to be written: the file, and with an account the copy that is to be prepared."""

    path: Path
    draft: Draft
    database: CopyDatabase | None = None
    account: Account | None = None
    source: ReadableSite | None = None  # where it is open: what the copy is made of
    next: str = ""


def run(args: argparse.Namespace, out: Out) -> int:
    with contextlib.ExitStack() as stack:
        if args.where and Path(args.where).is_file():
            setup = _from_archive(args, out, Path(args.where), stack)
        else:
            folder = Path(args.project or ".").absolute()
            web = web_of(args, folder)
            where = where_of(
                args.where or args.project or ".", args.called or "production", web, folder
            )
            setup = _from_host(args, out, where, web) if where.host else _here(args, out, where)
        return _set_up(args, out, setup)


def _set_up(args: argparse.Namespace, out: Out, setup: _Setup) -> int:
    text = project_text(setup.draft)
    project = parse_project(text, setup.path.parent)
    document = {
        "file": str(setup.path), "cms": setup.draft.cms, "written": not args.dry_run,
        "environments": [
            {"name": one.name, "address": one.address, "host": one.host or one.relay or None, "root": one.root}
            for one in setup.draft.environments
        ],
        "database": setup.account.database if setup.account else None, "next": setup.next,
    }  # fmt: skip
    if args.dry_run:
        out.document("init", document)
        out.show(Text(text))
        return ExitStatus.DONE
    if setup.database is not None:
        local, *others = project.environments.values()
        local.root.mkdir(parents=True, exist_ok=True)
        if setup.account is not None:
            with contextlib.ExitStack() as stack:
                source = setup.source or stack.enter_context(
                    open_site(out.hosts, project, others[0])
                )
                written = setup.database.make(source, local, setup.account)
            if written is None:
                setup = _with_account(setup, setup.account)
                text = project_text(setup.draft)
                out.warn(f"give the password by {password_variable(local.name)} or the keyring "
                         f"(service vetrin, user {local.name})")  # fmt: skip
            else:
                out.show(lead("✓ ", "good").append(f"{written} is there, for you alone to read"))
    write_whole(setup.path, text.encode(), 0o644)
    out.document("init", document)
    out.show(lead("✓ ", "good").append(f"{setup.path} is written"))
    if setup.source is not None or setup.draft.environments[1:]:
        here = setup.draft.environments[0]
        out.show(f"  {here.name}: {here.address}, in {here.root}")
    out.show(lead("Next: ", "bold").append(setup.next, style="name"))
    return ExitStatus.DONE


def _here(args: argparse.Namespace, out: Out, where: Where) -> _Setup:
    """A project for the site in a folder of this machine."""
    folder = Path(where.folder).expanduser().absolute()
    if not folder.is_dir():
        raise UsageError(
            f"there is no folder {folder}", "a site on a host is named as ssh://USER@HOST/FOLDER"
        )
    _must_be_new(folder / FILE_NAME)
    name = args.called or "local"
    found = found_at(where, name, args.cms, out)
    if found is None:
        raise UsageError(
            f"no site of a known CMS in {folder} or two levels below it",
            "run this in the site's folder, name a host (vetrin init ssh://user@host), or a definition with --cms",
        )
    if Path(str(found.root)) == folder:
        folder = _out_of_the_web(args, out, folder)
    tell(out, found, where)
    address = address_of(
        args.address, out, "Web address of this copy", list(map(str, found.addresses))
    )
    others = [_other(text, out, folder) for text in args.other]
    if not others:
        others = _asked_other(out, folder, address)
    drafts = (draft_of(out.hosts, name, address, found, where, folder=folder), *others)
    title = args.name or found.title or out.ask("The site's name", folder.name)
    following = "vetrin status" if others else "vetrin add production ssh://USER@HOST/FOLDER"
    return _Setup(
        folder / FILE_NAME, Draft(title, _cms(args, found, folder), drafts), next=following
    )


def _from_host(args: argparse.Namespace, out: Out, where: Where, web: Mapping[str, str]) -> _Setup:
    """A project for a site on a host, with a copy here that is still to be filled."""
    folder = Path(args.project or ".").absolute()
    _must_be_new(folder / FILE_NAME)
    name = args.called or "production"
    found = found_at(where, name, args.cms, out)
    if found is None:
        raise UsageError(
            f"no site of a known CMS was found on {where.host}"
            + (f" in {where.folder}" if where.folder else ""),
            "name its folder: vetrin init ssh://USER@HOST/srv/www/site; a relay lies in the site's own, or was "
            "told of it by --site-folder",
        )
    tell(out, found, where)
    if found.configuration is None:
        raise UsageError(
            f"the configuration of the site cannot be read: {found.problem}", "correct it there"
        )
    live = str(found.addresses[0]) if found.addresses else ""
    if args.address_there or not live:
        live = address_of(args.address_there, out, "Web address of the site there", [])
    address = address_of(
        args.address,
        out,
        "Web address of the copy on this machine",
        [local_address(found)],
    )
    root = folder / args.root
    setup = _Setup(
        folder / FILE_NAME,
        Draft(
            args.name or found.title or folder.name,
            _cms(args, found, folder),
            (
                EnvironmentDraft("local", address, args.root),
                replace(draft_of(out.hosts, name, live, found, where, folder=folder,
                                 also=[str(one) for one in found.addresses if str(one) != live]), web=web),
            ),
        ),
        next="vetrin pull" if name == "production" else f"vetrin pull {name}",
    )  # fmt: skip
    return _with_database(args, out, setup, found, root)


def _from_archive(
    args: argparse.Namespace, out: Out, path: Path, stack: contextlib.ExitStack
) -> _Setup:
    """A project for a site in an archive, with a copy here that is still to be filled."""
    folder = Path(args.project or ".").absolute()
    _must_be_new(folder / FILE_NAME)
    definition = named_definition(args.cms, folder) if args.cms else definition_in([path])
    if definition is None:
        raise UsageError(
            f"{path}: it cannot be told of which CMS it is", "name its definition with --cms"
        )
    name = args.called or "local"
    anything = Environment(name, UNKNOWN, folder)
    project = Project(folder, "", definition, {name: anything})
    given = argparse.Namespace(
        database="", prefix=None, folder=None, address="", passphrase=False, yes=args.yes, words=[]
    )
    site, _ = stack.enter_context(looked_into(given, out, project, [str(path)]))
    # A stored site names no file of its own; here it is what the copy's is made of.
    site.configuration = dataclasses.replace(
        site.configuration, file=configuration_file(site.root, definition)
    )
    found = Discovered(site.root, definition, site.configuration, site.title)
    found.addresses += [address for _, address in site.recorded_addresses()]
    tell(out, found, Where(None, ""))
    address = address_of(
        args.address, out, "Web address of the copy on this machine", [local_address(found)]
    )
    title = args.name or found.title or folder.name
    draft = Draft(title, _cms(args, found, folder), (EnvironmentDraft(name, address, args.root),))
    setup = _Setup(folder / FILE_NAME, draft, source=site, next=f"vetrin import {path} {name}")
    return _with_database(args, out, setup, found, folder / args.root)


def _with_database(
    args: argparse.Namespace, out: Out, setup: _Setup, found: Discovered, root: Path
) -> _Setup:
    """The same with a database for the copy, where it needs one of a server."""
    assert found.configuration is not None
    if engine_of(found.configuration.engine).in_file:
        return setup
    database = CopyDatabase(
        args=args, out=out, name=setup.draft.environments[0].name, found=found, root=root
    )
    if configuration_file(root, found.definition):
        return replace(setup, database=database, account=database.left())
    account = database.find()
    if account is None:
        out.warn(
            "no database account for the copy yet: correct [environment.local.database], then vetrin reach local"
        )
        return replace(_with_account(setup, database.likely()), next="vetrin reach local")
    return replace(setup, database=database, account=account)


def _with_account(setup: _Setup, account: Account) -> _Setup:
    """The same with the account's names in vetrin.toml."""
    local, *others = setup.draft.environments
    given = {"database": account.database, "user": account.user}
    if account.host != "localhost":
        given["host"] = account.host
    if account.maker:
        given["create-as"] = account.maker
    local = replace(local, database=given)
    return replace(setup, draft=replace(setup.draft, environments=(local, *others)))


def _cms(args: argparse.Namespace, found: Discovered, folder: Path) -> str:
    """How the definition is named in vetrin.toml."""
    if args.cms and args.cms.endswith(".toml"):
        own = Path(args.cms).absolute()
        return str(own.relative_to(folder)) if own.is_relative_to(folder) else str(own)
    return found.definition.name


def _must_be_new(path: Path) -> None:
    if path.exists():
        raise UsageError(
            f"{path} is there already",
            "edit it, add to it with `vetrin add`, or move it away to start anew",
        )


def _out_of_the_web(args: argparse.Namespace, out: Out, root: Path) -> Path:
    """Where vetrin.toml is to lie: a web server hands out what is in a site's root."""
    above = root.parent
    if not args.above:
        out.warn(f"a web server that serves {root} would hand out {FILE_NAME} as well, to anybody")
        if not out.asking:
            out.warn("--above writes it into the folder above")
            return root
        if not out.agrees(f"Write it to {above} instead?"):
            return root
    _must_be_new(above / FILE_NAME)
    return above


def _other(text: str, out: Out, folder: Path) -> EnvironmentDraft:
    """A further environment of the options."""
    name, equals, rest = text.partition("=")
    if not equals or not name or not rest:
        raise UsageError(
            f"--other: {text!r}: write ENV=WHERE, such as production=ssh://deploy@harrowmere.example/srv/www"
        )
    return _draft(name, Where.parse(rest, name), out, folder, ())


def _draft(
    name: str, where: Where, out: Out, folder: Path, taken: tuple[str, ...]
) -> EnvironmentDraft:
    found = found_at(where, name, None, out)
    if found is None:
        raise UsageError(
            f"no site of a known CMS was found at {where}", f"`vetrin add {name}` adds an empty one"
        )
    tell(out, found, where)
    known = [str(one) for one in found.addresses if str(one) not in taken]
    address = known[0] if known else address_of(None, out, f"Web address of {name}", [])
    return draft_of(out.hosts, name, address, found, where, folder=folder, also=known[1:])


def _asked_other(out: Out, folder: Path, address: str) -> list[EnvironmentDraft]:
    """The live site, if somebody says where it is."""
    for _ in range(_TRIES if out.asking else 0):
        text = out.ask("Where is the live site? ssh://USER@HOST/FOLDER, or a folder (empty: later)")
        if not text:
            break
        try:
            return [_draft("production", Where.parse(text), out, folder, (address,))]
        except (UsageError, ReachError) as error:
            out.warn(str(error))
            if error.remedy:
                out.say(f"  → {error.remedy}")
    return []
