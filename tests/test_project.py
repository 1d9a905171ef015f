"""vetrin.toml: what is read, and what is said about what is wrong."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest

from vetrin.config import find_project, load_project, password_variable
from vetrin.config.known_names import nearest
from vetrin.config.secrets import database_password
from vetrin.config.template import Draft, EnvironmentDraft, project_text
from vetrin.errors import ProjectError

GOOD = """
[site]
name = "Harrowmere Light Railway"
cms = "wordpress"
[environment.local]
address = "http://harrowmere.test:8080/"
root = "public"
[environment.production]
address = "https://www.harrowmere.example"
also = ["http://harrowmere.example"]
root = "/srv/www/harrowmere"
"""


def project(folder: Path, text: str = GOOD):
    (folder / "vetrin.toml").write_text(text)
    return load_project(folder)


def test_roles_and_access_start_safe(tmp_path: Path) -> None:
    found = project(tmp_path)
    assert found.environment("production").access == "read-only"
    assert found.environment("production").role == "production"
    assert found.environment("local").access == "read-write"
    assert found.environment("local").root == tmp_path / "public"
    assert str(found.environment("local").address) == "http://harrowmere.test:8080"
    (tmp_path / "a" / "b").mkdir(parents=True)
    assert find_project(tmp_path / "a" / "b") == tmp_path


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('name = "Harr', 'nmae = "Harr', "unknown key 'nmae'; did you mean name"),
        ("[environment.local]", "[enviroment.local]", "unknown key 'enviroment'; did you mean environment"),
        ('root = "public"', 'rot = "public"', r"\[environment.local\]: unknown key 'rot'; did you mean root"),
        ('root = "public"', 'root = "public"\nrole = "live"', "'live' is none of local, staging, production"),
        ('root = "public"', 'root = "public"\naccess = "all"', "none of read-only, read-write, closed"),
        ('root = "public"', 'root = 3', "root: write a text in quotes"),
        ('root = "public"', "", "root is missing"),
        ('root = "public"', 'root = "/srv/www/harrowmere"', "same root as"),
        ('"http://harrowmere.test:8080/"', '"harrowmere.test"', "not an address like"),
        ('"http://harrowmere.test:8080/"', '"http://www.harrowmere.example"', "same address as"),
        ('cms = "wordpress"', 'cms = "wordpres"', "no definition 'wordpres'"),
        ('root = "public"', 'root = "public"\nhost = "x"', "write ssh://user@name:port"),
        ('root = "public"', 'root = "public"\nhost = "ssh://a:b@x"', "a password does not belong"),
        ('root = "public"', 'root = "public"\nrate = "fast"', "write a rate such as"),
        ('root = "public"', 'root = "public"\n[environment.local.database]\npassword = "x"', "a secret does not belong"),
        ("[environment.local]", "[environment.Local]", "lower-case letters"),
        ("[site]", "[site", "vetrin.toml: "),
    ],
)  # fmt: skip
def test_what_is_wrong_is_named(tmp_path: Path, old: str, new: str, said: str) -> None:
    assert old in GOOD
    with pytest.raises(ProjectError, match=said):
        project(tmp_path, GOOD.replace(old, new, 1))


def test_an_unknown_environment_names_the_nearest(tmp_path: Path) -> None:
    with pytest.raises(ProjectError, match="did you mean production"):
        project(tmp_path).environment("prodution")
    with pytest.raises(ProjectError, match="vetrin init"):
        find_project(Path("/"))


def test_of_many_known_names_some_are_listed_each_once() -> None:
    names = [f"option_{number}" for number in range(300)]
    said = nearest("zz", [*names, *names])
    assert said.startswith("; known are option_0, option_1, ") and said.endswith(" and 280 more")
    assert nearest("zz", ["mail", "title", "mail"]) == "; known are mail, title"


def test_passwords_come_from_outside(monkeypatch: pytest.MonkeyPatch) -> None:
    assert password_variable("my-local") == "VETRIN_MY_LOCAL_DATABASE_PASSWORD"
    monkeypatch.setenv("VETRIN_MY_LOCAL_DATABASE_PASSWORD", "word")
    assert database_password("my-local") == "word"


@pytest.mark.parametrize("site", ['Quo"ted \\ name', "Grüße\n", "x\x7f"])
def test_the_written_file_is_read_again(tmp_path: Path, site: str) -> None:
    local = EnvironmentDraft("local", "http://a.test", "public dir", database={"user": "user\n[x]"})
    live = EnvironmentDraft(
        "production",
        "https://b.test",
        "/srv/b",
        "ssh://b",
        also=("http://b.test",),
        remark="a\n[x]",
    )
    text = project_text(Draft(site, "wordpress", (local, live)))
    assert tomllib.loads(text)["site"]["name"] == site
    found = project(tmp_path, text)
    assert found.environment("local").root == tmp_path / "public dir"
    assert found.environment("local").database == {"user": "user\n[x]"}
    assert str(found.environment("production").host) == "ssh://b"
    project(
        tmp_path,
        project_text(Draft("x", "wordpress", (EnvironmentDraft("local", "http://a.test", "."),))),
    )
    with_mark = "\ufeff" + text  # as some editors begin a file
    (tmp_path / "vetrin.toml").write_text(with_mark, encoding="utf-8")
    assert load_project(tmp_path).name == site
