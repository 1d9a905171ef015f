"""Bringing an archive here: from an address, from standard input, or out of its parts."""

from __future__ import annotations

import hashlib
import re
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import IO
from urllib.parse import unquote, urlsplit

import httpx

from ..errors import BadArchive, UsageError
from .reader import BLOCK
from .writer import SUMS

_PART = re.compile(r"(.+)\.(\d{3})$")
_PAUSES = (0.5, 1, 2, 4, 8)  # seconds between attempts that bring nothing
_BUSY = (429, 502, 503, 504)
_FOR_GOOD = (httpx.InvalidURL, httpx.UnsupportedProtocol, httpx.TooManyRedirects)


def shown(address: str) -> str:
    """An address without what may be a secret in it: an account, a password, a signature.

    Raises:
        BadArchive: it is none.
    """
    try:
        parts = urlsplit(address)
        place = parts.hostname or ""
        if parts.port:
            place += f":{parts.port}"
    except ValueError as error:
        raise BadArchive(f"that is no web address: {error}") from None
    return f"{parts.scheme}://{place}{parts.path}"


def has_secret(address: str) -> bool:
    parts = urlsplit(address)
    return bool(parts.username or parts.password or parts.query)


def fetch(
    address: str,
    folder: Path,
    tell: Callable[[str, int], None] = lambda what, size: None,
    wait: Callable[[float], None] = time.sleep,
) -> Path:
    """Load a file from a web address into a folder; what came earlier is gone on with, if it is the same file.

    A line that breaks, and a server that is busy, are tried again after pauses that grow, for as long as more
    of it comes.

    Raises:
        BadArchive: it cannot be loaded.
    """
    name = Path(unquote(urlsplit(shown(address)).path)).name or "archive"
    place = folder / hashlib.sha256(address.encode()).hexdigest()[:8]
    place.mkdir(parents=True, exist_ok=True)
    goal, part, mark = (place / f"{name}{end}" for end in ("", ".part", ".etag"))
    if goal.exists() and not part.exists():
        goal.unlink()  # of an earlier import; it may have changed since
    pauses = iter(_PAUSES)
    while True:
        before = _size(part)
        try:
            _load(address, part, mark, tell)
            break
        except httpx.HTTPStatusError as error:
            code = error.response.status_code
            problem = f"the server answers {code}"
            again = code in _BUSY
        except (httpx.HTTPError, httpx.InvalidURL, _Elsewhere) as error:
            problem = str(error) or type(error).__name__
            again = not isinstance(error, _FOR_GOOD)
        except OSError as error:
            raise BadArchive(f"{part}: {error.strerror or error}") from error
        if not again:
            raise BadArchive(f"{shown(address)}: {problem}")
        if _size(part) > before:
            pauses = iter(_PAUSES)
        pause = next(pauses, None)
        if pause is None:
            raise BadArchive(
                f"{shown(address)} cannot be loaded: {problem}; the same command goes on where it ended"
            )
        wait(pause)
    part.rename(goal)
    mark.unlink(missing_ok=True)
    return goal


class _Elsewhere(Exception):
    """A server goes on at another place than it was asked to."""


def _size(path: Path) -> int:
    return path.stat().st_size if path.exists() else 0


def _load(address: str, part: Path, mark: Path, tell: Callable[[str, int], None]) -> None:
    have = _size(part)
    known = mark.read_text() if mark.exists() else ""
    headers = {"Accept-Encoding": "identity"}
    if have and known:
        headers |= {"Range": f"bytes={have}-", "If-Range": known}
    with httpx.stream("GET", address, headers=headers, follow_redirects=True, timeout=60) as answer:
        if answer.status_code == 416:  # all of it is there already
            return
        answer.raise_for_status()
        goes_on = answer.status_code == 206
        if goes_on and not answer.headers.get("content-range", "").startswith(f"bytes {have}-"):
            part.unlink()
            raise _Elsewhere("the server sends another part than it was asked for")
        # RFC 9110, 13.1.5: what only resembles the file cannot be gone on with.
        tag = answer.headers.get("etag", "W/")
        mark.write_text(answer.headers.get("last-modified", "") if tag.startswith("W/") else tag)
        with part.open("ab" if goes_on else "wb") as file:
            # In blocks of a size, the last part would be lost with the line.
            for block in answer.iter_raw():
                file.write(block)
                tell(address, len(block))


def keep_stream(stream: IO[bytes], folder: Path) -> Path:
    """Write what comes from a stream into a folder, to be looked at as often as is needed."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "standard-input"
    with path.open("wb") as file:
        while block := stream.read(BLOCK):
            file.write(block)
    if not path.stat().st_size:
        raise BadArchive("nothing came from standard input")
    return path


def joined(paths: Sequence[Path], folder: Path) -> list[Path]:
    """Files as they were before they were split: parts that were given, in whatever order, become one.

    With ``.sha256`` beside them, each part is checked.

    Raises:
        BadArchive: a part is missing or damaged; names it.
    """
    whole: list[Path] = []
    split: dict[Path, dict[int, Path]] = {}
    for path in paths:
        if path.name.endswith(SUMS):
            continue
        match = _PART.match(path.name)
        if match:
            split.setdefault(path.with_name(match[1]), {})[int(match[2])] = path
        else:
            if not path.exists():
                if path.with_name(f"{path.name}.001").exists():
                    split[path] = {
                        int(one.name[-3:]): one
                        for one in path.parent.glob(f"{path.name}.[0-9][0-9][0-9]")
                    }
                    continue
                raise UsageError(f"there is no file {path}")
            whole.append(path)
    for goal, parts in split.items():
        sums = _sums(goal.with_name(goal.name + SUMS))
        count = max([*parts, *(int(name[-3:]) for name in sums if _PART.match(name))])
        missing = [number for number in range(1, count + 1) if number not in parts]
        if missing:
            names = ", ".join(f"{goal.name}.{number:03d}" for number in missing)
            raise BadArchive(f"{names} of {count} parts is missing; give all of them")
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / goal.name
        with path.open("wb") as file:
            for number in sorted(parts):
                hasher = hashlib.sha256()
                with parts[number].open("rb") as part:
                    while block := part.read(BLOCK):
                        hasher.update(block)
                        file.write(block)
                wanted = sums.get(parts[number].name)
                if wanted and wanted != hasher.hexdigest():
                    raise BadArchive(f"{parts[number].name} is damaged: get that part again")
        whole.append(path)
    return whole


def _sums(path: Path) -> dict[str, str]:
    """Digests by name, as ``sha256sum`` writes them."""
    if not path.exists():
        return {}
    found = {}
    for line in path.read_text(encoding="utf-8").splitlines():
        digest, _, name = line.partition("  ")
        found[name] = digest
    return found
