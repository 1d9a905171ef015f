"""Files with a passphrase: OpenPGP (RFC 9580), made and opened by the GnuPG program, ``gpg``.

It is on nearly every Linux, so whoever receives such a file opens it by ``gpg -d``. The passphrase goes to it through
a pipe; it keeps nothing, for it gets a folder of its own that is gone afterwards.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import subprocess
import tempfile
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import IO, cast

from ..errors import StoreError, WrongPassphrase

ENDING = ".gpg"
_BLOCK = 1 << 18
_ARMOUR = b"-----BEGIN PGP MESSAGE-----"
_SEAL = (
    "--symmetric", "--cipher-algo", "AES256", "--s2k-digest-algo", "SHA512", "--s2k-count", "65011712",
    "--compress-algo", "none",
)  # fmt: skip


def is_sealed(path: Path) -> bool:
    """True for a file that begins as OpenPGP messages with a passphrase do."""
    with path.open("rb") as file:
        head = file.read(len(_ARMOUR))
    return head == _ARMOUR or (len(head) > 2 and head[0] in (0x8C, 0xC3) and head[2] == 4)


@contextlib.contextmanager
def sealing(sink: IO[bytes], passphrase: str) -> Iterator[IO[bytes]]:
    """A file to write to; what is written reaches ``sink`` sealed, all of it once the context has ended.

    Raises:
        StoreError: ``gpg`` is not there or fails.
        OSError: the sink cannot be written to.
    """
    failed: list[OSError] = []
    broken: BrokenPipeError | None = None
    with _running(
        [*_SEAL, "--output", "-"], passphrase, subprocess.PIPE, subprocess.PIPE
    ) as process:
        assert process.stdin is not None and process.stdout is not None

        def carry() -> None:
            try:
                while block := process.stdout.read(_BLOCK):  # type: ignore[union-attr]
                    sink.write(block)
            except OSError as error:
                failed.append(error)
                process.kill()

        carrier = threading.Thread(target=carry, daemon=True)
        carrier.start()
        into = _Into(process.stdin)
        try:
            yield cast(IO[bytes], into)
            process.stdin.close()
        except BrokenPipeError as error:  # gpg is gone; why, it has said, or who writes has failed
            broken = error
        finally:
            into.open = False
            if process.poll() is None and not process.stdin.closed:
                process.kill()
            carrier.join()
        if failed:
            raise failed[0]
        _check(process, "the archive cannot be sealed")
        if broken is not None:
            raise StoreError("the archive cannot be sealed: gpg ended too early") from broken


class _Into:
    """What is to be sealed; what a compressor still has to say when it is thrown away goes nowhere."""

    def __init__(self, pipe: IO[bytes]) -> None:
        self._pipe = pipe
        self.open = True

    def write(self, data: bytes) -> int:
        return self._pipe.write(data) if self.open else len(data)

    def flush(self) -> None:
        if self.open:
            self._pipe.flush()


def unseal(path: Path, into: Path, passphrase: str, most: int) -> None:
    """Write what a file holds into another one, of at most ``most`` bytes, once it is proved as a whole.

    Raises:
        WrongPassphrase: it is another one.
        StoreError: ``gpg`` is not there, the file is damaged, or it holds more.
    """
    command = ["--max-output", str(most), "--output", str(into), "--decrypt", str(path)]
    try:
        with _running(command, passphrase) as process:
            _check(process, f"{path.name} cannot be opened")
    except BaseException:
        into.unlink(missing_ok=True)
        raise


@contextlib.contextmanager
def _running(
    command: Sequence[str],
    passphrase: str,
    stdin: int = subprocess.DEVNULL,
    stdout: int = subprocess.DEVNULL,
) -> Iterator[subprocess.Popen[bytes]]:
    program = shutil.which("gpg")
    if program is None:
        raise StoreError(
            f"a {ENDING} needs the program gpg, and it is not here: install GnuPG, or use a .zip"
        )
    with tempfile.TemporaryDirectory(prefix="vetrin-") as home:
        reading, writing = os.pipe()
        try:
            process = subprocess.Popen(
                [
                    program, "--homedir", home, "--batch", "--quiet", "--no-tty", "--no-autostart",
                    "--no-symkey-cache", "--pinentry-mode", "loopback", "--passphrase-fd", str(reading), *command,
                ],
                stdin=stdin, stdout=stdout, stderr=subprocess.PIPE, pass_fds=[reading],
                env={**os.environ, "LC_ALL": "C"},
            )  # fmt: skip
            os.write(writing, passphrase.encode() + b"\n")
        finally:
            os.close(reading)
            os.close(writing)
        try:
            yield process
        finally:
            if process.poll() is None:
                process.kill()
            process.wait()
            for stream in (process.stdin, process.stdout, process.stderr):
                with contextlib.suppress(OSError):  # what was still to be sent goes nowhere
                    if stream is not None:
                        stream.close()


def _check(process: subprocess.Popen[bytes], what: str) -> None:
    """Wait for the end of it, and raise what it says where it failed."""
    assert process.stderr is not None
    text = process.stderr.read().decode("utf-8", "replace")
    if process.wait() == 0:
        return
    if "Bad session key" in text or "Bad passphrase" in text:
        raise WrongPassphrase(f"{what}: the passphrase is not the one that it was made with")
    if "exceeded --max-output limit" in text:
        raise StoreError(f"{what}: it becomes far more than it is, which no ordinary archive does")
    reason = re.search(r"error (?:writing|creating|reading).*?: (.*)|can't .*?: (.*)", text)
    raise StoreError(f"{what}: {reason[1] or reason[2] if reason else 'it is damaged, or cut off'}")
