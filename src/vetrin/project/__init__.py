"""What the user wrote: vetrin.toml and secrets."""

from .building import BuildRule, Command
from .choices import (
    Arrival,
    Keep,
    Leave,
    Route,
    defaults,
    merged,
    read_arrival,
    read_keep,
    read_leave,
)
from .configuration import (
    FILE_NAME,
    STATE_FOLDER,
    Access,
    Environment,
    Project,
    Role,
    find_project,
    load_project,
    password_variable,
)
from .errors import ProjectError, nearest, similar
from .secrets import creator_password, database_password

__all__ = [
    "FILE_NAME",
    "STATE_FOLDER",
    "Access",
    "Arrival",
    "BuildRule",
    "Command",
    "Environment",
    "Keep",
    "Leave",
    "Project",
    "ProjectError",
    "Role",
    "Route",
    "creator_password",
    "database_password",
    "defaults",
    "find_project",
    "load_project",
    "merged",
    "nearest",
    "password_variable",
    "read_arrival",
    "read_keep",
    "read_leave",
    "similar",
]
