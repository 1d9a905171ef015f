"""A real Wagtail: laid out by its own `wagtail start`, filled through its own models."""

from __future__ import annotations

import subprocess
import sys
from dataclasses import dataclass, field
from pathlib import Path

from systems import free_port, wait_for

FILL = """
import os, sys
os.environ["DJANGO_SETTINGS_MODULE"] = "railway.settings.dev"
import django; django.setup()
from io import BytesIO
from PIL import Image as Picture
from django.contrib.auth.models import User
from django.core.files.images import ImageFile
from wagtail.models import Page, Site
from wagtail.images.models import Image
from home.models import HomePage
port, full = int(sys.argv[1]), sys.argv[2] == "full"
Site.objects.update(hostname="127.0.0.1", port=port, site_name="Harrowmere Light Railway")
User.objects.create_superuser("stationmaster" if full else "tinkerer", "desk@harrowmere.example", "word-of-the-line")
if full:
    home = HomePage.objects.first()
    for number in range(1, 8):
        page = home.add_child(instance=HomePage(title=f"Timetable {number}", slug=f"timetable-{number}",
            search_description=f"See http://127.0.0.1:{port}/fares/ or {os.getcwd()}/media"))
        for turn in range(3):
            page.title = f"Timetable {number}, edition {turn}"
            page.save_revision().publish()
    blob = BytesIO(); Picture.new("RGB", (90, 60), "maroon").save(blob, "PNG"); blob.seek(0)
    Image.objects.create(title="Train", file=ImageFile(blob, name="train.png"))
"""


@dataclass
class Wagtail:
    folder: Path
    port: int = field(default_factory=free_port)
    process: subprocess.Popen[bytes] | None = None

    @property
    def root(self) -> Path:
        return self.folder / "railway"

    @property
    def address(self) -> str:
        return f"http://127.0.0.1:{self.port}"

    def install(self, fill: str) -> None:
        self.folder.mkdir(parents=True)
        self._run([str(Path(sys.executable).parent / "wagtail"), "start", "railway"], self.folder)
        self._run([sys.executable, "manage.py", "migrate", "--verbosity", "0"], self.root)
        self._run([sys.executable, "-c", FILL, str(self.port), fill], self.root)

    @staticmethod
    def _run(command: list[str], folder: Path) -> str:
        done = subprocess.run(command, cwd=folder, capture_output=True, text=True)
        if done.returncode:
            raise RuntimeError(done.stdout + done.stderr)
        return done.stdout

    def ask(self, code: str) -> str:
        """What a line of Python says inside this site."""
        head = (
            "import os; os.environ['DJANGO_SETTINGS_MODULE'] = 'railway.settings.dev'\n"
            "import django; django.setup()\n"
        )
        return self._run([sys.executable, "-c", head + code], self.root).strip()

    def serve(self) -> None:
        self.process = subprocess.Popen(
            [sys.executable, "manage.py", "runserver", "--noreload", f"127.0.0.1:{self.port}"],
            cwd=self.root, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        wait_for(f"{self.address}/admin/login/")

    def stop(self) -> None:
        if self.process is not None:
            self.process.terminate()
            self.process.wait()
