"""What must not lie where a web server hands it out, and what a push or an export would bring there."""

from __future__ import annotations

import shutil
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import own_server
from systems import Mariadb, answer
from test_command_line import document, vetrin
from vetrin.demo.sample import Sample
from vetrin.errors import Refused
from vetrin.files import LocalTree, withheld
from vetrin.jobs.passwords import must_hold_none
from ways import Line, line_by

STAYS = [
    ".env", ".env.local", "app/.env.production", "prod.env", ".ENV", ".envrc", ".git-credentials", ".netrc", ".my.cnf",
    ".htpasswd", "deploy/id_rsa", "id_ed25519", "id_ed25519.old", ".ssh/config", "home/.aws/credentials", "a/key.p12",
    "server.pem", "tls/server.key", "auth.json", ".bash_history", ".mysql_history",
    "wp-config.php.bak", "wp-config.php~", ".wp-config.php.swp", "wp-config-old.php", "wp-config.old.php", "wp-config2.php",
    "wp-config copy.php", "wp-config (1).php", "#wp-config.php#", "backup-wp-config.php", "WP-CONFIG.PHP.BAK", "wp-config.phps",
    "themes/maroon/style.css~", "index.php.orig", "index.php.save", ".index.php.swp", "old/wp-config.php.txt",
]  # fmt: skip
GOES = [
    "index.php", "wp-config-sample.php", ".env.example", "a/.env.sample", "plugins/mail/cacert.pem", "plugins/mail/auth.json",
    "themes/maroon/style.css", "environment.php", "wp-configuration.php", "uploads/2026/talk.key", "uploads/2026/photo.old",
    "keys.php", "monkey.php", ".htaccess", ".well-known/security.txt", "id_rsa.pub", "configure.php", "old/index.php",
]  # fmt: skip


@pytest.fixture(scope="module")
def why() -> object:
    return withheld(
        ["wp-config.php"],
        lambda path: not path.startswith(("plugins/", "uploads/")),
        lambda path: path.startswith("uploads/"),
    )


@pytest.mark.parametrize("path", STAYS)
def test_what_stays(why, path: str) -> None:  # type: ignore[no-untyped-def]
    assert why(path)


@pytest.mark.parametrize("path", GOES)
def test_what_goes(why, path: str) -> None:  # type: ignore[no-untyped-def]
    assert why(path) == ""


SECRETS = (".env", "fishplate.toml.bak", "extras/donation-box/.git-credentials", "themes/maroon/style.css~",
           "vetrin.toml", "fishplate-old.toml")  # fmt: skip


def plant(root: Path, text: str) -> None:
    for path in SECRETS:
        (root / path).parent.mkdir(parents=True, exist_ok=True)
        (root / path).write_text(text)


def planted(root: Path) -> dict[str, str]:
    return {path: (root / path).read_text() for path in SECRETS if (root / path).exists()}


def test_a_push_brings_none_up_and_takes_none_away(sample: Sample) -> None:
    local, staging = sample.root("local"), sample.root("staging")
    plant(local, "ours")
    done = vetrin(sample.folder, "push", "staging", "--yes", code=None)
    said = " ".join((done.stdout + done.stderr).split())
    assert (
        "environment files, keys and credentials (.env, extras/donation-box/.git-credentials)"
        in said
    )
    assert "copies of the configuration (fishplate-old.toml, fishplate.toml.bak)" in said
    assert planted(staging) == {}
    plant(staging, "theirs")
    vetrin(sample.folder, "push", "staging", "--mirror", "--yes", code=None)
    vetrin(
        sample.folder,
        "pull",
        "production",
        "--to",
        "staging",
        "--parts",
        "code,media",
        "--mirror",
        "--yes",
    )
    assert planted(staging) == dict.fromkeys(SECRETS, "theirs")


def test_vetrins_own_file_is_no_part_of_a_site(sample: Sample) -> None:
    """Nor where a pull makes one side like the other."""
    (sample.root("local") / "vetrin.toml").write_text("ours")
    (sample.root("production") / "vetrin.toml").write_text("theirs")
    vetrin(sample.folder, "pull", "--parts", "code", "--mirror", "--yes")
    assert (sample.root("local") / "vetrin.toml").read_text() == "ours"


def test_an_export_packs_none(sample: Sample) -> None:
    plant(sample.root("production"), "theirs")
    done = vetrin(sample.folder, "export", "production", "handed.zip", "--parts", "code,media,data")
    with zipfile.ZipFile(sample.folder / "handed.zip") as archive:
        names = archive.namelist()
    assert names and not [name for name in names if name.endswith(SECRETS)]
    assert ".env" in done.stdout + done.stderr


def test_who_asks_for_one_gets_it(sample: Sample) -> None:
    file = sample.folder / "vetrin.toml"
    file.write_text(file.read_text() + '\n[leave]\nfiles = ["!.env"]\n')
    plant(sample.root("local"), "ours")
    vetrin(sample.folder, "push", "staging", "--yes", code=None)
    assert list(planted(sample.root("staging"))) == [".env"]


def test_a_backup_holds_them_all_the_same(sample: Sample) -> None:
    """It comes back to where it was taken."""
    root = sample.root("staging")
    plant(root, "theirs")
    vetrin(sample.folder, "backup", "staging", "--parts", "code,media,data")
    (root / ".env").unlink()
    newest = document(sample.folder, "snapshots", "staging")["snapshots"][0]["snapshot"]
    vetrin(sample.folder, "restore", "staging", newest, "--yes")
    assert (root / ".env").read_text() == "theirs"


def test_a_password_is_found_whatever_the_file_is_called(tmp_path: Path) -> None:
    (tmp_path / "notes.txt").write_text("log in with steam-and-smoke, then")
    (tmp_path / "binary").write_bytes(b"\0steam-and-smoke")
    tree = LocalTree(tmp_path)
    entries = list(tree.scan(["."]).values())
    with pytest.raises(Refused) as refused:
        must_hold_none(tree, entries, [b"steam-and-smoke"])
    assert "notes.txt" in str(refused.value) and "binary" not in str(refused.value)
    assert "steam" not in str(refused.value) + refused.value.remedy
    must_hold_none(tree, entries, [b"another one"])


def test_a_project_in_a_web_root_is_said_to_be_in_one(sample: Sample, tmp_path: Path) -> None:
    root = tmp_path / "web"
    shutil.copytree(sample.root("local"), root)
    words = (
        "init",
        "--address",
        "http://harrowmere.test",
        "--other",
        f"production={sample.root('production')}",
    )
    assert "would hand out vetrin.toml" in " ".join(
        vetrin(root, *words, "--dry-run").stderr.split()
    )
    vetrin(root, *words, "--above")
    assert not (root / "vetrin.toml").exists()
    assert 'root = "web"' in (tmp_path / "vetrin.toml").read_text()
    assert "is there already" in vetrin(root, *words, "--above", code=2).stderr
    (tmp_path / "vetrin.toml").unlink()
    _, said = answer(root, b"y\n\n", *words)
    assert "Write it to" in said and (tmp_path / "vetrin.toml").exists()


@pytest.fixture
def line() -> Iterator[Line]:
    with own_server(Mariadb) as server, line_by("here", server) as line:
        yield line


def test_a_push_that_would_publish_a_password_stops(line: Line) -> None:
    config = line.folder / "local/wp-config.php"
    password = config.read_text().split("'DB_PASSWORD',")[1].split(")")[0].strip().strip("'\"")
    plugin = line.folder / "local/wp-content/plugins/booking-office/connect.php"
    plugin.write_text(f"<?php new mysqli('localhost', 'me', '{password}');")
    before = line.state()
    code, said = line.vetrin("push", "staging", "--yes", code=None)
    assert code == 5 and "connect.php" in said and password not in said
    assert line.state() == before
