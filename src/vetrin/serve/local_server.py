"""The web server of a local copy: PHP's own with the rules of the CMS, or a command that its definition names."""

from __future__ import annotations

import contextlib
import os
import shlex
import signal
import socket
import subprocess
import sys
import time
from importlib import resources
from pathlib import Path
from types import TracebackType
from typing import IO

from ..cms import Definition
from ..config import Environment
from ..errors import UsageError, VetrinError

_PATIENCE = 30.0  # seconds until it answers
_BIGGEST = 5 << 20  # bytes of a log, which is begun anew then
_TOLD = 3  # lines of the log that an error shows


class LocalServer:
    """A web server while it runs. ``log`` is the file of what it says, ``mail`` of the mail that PHP sends."""

    def __init__(
        self, definition: Definition, environment: Environment, folder: Path, workers: int = 4
    ) -> None:
        self._words = command_line(definition, environment, folder)
        self._environ = _environ(definition, environment, workers)
        self._address = environment.address
        self._root = environment.root
        self.log = folder / f"{environment.name}.log"
        self.mail = folder / "mail.log"
        self._process: subprocess.Popen[bytes] | None = None

    def __enter__(self) -> LocalServer:
        self.log.parent.mkdir(parents=True, exist_ok=True)
        with _log(self.log) as log:
            try:
                # A group of its own: Ctrl-C at the terminal is for us to pass on.
                self._process = subprocess.Popen(
                    self._words, cwd=self._root, env=self._environ, stdin=subprocess.DEVNULL,
                    stdout=log, stderr=log, start_new_session=True,
                )  # fmt: skip
            except OSError as error:
                raise VetrinError(
                    f"{self._words[0]} cannot be run: {error.strerror}", "see that it is installed"
                ) from error
        try:
            self._wait()
        except BaseException:
            self._end()
            raise
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self._end()

    def wait(self) -> None:
        """Stay until the server ends. Raises VetrinError, as it is not meant to."""
        assert self._process is not None
        self._process.wait()
        self._ended()

    def _wait(self) -> None:
        assert self._process is not None
        deadline = time.monotonic() + _PATIENCE
        while time.monotonic() < deadline:
            if self._process.poll() is not None:
                self._ended()
            with (
                contextlib.suppress(OSError),
                socket.create_connection(("127.0.0.1", self._address.port or 80), 1),
            ):
                return
            time.sleep(0.05)
        raise VetrinError(
            f"nothing answers at port {self._address.port or 80} after {_PATIENCE:.0f} s",
            f"{self.log} says more",
        )

    def _ended(self) -> None:
        lines = self.log.read_text(encoding="utf-8", errors="replace").splitlines()[-_TOLD:]
        raise VetrinError("the web server ended: " + " / ".join(lines), f"{self.log} says more")

    def _end(self) -> None:
        if self._process is None:
            return
        with contextlib.suppress(ProcessLookupError):
            os.killpg(self._process.pid, signal.SIGTERM)
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            with contextlib.suppress(ProcessLookupError):
                os.killpg(self._process.pid, signal.SIGKILL)
            self._process.wait()


def command_line(definition: Definition, environment: Environment, folder: Path) -> list[str]:
    """The words that start the web server of an environment on this machine.

    Raises:
        UsageError: its definition does not say how.
    """
    rule = definition.serve
    port = str(environment.address.port or 80)
    if rule is None or not (rule.command or rule.front):
        raise UsageError(
            f"the definition of {definition.title} does not say how it is served",
            "give it a table [serve] (docs/definitions.md), or start its web server by hand",
        )
    if rule.command:
        values = {"python": _python(environment.root), "own-python": sys.executable, "root": str(environment.root),
                  "host": "127.0.0.1", "port": port}  # fmt: skip
        return [_filled(word, values) for word in rule.command]
    settings = {
        "log_errors": "1", "display_errors": "0", "upload_max_filesize": "512M", "post_max_size": "512M",
        # A copy sends no mail to anybody: what it would send is kept.
        "sendmail_path": f"cat >> {shlex.quote(str(folder / 'mail.log'))}",
    }  # fmt: skip
    words = [word for name, value in settings.items() for word in ("-d", f"{name}={value}")]
    router = str(resources.files("vetrin.serve") / "router.php")
    return ["php", *words, "-S", f"127.0.0.1:{port}", "-t", str(environment.root), router]


def _filled(word: str, values: dict[str, str]) -> str:
    for name, value in values.items():
        word = word.replace("{" + name + "}", value)
    return word


def _python(root: Path) -> str:
    """The Python of a site: of its virtual environment in the root or beside it, else the usual one."""
    for folder in (root, root.parent):
        for name in (".venv", "venv", "env"):
            path = folder / name / "bin" / "python"
            if path.is_file():
                return str(path)
    return "python3"


def _environ(definition: Definition, environment: Environment, workers: int) -> dict[str, str]:
    found = {name: value for name, value in os.environ.items() if not name.startswith("VETRIN_")}
    rule = definition.serve
    if rule is not None and rule.front and not rule.command:
        found["VETRIN_ROOT"] = str(environment.root)
        found["VETRIN_BASE"] = environment.address.path
        found["VETRIN_FRONT"] = rule.front
        found["PHP_CLI_SERVER_WORKERS"] = str(workers)
    return found


def _log(path: Path) -> IO[bytes]:
    if path.exists() and path.stat().st_size > _BIGGEST:
        path.replace(path.with_suffix(".old.log"))
    return path.open("ab")
