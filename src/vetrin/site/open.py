"""Opening an environment, here or on another machine: its files, and the database that its configuration names."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import cast

from msgspec.structs import replace

from ..cms import Definition, Place, SiteConfiguration, read_configuration
from ..config import Environment, Project, creator_password, database_password, password_variable
from ..database import AbsentDatabase, Database
from ..database.engines import Wanted, engine_of
from ..database.page_prints import PagePrints, PrintsThere
from ..errors import ConfigurationError, DatabaseUnreachable, FilesError, ReachError
from ..files import (
    OWN_FOLDER,
    DigestCache,
    FileTree,
    Listings,
    LocalTree,
    RemoteTree,
    looking_at,
    spot_there,
)
from ..remote import Hosts, RemoteHost
from ..spot import Spot, spot_here
from .former_roots import former_roots
from .guard import Found, Whereabouts, must_be_its_own, prefix_of
from .site import Site

# What may lie in a root in which there is no site yet.
_EMPTY = frozenset({OWN_FOLDER, ".well-known", "lost+found", "cgi-bin", ".git", ".gitignore"})


def is_empty(root: Place, definition: Definition) -> bool:
    """True where no site is, nor anything else that one would lie among; its configuration may wait there for it."""
    own = {*_EMPTY, *definition.configuration.files}
    if not root.is_dir():
        return not root.exists()
    return all(item.name in own for item in root.iterdir())


def _is_begun(root: Place) -> bool:
    """True where a run of ours has written: a transfer of some parts into an empty root leaves no site there."""
    return (root / OWN_FOLDER / "id").is_file()


def remote_host_of(hosts: Hosts, environment: Environment) -> RemoteHost | None:
    """The host of a remote environment, connected; None for one on this machine.

    Raises:
        ReachError: it cannot be reached.
    """
    return None if environment.host is None else hosts.of(environment)


def root_of(hosts: Hosts, environment: Environment) -> Place:
    """The root of an environment, wherever it is.

    Raises:
        ReachError: its host cannot be reached.
    """
    return root_on(remote_host_of(hosts, environment), environment)


def root_on(remote_host: RemoteHost | None, environment: Environment) -> Place:
    """The same, where its host is connected; None for this machine."""
    return environment.root if remote_host is None else remote_host.place(str(environment.root))


def configuration_of(
    hosts: Hosts,
    project: Project,
    environment: Environment,
    like: SiteConfiguration | None = None,
    *,
    anyway: bool = False,
) -> SiteConfiguration:
    """What the site's configuration says, with the project's overrides.

    With ``like``, the configuration of what will be brought there, the root may be empty; then an
    embedded database will lie where it does there. With ``anyway``, as for what brings a site back that was
    there, ``like`` is what it had, and the root need not hold a site.

    Raises:
        ReachError: there is no root, it is no root of this CMS, or its configuration is unclear.
    """
    root = root_of(hosts, environment)
    definition = project.definition
    try:
        with looking_at(root, (*definition.markers, *definition.configuration.files)):
            return _configuration(project, environment, root, like, anyway)
    except FilesError as error:
        raise ReachError(
            environment.name,
            "files",
            str(error),
            "see that the account may read it" if error.denied else "",
        ) from error


def _configuration(
    project: Project,
    environment: Environment,
    root: Place,
    like: SiteConfiguration | None,
    anyway: bool,
) -> SiteConfiguration:
    definition = project.definition
    # What is set in the environment of a process here says nothing of one on another machine.
    environ: dict[str, str] | None = None if environment.host is None else {}
    given = environment.database
    whole = definition.is_site(root)
    if like is not None and _may_be_filled(root, definition, whole=whole, anyway=anyway):
        given = _placed_like(given, like)
    elif not root.is_dir() or not whole:
        raise _no_site(definition, environment, root)
    try:
        return read_configuration(root, definition, given, environ)
    except ConfigurationError as error:
        raise ReachError(environment.name, "configuration", str(error), "") from error


def _may_be_filled(root: Place, definition: Definition, *, whole: bool, anyway: bool) -> bool:
    """True for a root that a site may come into, as there is no ``whole`` one; ``anyway``: also where one was that is
    gone."""
    if (
        whole and definition.markers
    ):  # where nothing marks a site, none can be told from an empty root
        return False
    if is_empty(root, definition):
        return True
    return not whole and (_is_begun(root) or (anyway and root.is_dir()))


def _placed_like(given: Mapping[str, str], like: SiteConfiguration) -> dict[str, str]:
    """What the project says of a database, with the place of an embedded one where it is told nowhere."""
    found = dict(given)
    if engine_of(like.engine).in_file and not {"file", "database"} & found.keys():
        path = Path(like.database)
        found["file"] = path.name if path.is_absolute() else like.database
    return found


def _no_site(definition: Definition, environment: Environment, root: Place) -> ReachError:
    """What to say of a root in which there is no site."""
    name = environment.name
    if not root.is_dir():
        says = f"there is no folder {root}" + (
            f" on {environment.host}" if environment.host else ""
        )
        return ReachError(
            name, "files", says, f"create it, or correct root in [environment.{name}]"
        )
    if is_empty(root, definition):
        remedy = f"a transfer fills it: vetrin pull --to {name}"
        return ReachError(name, "files", f"{root} is empty", remedy)
    missing = ", ".join(marker for marker in definition.markers if not (root / marker).exists())
    if _is_begun(root):
        says = f"{root} holds no whole {definition.title}: {missing} missing"
        remedy = f"vetrin pull --to {name} --parts core,code completes it"
        return ReachError(name, "files", says, remedy)
    return ReachError(
        name,
        "files",
        f"{root} is no root of {definition.title}: {missing} missing",
        f"point root in [environment.{name}] at the folder that holds them",
    )


def open_database(
    hosts: Hosts,
    environment: Environment,
    configuration: SiteConfiguration,
    *,
    read_only: bool,
    may_be_missing: bool = False,
    prints: PagePrints | None = None,
) -> Database:
    """Connect to the database that a configuration names.

    With ``may_be_missing``, one that does not exist yet is opened as an empty one. ``prints`` are what its pages
    looked like.

    Raises:
        DatabaseUnreachable: it does not answer, or refuses the account.
    """
    remote_host = remote_host_of(hosts, environment)
    wanted = Wanted(
        name=configuration.database,
        root=root_of(hosts, environment),
        remote=remote_host,
        host_port_socket=configuration.host_port_socket,
        user=configuration.user,
        password=password_of(environment, configuration),
        creator_password=lambda: creator_password(environment.name),
        options=environment.database,
        read_only=read_only,
        may_be_missing=may_be_missing,
        prints=prints,
    )
    try:
        return engine_of(configuration.engine).open(wanted)
    except DatabaseUnreachable as error:
        known = "user" not in environment.database and configuration.password
        if known or engine_of(configuration.engine).in_file:
            raise
        # Of an account that vetrin.toml names, the password is not in the site's configuration.
        where = (
            f"the password of {configuration.user or 'its account'} comes from "
            f"{password_variable(environment.name)} or the keyring (service vetrin, user {environment.name})"
        )
        remedy = f"{error.remedy}; {where}" if error.remedy else where
        raise DatabaseUnreachable(str(error), remedy, error.number) from error


def password_of(environment: Environment, configuration: SiteConfiguration) -> str:
    """The database password: from the site's configuration, else from where the user keeps it; for an account that
    the project names, the other way round, as the configuration has that of another one. Empty for a database in a
    file, for which no keyring need be loaded."""
    if engine_of(configuration.engine).in_file:
        return ""
    if "user" in environment.database:
        return database_password(environment.name) or configuration.password
    return configuration.password or database_password(environment.name) or ""


def open_site(
    hosts: Hosts,
    project: Project,
    environment: Environment,
    *,
    read_only: bool = True,
    like: SiteConfiguration | None = None,
    anyway: bool = False,
    data: bool = True,
    source: Environment | None = None,
) -> Site:
    """Open files and database of an environment.

    With ``like``, as for the target of a transfer from a site that is configured so, root and
    database need not exist yet. With ``anyway``, ``like`` is what was there, and the root need not hold a site.
    Without ``data``, nothing of the database is needed: one that cannot be got at is open as one without tables.
    What is opened for writing belongs to no environment to which nothing may be written, nor to the ``source``.

    Raises:
        ReachError, DatabaseUnreachable: one of them cannot be got at.
        Protected: it is, by its files or its tables, an environment to which nothing may be written, or the source.
    """

    def opened() -> Site:
        return _opened(hosts, project, environment, read_only, like, anyway, data)

    site = opened()
    site.again = opened
    if read_only:
        return site
    with contextlib.ExitStack() as closing:
        closing.enter_context(site)
        where = _whereabouts(hosts, environment, site.configuration, site.database, like)
        found = Found(where, site.database)
        site.unsure = must_be_its_own(
            project, environment, found, partial(_found, hosts, project), source
        )
        closing.pop_all()
    return site


def _opened(
    hosts: Hosts,
    project: Project,
    environment: Environment,
    read_only: bool,
    like: SiteConfiguration | None,
    anyway: bool,
    data: bool,
) -> Site:
    configuration = configuration_of(hosts, project, environment, like, anyway=anyway)
    try:
        database = open_database(
            hosts,
            environment,
            configuration,
            read_only=read_only,
            may_be_missing=like is not None and not anyway,
            prints=(
                PagePrints(project.state / "rows.sqlite")
                if environment.host is None
                else PrintsThere(project.state / "rows-there.sqlite")
            ),
        )
    except DatabaseUnreachable as error:
        if data:
            raise
        absent = AbsentDatabase(configuration.engine, configuration.database, str(error))
        database = cast(Database, absent)
    remote_host = remote_host_of(hosts, environment)
    root = root_of(hosts, environment)
    files: FileTree
    if remote_host is None:
        files = LocalTree(environment.root)
    else:
        listings = Listings(project.state / "listings.sqlite", environment.name)
        files = RemoteTree(remote_host.machine, str(root), listings)
        environment = replace(environment, root=Path(str(root)))
    return Site(
        environment=environment,
        definition=project.definition,
        configuration=configuration,
        database=database,
        files=files,
        seen=seen_of(project, environment.name),
        place=root,
        remote_host=remote_host,
        former_roots=_former_roots(project, environment, str(root)),
    )


def _former_roots(project: Project, environment: Environment, root: str) -> tuple[str, ...]:
    """Where an environment was before it was moved; not where another one is now."""
    others = {
        str(one.root) for one in project.environments.values() if one.name != environment.name
    }
    known = former_roots(project.state, environment.name, root)
    return tuple(one for one in known if one not in others)


@contextlib.contextmanager
def _found(hosts: Hosts, project: Project, environment: Environment) -> Iterator[Found]:
    """Look where an environment is; its database is open meanwhile, where a server has it."""
    configuration = configuration_of(hosts, project, environment)
    if engine_of(configuration.engine).in_file:
        yield Found(_whereabouts(hosts, environment, configuration, None, None))
        return
    database = open_database(hosts, environment, configuration, read_only=True)
    try:
        yield Found(_whereabouts(hosts, environment, configuration, database, None), database)
    finally:
        database.close()


def _whereabouts(
    hosts: Hosts,
    environment: Environment,
    configuration: SiteConfiguration,
    database: Database | None,
    like: SiteConfiguration | None,
) -> Whereabouts:
    root = root_of(hosts, environment)
    prefix = prefix_of(environment, configuration, like or configuration)
    where = Whereabouts(_spot(hosts, environment, str(root)), prefix=prefix)
    if engine_of(configuration.engine).in_file:
        return replace(where, store=_spot(hosts, environment, str(root / configuration.database)))
    if database is None or database.missing:
        return where
    facts = database.facts()
    folded = facts.details.get("lower-case table names", "0") != "0"
    return replace(where, server=facts.identity, folded=folded)


def _spot(hosts: Hosts, environment: Environment, path: str) -> Spot | None:
    remote_host = remote_host_of(hosts, environment)
    return (
        spot_here(path)
        if remote_host is None
        else spot_there(remote_host.machine, remote_host.host.name, path)
    )


def seen_of(project: Project, environment: str) -> DigestCache:
    """What was seen of an environment's files, also while it is not open."""
    return DigestCache(project.state / "files" / f"{environment}.sqlite")
