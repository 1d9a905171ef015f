"""Whatever is typed or written: one clear message and the right exit code, never a traceback."""

from __future__ import annotations

import io
import random
from pathlib import Path

import pytest

from connected import hosts
from ssh_server import SshServer
from test_command_line import vetrin
from vetrin.cli import main
from vetrin.cli.parser import COMMANDS
from vetrin.config import load_project
from vetrin.config.host import Host
from vetrin.demo.sample import Sample, lay_out
from vetrin.errors import ProjectError

LONG = "x" * 5000
ODD = ["", " ", "\0", "a\0b", LONG, "../..", "/", ".", "..", "-", "--", "---", "~", "*", "é" * 300, "\udce9", "\x1b[2J", "a/b", "con:",
       "1e999", "-1", "0", "nan", "=", "==", "a=b", "[]", "{}", "null", "true", "'", '"', "$(id)", "`id`", "%s", "%n", "\n", "\r\n",
       "ssh://", "ssh://a:b@c", "http://[", "https://a.example:99999", "\u202e", "🚂"]  # fmt: skip
WORDS = ["local", "staging", "production", "newest", "data", "media", "code,media", "wp_posts", "1", "spam-comments",
         "https://a.example=https://b.example", "10MB/s", "title", "entries:event"]  # fmt: skip
OPTIONS = ["--yes", "--dry-run", "--json", "--quiet", "--verbose", "--rate", "--parts", "--to", "--from", "--leave-tables", "--only-tables",
           "--leave-where", "--leave-rows", "--leave-files", "--leave-inactive", "--leave-programs", "--keep-settings", "--set", "--mirror",
           "--replace", "--literal", "--tables", "--columns", "--tables", "--files", "--list", "--build", "--all", "--help", "--version",
           "--project", "--cms", "--address", "--other", "--name", "--entries", "--take-over", "--save-as", "--verify", "--label"]  # fmt: skip
# What lays out a sample, draws a picture, or opens pages is no matter of what is typed.
ASKED = [name for name in COMMANDS if name not in ("demo", "serve")]


def ended(capfd: pytest.CaptureFixture[str], words: list[str]) -> tuple[int, str]:
    with pytest.raises(SystemExit) as end:
        main(words)
    out, err = capfd.readouterr()
    code = end.value.code
    return (code if isinstance(code, int) else 2 if code else 0), out + err


def test_a_thousand_command_lines(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capfd: pytest.CaptureFixture[str]
) -> None:
    sample = lay_out(tmp_path / "railway")
    monkeypatch.setattr("sys.stdin", io.StringIO())
    chance = random.Random("Harrowmere")
    for number in range(1000):
        # Half of them in a project, and few of those get far.
        monkeypatch.chdir(sample.folder if number % 2 else tmp_path)
        words = [chance.choice([*ASKED, *ASKED, *ODD])]
        for _ in range(chance.randrange(6)):
            words.append(chance.choice([*OPTIONS, *WORDS, *ODD]))
        words.append("--dry-run")
        code, said = ended(capfd, words)
        assert code in range(6), (words, said)
        assert "did not expect" not in said and "Traceback" not in said, (words, said)
        assert code == 0 or said.strip(), words


def test_a_thousand_projects(tmp_path: Path) -> None:
    sample = lay_out(tmp_path / "railway")
    file = sample.folder / "vetrin.toml"
    plain = file.read_text() + (
        '\n[leave]\ntables = ["a"]\nwhere = { a = "b" }\n[store]\nplace = "x"\nthin = { daily = 7 }\n[route.up]\nfrom = "local"\n'
        'to = "staging"\n[environment.local.database]\nfile = "x"\n[arrival]\nmail = "off"\n'
    )  # fmt: skip
    chance = random.Random("Harrowmere")
    values = ['""', "0", "-1", "true", "[]", "{}", '["x", 1]', '"\\u0000"', f'"{LONG}"', "1979-05-27", "nan", '"../.."', '"ssh://"',
              "[[[]]]", '"' + "\\ud83d" + '"', "{ a = { b = 1 } }", "9" * 400, "[" * 300 + "]" * 300]  # fmt: skip
    loaded = 0
    for _ in range(1000):
        lines = plain.splitlines()
        for _ in range(chance.randrange(1, 4)):
            at = chance.randrange(len(lines))
            line = lines[at]
            how = chance.randrange(6)
            if how == 0 and "=" in line:
                lines[at] = f"{line.partition('=')[0]}= {chance.choice(values)}"
            elif how == 1:
                lines[at] = line.replace(chance.choice(line or "x"), chance.choice(ODD))
            elif how == 2:
                del lines[at]
                lines.append("")
            elif how == 3:
                lines.insert(at, lines[chance.randrange(len(lines))])
            elif how == 4:
                lines[at] = line[: chance.randrange(len(line) + 1)]
            else:
                lines[at] = f"[{chance.choice(ODD)}.{chance.choice(WORDS)}]"
        file.write_bytes("\n".join(lines).encode("utf-8", "surrogateescape"))
        try:
            load_project(sample.folder)
            loaded += 1
        except ProjectError as error:
            assert str(error).strip()
    assert 20 < loaded < 900


@pytest.mark.parametrize(
    "words",
    [("import", "{folder}", "local", "--yes"), ("survey", "{folder}"),
     ("survey", "production", "--plot", "{folder}"), ("restore", "local", LONG, "--yes"), ("pull", LONG), ("pull", "\udce9"),
     ("push", "staging", "--build", LONG, "--yes"), ("export", "production", LONG), ("import", LONG, "local", "--yes"),
     ("--project", "{file}", "status"), ("status", "--project", "{file}"), ("status", "--project", LONG), ("init", "{file}"),
     ("init", LONG), ("compare", "local", LONG), ("rewrite", "local", "--replace", "=", "--yes"), ("demo", "--into", "{file}"),
     ("export", "production", "{folder}", "--yes")],
    ids=lambda words: " ".join(word[:12] for word in words),
)  # fmt: skip
def test_folders_for_files_and_names_without_end(sample: Sample, words: tuple[str, ...]) -> None:
    places = {"folder": str(sample.folder / "local"), "file": str(sample.folder / "vetrin.toml")}
    done = vetrin(sample.folder, *(word.format(**places) for word in words), code=None)
    assert done.returncode in (1, 2), done.stderr
    assert "did not expect" not in done.stderr and done.stderr.strip()
    assert len(done.stderr) < 20_000


@pytest.mark.parametrize(
    "line", ["IdentityFile {home}/.ssh/gone", "Port many", "Include {home}", "Host \x00"]
)
def test_a_configuration_of_ssh_that_leads_nowhere(
    sample: Sample, tmp_path: Path, line: str
) -> None:
    """It is said, and nothing waits."""
    home = tmp_path / "home"
    (home / ".ssh").mkdir(parents=True, mode=0o700)
    (home / ".ssh/config").write_text(
        f"Host railway-host\n  HostName 127.0.0.1\n  Port 9\n  {line.format(home=home)}\n"
    )
    file = sample.folder / "vetrin.toml"
    file.write_text(
        file.read_text().replace(
            'root = "production"', 'root = "/srv"\nhost = "ssh://railway-host"'
        )
    )
    done = vetrin(sample.folder, "pull", "--yes", code=1, HOME=str(home))
    assert "did not expect" not in done.stderr and "production" in done.stderr
    assert "gone" not in line or "there is no key" in " ".join(done.stderr.split())


def test_a_key_that_is_not_there_beside_one_that_is(
    ssh: SshServer, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOME", str(ssh.home))
    config = ssh.home / ".ssh/config"
    text = config.read_text()
    config.write_text(
        text.replace("  IdentityFile", f"  IdentityFile {ssh.home}/.ssh/gone\n  IdentityFile")
    )
    try:
        assert (
            hosts.at(Host.parse(f"ssh://{ssh.name}"), "production").machine.look(["/"])[0]
            is not None
        )
    finally:
        hosts.close()
        config.write_text(text)
