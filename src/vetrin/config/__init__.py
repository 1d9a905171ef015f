"""What the user wrote: vetrin.toml and secrets."""

from .build import BuildRule, Command
from .consent import VARIABLE, Agreed, Foreign
from .host import Host
from .known_names import nearest, similar
from .project import (
    FILE_NAME,
    STATE_FOLDER,
    Access,
    Environment,
    Project,
    Role,
    bytes_per_second,
    find_project,
    load_project,
    password_variable,
)
from .secrets import STORE_VARIABLE, creator_password, database_password, store_passphrase
from .selection import (
    Arrival,
    Keep,
    Leave,
    Route,
    defaults,
    merged,
    must_be_programs,
    read_arrival,
    read_keep,
    read_leave,
)
from .store import StoreRule, Thinning

__all__ = [
    "FILE_NAME",
    "STATE_FOLDER",
    "STORE_VARIABLE",
    "VARIABLE",
    "Access",
    "Agreed",
    "Arrival",
    "BuildRule",
    "Command",
    "Environment",
    "Foreign",
    "Host",
    "Keep",
    "Leave",
    "Project",
    "Role",
    "Route",
    "StoreRule",
    "Thinning",
    "bytes_per_second",
    "creator_password",
    "database_password",
    "defaults",
    "find_project",
    "load_project",
    "merged",
    "must_be_programs",
    "nearest",
    "password_variable",
    "read_arrival",
    "read_keep",
    "read_leave",
    "similar",
    "store_passphrase",
]
