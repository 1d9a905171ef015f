"""Choosing and settling on real WordPress: another prefix in one database, and a copy out of nothing."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import httpx
import pytest

from systems import Mariadb, program
from wordpress_site import HERE, PACKAGE, WordPress, single_quoted

PASSWORD = "it's \\ a #$\"secret"
LOCAL_WORD = "loc'al\\$word"
HTACCESS = """# BEGIN WordPress
<IfModule mod_rewrite.c>
RewriteEngine On
RewriteRule .* - [E=HTTP_AUTHORIZATION:%{HTTP:Authorization}]
RewriteBase /
RewriteRule ^index\\.php$ - [L]
RewriteCond %{REQUEST_FILENAME} !-f
RewriteRule . /index.php [L]
</IfModule>
# END WordPress
AuthUserFile ROOT/.users
"""


def plugin(root: Path, name: str, title: str, version: str) -> None:
    file = root / f"wp-content/plugins/{name}/{name}.php"
    file.parent.mkdir(parents=True)
    file.write_text(f"<?php\n/*\nPlugin Name: {title}\nVersion: {version}\n*/\n")


class Railway:
    def __init__(self, folder: Path, server: Mariadb) -> None:
        self.folder, self.server = folder, server
        self.live = WordPress(server, folder / "live", "one_database", "one", PASSWORD)
        self.live.install(
            single_quoted(server, "one_database", "one", PASSWORD, "wp_"), "production"
        )
        plugin(self.live.root, "ticket-desk", "Ticket Desk", "2.1")
        plugin(self.live.root, "old-counter", "Old Counter", "0.9")
        (self.live.root / ".htaccess").write_text(HTACCESS.replace("ROOT", str(self.live.root)))
        self.php(self.live, str(HERE / "extra.php"), str(self.live.root), self.live.address)
        self.staging = WordPress(
            server,
            folder / "preview",
            "one_database",
            "one",
            PASSWORD,
            base="/preview",
            prefix="stg_",
        )
        self.staging.install(
            single_quoted(server, "one_database", "one", PASSWORD, "stg_"), "staging"
        )
        plugin(self.staging.root, "staging-tools", "Staging Tools", "1.0")
        (self.staging.root / ".htaccess").write_text(HTACCESS.replace("ROOT", "/elsewhere"))
        cache = self.staging.root / "wp-content/cache/page/home.html"
        cache.parent.mkdir(parents=True)
        cache.write_text("an old page")
        self.local = WordPress(server, folder / "local", "fresh_database", "fresh", LOCAL_WORD)
        shutil.copytree(PACKAGE, self.local.root, ignore_dangling_symlinks=True)
        for name in ("wp-config.php", ".htaccess"):
            (self.local.root / name).unlink(missing_ok=True)
        shutil.copytree(HERE / "theme", self.local.root / "wp-content/themes/harrowmere")
        server.run(
            "CREATE TABLE wp_visit_log (id INT AUTO_INCREMENT PRIMARY KEY, page TEXT)",
            "INSERT INTO wp_visit_log (page) VALUES ('/a'), ('/b')",
            "CREATE TABLE wp_bookings (id INT PRIMARY KEY, post_id BIGINT UNSIGNED, made DATE,"
            " CONSTRAINT wp_for_post FOREIGN KEY (post_id) REFERENCES wp_posts (ID))",
            f"INSERT INTO wp_bookings SELECT ID, ID, '2026-0{1}-01' FROM wp_posts WHERE post_type = 'page'",
            "INSERT INTO wp_bookings SELECT ID, ID, '2019-01-01' FROM wp_posts WHERE post_title LIKE 'News number 2%'",
            "CREATE VIEW wp_latest AS SELECT `wp_posts`.ID, post_title FROM wp_posts WHERE post_status = 'publish'",
            "CREATE TRIGGER counts AFTER INSERT ON wp_bookings FOR EACH ROW UPDATE wp_links SET link_rating = 1"
            " WHERE link_name = 'wp_posts'",
            "UPDATE stg_options SET option_value = 'a:2:{i:0;s:31:\"staging-tools/staging-tools.php\";i:1;s:13:\"gone/gone.php\";}'"
            " WHERE option_name = 'active_plugins'",
            "INSERT INTO stg_options (option_name, option_value) VALUES ('desk',"
            " 'a:2:{s:7:\"colours\";a:2:{s:5:\"strip\";s:4:\"blue\";s:4:\"text\";s:5:\"white\";}s:5:\"hours\";s:26:\"{\"open\":\"11\",\"close\":\"12\"}\";}')",
            database="one_database",
        )  # fmt: skip
        (folder / "vetrin.toml").write_text(
            f"""[site]
name = "Harrowmere Light Railway"
cms = "wordpress"
[environment.production]
address = "{self.live.address}"
also = ["https://www.harrowmere.example"]
root = "live"
[environment.staging]
address = "{self.staging.address}"
root = "preview/preview"
[environment.staging.keep]
settings = ["active-plugins", "administrators", "mail", "desk[colours][strip]", "desk[hours][open]"]
[environment.staging.arrival]
closed = true
activate = ["ticket-desk"]
settings = {{ blogdescription = "A copy", "desk[colours][text]" = "black" }}
[environment.local]
address = "{self.local.address}"
root = "local"
[environment.local.database]
database = "fresh_database"
user = "fresh"
host = "127.0.0.1:{server.port}"
prefix = "loc_"
create-as = "maker"
[route.refresh]
from = "production"
to = "staging"
[route.refresh.leave]
rows = ["spam-comments", "trash", "revisions", "auto-drafts", "sessions", "entries:event"]
empty = ["*_log"]
where = {{ bookings = "made < '2020-01-01'" }}
""",
            encoding="utf-8",
        )
        server.run(
            "CREATE USER maker IDENTIFIED BY 'maker-word'",
            "GRANT ALL ON *.* TO maker WITH GRANT OPTION",
        )

    def php(self, site: WordPress, *arguments: str) -> str:
        done = subprocess.run(
            [program("php"), *arguments], capture_output=True, text=True, env=site.environment
        )
        assert done.returncode == 0, done.stdout + done.stderr
        return done.stdout

    def vetrin(self, *arguments: str, code: int = 0) -> str:
        environment = {**os.environ, "VETRIN_LOCAL_DATABASE_PASSWORD": LOCAL_WORD,
                       "VETRIN_LOCAL_CREATE_PASSWORD": "maker-word"}  # fmt: skip
        done = subprocess.run(
            [sys.executable, "-m", "vetrin", *arguments], cwd=self.folder, text=True,
            capture_output=True, env=environment,
        )  # fmt: skip
        said = done.stdout + done.stderr
        assert done.returncode == code, said
        for secret in (PASSWORD, LOCAL_WORD, "maker-word"):
            assert secret not in said
        return done.stdout

    def document(self, *arguments: str, code: int = 0) -> dict:
        return json.loads(self.vetrin(*arguments, "--json", code=code))

    def rows(self, sql: str, database: str = "one_database") -> list[tuple]:
        return self.server.run(sql, database=database)

    def value(self, sql: str, database: str = "one_database") -> object:
        return self.rows(sql, database)[0][0]

    def option(self, name: str, prefix: str = "stg_", database: str = "one_database") -> object:
        found = self.rows(
            f"SELECT option_value FROM {prefix}options WHERE option_name = '{name}'", database
        )
        return found[0][0] if found else None


@pytest.fixture(scope="module")
def railway(
    tmp_path_factory: pytest.TempPathFactory, database_server: Mariadb
) -> Iterator[Railway]:
    found = Railway(tmp_path_factory.mktemp("settle"), database_server)
    found.live.serve()
    found.staging.serve()
    try:
        yield found
    finally:
        for site in (found.live, found.staging, found.local):
            site.stop()


def table_rows(railway: Railway, prefix: str, database: str = "one_database") -> dict[str, list]:
    names = [row[0] for row in railway.rows(
        "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"
        f" AND table_name LIKE '{prefix.replace('_', chr(92) + '_')}%'", database)]  # fmt: skip
    return {
        name: sorted(map(repr, railway.rows(f"SELECT * FROM `{name}`", database))) for name in names
    }


DANGLING = [
    "SELECT COUNT(*) FROM {p}postmeta WHERE post_id NOT IN (SELECT ID FROM {p}posts)",
    "SELECT COUNT(*) FROM {p}posts WHERE post_parent > 0 AND post_parent NOT IN (SELECT ID FROM {p}posts)",
    "SELECT COUNT(*) FROM {p}comments WHERE comment_post_ID NOT IN (SELECT ID FROM {p}posts)",
    "SELECT COUNT(*) FROM {p}comments WHERE comment_parent > 0 AND comment_parent NOT IN (SELECT comment_ID FROM {p}comments)",
    "SELECT COUNT(*) FROM {p}commentmeta WHERE comment_id NOT IN (SELECT comment_ID FROM {p}comments)",
    "SELECT COUNT(*) FROM {p}term_relationships WHERE object_id NOT IN (SELECT ID FROM {p}posts)",
    "SELECT COUNT(*) FROM {p}term_relationships WHERE term_taxonomy_id NOT IN (SELECT term_taxonomy_id FROM {p}term_taxonomy)",
    "SELECT COUNT(*) FROM {p}usermeta WHERE user_id NOT IN (SELECT ID FROM {p}users)",
    "SELECT COUNT(*) FROM {p}postmeta WHERE meta_key = '_thumbnail_id' AND meta_value NOT IN (SELECT ID FROM {p}posts)",
    "SELECT COUNT(*) FROM {p}posts p WHERE comment_count <> (SELECT COUNT(*) FROM {p}comments c WHERE c.comment_post_ID = p.ID AND comment_approved = '1')",
    "SELECT COUNT(*) FROM {p}term_taxonomy t WHERE taxonomy = 'category' AND count <> (SELECT COUNT(*) FROM {p}term_relationships r JOIN {p}posts ON ID = object_id WHERE r.term_taxonomy_id = t.term_taxonomy_id AND post_status = 'publish')",
    "SELECT COUNT(*) FROM {p}posts m WHERE post_type = 'nav_menu_item' AND EXISTS (SELECT 1 FROM {p}postmeta WHERE post_id = m.ID AND meta_key = '_menu_item_type' AND meta_value = 'post_type') AND (SELECT meta_value FROM {p}postmeta WHERE post_id = m.ID AND meta_key = '_menu_item_object_id') NOT IN (SELECT ID FROM {p}posts)",
]  # fmt: skip


def test_into_another_prefix_with_everything_chosen_and_settled(railway: Railway) -> None:
    assert [railway.value(sql.format(p="wp_")) for sql in DANGLING] == [0] * len(DANGLING)
    live, before = table_rows(railway, "wp_"), table_rows(railway, "stg_")
    admin_hash = railway.value("SELECT user_pass FROM stg_users WHERE user_login = 'tinkerer'")
    plan = railway.document("run", "refresh", "--dry-run")
    assert table_rows(railway, "stg_") == before
    report = railway.document("run", "refresh", "--yes")
    assert report["rewriting"] == plan["rewriting"]
    assert report["tables"] == {t["name"]: t["rows"] for t in plan["tables"]}
    assert table_rows(railway, "wp_") == live
    assert {kind["kind"] for kind in plan["left"] if kind["rows"]} >= {
        "spam-comments", "trash", "revisions", "auto-drafts", "entries:event", "empty tables", "where",
        "cached-values", "address-rules",
    }  # fmt: skip

    # What was left out is not there, and nothing dangles.
    assert [railway.value(sql.format(p="stg_")) for sql in DANGLING] == [0] * len(DANGLING)
    for sql in (
        "SELECT COUNT(*) FROM stg_comments WHERE comment_approved = 'spam'",
        "SELECT COUNT(*) FROM stg_posts WHERE post_type IN ('revision', 'event') OR post_status IN ('trash', 'auto-draft')",
        "SELECT COUNT(*) FROM stg_options WHERE option_name LIKE '\\_transient%' OR option_name = 'rewrite_rules'",
        "SELECT COUNT(*) FROM stg_usermeta WHERE meta_key = 'session_tokens'",
        "SELECT COUNT(*) FROM stg_visit_log",
        "SELECT COUNT(*) FROM stg_bookings WHERE made < '2020-01-01'",
    ):
        assert railway.value(sql) == 0, sql
    assert railway.value("SELECT COUNT(*) FROM stg_bookings") == railway.value(
        "SELECT COUNT(*) FROM wp_bookings WHERE made > '2020-01-01'"
    )
    assert (
        railway.value(
            "SELECT comment_parent FROM stg_comments WHERE comment_content = 'An answer to spam.'"
        )
        == 0
    )
    assert railway.value("SELECT post_parent FROM stg_posts WHERE post_title = 'Gala'") == 0

    # The prefix, everywhere it hides; names that only begin alike are as they were.
    assert railway.option("stg_user_roles") == railway.option("wp_user_roles", "wp_")
    assert railway.option("wp_user_roles") is None
    assert railway.option("wp_user_roles_backup") == "mine"
    keys = {row[0] for row in railway.rows("SELECT meta_key FROM stg_usermeta")}
    assert keys >= {
        "stg_capabilities",
        "stg_user_level",
        "stg_user-settings",
        "wp_capabilities_note",
        "wp_cities",
    }
    assert not keys & {"wp_capabilities", "wp_user_level", "stg_cities"}
    assert set(report["prefixed"]["left"]) >= {
        "usermeta: wp_cities",
        "options: wp_user_roles_backup",
    }
    view = railway.rows("SHOW CREATE VIEW stg_latest")[0][1]
    assert "`stg_posts`" in view and "`wp_posts`" not in view
    (trigger,) = railway.rows("SHOW TRIGGERS LIKE 'stg_bookings'")
    assert "UPDATE `stg_links`" in trigger[3] and "'wp_posts'" in trigger[3]
    made = railway.rows("SHOW CREATE TABLE stg_bookings")[0][1]
    assert "`stg_for_post` FOREIGN KEY (`post_id`) REFERENCES `stg_posts`" in made
    assert railway.rows("SHOW TRIGGERS LIKE 'wp_bookings'")[0][0] == "counts"

    # What staging keeps, and what arrival set.
    assert railway.option("active_plugins") == 'a:1:{i:0;s:31:"staging-tools/staging-tools.php";}'
    assert "gone/gone.php" in " ".join(plan["arrival"])
    assert "activate: staging has no 'ticket-desk'" in " ".join(plan["risks"])
    assert railway.option("blog_public") == "0"
    assert railway.option("blogdescription") == "A copy"
    desk = str(railway.option("desk"))
    assert 's:5:"strip";s:4:"blue"' in desk and 's:4:"text";s:5:"black"' in desk
    assert '{"open":"11","close":"17"}' in desk
    logins = [row[0] for row in railway.rows("SELECT user_login FROM stg_users ORDER BY ID")]
    assert sorted(logins) == ["guard", "stationmaster", "tinkerer"]
    assert (
        railway.value("SELECT user_pass FROM stg_users WHERE user_login = 'tinkerer'") == admin_hash
    )
    rules = (railway.staging.root / ".htaccess").read_text()
    assert "RewriteBase /preview/\n" in rules and "RewriteRule . /preview/index.php [L]" in rules
    assert "AuthUserFile /elsewhere" in rules
    assert not (railway.staging.root / "wp-content/cache/page").exists()
    assert railway.staging.unserialise()["bad"] == []


def test_compare_shows_what_was_left_and_nothing_else(railway: Railway) -> None:
    found = railway.document("compare", "production", "staging", "--entries", code=4)
    lines = {(line["topic"], line["label"]): line for line in found["lines"]}
    for name in ("posts", "pages", "waiting comments", "spam comments"):
        assert lines["counts", name]["same"], name
    assert any(said.startswith("spam-comments left out") for said in found["expected"])
    assert (lines["settings", "search-engines"]["a"], lines["settings", "search-engines"]["b"]) == (
        "visible",
        "hidden",
    )
    assert lines["plugins", "Ticket Desk"]["b"] == "not there"
    assert lines["plugins", "Ticket Desk"]["a"] == "2.1 active"
    assert found["entries"] == []
    differing = {table["name"]: table for table in found["tables"]}
    for name in {"posts", "postmeta"} & set(differing):
        assert differing[name]["only_b"] == 0
    assert not {"terms", "links", "termmeta"} & set(differing)


def log_in(client: httpx.Client, site: WordPress, name: str) -> httpx.Response:
    client.get(f"{site.address}/wp-login.php")
    form = {
        "log": name,
        "pwd": f"{name}-word",
        "testcookie": "1",
        "redirect_to": f"{site.address}/wp-admin/",
    }
    answer = client.post(f"{site.address}/wp-login.php", data=form)
    assert answer.status_code == 302, answer.text[:500]
    return client.get(f"{site.address}/wp-admin/index.php")


def test_the_copy_is_closed_marked_and_sends_no_mail(railway: Railway) -> None:
    staging = railway.staging
    with httpx.Client(timeout=30) as client:
        closed = client.get(staging.address + "/")
        assert closed.status_code == 302 and "wp-login.php" in closed.headers["location"]
        assert client.get(f"{staging.address}/index.php?rest_route=/wp/v2/posts").status_code == 401
        for name in ("stationmaster", "tinkerer"):
            client.cookies.clear()
            desk = log_in(client, staging, name)
            assert "Dashboard" in desk.text
            assert "a copy, not the live site" in desk.text
        home = client.get(staging.address + "/").text
        assert "staging · " in home and "noindex" in home
        assert f"{staging.address}/timetable/" in home and "Desk" in home
        # Its address rules were dropped, and WordPress makes them anew by itself.
        assert client.get(f"{staging.address}/2026/news-number-7/").status_code == 200
        assert "Steam gala" not in home
    assert "[L]" not in str(railway.option("rewrite_rules") or "")
    mail = (
        "$_SERVER['HTTP_HOST']='x.test';require $argv[1].'/wp-load.php';"
        "var_dump(wp_mail('guard@harrowmere.example','Timetable','text'));"
    )
    said = railway.php(
        staging,
        "-d",
        "sendmail_path=/bin/false",
        "-d",
        "error_log=/dev/null",
        "-r",
        mail,
        str(staging.root),
    )
    assert "bool(true)" in said
    assert not (railway.live.root / "wp-content/mu-plugins/vetrin-copy.php").exists()
    checked = railway.document("check", "staging")
    assert any("closed to visitors" in item["result"] for item in checked["looked"])


def test_survey_tells_what_could_be_left_out(railway: Railway) -> None:
    found = railway.document("survey", "production")
    kinds = {kind["name"]: kind["rows"] for kind in found["kinds"]}
    assert kinds["spam-comments"] == 25 and kinds["revisions"] >= 8 and kinds["trash"] >= 1
    extensions = {item["title"]: (item["version"], item["active"]) for item in found["extensions"]}
    assert extensions["Ticket Desk"] == ("2.1", True)
    assert extensions["Old Counter"] == ("0.9", False)
    assert extensions["Harrowmere"] == ("1.0", True)
    assert {"type": "event", "state": "publish", "count": 6} in found["entries"]
    suggested = {(item["key"], item["value"]) for item in found["suggestions"]}
    assert suggested >= {
        ("rows", "spam-comments"),
        ("rows", "revisions"),
        ("empty", "visit_log"),
        ("inactive", "plugins"),
    }
    assert next(t["role"] for t in found["tables"] if t["name"] == "wp_visit_log") == "log"
    assert found["runtime"].startswith("PHP ")


def test_undo_and_back_again(railway: Railway) -> None:
    copy = railway.staging.root / "wp-content/mu-plugins/vetrin-copy.php"
    settled = table_rows(railway, "stg_")
    railway.vetrin("undo", "staging", "--yes")
    assert not copy.exists()
    assert "AuthUserFile /elsewhere" in (railway.staging.root / ".htaccess").read_text()
    assert (railway.staging.root / "wp-content/cache/page/home.html").read_text() == "an old page"
    assert railway.option("blogname") == "Harrowmere Light Railway"
    assert railway.rows("SHOW TRIGGERS LIKE 'stg_bookings'") == []
    railway.vetrin("undo", "staging", "--yes")
    assert copy.exists()
    assert table_rows(railway, "stg_") == settled


def test_a_copy_out_of_nothing(railway: Railway) -> None:
    """No database, no account, no configuration file: all three are made."""
    local = railway.local
    plan = railway.document("pull", "--dry-run")
    assert "fresh_database" in plan["creates"]
    assert not (local.root / "wp-config.php").exists()
    assert railway.server.run("SHOW DATABASES LIKE 'fresh_database'") == []
    railway.vetrin("pull", "--yes", "--parts", "data,media", "--set", "marker=Workbench")
    text = (local.root / "wp-config.php").read_text()
    assert PASSWORD not in text and "'loc_'" in text
    assert text.count("define( 'DB_PASSWORD'") == 1
    said = railway.php(
        local, "-r", "require $argv[1].'/wp-config.php';echo DB_PASSWORD;", str(local.root)
    )
    assert said.endswith(LOCAL_WORD)
    assert railway.value("SELECT COUNT(*) FROM loc_posts", "fresh_database") == railway.value(
        "SELECT COUNT(*) FROM wp_posts"
    )
    rules = (local.root / ".htaccess").read_text()
    assert "RewriteBase /\n" in rules and f"AuthUserFile {local.root}/.users" in rules
    local.serve()
    with httpx.Client(timeout=30) as client:
        home = client.get(local.address + "/")
        assert home.status_code == 200 and "Workbench · " in home.text
        assert "Dashboard" in log_in(client, local, "stationmaster").text
    assert railway.document("check", "local")["good"]
    # And back up to a root of its own prefix: from the subfolder to the root of a host.
    railway.vetrin("pull", "staging", "--to", "local", "--yes")
    railway.server.run("GRANT ALL ON fresh_database.* TO 'one'@'%'")
    assert replace(local, user="one", password=PASSWORD).unserialise()["bad"] == []
    assert (
        railway.value(
            "SELECT option_value FROM loc_options WHERE option_name = 'siteurl'", "fresh_database"
        )
        == local.address
    )
    keys = {row[0] for row in railway.rows("SELECT meta_key FROM loc_usermeta", "fresh_database")}
    assert "loc_capabilities" in keys and "wp_capabilities_note" in keys


def test_addresses_that_a_configuration_fixes(railway: Railway) -> None:
    path = railway.local.root / "wp-config.php"
    text = path.read_text()
    wrong = text.replace("<?php", "<?php\ndefine( 'WP_HOME', 'http://old.harrowmere.test' );", 1)
    path.write_text(wrong)
    pull = ["pull", "--parts", "data", "--only-tables", "options"]
    plan = railway.document(*pull, "--dry-run")
    assert "fixes the address http://old.harrowmere.test" in " ".join(plan["risks"])
    assert path.read_text() == wrong
    railway.vetrin(*pull, "--yes", "--set", "configuration=corrected")
    assert f"define( 'WP_HOME', '{railway.local.address}' );" in path.read_text()
    railway.vetrin("undo", "local", "--yes")
    assert path.read_text() == wrong
    path.write_text(text)


def test_where_no_database_may_be_made_the_statements_are_told(
    railway: Railway, tmp_path: Path
) -> None:
    path = railway.folder / "vetrin.toml"
    text = path.read_text()
    path.write_text(
        text.replace('create-as = "maker"\n', "").replace('"fresh_database"', '"not_there"')
    )
    try:
        found = railway.document("pull", "--yes", code=1)
    finally:
        path.write_text(text)
    assert "CREATE DATABASE IF NOT EXISTS `not_there`" in found["remedy"]
    assert "GRANT ALL PRIVILEGES ON `not\\_there`.* TO 'fresh'@'127.0.0.1'" in found["remedy"]


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (["--leave-rows", "spam-coments"], 2, "no kind of rows 'spam-coments'; did you mean spam-comments?"),
        (["--keep-settings", "blognmae"], 2, "no setting 'blognmae'; did you mean blogname?"),
        (["--leave-where", "bookings:mad < 1"], 2, "leave where.bookings"),
        (["--leave-inactive", "plugin"], 2, "'plugin' is none of plugins, themes"),
        (["--leave-files", "a/**b\\"], 2, "is no pattern"),
        (["--set", "mail=maybe"], 2, "'maybe' is none of on, off"),
    ],
)  # fmt: skip
def test_unknown_names_are_errors(
    railway: Railway, arguments: list[str], code: int, said: str
) -> None:
    found = railway.document("pull", "--to", "staging", "--dry-run", *arguments, code=code)
    assert said in found["error"]


def test_what_fits_nothing_is_a_warning(railway: Railway) -> None:
    plan = railway.document(
        "pull", "--to", "staging", "--dry-run", "--leave-tables", "visitlog*", "--leave-rows", "entries:evnt",
        "--leave-files", "*.nothing", "--keep-tables", "bokings*", "--keep-settings", "nothing_*",
    )  # fmt: skip
    said = " | ".join(plan["risks"])
    for part in ("no table of production fits 'visitlog*'", "type 'evnt'; did you mean event",
                 "no file of production fits '*.nothing'", "no table of staging fits 'bokings*'", "no setting fits 'nothing_*'"):  # fmt: skip
        assert part in said
    # A name that is typed is meant: it is one that is there.
    for option, name, near in (
        ("--leave-tables", "visitlog", "visit_log"),
        ("--keep-tables", "bokings", ""),
    ):
        error = railway.document("pull", "--to", "staging", "--dry-run", option, name, code=2)[
            "error"
        ]
        assert f"{option}: no table of" in error and near in error
