"""Pushing code on real WordPress: a theme and a plugin, from local over staging to production."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import threading
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from connected import hosts
from documents import held
from ssh_server import SshServer
from systems import Mariadb, program
from test_interrupted import killed_after
from test_push import builds_of
from vetrin.config import load_project
from vetrin.database.mysql.database import MysqlDatabase
from vetrin.jobs import Choices, Journals, RunContext, run_plan, switching, undo
from vetrin.jobs.build import make_build
from vetrin.jobs.push import build_on, build_push, holding
from vetrin.site import Site, open_site
from wordpress_site import WordPress, single_quoted

WORD = "it's \\ a #$\"secret"
PLUGIN = """<?php
/*
Plugin Name: Ticket Desk
Version: {0}
*/
require __DIR__ . '/inc/part.php';
require_once __DIR__ . '/inc/deep/more.php';
add_action( 'wp_footer', function () {{ echo '<!-- desk A{0} ' . desk_part() . ' ' . desk_more() . ' -->'; }} );
"""
EDITION = re.compile(r"<!-- desk A(\d) B(\d) C(\d) -->")


def write_plugin(root: Path, edition: int) -> None:
    folder = root / "wp-content/plugins/ticket-desk"
    (folder / "inc/deep").mkdir(parents=True, exist_ok=True)
    (folder / "ticket-desk.php").write_text(PLUGIN.format(edition))
    (folder / "inc/part.php").write_text(f"<?php function desk_part() {{ return 'B{edition}'; }}\n")
    (folder / "inc/deep/more.php").write_text(
        f"<?php function desk_more() {{ return 'C{edition}'; }}\n"
    )


class Railway:
    """Production is there; staging and local are copies made out of nothing. With ``host``, the two
    that are no copy on this machine are reached over SSH."""

    def __init__(
        self, folder: Path, server: Mariadb, label: str = "push", host: SshServer | None = None
    ) -> None:
        self.folder, self.server, self.label, self.host = folder, server, label, host
        self.sites = {
            name: WordPress(server, folder / name, f"{label}_{name}", f"{label}_{name}", WORD)
            for name in ("production", "staging", "local")
        }
        live = self.sites["production"]
        live.install(
            single_quoted(server, f"{label}_production", f"{label}_production", WORD, "wp_"),
            "production",
        )
        write_plugin(live.root, 1)
        server.run(
            "UPDATE wp_options SET option_value = 'a:1:{i:0;s:27:\"ticket-desk/ticket-desk.php\";}'"
            " WHERE option_name = 'active_plugins'",
            "CREATE TABLE wp_bookings (id INT AUTO_INCREMENT PRIMARY KEY, who TEXT)",
            "INSERT INTO wp_bookings (who) VALUES ('Tamsin Oakhollow')",
            "CREATE USER IF NOT EXISTS pusher IDENTIFIED BY 'pusher-word'",
            "GRANT ALL ON *.* TO pusher WITH GRANT OPTION",
            database=f"{label}_production",
        )
        text = '[site]\nname = "Harrowmere Light Railway"\ncms = "wordpress"\n'
        text += """
[build]
folder = "local/wp-content/themes/harrowmere"
commands = ["cat parts/*.css > built.css"]
produces = ["wp-content/themes/harrowmere/built.css"]
checks = ["php -l index.php", { run = "php -l ticket-desk.php", folder = "local/wp-content/plugins/ticket-desk" }]
"""
        for name, site in self.sites.items():
            text += f'\n[environment.{name}]\naddress = "{site.address}"\n'
            if host is not None and name != "local":
                text += f'host = "ssh://{host.name}"\nroot = "{folder}/{name}"\n'
            else:
                text += f'root = "{name}"\n'
            if name == "production":
                text += 'access = "read-write"\n'
            else:
                text += (
                    f'[environment.{name}.database]\ndatabase = "{label}_{name}"\nuser = "{label}_{name}"\n'
                    f'host = "127.0.0.1:{server.port}"\nprefix = "wp_"\ncreate-as = "pusher"\n'
                )
        (folder / "vetrin.toml").write_text(text)
        live.serve()
        for name in ("staging", "local"):
            self.vetrin("pull", "production", "--to", name, "--yes")
        # Here files count as they are; production's PHP goes on running what it knows for a while.
        self.sites["staging"].serve("-d", "opcache.revalidate_freq=0")
        parts = self.root("local") / "wp-content/themes/harrowmere/parts"
        parts.mkdir()
        (parts / "a.css").write_text("body { margin: 0 }\n")

    def root(self, name: str) -> Path:
        return self.sites[name].root

    def vetrin(self, *arguments: str, code: int = 0) -> str:
        words = {f"VETRIN_{name}_DATABASE_PASSWORD": WORD for name in ("STAGING", "LOCAL")}
        words |= {f"VETRIN_{name}_CREATE_PASSWORD": "pusher-word" for name in ("STAGING", "LOCAL")}
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *arguments], cwd=self.folder, capture_output=True,
            text=True, stdin=subprocess.DEVNULL,
            env={**os.environ, **words, "NO_COLOR": "1",
                 "HOME": str(self.host.home if self.host else Path.home()),
                 "PATH": f"{Path(program('php')).parent}:{os.environ['PATH']}"},
        )  # fmt: skip
        assert done.returncode == code, done.stdout + done.stderr
        assert "Traceback" not in done.stderr
        assert WORD not in done.stdout + done.stderr
        return done.stdout + done.stderr

    def document(self, *arguments: str, code: int = 0) -> dict:
        text = self.vetrin(*arguments, "--json", code=code)
        return held(json.loads(text[text.index('{\n  "schema"') : text.rindex("\n}") + 2]))

    def edition(self, name: str) -> str:
        page = httpx.get(self.sites[name].address + "/", timeout=30)
        found = EDITION.search(page.text)
        return "".join(found.groups()) if found else str(page.status_code)

    def live(self) -> dict[str, object]:
        """What only production has and a push must not touch."""
        uploads = self.root("production") / "wp-content/uploads"
        rows = [
            self.server.run(f"CHECKSUM TABLE wp_{table}", database=f"{self.label}_production")
            for table in ("posts", "comments", "bookings", "users", "usermeta", "postmeta")
        ]
        files = {
            str(p.relative_to(uploads)): p.read_bytes() for p in uploads.rglob("*") if p.is_file()
        }
        configuration = (self.root("production") / "wp-config.php").read_bytes()
        return {"rows": rows, "files": files, "configuration": configuration}

    def stop(self) -> None:
        for site in self.sites.values():
            site.stop()


@pytest.fixture(scope="module")
def railway(
    tmp_path_factory: pytest.TempPathFactory, database_server: Mariadb
) -> Iterator[Railway]:
    made = Railway(tmp_path_factory.mktemp("push"), database_server)
    yield made
    made.stop()


def test_a_copy_out_of_nothing_is_a_whole_site(railway: Railway) -> None:
    assert railway.edition("staging") == "111"
    found = railway.document("check", "staging")
    assert found["findings"] == []
    core = Path("wp-includes/version.php")
    assert (railway.root("staging") / core).read_bytes() == (
        railway.root("production") / core
    ).read_bytes()


def test_theme_and_plugin_over_staging_to_production(railway: Railway) -> None:
    local = railway.root("local")
    write_plugin(local, 2)
    theme = local / "wp-content/themes/harrowmere/index.php"
    theme.write_text(theme.read_text().replace("</body>", "<!-- second theme --></body>"))
    first = railway.document("push", "staging", "--yes")
    assert first["plan"]["files"]["whole_folders"] == [
        "wp-content/plugins/ticket-desk", "wp-content/themes/harrowmere"]  # fmt: skip
    assert first["check"]["findings"] == []
    assert first["plan"]["maintenance"] == ".maintenance"
    assert railway.edition("staging") == "222"
    assert (railway.root("staging") / "wp-content/themes/harrowmere/built.css").is_file()
    # Meanwhile production goes on living.
    railway.server.run(
        "INSERT INTO wp_bookings (who) VALUES ('Alder Finch')",
        "INSERT INTO wp_comments (comment_post_ID, comment_author, comment_content, comment_approved, comment_date,"
        " comment_date_gmt) VALUES (1, 'A late visitor', 'Lovely', '1', NOW(), NOW())",
        database="push_production",
    )
    uploads = railway.root("production") / "wp-content/uploads/2026/11"
    uploads.mkdir(parents=True)
    (uploads / "santa.png").write_bytes(b"a picture of today")
    before = railway.live()
    seen: set[str] = set()
    stop = threading.Event()

    def visit() -> None:
        while not stop.is_set():
            seen.add(railway.edition("production"))

    visitors = [threading.Thread(target=visit) for _ in range(2)]
    for visitor in visitors:
        visitor.start()
    done = railway.document("push", "production", "--confirm=production")
    stop.set()
    for visitor in visitors:
        visitor.join()
    assert seen <= {"111", "222", "503"}
    assert {"111", "222"} <= seen
    assert done["plan"]["build"]["fingerprint"] == first["plan"]["build"]["fingerprint"]
    assert done["check"]["findings"] == []
    assert (
        done["files"] == 6
    )  # three of the plugin, and of the theme two that are new and one changed
    assert railway.live() == before
    assert not (railway.root("production") / ".maintenance").exists()
    assert not (railway.root("production") / "wp-content/mu-plugins/vetrin-copy.php").exists()
    page = httpx.get(railway.sites["production"].address + "/", timeout=30).text
    assert "<!-- second theme -->" in page


@pytest.mark.parametrize(
    ("name", "text", "says"),
    [
        ("functions.php", "<?php no_such_function();\n", "answers 500"),
        ("index.php", "<?php exit;\n", "is blank"),
    ],
)
def test_what_breaks_the_home_page_is_undone_by_itself(
    railway: Railway, name: str, text: str, says: str
) -> None:
    file = railway.root("local") / "wp-content/themes/harrowmere" / name
    good = file.read_text()
    there = railway.edition("staging")
    assert len(there) == 3
    file.write_text(text)
    try:
        said = railway.vetrin("push", "staging", "--yes", code=1)
        assert f"the home page of staging {says} with this build" in said
        assert "was undone by run" in said
        assert railway.edition("staging") == there
        assert (railway.root("staging") / "wp-content/themes/harrowmere" / name).read_text() == good
        # The same in production, which was told to take a build that was never tried.
        there, before = railway.edition("production"), railway.live()
        said = railway.vetrin(
            "push", "production", "--from", "local", "--untried", "--confirm=production", code=1
        )
        assert says in said
        assert railway.edition("production") == there
        assert railway.live() == before
    finally:
        file.write_text(good)


def test_killed_at_any_step_visitors_get_old_or_new_code(
    railway: Railway, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(switching, "wait", lambda seconds: None)
    # Step by step from here, as where no process of ours can be beside the target.
    monkeypatch.setattr(Site, "runs_processes", False)
    monkeypatch.setenv("VETRIN_STAGING_DATABASE_PASSWORD", WORD)
    monkeypatch.setenv("VETRIN_LOCAL_DATABASE_PASSWORD", WORD)
    project = load_project(railway.folder)
    builds, journals = builds_of(project), Journals(project.state)
    old = railway.edition("staging")
    write_plugin(railway.root("local"), 3)
    with open_site(hosts, project, project.environment("local")) as source:
        build = make_build(project, source, ("code",), builds, list(project.environments.values()))

    def push() -> None:
        with (
            open_site(hosts, project, project.environment("local")) as source,
            open_site(hosts, project, project.environment("staging"), read_only=False) as target,
        ):
            held = holding(source, build, builds)
            plan = build_push(held, target, ("code",), [], Choices(), build, journals, builds)
            run_plan(plan, RunContext(held, target, journals))

    def take_back() -> None:
        with open_site(hosts, project, project.environment("staging"), read_only=False) as target:
            undo(target, journals)

    seen: dict[str, int] = {}
    steps = 0
    while killed_after(steps, push, engine=MysqlDatabase, methods=["swap"]):
        answer = railway.edition("staging")
        assert answer in (old, "333", "503"), steps
        seen[answer] = seen.get(answer, 0) + 1
        last = journals.of("staging")[0]
        if last.unfinished or answer == "333":
            take_back()
        assert railway.edition("staging") == old, steps
        steps += 1
    assert steps > 20
    assert seen.keys() == {old, "333", "503"}
    assert railway.edition("staging") == "333"
    with pytest.raises(Exception, match="no build is known"):
        build_on(project.environment("local"), journals, builds)
    assert (
        build_on(project.environment("staging"), journals, builds).fingerprint == build.fingerprint
    )
