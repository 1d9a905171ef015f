"""A backend in object storage, or wherever fsspec has a driver for (https://filesystem-spec.readthedocs.io).

``s3://bucket/folder`` and the like; the driver (s3fs, gcsfs, adlfs) is installed beside Vetrin, and finds its
credentials in its own ways. Object storage lets a piece appear as a whole or not at all.
"""

from __future__ import annotations

import contextlib
import posixpath
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from typing import Any

from ..errors import MissingPiece, StoreError


class CloudBackend:
    """Implements ``Backend``. What is there is asked once; only this process's own changes are followed."""

    is_remote = True
    writers = 8

    def __init__(self, address: str, **options: Any) -> None:
        import fsspec  # type: ignore[import-untyped]

        self.where = address
        scheme = address.partition("://")[0]
        try:
            self._system, self._folder = fsspec.core.url_to_fs(address, **options)
        except ImportError as error:
            raise StoreError(
                f"{address}: the driver for {scheme}:// is not installed ({error}); install it beside Vetrin"
            ) from error
        except ValueError as error:
            raise StoreError(f"{address}: no driver is known for {scheme}://") from error
        self._folder = self._folder.rstrip("/")
        self._listed: dict[str, dict[str, int]] = {}

    def read(self, name: str) -> bytes:
        with self._said(name):
            return bytes(self._system.cat_file(self._path(name)))

    def fetch(self, names: Sequence[str]) -> dict[str, bytes]:
        paths = [self._path(name) for name in names]
        with self._said(""):
            # Not ``cat``, which asks for each one whether it is there.
            found = self._system.cat_ranges(paths, None, None, on_error="return")
        return {
            name: bytes(content)
            for name, content in zip(names, found, strict=True)
            if not isinstance(content, BaseException)
        }

    def write(self, name: str, content: bytes) -> None:
        with self._said(name):
            path = self._path(name)
            try:
                self._system.pipe_file(path, content)
            except (
                FileNotFoundError
            ):  # where folders are real; elsewhere each question costs its time
                bucket = path.partition("/")[0]
                if bucket and not self._system.exists(bucket):
                    raise StoreError(f"{self.where}: there is no {bucket}; make it first") from None
                self._system.makedirs(posixpath.dirname(path), exist_ok=True)
                self._system.pipe_file(path, content)
        for folder, names in list(self._listed.items()):
            if name.startswith(f"{folder}/"):
                names[name] = len(content)

    def settle(self) -> None:
        """Nothing: what was written is there."""

    def has(self, name: str) -> bool:
        folder = name.partition("/")[0]
        if "/" not in name:
            with self._said(name):
                return bool(self._system.exists(self._path(name)))
        if folder not in self._listed:
            self._listed[folder] = dict(self.names(folder))
        return name in self._listed[folder]

    def names(self, folder: str) -> Iterator[tuple[str, int]]:
        path = self._path(folder)
        with self._said(folder):
            self._system.invalidate_cache(path)
            try:
                found = self._system.find(path, detail=True)
            except FileNotFoundError:
                return
        start = len(self._folder.lstrip("/")) + 1
        for place, about in sorted(found.items()):
            yield place.lstrip("/")[start:], int(about["size"] or 0)

    def age(self, name: str) -> float | None:
        try:
            with self._said(name):
                changed: datetime = self._system.modified(self._path(name))
        except MissingPiece:
            return None
        if changed.tzinfo is None:
            changed = changed.replace(tzinfo=UTC)
        return max(0.0, (datetime.now(UTC) - changed).total_seconds())

    def remove(self, name: str) -> None:
        with contextlib.suppress(MissingPiece), self._said(name):
            self._system.rm_file(self._path(name))
        for names in self._listed.values():
            names.pop(name, None)

    def rename(self, old: str, new: str) -> None:
        self.write(new, self.read(old))
        self.remove(old)

    def give_up(self) -> None:
        """Nothing: what was written is there, and is swept when the store is thinned."""

    def sweep(self) -> None:
        """Nothing is left half-written here."""

    def _path(self, name: str) -> str:
        return f"{self._folder}/{name}"

    @contextlib.contextmanager
    def _said(self, name: str) -> Iterator[None]:
        try:
            yield
        except StoreError:
            raise
        except FileNotFoundError as error:
            raise MissingPiece(f"{self.where}/{name} is missing") from error
        except Exception as error:  # each driver has errors of its own
            raise StoreError(f"{self.where}/{name}: {type(error).__name__}: {error}") from error
