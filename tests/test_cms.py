"""Recognising a CMS and reading its configuration, in the styles that people write."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from msgspec import Struct

from vetrin.cms import (
    SiteConfiguration,
    configuration_text,
    load_definition,
    owned,
    read_configuration,
    read_version,
    rules,
    shipped,
)
from vetrin.cms.definition import parse_definition
from vetrin.cms.php_source import PhpFileError, read_values, tokens
from vetrin.errors import ConfigurationError, ConfigurationWriteError, DefinitionError
from vetrin.site import sites_below

WORDPRESS = shipped()["wordpress"]


def site(folder: Path, configuration: str | bytes | None, version: str = "6.1.9") -> Path:
    for marker in WORDPRESS.markers:
        (folder / marker).parent.mkdir(parents=True, exist_ok=True)
        (folder / marker).write_text("<?php\n")
    (folder / "wp-includes/version.php").write_text(
        f"<?php\n/** @var */\n$wp_version = '{version}';\n"
    )
    if configuration is not None:
        data = configuration.encode() if isinstance(configuration, str) else configuration
        (folder / "wp-config.php").write_bytes(data)
    return folder


def read(folder: Path, text: str | bytes, **environ: str) -> SiteConfiguration:
    return read_configuration(site(folder, text), WORDPRESS, environ=environ)


PLAIN = """<?php
define('DB_NAME', 'railway');
define('DB_USER', 'guard');
define('DB_PASSWORD', 'word');
define('DB_HOST', 'localhost');
define('DB_CHARSET', 'utf8mb4');
$table_prefix = 'wp_';
require_once ABSPATH . 'wp-settings.php';
define('DB_NAME', 'too late');
"""


@pytest.mark.parametrize(
    ("line", "password"),
    [
        (r"define('DB_PASSWORD', 'it\'s \\ $x #//');", "it's \\ $x #//"),
        (r'define("DB_PASSWORD", "a\"b\\\$c\x41\101\u{e9}\n");', 'a"b\\$cAAé\n'),
        ("define( \"DB_PASSWORD\" , 'x' . \"y\" . 3 );", "xy3"),
        ("DEFINE('DB_PASSWORD', /* 'no' */ 'x' # no\n);", "x"),
        ("const DB_PASSWORD = 'c';", "c"),
        ("\\define('DB_PASSWORD', 'b');", "b"),
        ("$p = 'in a variable'; define('DB_PASSWORD', $p);", "in a variable"),
        ("$p = 'v'; define('DB_PASSWORD', \"<{$p}$p>\");", "<vv>"),
        ("define('DB_PASSWORD', getenv('WORD'));", "from outside"),
        ("define('DB_PASSWORD', getenv('NOT_SET') ?: 'default');", "default"),
        ("define('DB_PASSWORD', $_ENV['NOT_SET'] ?? 'other');", "other"),
        ("define('DB_PASSWORD', $_SERVER['WORD']);", "from outside"),
        ("define('DB_PASSWORD', site_env('NOT_SET', 'given'));", "given"),
        ("if (!defined('DB_PASSWORD')) { define('DB_PASSWORD', 'guarded'); }", "guarded"),
        ("define('DB_PASSWORD', <<<'X'\nhere\nX);", "here"),
        ("// define('DB_PASSWORD', 'no');\n# define('DB_PASSWORD', 'no');\ndefine('DB_PASSWORD','yes');", "yes"),
        ("?> text <?php define('DB_PASSWORD', 'after text');", "after text"),
        ("define('DB_PASSWORD', 'first'); define('DB_PASSWORD', 'second');", "first"),
    ],
)  # fmt: skip
def test_passwords_in_every_style(tmp_path: Path, line: str, password: str) -> None:
    text = PLAIN.replace("define('DB_PASSWORD', 'word');", line)
    for variant in (
        text,
        text.replace("\n", "\r\n") if "<<<" not in text else text,
        "\ufeff" + text,
    ):
        found = read(tmp_path, variant, WORD="from outside")
        assert found.password == password
        assert (found.database, found.user, found.prefix, found.charset) == (
            "railway",
            "guard",
            "wp_",
            "utf8mb4",
        )
        assert "password=" not in repr(found)


@pytest.mark.parametrize(
    ("host", "expected"),
    [
        ("db.test", ("db.test", None, None)), ("db.test:3307", ("db.test", 3307, None)), ("", ("localhost", None, None)),
        ("localhost:/run/x.sock", ("localhost", None, "/run/x.sock")),
        (":/run/x.sock", ("localhost", None, "/run/x.sock")), ("[::1]:3307", ("::1", 3307, None)),
        ("::1", ("::1", None, None)), ("/run/x.sock", ("localhost", None, "/run/x.sock")),
    ],
)  # fmt: skip
def test_hosts(host: str, expected: tuple[str, int | None, str | None]) -> None:
    assert SiteConfiguration("mysql", "x", host=host).host_port_socket == expected


def test_addresses_fixed_in_code_and_files_included(tmp_path: Path) -> None:
    (tmp_path / "local.php").write_text("<?php define('DB_NAME', 'from_include');")
    text = PLAIN.replace(
        "<?php", "<?php\nrequire __DIR__ . '/local.php';\ndefine('WP_HOME', 'https://' . 'harrowmere.example');"
        "define('WP_SITEURL', 'https://' . $_SERVER['HTTP_HOST']);", 1,
    )  # fmt: skip
    found = read(tmp_path, text)
    assert found.database == "from_include"
    assert found.addresses == ("https://harrowmere.example",)


def test_what_can_not_be_known_is_said(tmp_path: Path) -> None:
    with pytest.raises(ConfigurationError, match="environment variable NOWHERE"):
        read(tmp_path, PLAIN.replace("'railway'", "getenv('NOWHERE')"))
    branches = PLAIN.replace(
        "define('DB_NAME', 'railway');",
        "if ($_SERVER['HTTP_HOST'] == 'a') { define('DB_NAME', 'one'); } else { define('DB_NAME', 'two'); }",
    )
    with pytest.raises(ConfigurationError, match="different values in different branches"):
        read(tmp_path, branches)
    given = read_configuration(tmp_path, WORDPRESS, {"database": "two"}, {})
    assert given.database == "two"
    with pytest.raises(ConfigurationError, match="line 2: a text or comment that begins here"):
        read(tmp_path, "<?php\ndefine('DB_NAME, 1);\n")
    with pytest.raises(ConfigurationError, match="no <\\?php"):
        read(tmp_path, "")
    (tmp_path / "wp-config.php").unlink()
    with pytest.raises(ConfigurationError, match="is this the root"):
        read_configuration(tmp_path, WORDPRESS)


def test_a_configuration_one_level_up(tmp_path: Path) -> None:
    (tmp_path / "wp-config.php").write_text(PLAIN)
    root = site(tmp_path / "public", None)
    assert read_configuration(root, WORDPRESS, environ={}).file == root / "../wp-config.php"
    site(tmp_path, PLAIN)
    with pytest.raises(ConfigurationError):  # it belongs to the site up there
        read_configuration(root, WORDPRESS, environ={})


def test_the_lexer_survives_what_is_not_configuration(tmp_path: Path) -> None:
    for path in sorted(Path("/usr/share/wordpress/wp-includes").glob("*.php"))[:60]:
        try:
            assert tokens(path.read_text("utf-8", "replace"))
        except PhpFileError as error:
            assert "no <?php" in str(error), path
        read_values(path, {})
    assert read_version(Path("/usr/share/wordpress"), WORDPRESS) is not None


def test_the_root_is_found_below_the_folder(tmp_path: Path) -> None:
    root = site(tmp_path / "web" / "public", PLAIN)
    assert list(sites_below(tmp_path)) == [(root, WORDPRESS)]
    assert list(sites_below(root)) == [(root, WORDPRESS)]
    assert read_version(root, WORDPRESS) == "6.1.9"
    (tmp_path / "empty").mkdir()
    assert not list(sites_below(tmp_path / "empty"))


def test_a_prefix_owns_its_tables_only() -> None:
    core = ["options", "posts", "users", "terms"]
    names = [p + t for p in ("wp_", "wp_stg_", "wpx_", "") for t in core] + [
        "wpxarchive_posts",
        "wp_2_options",
        "wp_2_posts",
    ]
    assert owned(names, "wp_", WORDPRESS.marks) == [f"wp_{t}" for t in core] + [
        "wp_2_options",
        "wp_2_posts",
    ]
    assert owned(names, "wp_stg_", WORDPRESS.marks) == [f"wp_stg_{t}" for t in core]
    assert owned(names, "", WORDPRESS.marks) == [*core, "wpxarchive_posts"]


def test_a_definition_of_ones_own(tmp_path: Path) -> None:
    text = (
        Path(__file__)
        .parent.parent.joinpath("src/vetrin/cms/definitions/fishplate.toml")
        .read_text()
    )
    (tmp_path / "mine.toml").write_text(text.replace('name = "fishplate"', 'name = "mine"', 1))
    assert load_definition("mine.toml", tmp_path).name == "mine"
    with pytest.raises(DefinitionError, match="known are fishplate, plain, wagtail, wordpress"):
        load_definition("nothing", tmp_path)
    (tmp_path / "bad.toml").write_text(text.replace("[parts]\nmedia", "[parts]\nmedai"))
    with pytest.raises(DefinitionError, match="unknown key medai; did you mean media"):
        load_definition("bad.toml", tmp_path)


SOURCE = r"""<?php
// define('DB_NAME', 'a comment');
define( 'DB_NAME', 'live' ); define("DB_USER", "u" . 'ser'); const DB_PASSWORD = 'it\'s';
define('DB_HOST', getenv('NOT_SET') ?: "db.live.test:3307");
if (!defined('AUTH_KEY')) { define('AUTH_KEY', 'old; ) secret'); }
define('OTHER', 'DB_NAME'); $table_prefix = $_SERVER['X'] ?? 'wp_'; $x = new stdClass; $x->table_prefix = 'no';
require_once ABSPATH . 'wp-settings.php';
"""
ODD = 'p\'a\\ss "$w" ?> // é'


def test_a_configuration_made_for_a_copy(tmp_path: Path) -> None:
    values = {
        "database": "copy",
        "user": "me",
        "password": ODD,
        "host": "localhost:/run/x.sock",
        "prefix": "stg_",
    }
    made = configuration_text(SOURCE, WORDPRESS, values)
    (tmp_path / "wp-config.php").write_text(made)
    read = read_configuration(tmp_path, WORDPRESS, environ={})
    assert (read.database, read.user, read.password, read.host, read.prefix) == tuple(
        values.values()
    )
    assert "'old; ) secret'" not in made and "it\\'s" not in made
    assert "define('OTHER', 'DB_NAME')" in made and "// define('DB_NAME', 'a comment');" in made
    assert "$x->table_prefix = 'no'" in made and "if (!defined('AUTH_KEY'))" in made
    done = subprocess.run(
        ["php", "-r", "eval(substr(str_replace('require_once ABSPATH', '//', $argv[1]), 5)); echo DB_PASSWORD, DB_HOST, $table_prefix;", made],
        capture_output=True, text=True,
    )  # fmt: skip
    assert done.stdout == ODD + "localhost:/run/x.sock" + "stg_", done.stderr
    assert configuration_text(made, WORDPRESS, values) != made  # secrets are fresh each time
    without = configuration_text("<?php\n$a = 1;\n", WORDPRESS, values)
    (tmp_path / "wp-config.php").write_text(without)
    assert read_configuration(tmp_path, WORDPRESS, environ={}).password == ODD
    with pytest.raises(ConfigurationWriteError, match="no <\\?php"):
        configuration_text("nothing", WORDPRESS, values)


def test_python_settings_are_read_without_being_run(tmp_path: Path) -> None:
    settings = tmp_path / "railway/settings"
    settings.mkdir(parents=True)
    (settings / "base.py").write_text(
        "import os\nfrom pathlib import Path\nraise_if_run = 1 / 0\n"
        "BASE_DIR = Path(__file__).resolve().parent.parent.parent\nROOM = os.path.join(BASE_DIR, 'data')\n"
        "DATABASES = {'default': {'ENGINE': 'django.db.backends.mysql', 'NAME': 'x', 'USER': 'guard',\n"
        "  'PASSWORD': os.environ['WORD'], 'HOST': os.environ.get('HOST_OF_DB', 'db.test') + ':3307'}}\n"
    )
    (settings / "dev.py").write_text(
        "from .base import *\nDATABASES['default']['NAME'] = f'{\"rail\"}way'\nWAGTAIL_SITE_NAME = 'Harrowmere'\n"
        "try:\n    from .local import *\nexcept ImportError:\n    pass\n"
    )
    wagtail = shipped()["wagtail"]
    read = read_configuration(tmp_path, wagtail, environ={"WORD": "w"})
    assert (read.engine, read.database, read.user, read.password, read.host, read.title) == (
        "mysql", "railway", "guard", "w", "db.test:3307", "Harrowmere",
    )  # fmt: skip
    with pytest.raises(ConfigurationError, match="WORD, which is not set here"):
        read_configuration(tmp_path, wagtail, environ={})
    (settings / "local.py").write_text(
        "DATABASES = {'default': {'ENGINE': 'django.db.backends.oracle', 'NAME': 'x'}}"
    )
    with pytest.raises(ConfigurationError, match=r"oracle is no database that Vetrin moves"):
        read_configuration(tmp_path, wagtail, environ={"WORD": "w"})
    (settings / "dev.py").write_text("this is no Python")
    with pytest.raises(ConfigurationError, match="no readable Python"):
        read_configuration(tmp_path, wagtail, environ={})


@pytest.mark.parametrize(
    ("wrong", "said"),
    [
        ('[[rows]]\nname = "x"\n', "lacks table"),
        ('[[rows]]\nname = "x"\ntable = "t"\nwhere = { a = { beginns = "x" } }\n', "unknown key beginns; did you mean begins"),
        ('[[rows]]\nname = "x"\ntable = "t"\nwhere = { a = { in = "t" } }\n', "write table.column"),
        ('[[link]]\nfrom = "a"\nto = "b.c"\n', "from: write table.column"),
        ('[tables.roles]\ncach = ["x"]\n', "unknown key cach; did you mean cache"),
        ('[rows]\nname = "x"\n', r"write \[\[rows\]\]"),
    ],
)  # fmt: skip
def test_what_is_wrong_in_a_definition_is_said(wrong: str, said: str) -> None:
    with pytest.raises(DefinitionError, match=said):
        parse_definition(f'name = "x"\ntitle = "X"\n{wrong}', "x.toml")


def test_every_key_of_a_definition_is_documented() -> None:
    text = Path(__file__).parent.parent.joinpath("docs/definitions.md").read_text()
    classes = [
        one
        for one in vars(rules).values()
        if isinstance(one, type) and issubclass(one, Struct) and one is not rules.EncodedRule
    ]
    keys = {
        field.rstrip("_").replace("_", "-") for one in classes for field in one.__struct_fields__
    }
    assert {
        key for key in {*keys, *rules.TESTS} if f"`{key}" not in text and f".{key}]`" not in text
    } == set()
