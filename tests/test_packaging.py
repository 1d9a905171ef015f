"""What is released: a source archive, and a wheel made of it, that hold all that the program needs to run."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tarfile
from pathlib import Path

import pytest

HOME = Path(__file__).parent.parent
CHECK = """
import sys
from importlib import resources
from pathlib import Path
import vetrin
assert vetrin.__file__.startswith(sys.argv[1]), vetrin.__file__
from vetrin.cms import load_definition
from vetrin.remote.helper_scripts import source
assert source("helper.php").startswith(b"<?php")
compile(source("helper.py"), "helper.py", "exec")
for name in ("wordpress", "wagtail", "plain", "fishplate"):
    load_definition(name, Path("."))
assert resources.files("vetrin").joinpath("py.typed").is_file()
assert resources.files("vetrin").joinpath("schemas/status.json").is_file()
assert resources.files("vetrin").joinpath("serve/router.php").is_file()
assert (Path(sys.argv[1]) / "share/man/man1/vetrin.1").is_file()
"""


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The source archive, and the wheel that is made out of it, of the tree as it is, without Git."""
    folder = tmp_path_factory.mktemp("packaging")
    tree = folder / "tree"
    tree.mkdir()
    for name in (
        "src",
        "docs",
        "pyproject.toml",
        "README.md",
        "LICENSE",
        "CHANGELOG.md",
        "SECURITY.md",
    ):
        if (HOME / name).is_dir():
            shutil.copytree(HOME / name, tree / name, ignore=shutil.ignore_patterns("__pycache__"))
        else:
            shutil.copy(HOME / name, tree / name)
    done = subprocess.run(
        [sys.executable, "-m", "build", "--outdir", str(folder / "dist"), str(tree)],
        capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    return folder / "dist"


def test_the_source_archive_holds_nothing_but_the_program_and_its_docs(built: Path) -> None:
    (path,) = built.glob("*.tar.gz")
    with tarfile.open(path) as archive:
        names = {name.partition("/")[2] for name in archive.getnames()}
    assert {"LICENSE", "README.md", "docs/pull.md", "src/vetrin/cli/main.py"} <= names
    assert not [name for name in names if name.startswith(("tests", "docs/screenshots", ".ci"))]


def test_the_wheel_runs_where_it_is_installed(built: Path, tmp_path: Path) -> None:
    (wheel,) = built.glob("*.whl")
    place = tmp_path / "installed"
    subprocess.run(
        [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--target", str(place), str(wheel)],
        check=True, capture_output=True,
    )  # fmt: skip
    environ = {**os.environ, "PYTHONPATH": str(place)}
    subprocess.run([sys.executable, "-c", CHECK, str(place)], check=True, env=environ, cwd=tmp_path)
    said = subprocess.run(
        [sys.executable, "-m", "vetrin", "--version"],
        check=True, env=environ, cwd=tmp_path, capture_output=True, text=True,
    )  # fmt: skip
    assert said.stdout == f"vetrin {wheel.name.split('-')[1]}\n"
