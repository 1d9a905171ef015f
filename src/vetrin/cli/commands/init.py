"""vetrin init"""

from __future__ import annotations

import argparse
import os
from pathlib import Path

from rich.text import Text

from ...cms import (
    Definition,
    SiteConfiguration,
    find_root,
    load_definition,
    read_configuration,
    read_version,
)
from ...config import FILE_NAME, Environment, Project
from ...config.template import Draft, project_text
from ...errors import (
    AddressError,
    ConfigurationError,
    DatabaseError,
    DefinitionError,
    ExitStatus,
    ProjectError,
    ReachError,
    UsageError,
)
from ...rewrite import Address
from ...site import open_site
from ..console import Out, lead


def configure(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "Recognise the site in this folder, read its own configuration without running it, and\n"
        "write a commented vetrin.toml beside it. What cannot be found out is asked for, or taken\n"
        "from the options."
    )
    parser.add_argument(
        "folder", nargs="?", default=".", metavar="DIR", help="the site's folder (.)"
    )
    parser.add_argument("--name", help="the site's name")
    parser.add_argument("--cms", help="a definition's name or file, where the files do not tell it")
    parser.add_argument("--address", help="this copy's web address")
    parser.add_argument(
        "--environment", default="local", metavar="ENV", help="its name here (local)"
    )
    parser.add_argument(
        "--other", action="append", default=[], metavar="ENV=ADDRESS=ROOT",
        help="a further environment: name, web address, root folder; can be repeated",
    )  # fmt: skip
    parser.add_argument(
        "--above", action="store_true",
        help="where this is the site's root, write vetrin.toml into the folder above, which no web server serves",
    )  # fmt: skip
    parser.epilog = """examples:
  vetrin init
  vetrin init --address http://harrowmere.test:8080
  vetrin init --other production=https://www.harrowmere.example=/srv/www/harrowmere"""


def run(args: argparse.Namespace, out: Out) -> int:
    folder = Path(args.project or args.folder).absolute()
    if not folder.is_dir():
        raise UsageError(f"there is no folder {folder}")
    _must_be_new(folder / FILE_NAME)
    root, definition = _recognise(folder, args.cms)
    own = folder / args.cms if args.cms and args.cms.endswith(".toml") else None
    if root == folder:
        folder = _out_of_the_web(args, out, folder)
    path = folder / FILE_NAME
    version = read_version(root, definition) or "of unknown version"
    out.say(f"{definition.title} {version} in {root}")
    try:
        configuration: SiteConfiguration | None = read_configuration(root, definition)
    except ConfigurationError as error:
        configuration = None
        out.warn(str(error))
    title, recorded = _from_database(root, definition, configuration, out)
    address = _address(args, out, configuration, recorded)
    name = args.name or out.ask("The site's name", title or folder.name)
    others = [_other(text) for text in args.other] or _ask_others(out)
    text = project_text(
        Draft(
            site=name,
            cms=os.path.relpath(own, folder) if own else args.cms or definition.name,
            environment=args.environment,
            address=address,
            root=os.path.relpath(root, folder),
            configuration=configuration,
            others=tuple(others),
        )
    )
    out.document("init", {"file": str(path), "root": str(root), "cms": definition.name,
                          "written": not args.dry_run})  # fmt: skip
    if args.dry_run:
        out.show(Text(text))
        return ExitStatus.DONE
    path.write_text(text, encoding="utf-8")
    out.show(lead("✓ ", "bold green").append(f"{path} is written"))
    if not others:
        out.show("Next: describe the live site in it (see the comments there), then")
    out.show(f"Next: vetrin reach {args.environment}, then vetrin status")
    return ExitStatus.DONE


def _must_be_new(path: Path) -> None:
    if path.exists():
        raise UsageError(f"{path} is there already; edit it, or move it away to start anew")


def _out_of_the_web(args: argparse.Namespace, out: Out, root: Path) -> Path:
    """Where vetrin.toml is to lie: a web server hands out what is in a site's root."""
    above = root.parent
    if not args.above:
        out.warn(f"a web server that serves {root} would hand out {FILE_NAME} as well, to anybody")
        if not out.at_terminal or out.json:
            out.warn("--above writes it into the folder above")
            return root
        if not out.agrees(f"Write it to {above} instead?"):
            return root
    _must_be_new(above / FILE_NAME)
    return above


def _recognise(folder: Path, cms: str | None) -> tuple[Path, Definition]:
    if cms is not None:
        try:
            return folder, load_definition(cms, folder)
        except DefinitionError as error:
            raise UsageError(f"--cms: {error}") from error
    found = find_root(folder)
    if found is None:
        raise UsageError(
            f"no site of a known CMS in {folder} or two levels below it; "
            "run this in the site's folder, or name a definition with --cms"
        )
    return found


def _from_database(
    root: Path, definition: Definition, configuration: SiteConfiguration | None, out: Out
) -> tuple[str | None, list[Address]]:
    """Title and addresses that the site's own settings hold, if its database answers."""
    if configuration is None:
        return None, []
    environment = Environment("local", Address("http", "localhost"), root)
    project = Project(root, "", definition, {"local": environment})
    try:
        with open_site(project, environment) as site:
            rule = definition.settings
            title = site.setting(rule.title) if rule and rule.title else None
            return title, [address for _, address in site.recorded_addresses()]
    except (ReachError, DatabaseError) as error:
        out.warn(f"its database does not answer yet: {error}")
        return None, []


def _address(
    args: argparse.Namespace,
    out: Out,
    configuration: SiteConfiguration | None,
    recorded: list[Address],
) -> str:
    known = [*(configuration.addresses if configuration else ()), *map(str, recorded)]
    text = args.address or out.ask("Web address of this copy", known[0] if known else "")
    if not text:
        raise UsageError("its web address is told nowhere; give it with --address")
    try:
        return str(Address.parse(text))
    except AddressError as error:
        raise UsageError(f"--address: {error}") from error


def _other(text: str) -> tuple[str, str, str]:
    name, _, rest = text.partition("=")
    address, _, root = rest.rpartition("=")
    try:
        return name, str(Address.parse(address)), root
    except AddressError as error:
        raise UsageError(f"--other: write ENV=ADDRESS=ROOT; {error}") from error


def _ask_others(out: Out) -> list[tuple[str, str, str]]:
    text = out.ask("Address of the live site (leave empty to add it later)")
    if not text:
        return []
    try:
        address = str(Address.parse(text))
    except AddressError as error:
        raise ProjectError(str(error)) from error
    root = out.ask("Its root folder")
    return [("production", address, root)] if root else []
