"""What the user wrote: vetrin.toml and secrets."""

from .configuration import (
    FILE_NAME,
    STATE_FOLDER,
    Access,
    Environment,
    Project,
    ProjectError,
    Role,
    find_project,
    load_project,
    password_variable,
)
from .secrets import database_password

__all__ = [
    "FILE_NAME",
    "STATE_FOLDER",
    "Access",
    "Environment",
    "Project",
    "ProjectError",
    "Role",
    "database_password",
    "find_project",
    "load_project",
    "password_variable",
]
