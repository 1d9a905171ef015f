"""The command line as people and scripts meet it: exit codes, mistakes, examples of the docs, completion, quiet, events."""

from __future__ import annotations

import ast
import json
import os
import re
import shlex
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

import mistakes
from documents import FOLDER, held, held_event, schemas
from systems import answer
from test_command_line import vetrin
from vetrin.cli.parser import COMMANDS, module_of, parsed
from vetrin.demo.sample import Sample
from vetrin.errors import ExitStatus

HOME = Path(__file__).parent.parent

# For each command: what it is given, and how it ends.
CODES: dict[str, list[tuple[str, ExitStatus]]] = {
    "init": [("", ExitStatus.USAGE), ("nowhere", ExitStatus.USAGE)],
    "add": [("local .", ExitStatus.USAGE), ("second nowhere --address http://a.test --dry-run", ExitStatus.DONE)],
    "serve": [("nowhere", ExitStatus.USAGE), ("--dry-run", ExitStatus.DONE)],
    "status": [("", ExitStatus.DONE)],
    "survey": [("production", ExitStatus.DONE), ("nowhere", ExitStatus.USAGE)],
    "compare": [("production local", ExitStatus.DIFFERENT), ("production nowhere", ExitStatus.USAGE)],
    "changes": [("local", ExitStatus.DONE), ("nowhere", ExitStatus.USAGE), ("staging", ExitStatus.DONE),
                ("local --rows nothing", ExitStatus.USAGE), ("local --since nothing", ExitStatus.USAGE)],
    "reach": [("local", ExitStatus.FAILED), ("nowhere", ExitStatus.USAGE)],
    "relay": [("local", ExitStatus.USAGE), ("nowhere", ExitStatus.USAGE), ("production --days 0", ExitStatus.USAGE),
              ("live --address http://live.test --dry-run", ExitStatus.DONE), ("local --remove", ExitStatus.USAGE)],
    "pull": [("", ExitStatus.REFUSED), ("nowhere", ExitStatus.USAGE), ("--dry-run", ExitStatus.DONE), ("--yes", ExitStatus.DONE)],
    "push": [("production --yes", ExitStatus.REFUSED), ("nowhere", ExitStatus.USAGE), ("staging --dry-run", ExitStatus.DONE)],
    "run": [("", ExitStatus.DONE), ("nowhere", ExitStatus.USAGE)],
    "check": [("local", ExitStatus.DIFFERENT), ("nowhere", ExitStatus.USAGE)],
    "rewrite": [("local", ExitStatus.USAGE), ("nowhere --replace http://a.test=http://b.test", ExitStatus.USAGE),
                ("local --replace http://a.test=http://b.test", ExitStatus.DONE),
                ("production --replace http://a.test=http://b.test", ExitStatus.REFUSED)],
    "strays": [("staging", ExitStatus.DIFFERENT), ("nowhere", ExitStatus.USAGE)],
    "heal": [("local", ExitStatus.DONE), ("nowhere", ExitStatus.USAGE), ("production", ExitStatus.REFUSED)],
    "resume": [("", ExitStatus.DONE), ("nowhere", ExitStatus.USAGE)],
    "backup": [("nowhere", ExitStatus.USAGE), ("local", ExitStatus.DONE)],
    "snapshots": [("nowhere", ExitStatus.USAGE), ("", ExitStatus.DONE), ("--thin", ExitStatus.USAGE), ("newest --remove", ExitStatus.REFUSED)],
    "export": [("local out.rar", ExitStatus.USAGE), ("nowhere out.zip", ExitStatus.USAGE), ("local out.zip", ExitStatus.DONE)],
    "import": [("nothing.zip local", ExitStatus.USAGE), ("out.zip nowhere", ExitStatus.USAGE), ("out.zip local", ExitStatus.REFUSED)],
    "restore": [("local nothing", ExitStatus.USAGE), ("nowhere newest", ExitStatus.USAGE), ("local newest", ExitStatus.REFUSED)],
    "undo": [("nowhere", ExitStatus.USAGE), ("production", ExitStatus.REFUSED), ("local", ExitStatus.REFUSED),
             ("local --yes", ExitStatus.DONE), ("staging", ExitStatus.DONE)],
    "history": [("nowhere", ExitStatus.USAGE), ("", ExitStatus.DONE)],
    "demo": [("--scale 0", ExitStatus.USAGE)],
    "completion": [("bash", ExitStatus.DONE), ("tcsh", ExitStatus.USAGE)],
}  # fmt: skip


def test_every_command_ends_as_the_table_says(sample: Sample) -> None:
    assert CODES.keys() == COMMANDS.keys()
    for command, cases in CODES.items():
        assert (f"{command} --no-such-option", ExitStatus.USAGE) not in cases
        vetrin(sample.folder, command, "--no-such-option", code=ExitStatus.USAGE)
        for words, code in cases:
            done = vetrin(sample.folder, command, *shlex.split(words), code=code)
            assert done.stderr or code in (ExitStatus.DONE, ExitStatus.DIFFERENT, ExitStatus.FAILED)


def test_what_is_said_of_likely_mistakes() -> None:
    """The page is read by a person; python tests/mistakes.py writes it anew."""
    assert mistakes.PAGE.read_text(encoding="utf-8") == mistakes.page()


def examples() -> list[str]:
    """Every command that the docs, the README and the help show."""
    found: list[str] = []
    for path in [HOME / "README.md", *(HOME / "docs").glob("*.md")]:
        for block in re.findall(r"```sh\n(.*?)```", path.read_text(), re.DOTALL):
            found += re.findall(r"(?:^|&& |; )\s*(vetrin [^&;|\n]*)", block, re.MULTILINE)
    for name in COMMANDS:
        parser = Help()
        module_of(name).configure(parser)
        found += re.findall(r"^ +(vetrin .*)$", str(parser.epilog), re.MULTILINE)
    return found


class Help:
    """Takes what a command's module tells a parser."""

    epilog = ""

    def __getattr__(self, name: str):  # type: ignore[no-untyped-def]
        return lambda *words, **settings: self


def test_every_code_of_a_remark_is_told() -> None:
    calls = (
        node
        for path in (HOME / "src/vetrin").rglob("*.py")
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "Remark"
    )
    used = {ast.literal_eval(call.args[0]) for call in calls}
    told = re.findall(
        r"^\| `([a-z-]+)` \| ", (HOME / "docs/automation.md").read_text(), re.MULTILINE
    )
    assert used <= set(told) and len(used) > 30


def test_every_example_is_understood() -> None:
    lines = examples()
    assert len(lines) > 120
    for line in lines:
        # Behind two spaces or a bar stands what it does, or where it goes.
        words = shlex.split(re.split(r" {2,}|\t| #| \|| > |\(", line)[0])[1:]
        try:
            assert parsed([word for word in words if word != "…"]) is not None
        except ValueError as error:
            raise AssertionError(f"{line}: {error}") from error
        except SystemExit as end:
            assert end.code == 0, line


def test_toml_of_the_docs_is_toml() -> None:
    for path in (HOME / "docs").glob("*.md"):
        for block in re.findall(r"```toml\n(.*?)```", path.read_text(), re.DOTALL):
            tomllib.loads(block)


def test_common_options_stand_before_or_behind(sample: Sample, tmp_path: Path) -> None:
    first = vetrin(tmp_path, "--project", str(sample.folder), "--json", "status").stdout
    second = vetrin(tmp_path, "status", "--json", "--project", str(sample.folder)).stdout
    third = vetrin(tmp_path, "status", "--json", VETRIN_PROJECT=str(sample.folder)).stdout
    assert first == second == third and json.loads(first)["schema"] == "vetrin/status/1"


def test_every_document_has_a_schema(sample: Sample) -> None:
    """Also usage errors; each kind is listed in the docs."""
    printed = set()
    for path in (HOME / "src/vetrin/cli").rglob("*.py"):
        text = " ".join(path.read_text().split())
        printed |= set(re.findall(r'out\.document\( ?"(\w+)"', text)) | set(
            re.findall(r'self\.document\( ?"(\w+)"', text)
        )
    assert {f"{kind}.json" for kind in printed} | {
        "event.json",
        "heal.json",
        "rewrite.json",
    } == schemas().keys()
    page = (HOME / "docs/automation.md").read_text()
    assert all(
        f"`{name.removesuffix('.json')}`" in page for name in schemas() if name != "event.json"
    )
    assert (FOLDER / "status.json").is_file()
    for words in (
        ["pul"],
        ["pull", "--form"],
        ["status", "--project", "/nowhere"],
        ["undo", "staging", "--yes"],
    ):
        done = vetrin(sample.folder, *words, "--json", code=None)
        found = held(json.loads(done.stdout))
        assert found.get("exit_code", 0) == done.returncode


def test_help_and_version(tmp_path: Path) -> None:
    assert vetrin(tmp_path, "help").stdout == vetrin(tmp_path, "--help").stdout
    assert vetrin(tmp_path, "help", "pull").stdout == vetrin(tmp_path, "pull", "--help").stdout
    assert vetrin(tmp_path, "-V").stdout == vetrin(tmp_path, "--version").stdout


def test_colors_where_they_are_asked_for(sample: Sample) -> None:
    assert "\x1b[" not in vetrin(sample.folder, "status").stdout
    environ = {name: value for name, value in os.environ.items() if name != "NO_COLOR"}
    for words, more in ((("--color", "always"), {}), ((), {"VETRIN_COLOR": "always"})):
        done = subprocess.run([sys.executable, "-m", "vetrin", "status", *words], cwd=sample.folder,
                              capture_output=True, text=True, env={**environ, **more})  # fmt: skip
        assert "\x1b[1m" in done.stdout
    _, said = answer(sample.folder, b"", "status", "--color", "never")
    assert "\x1b[1m" not in said


def test_quiet_is_quiet(sample: Sample) -> None:
    for words in (("pull", "--yes"), ("status",), ("undo", "local", "--yes"), ("backup", "local"), ("snapshots", "--verify"),
                  ("export", "local", "out.zip"), ("history",), ("resume",)):  # fmt: skip
        done = vetrin(sample.folder, *words, "--quiet")
        assert done.stdout + done.stderr == "", words
    done = vetrin(sample.folder, "check", "local", "--quiet", code=4)
    assert "no connection" in done.stdout


def test_one_line_is_one_fact_without_a_terminal(sample: Sample) -> None:
    vetrin(sample.folder, "pull", "--yes")
    for words in (("status",), ("survey", "production"), ("pull", "--dry-run"), ("history",)):
        said = vetrin(sample.folder, *words).stdout
        # The longest title and the longest path stand on one line.
        assert "part two" in said or "Lost glove" not in said
        assert not [
            line for line in said.splitlines() if line.strip() in ("Railway", "glove, part two")
        ]


@pytest.mark.parametrize("columns", [40, 60, 80, 100])
def test_names_and_addresses_are_whole_on_narrow_terminals(
    sample: Sample, columns: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("COLUMNS", str(columns))
    monkeypatch.setenv("NO_COLOR", "1")
    for words in (("status",), ("compare", "production", "local"), ("survey", "production")):
        _, said = answer(sample.folder, b"", *words)
        plain = re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", said)
        for name in (
            [sample.address(name) for name in sample.ports]
            if words == ("status",)
            else ["production"]
        ):
            assert name in plain, plain


def test_events_show_life(sample: Sample) -> None:
    done = vetrin(sample.folder, "pull", "--yes", "--events", "--json")
    assert json.loads(done.stdout)["rows"] > 10_000
    lines = [held_event(line) for line in done.stderr.splitlines()]
    names = [line["event"] for line in lines]
    assert {"started", "phase", "table", "table-done", "moved"} <= set(names)
    last = [line for line in lines if line["event"] == "moved"][-1]
    assert last["rows"] == json.loads(done.stdout)["rows"] and last["bytes"] <= last["of_bytes"]


def completed(folder: Path, line: str, tmp_path: Path) -> set[str]:
    """What a shell is offered at the end of a line."""
    found = tmp_path / "offered"
    subprocess.run(
        [sys.executable, "-m", "vetrin"], cwd=folder, check=False, capture_output=True,
        env={**os.environ, "_ARGCOMPLETE": "1", "COMP_LINE": line, "COMP_POINT": str(len(line)), "_ARGCOMPLETE_IFS": "\n",
             "_ARGCOMPLETE_STDOUT_FILENAME": str(found)},
    )  # fmt: skip
    return {name.strip() for name in found.read_text().splitlines()}


def test_shells_complete_names_of_the_project(sample: Sample, tmp_path: Path) -> None:
    vetrin(sample.folder, "backup", "local", "--label", "summer")
    vetrin(sample.folder, "pull", "--yes", "--save-as", "refresh", "--parts", "data")
    assert completed(sample.folder, "vetrin pu", tmp_path) == {"pull", "push"}
    assert completed(sample.folder, "vetrin pull prod", tmp_path) == {"production"}
    assert completed(sample.folder, "vetrin run ", tmp_path) == {"refresh"}
    assert {"newest", "summer"} <= completed(sample.folder, "vetrin restore local ", tmp_path)
    assert completed(sample.folder, "vetrin pull --leave-t", tmp_path) == {"--leave-tables"}
    assert completed(sample.folder, "vetrin pull --leave-tables boo", tmp_path) == {"bookings"}
    assert completed(sample.folder, "vetrin pull --leave-rows spam-comments,cach", tmp_path) == {
        "spam-comments,cached-values"
    }
    assert completed(tmp_path, "vetrin pull prod", tmp_path) == set()
    script = vetrin(tmp_path, "completion", "bash").stdout
    shell = f"{script}\ncomplete -p vetrin"
    done = subprocess.run(["bash", "-c", shell], capture_output=True, text=True, check=True)
    assert "vetrin" in done.stdout


# A shell at a terminal: each line is typed with the tab key behind it, and what it becomes is waited for.
ZSH = r"""
zmodload zsh/zpty
zpty shell zsh -f -i
zpty -w shell "PROMPT=; fpath=($1 \$fpath); autoload -U compinit; compinit -u -D; print rea''dy"
zpty -r -m shell shown '*ready*'
shift
for line becomes in "$@"; do
    zpty -n -w shell $'\C-u'"$line"$'\t'
    zpty -r -m shell shown "*$becomes*"
done
zpty -d shell
"""
TYPED = {
    "vetrin pul": "pull",
    "vetrin check prod": "production",
    "vetrin pull --leave-t": "--leave-tables",
}


def test_other_shells_complete_what_is_typed(sample: Sample, tmp_path: Path) -> None:
    environ = {
        **os.environ,
        "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
        "TERM": "vt100",
    }
    shells = {"zsh": "_vetrin", "fish": "vetrin.fish"}
    for name, file in shells.items():
        (tmp_path / file).write_text(vetrin(tmp_path, "completion", name).stdout)
    lines = [
        word
        for line, becomes in TYPED.items()
        for word in (line, line.rpartition(" ")[0] + f" {becomes}")
    ]
    (tmp_path / "typed.zsh").write_text(ZSH)
    subprocess.run(
        ["zsh", "-f", str(tmp_path / "typed.zsh"), str(tmp_path), *lines],
        cwd=sample.folder, env=environ, check=True, timeout=90,
    )  # fmt: skip
    for line, becomes in TYPED.items():
        done = subprocess.run(
            ["fish", "-c", f"source {tmp_path / 'vetrin.fish'}; complete -C '{line}'"],
            cwd=sample.folder, env=environ, capture_output=True, text=True, check=True,
        )  # fmt: skip
        assert [one.split("\t")[0] for one in done.stdout.splitlines()] == [becomes]


def test_the_manual_page_is_that_of_the_parser() -> None:
    done = subprocess.run(
        [sys.executable, "-c", "import runpy; print(runpy.run_path('scripts/man-page')['page'](), end='')"],
        cwd=HOME, capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert done.stdout == (HOME / "docs/man/vetrin.1").read_text(), "run scripts/man-page"
