"""Folders of a site, each opened in the one above it, so that what is written lands where it was looked at.

Whoever else can write into a site could put a link in a folder's place, and have files renamed to wherever it
leads. A link on the way is followed only where it belongs to this account or to the superuser: a folder that a
deployment links in, not one that somebody smuggled in.

The helper has this text in front of its own: it is for Python 3.6 and later, with nothing but its own library.
"""

import contextlib
import errno
import os
import stat

_HOW = getattr(os, "O_PATH", os.O_RDONLY) | os.O_DIRECTORY


class At:
    """The last name of a path, in the folder that it lies in, which is held open as ``folder``."""

    def __init__(self, folder: int, name: bytes) -> None:
        self.folder = folder
        self.name = name

    def look(self) -> os.stat_result:
        """Raises FileNotFoundError."""
        return os.stat(self.name, dir_fd=self.folder, follow_symlinks=False)

    def there(self) -> bool:
        try:
            self.look()
        except FileNotFoundError:
            return False
        return True

    def __enter__(self) -> "At":
        return self

    def __exit__(self, *error: object) -> None:
        os.close(self.folder)


class LedAway(OSError):
    """A link of another account lies on the way."""


class Named:
    """What goes wrong inside is told of a whole path, not of its last name."""

    def __init__(self, path: bytes) -> None:
        self.path = path

    def __enter__(self) -> None:
        return

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        if isinstance(error, OSError) and not isinstance(error, LedAway):
            raise OSError(error.errno, error.strerror, self.path) from error


class Below:
    """What lies below a root. Without one, any link is followed. Everything raises OSError."""

    def __init__(self, root: bytes = b"") -> None:
        self.root = root.rstrip(b"/")

    def at(self, path: bytes, make: bool = False) -> At:
        """Hold the folder that ``path`` lies in; with ``make``, make what is missing of it."""
        above, _, name = path.rpartition(b"/")
        return At(self._held(above or b"/", make), name)

    def make(self, folder: bytes) -> None:
        """Make a folder, with those above it, where it is missing."""
        os.close(self._held(folder, True))

    def rename(self, path: bytes, other: bytes, make: bool = False) -> None:
        """Rename something; nothing is replaced."""
        with self.at(path) as one, self.at(other, make) as two, Named(other):
            if two.there():
                raise FileExistsError(errno.EEXIST, "something is there already")
            os.rename(one.name, two.name, src_dir_fd=one.folder, dst_dir_fd=two.folder)

    def swap(self, path: bytes, other: bytes) -> bool:
        """Let two names change over at once, by renameat2(2) of Linux or renameatx_np(2) of macOS; False where that
        cannot be done, and nothing has changed."""
        # Slow to load on some systems, and not always needed.
        import ctypes

        with self.at(path) as one, self.at(other) as two:
            names = (one.folder, one.name, two.folder, two.name, 2)
            library = ctypes.CDLL(None, use_errno=True)
            try:
                call = getattr(library, "renameat2", None) or library.renameatx_np
                return bool(call(*names) == 0)
            except (AttributeError, OSError):
                return False

    def remove_folder(self, path: bytes) -> None:
        with self.at(path) as one, Named(path):
            os.rmdir(one.name, dir_fd=one.folder)

    def mode(self, path: bytes, mode: int) -> None:
        with self.at(path) as one, Named(path):
            if stat.S_ISLNK(one.look().st_mode):
                raise OSError(errno.ELOOP, "it is a link")
            os.chmod(one.name, mode, dir_fd=one.folder)

    def _held(self, folder: bytes, make: bool) -> int:
        if not self.root or not (folder + b"/").startswith(self.root + b"/"):
            if make:
                os.makedirs(folder, exist_ok=True)
            return os.open(folder, _HOW)
        if make:
            os.makedirs(self.root, exist_ok=True)
        held, path = os.open(self.root, _HOW), self.root
        try:
            for name in filter(None, folder[len(self.root) :].split(b"/")):
                path += b"/" + name
                with Named(path):
                    below = _opened(held, path, make)
                os.close(held)
                held = below
        except BaseException:
            os.close(held)
            raise
        return held


def _opened(held: int, path: bytes, make: bool) -> int:
    name = path.rpartition(b"/")[2]
    try:
        return os.open(name, _HOW | os.O_NOFOLLOW, dir_fd=held)
    except FileNotFoundError:
        if not make:
            raise
    except OSError as error:
        if error.errno not in (errno.ENOTDIR, errno.ELOOP):
            raise
        about = os.stat(name, dir_fd=held, follow_symlinks=False)
        if not stat.S_ISLNK(about.st_mode):
            raise
        if about.st_uid not in (0, os.geteuid()):
            why = " is a link that another account made; if it is meant to be there, make it your own (chown -h)"
            raise LedAway(errno.ELOOP, os.fsdecode(path) + why) from error
        return os.open(name, _HOW, dir_fd=held)
    with contextlib.suppress(FileExistsError):  # another one made it just now
        os.mkdir(name, dir_fd=held)
    return os.open(name, _HOW | os.O_NOFOLLOW, dir_fd=held)
