"""Connections that break while a run is under way: knowing them, and making them anew."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import TypeVar

from ..database.engines import ENGINES
from ..errors import ConnectionLost, DatabaseError, FilesError, ReachError
from ..site import ReadableSite, Site
from .events import Listener, Waiting

# Seconds between attempts to connect anew; about five minutes in all.
PAUSES = (0.5, 1, 2, 4, 8, 15, 30, 60, 60, 120)
wait = time.sleep
Result = TypeVar("Result")


def connect_anew(
    sites: tuple[ReadableSite, ...], lost: Exception, pauses: Iterator[float], listener: Listener
) -> None:
    """Connect to both sites again, after pauses that grow; the line may break meanwhile, too.

    Raises:
        DatabaseError: the pauses came to an end; its cause is what was lost first.
    """
    broken = lost
    for pause in pauses:
        listener(Waiting(str(broken), pause))
        wait(pause)
        try:
            for site in sites:
                site.reopen()
        except (DatabaseError, FilesError, ReachError, OSError) as error:
            broken = error
        except Exception as error:
            if not was_cut_off(error):
                raise
            broken = error
        else:
            return
    raise DatabaseError(str(broken)) from lost


def persistently(site: Site, work: Callable[[], Result], listener: Listener) -> Result:
    """Do something that may be done again; where a connection breaks, it is made anew and the work repeated.

    Raises:
        DatabaseError: the pauses came to an end; its cause is what was lost first.
    """
    pauses = iter(PAUSES)
    return repeated(work, lambda broken: connect_anew((site,), broken, pauses, listener))


def repeated(work: Callable[[], Result], connect: Callable[[Exception], None]) -> Result:
    """Do something, and do it again each time that a connection breaks, once ``connect`` has made it anew."""
    while True:
        try:
            return work()
        except Exception as error:
            if not was_cut_off(error):
                raise
            broken = error
        connect(broken)


def was_cut_off(error: BaseException) -> bool:
    """True where the reason of an error is a connection that is lost, or a server that is not there."""
    seen: BaseException | None = error
    met: list[
        BaseException
    ] = []  # an error that was raised again may be the reason of its own reason
    while seen is not None and not any(seen is one for one in met):
        met.append(seen)
        if isinstance(seen, ConnectionLost | ConnectionError):
            return True
        if any(engine.was_lost(seen) for engine in ENGINES.values()):
            return True
        seen = seen.__cause__ or seen.__context__
    return False
