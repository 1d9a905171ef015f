"""The sample railway as a project, with its store."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from connected import hosts
from vetrin.config import load_project
from vetrin.demo.sample import lay_out
from vetrin.jobs import take_snapshot
from vetrin.site import open_site
from vetrin.store import (
    FolderBackend,
    Manifest,
    Store,
)


class Railway:
    """The sample project, and its store."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        lay_out(folder, 1)
        self.project = load_project(folder)
        self.store = Store(FolderBackend(folder / ".vetrin/store"))

    def backup(self, environment: str = "production", **more: object) -> Manifest:
        with open_site(hosts, self.project, self.project.environment(environment)) as site:
            return take_snapshot(site, self.store, **more)  # type: ignore[arg-type]

    def objects(self) -> list[Path]:
        return sorted((self.folder / ".vetrin/store/objects").rglob("*.zst"))

    def vetrin(self, *words: str, code: int = 0, **environ: str) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *words],
            cwd=self.folder,
            capture_output=True,
            text=True,
            env={**os.environ, **environ},
        )
        assert done.returncode == code, done.stdout + done.stderr
        return done.stdout
