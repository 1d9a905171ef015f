"""Getting at an environment on this machine: its files directly, its database by its own words."""

from __future__ import annotations

from pathlib import Path

from ..cms import ConfigurationError, SiteConfiguration, read_configuration
from ..database import Database
from ..files import LocalTree
from ..project import Environment, Project, creator_password, database_password
from .site import ReachError, Site


def configuration_of(project: Project, environment: Environment) -> SiteConfiguration:
    """What the site's configuration says, with the project's overrides.

    Raises:
        ReachError: there is no root, it is no root of this CMS, or its configuration is unclear.
    """
    root = environment.root
    if not root.is_dir():
        raise ReachError(
            environment.name,
            "files",
            f"there is no folder {root}",
            f"create it, or correct root in [environment.{environment.name}]",
        )
    if not project.definition.is_site(root):
        raise ReachError(
            environment.name,
            "files",
            f"{root} is no root of {project.definition.title}: "
            f"{', '.join(m for m in project.definition.markers if not (root / m).exists())} missing",
            f"point root in [environment.{environment.name}] at the folder that holds them",
        )
    try:
        return read_configuration(root, project.definition, environment.database)
    except ConfigurationError as error:
        raise ReachError(environment.name, "configuration", str(error), "") from error


def open_database(
    environment: Environment,
    configuration: SiteConfiguration,
    *,
    read_only: bool,
    may_be_missing: bool = False,
) -> Database:
    """Connect to the database that a configuration names.

    With ``may_be_missing``, one that does not exist yet is opened as an empty one.

    Raises:
        DatabaseUnreachable: it does not answer, or refuses the account.
    """
    if configuration.engine == "sqlite":
        from ..database.sqlite import SqliteDatabase

        path = Path(configuration.database)
        return SqliteDatabase(
            path if path.is_absolute() else environment.root / path,
            read_only=read_only,
            may_be_missing=may_be_missing,
        )
    from ..database.mysql import Credentials, MysqlDatabase

    host, port, socket = configuration.host_port_socket()
    password = password_of(environment, configuration)
    credentials = Credentials(
        configuration.database, configuration.user, password, host, port, socket
    )
    creator = None
    if may_be_missing and "create-as" in environment.database:
        creator = Credentials(
            configuration.database,
            environment.database["create-as"],
            creator_password(environment.name),
            host,
            port,
            socket,
        )
    return MysqlDatabase(
        credentials, read_only=read_only, may_be_missing=may_be_missing, creator=creator
    )


def password_of(environment: Environment, configuration: SiteConfiguration) -> str:
    """The database password: from the site's configuration, else from where the user keeps it."""
    return configuration.password or database_password(environment.name) or ""


def open_site(
    project: Project,
    environment: Environment,
    *,
    read_only: bool = True,
    may_be_missing: bool = False,
) -> Site:
    """Open files and database of an environment.

    With ``may_be_missing``, as for the target of a transfer, the database need not exist yet.

    Raises:
        ReachError, DatabaseUnreachable: one of them can not be got at.
    """
    configuration = configuration_of(project, environment)
    database = open_database(
        environment, configuration, read_only=read_only, may_be_missing=may_be_missing
    )
    return Site(
        environment, project.definition, configuration, database, LocalTree(environment.root)
    )
