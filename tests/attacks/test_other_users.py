"""What the other users of a machine can read of what Vetrin keeps and packs."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from pathlib import Path

import pytest

from test_command_line import vetrin
from vetrin.demo.sample import Sample
from vetrin.files import own_folder
from vetrin.private import private_file


@pytest.fixture(autouse=True)
def careless() -> Iterator[None]:
    """Somebody's shell that lets everybody read and write."""
    before = os.umask(0)
    yield
    os.umask(before)


def open_to_others(path: Path) -> bool:
    return bool(path.lstat().st_mode & 0o077)


@pytest.mark.parametrize(
    "words",
    [("status",), ("pull", "--yes"), ("pull", "--dry-run"), ("backup", "production"),
     ("export", "production", "handed.zip"), ("compare", "local", "staging"), ("push", "staging", "--yes")],
)  # fmt: skip
def test_what_is_kept_is_its_owners_alone(sample: Sample, words: tuple[str, ...]) -> None:
    vetrin(sample.folder, *words, code=None)
    own = [path for path in sample.folder.rglob(".vetrin") if path.is_dir()]
    assert own or words[0] not in ("pull", "backup", "push")
    assert not [path for path in own if open_to_others(path)]
    for path in sample.folder.glob("handed*"):
        assert not open_to_others(path)


def test_a_folder_that_others_could_look_into_is_shut(sample: Sample) -> None:
    (sample.folder / ".vetrin").mkdir(mode=0o755)
    vetrin(sample.folder, "pull", "--yes")
    assert not open_to_others(sample.folder / ".vetrin")


def test_a_root_that_is_made_is_no_secret(tmp_path: Path) -> None:
    """Where a site is to be, a web server has to look into."""
    own = own_folder(tmp_path / "new/root")
    assert not open_to_others(own)
    assert open_to_others(own.parent) and open_to_others(own.parent.parent)


def test_a_store_in_a_folder_that_all_can_read(sample: Sample) -> None:
    store = sample.folder / "shared"
    store.mkdir(mode=0o755)
    text = (sample.folder / "vetrin.toml").read_text()
    (sample.folder / "vetrin.toml").write_text(text + '\n[store]\nplace = "shared"\n')
    vetrin(sample.folder, "backup", "production")
    files = [path for path in store.rglob("*") if path.is_file()]
    assert files and not [path for path in files if open_to_others(path)]


def test_a_private_file_is_so_before_anything_is_in_it(tmp_path: Path) -> None:
    (tmp_path / "elsewhere").write_text("theirs")
    (tmp_path / "new").symlink_to("elsewhere")
    with private_file(tmp_path / "new") as file:
        assert stat.S_IMODE(os.fstat(file.fileno()).st_mode) == 0o600
        file.write(b"ours")
    assert (tmp_path / "elsewhere").read_text() == "theirs"
    assert (tmp_path / "new").read_bytes() == b"ours"
