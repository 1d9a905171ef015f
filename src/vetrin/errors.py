"""What can go wrong and reaches the user. Each error has a message, a ``remedy`` that says what to do (or is empty),
and an exit code.

::

    VetrinError                         1 failed; nothing has changed
    ├── UsageError                      2 the command or the project cannot be used as written
    │   ├── ProjectError                  vetrin.toml, or a name that it should know
    │   ├── HostError                     a ``host`` that cannot be understood
    │   ├── DefinitionError               the definition of a content manager
    │   ├── ConfigurationError            the configuration of a site
    │   ├── ConfigurationWriteError       a configuration that cannot be made
    │   ├── MappingError                  pairs of texts to be rewritten
    │   └── AddressError                  no http or https address
    ├── JobError                        1 the target is as it was before
    │   ├── NothingToDo                 0 all is as it was asked for
    │   ├── Refused                     5 a guard says no
    │   │   └── Overtaken               5 another run took over the lock
    │   ├── HalfDone                    3 ended in the switch: neither old nor new
    │   └── LeftBroken                  4 live, broken, and not to be undone
    ├── Stopped                         3 ended in between; can be resumed
    ├── ReachError                      1 part of an environment cannot be got at
    │   └── Protected                   5 nothing may be written there
    ├── ConnectionFailed                1 a host cannot be reached, or not as asked for
    │   ├── ConnectionLost                the connection was there and is lost
    │   ├── ForwardingForbidden           the host permits no way to a port or socket
    │   └── PortClosed                    nothing answers at a port or socket of the host
    ├── DatabaseError                   1 a database refused or broke something
    │   ├── DatabaseUnreachable           no connection
    │   ├── Unsuitable                    a table that cannot be laid out on this server
    │   └── RowsDiffer                    rows arrived otherwise than they were sent
    ├── FilesError                      1 a file could not be read or written
    │   └── StoreError                    the store, or an archive, cannot be used
    │       ├── MissingPiece              a piece of it is not there
    │       ├── DamagedObject             a content is not what its name says
    │       ├── StoreBusy                 somebody else thins it, or writes to it
    │       ├── WrongPassphrase           the passphrase does not open it
    │       ├── NoSnapshot, NoBuild     2 none of that name, or more than one
    │       └── BadArchive                an archive that cannot or must not be read
    │           ├── NeedsPassphrase       it is sealed, and no passphrase was given
    │           └── Unclear               one of several in it has to be named
    ├── NewerLog                        1 a log that a newer Vetrin wrote
    └── DemoError                       1 the sample project could not be set up

Signals between two modules of one room are not here: they stand beside the code that raises them, and never leave it.
"""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from enum import IntEnum
from typing import ClassVar

_LONGEST = 300  # characters of a name that are shown


class ExitStatus(IntEnum):
    """How a command ended, for whoever called it."""

    DONE = 0
    FAILED = 1
    USAGE = 2
    STOPPED = 3
    DIFFERENT = 4
    REFUSED = 5


class VetrinError(Exception):
    """Something went wrong of which the user is told. ``lost``: a connection is, so that nothing is known of what was
    asked for, and it may be asked again."""

    status: ClassVar[ExitStatus] = ExitStatus.FAILED
    lost = False

    def __init__(self, message: str = "", remedy: str = "") -> None:
        super().__init__(message)
        self.remedy = remedy

    @property
    def code(self) -> str:
        """What kind of error it is, for programs: the name of its class, such as ``database-unreachable``."""
        return re.sub(r"(?<=[a-z])(?=[A-Z])", "-", type(self).__name__).lower()


# What the user wrote


class UsageError(VetrinError, ValueError):
    """The command cannot be carried out as it was given."""

    status = ExitStatus.USAGE


class ProjectError(UsageError):
    """vetrin.toml is missing or wrong; the message says where and what to do."""


class HostError(UsageError):
    """A ``host`` that cannot be understood."""


class DefinitionError(UsageError):
    """A definition is missing or has a key that does not belong there."""


class ConfigurationError(UsageError):
    """The site's configuration is missing, unreadable or leaves something open."""


class ConfigurationWriteError(UsageError):
    """A configuration file of this kind cannot be made; the message says why."""


class MappingError(UsageError):
    """Two pairs contradict each other, or one cannot be used."""


class AddressError(UsageError):
    """The text is no http or https address."""


# Runs


class JobError(VetrinError):
    """Something failed; the target is as it was before."""


class Refused(JobError):
    """A guard says no: access, a missing confirmation, another run, two sites that do not fit."""

    status = ExitStatus.REFUSED


class NothingToDo(JobError):
    """There is nothing of what was asked for: no run to undo, none to go on with."""

    status = ExitStatus.DONE


class Overtaken(Refused):
    """Another run took over the lock of this one, which does nothing any more."""

    def __init__(self, environment: str, by: str) -> None:
        super().__init__(
            f"another run took over{f': {by}' if by else ''}; this one has ended without doing anything more",
            f"`vetrin history` and `vetrin status` say what stands in {environment}",
        )


class HalfDone(JobError):
    """A run ended in its switch, and could not be finished or taken back from here: its target is neither old
    nor new. Whatever writes there next puts it right first."""

    status = ExitStatus.STOPPED

    def __init__(self, reason: str, environment: str) -> None:
        super().__init__(
            f"stopped in the switch: {reason}",
            f"{environment} may be half old and half new; as soon as it can be reached, "
            f"`vetrin resume {environment}` finishes the switch, `vetrin undo {environment}` takes it back",
        )


class LeftBroken(JobError):
    """What was pushed is live, was found to be broken, and could not be undone."""

    status = ExitStatus.DIFFERENT


class Stopped(VetrinError):
    """A run ended in between; the target is as it was, and the run can be gone on with."""

    status = ExitStatus.STOPPED

    def __init__(self, reason: str, environment: str) -> None:
        super().__init__(
            f"stopped: {reason}",
            f"{environment} is as it was before; `vetrin resume {environment}` goes on where it ended, "
            f"`vetrin undo {environment}` gives it up",
        )
        self.environment = environment


# Other machines, and what is asked of them


class ReachError(VetrinError):
    """Part of an environment cannot be got at. ``part`` is host, files, configuration or database."""

    def __init__(self, environment: str, part: str, message: str, remedy: str) -> None:
        super().__init__(f"{environment}: {message}", remedy)
        self.environment = environment
        self.part = part
        self.reason = message


class Protected(ReachError):
    """What would be written to belongs to an environment to which nothing may be written."""

    status = ExitStatus.REFUSED


class ConnectionFailed(VetrinError):
    """A host cannot be reached, or not as it was asked for."""


class ConnectionLost(ConnectionFailed):
    """The connection was there and is lost, or the host does not answer at all."""

    lost = True


class ForwardingForbidden(ConnectionFailed):
    """The host permits no connection to a port or a socket."""


class PortClosed(ConnectionFailed):
    """Nothing answers at that port or socket of the host."""


# Databases


class DatabaseError(VetrinError):
    """The database refused or broke something; the message is fit for the user."""


class DatabaseUnreachable(DatabaseError):
    """No connection: ``number`` is the engine's own code."""

    def __init__(self, message: str, remedy: str = "", number: int = 0) -> None:
        super().__init__(message, remedy)
        self.number = number


class Unsuitable(DatabaseError):
    """A table cannot be laid out on this server; the message says what it lacks."""


class RowsDiffer(DatabaseError):
    """What arrived in a hidden table is not what was sent to it."""


# Files, stores and archives


class RowsMoved(DatabaseError):
    """Rows that were to be changed are no longer as they were seen; ``count`` says how many, 0 where that is not
    known."""

    def __init__(self, count: int) -> None:
        rows = "1 row" if count == 1 else f"{count} rows" if count else "some of the rows"
        super().__init__(f"somebody changed {rows} in the meantime", "run the command again")
        self.count = count


class FilesError(VetrinError):
    """A file could not be read or written; the message is fit for the user. ``denied``: the account may not."""

    denied = False


class StoreError(FilesError):
    """The store cannot be used; the message is fit for the user."""


class MissingPiece(StoreError):
    """A piece that should be there is not."""


class DamagedObject(StoreError):
    """A content is missing or is not what its name says. ``digest`` says which one."""

    def __init__(self, digest: str, reason: str) -> None:
        super().__init__(f"the stored content {digest[:12]} {reason}")
        self.digest = digest


class StoreBusy(StoreError):
    """Somebody else does at the moment what cannot be done at the same time."""


class WrongPassphrase(StoreError):
    """The passphrase does not open the store or the file, or there is none where one is needed."""


class NoSnapshot(StoreError):
    """There is no such snapshot, or more than one that could be meant."""

    status = ExitStatus.USAGE


class NoBuild(StoreError):
    """There is no such build, or more than one that could be meant."""

    status = ExitStatus.USAGE


class BadArchive(StoreError):
    """An archive that cannot or must not be read; the message says what and where."""


class NeedsPassphrase(BadArchive):
    """An archive has a passphrase, and none was given."""

    def __init__(self, name: str) -> None:
        super().__init__(f"{name} has a passphrase, and none was given")


class Unclear(BadArchive):
    """One of several has to be named: ``choices`` are the ``what``, ``kind`` is the field of ``Given`` for it."""

    def __init__(self, what: str, choices: Sequence[str], kind: str) -> None:
        super().__init__(f"{what}: {', '.join(choices)}")
        self.what = what
        self.choices = tuple(choices)
        self.kind = kind


# All else


class NewerLog(VetrinError):
    """The log was written by a version of Vetrin that this one does not know."""


class DemoError(VetrinError):
    """The sample project could not be set up."""


def described(error: BaseException) -> str:
    """What an error says; one of the operating system by the file that it is about and the reason."""
    if isinstance(error, OSError) and error.filename is not None and error.strerror:
        name = error.filename if isinstance(error.filename, int) else os.fsdecode(error.filename)
        return f"{_shortened(str(name))}: {error.strerror}"
    return str(error) or type(error).__name__


def _shortened(name: str) -> str:
    return name if len(name) <= _LONGEST else f"{name[: _LONGEST // 2]}…{name[-_LONGEST // 2 :]}"
