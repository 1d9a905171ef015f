"""A look for an environment's own passwords in what is about to leave it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..config import database_password
from ..database.engines import engine_of
from ..errors import Refused
from ..files import Entry, SourceTree, if_readable, some_of
from ..site import ReadableSite

_SMALL = 256_000  # bytes; what is larger is no file that somebody wrote a password into
_SHORT = 6  # characters; a shorter word stands in any text
_COMMON = {
    "password",
    "passwort",
    "secret",
    "wordpress",
    "changeme",
    "database",
    "mariadb",
    "railway",
    "example",
}


def passwords_of(*sites: ReadableSite) -> list[bytes]:
    """What must not be read by others: passwords of databases, and the keys that each copy has for itself."""
    found: list[str] = []
    for site in sites:
        found += [site.configuration.password, *site.configuration.secrets.values()]
        if not engine_of(site.configuration.engine).in_file and not site.configuration.password:
            found.append(database_password(site.environment.name) or "")
    unlike = {text for text in found if len(text) >= _SHORT and text.lower() not in _COMMON}
    return [text.encode() for text in sorted(unlike)]


def must_hold_none(tree: SourceTree, entries: Iterable[Entry], passwords: Sequence[bytes]) -> None:
    """Raises Refused where a small text among the files holds one of the passwords; says which, never which one."""
    if not passwords:
        return
    found = [
        entry.path
        for entry in entries
        if entry.kind == "file" and 0 < entry.size <= _SMALL and _holds(tree, entry, passwords)
    ]
    if found:
        raise Refused(
            f"a password or key of the environment stands in {some_of(found)}: whoever can fetch that file "
            "would know it",
            "take it out, or leave the file out with [leave] files; to send it all the same, write "
            f'"!{found[0]}" there',
        )


def _holds(tree: SourceTree, entry: Entry, passwords: Sequence[bytes]) -> bool:
    content = b""
    with if_readable():  # else it is met again where it is sent
        content = b"".join(tree.read(entry.path, 0, _SMALL))
    return b"\0" not in content[:4096] and any(text in content for text in passwords)
