"""Laying out the sample project in a folder, and running its three servers."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

from msgspec import Struct

from ..errors import DemoError
from .content import LOCAL, PRODUCTION, PUBLIC_ADDRESS, STAGING, Stage, fill

STAGES = (LOCAL, STAGING, PRODUCTION)
FIRST_PORT = 8411


class Sample(Struct, frozen=True):
    """A sample project: its folder, and the port of each environment."""

    folder: Path
    ports: dict[str, int]

    def root(self, environment: str) -> Path:
        return self.folder / environment

    def address(self, environment: str) -> str:
        return f"http://127.0.0.1:{self.ports[environment]}"


def lay_out(folder: Path, scale: int = 1) -> Sample:
    """Make the project in ``folder``, which must be empty or not there yet.

    Raises:
        DemoError: something is in the folder already.
    """
    if folder.exists() and any(folder.iterdir()):
        raise DemoError(f"{folder} is not empty; name a new folder")
    folder.mkdir(parents=True, exist_ok=True)
    folder = folder.resolve()
    ports = dict(zip((stage.name for stage in STAGES), _free_ports(len(STAGES)), strict=True))
    sample = Sample(folder, ports)
    for stage in STAGES:
        _site(sample, stage, scale)
    (folder / "vetrin.toml").write_text(_project(sample), encoding="utf-8")
    return sample


def _site(sample: Sample, stage: Stage, scale: int) -> None:
    root = sample.root(stage.name)
    for path, text in {
        "fishplate/version.toml": f'version = "{"2.4" if stage is PRODUCTION else "2.3"}"\n',
        "fishplate.toml": "# Fishplate's own settings for this copy; a transfer leaves them alone.\n"
        '[database]\nfile = "data/harrowmere.sqlite"\n',
        **_theme(stage),
        **_extras(stage),
        # Made by Fishplate from its settings, with absolute addresses: it follows each transfer.
        "media/generated/site.css": f"main {{ background: url({sample.address(stage.name)}"
        "/media/2026/04/train-01.png) no-repeat right bottom / 8em }\n",
    }.items():
        file = root / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text, encoding="utf-8")
    fill(root, sample.address(stage.name), stage, scale)


def _theme(stage: Stage) -> dict[str, str]:
    """The theme, its style put together from parts by [build]; at home somebody works on it."""
    parts = {
        "10-type.css": "body { color: #2b2622 }\n",
        "20-links.css": "nav a { color: #26543e }\n",
    }
    if stage is LOCAL:
        parts["30-winter.css"] = "header { border-color: #2c3e6e }\n"
    footer = "Run by volunteers, also in winter" if stage is LOCAL else "Run by volunteers"
    built = dict(list(parts.items())[:2])
    return {
        **{f"themes/maroon/parts/{name}": text for name, text in parts.items()},
        "themes/maroon/style.css": "".join(built.values()),
        "themes/maroon/theme.toml": f'footer = "{footer}"\n',
    }


def _extras(stage: Stage) -> dict[str, str]:
    """The extensions that an environment has; production has one more, and a newer one."""
    versions = {"donation-box": "1.3", "visitor-map": "0.8"}
    if stage is PRODUCTION:
        versions |= {"live-departures": "2.0", "donation-box": "1.4"}
    if stage is LOCAL:
        versions |= {"santa-specials": "0.1", "donation-box": "1.4"}
    return {
        f"extras/{name}/extra.toml": f'title = "{name.replace("-", " ").capitalize()}"\n'
        f'version = "{version}"\n'
        for name, version in versions.items()
    }


def _project(sample: Sample) -> str:
    return f"""# The sample project of `vetrin demo`.

[site]
name = "Harrowmere Light Railway"
cms = "fishplate"

[build]    # what `vetrin push` does before it sends anything
folder = "local/themes/maroon"
commands = ["cat parts/*.css > style.css"]
produces = ["themes/maroon/style.css"]
checks = ["grep -q body style.css"]

[environment.local]
address = "{sample.address("local")}"
root = "local"

[environment.staging]
address = "{sample.address("staging")}"
root = "staging"

[environment.production]
address = "{sample.address("production")}"
also = ["{PUBLIC_ADDRESS}"]    # further addresses that mean this environment
root = "production"
access = "read-only"    # pulls read it, nothing writes to it
"""


def _free_ports(count: int) -> list[int]:
    """The usual ports where they are free, so that pictures of the demo stay the same."""
    found: list[int] = []
    for port in range(FIRST_PORT, FIRST_PORT + 200):
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            probe.bind(("127.0.0.1", port))
            found.append(port)
        if len(found) == count:
            return found
    raise DemoError("no free ports on the loopback address")


@contextlib.contextmanager
def servers(sample: Sample) -> Iterator[None]:
    """Serve all environments of a sample project while the context lasts.

    Raises:
        DemoError: one of them does not come up.
    """
    running: list[subprocess.Popen[bytes]] = []
    try:
        for name, port in sample.ports.items():
            running.append(
                subprocess.Popen(
                    [sys.executable, "-m", "vetrin.demo.server", str(sample.root(name)), str(port)],
                    stdin=subprocess.DEVNULL,
                    stdout=subprocess.DEVNULL,
                )
            )
        for process, port in zip(running, sample.ports.values(), strict=True):
            _wait(process, port)
        yield
    finally:
        for process in running:
            process.terminate()
        for process in running:
            process.wait()


def _wait(process: subprocess.Popen[bytes], port: int) -> None:
    deadline = time.monotonic() + 20
    while time.monotonic() < deadline and process.poll() is None:
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
            return
        time.sleep(0.05)
    raise DemoError(f"the sample's server on port {port} did not start")
